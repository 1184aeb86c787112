package app

import (
	"context"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/target"
)

// Seen is what the report files of a work tree have shown, for who wants to choose among it. The lists aren't sorted and may
// name a thing twice.
type Seen struct {
	Rules, Tools, Tags []string
	IDs                []string
	Unaccepted         []string // the ids of findings that the baseline doesn't have
}

// SeenHere reads the report files that the policy names. No linter is started; what can't be read is left out.
func SeenHere(ctx context.Context, c Call) (s Seen) {
	c.Run = false
	all, err := List(ctx, GateRequest{Call: c, Change: target.Name{Kind: policy.Tree}})
	if err != nil {
		return s
	}
	for _, j := range all {
		for i := range j.Findings {
			f := &j.Findings[i]
			s.Rules, s.Tools, s.IDs = append(s.Rules, f.Rule), append(s.Tools, f.Tool), append(s.IDs, f.ID)
			s.Tags = append(s.Tags, f.Weight().Tags...)
			if f.Standing != judge.Accepted {
				s.Unaccepted = append(s.Unaccepted, f.ID)
			}
		}
	}
	return s
}

// EntryIDs are the ids of the baseline's entries, none where it can't be read.
func EntryIDs(ctx context.Context, c Call) []string {
	kept, err := OpenList(ctx, c)
	if err != nil {
		return nil
	}
	return kept.IDs
}

// Refs are the branches and tags of the repository at hand, by their short names.
func Refs(ctx context.Context, dir string) []string {
	repo, err := open(ctx, dir)
	if err != nil {
		return nil
	}
	defer repo.Close()
	names, err := repo.RefNames()
	if err != nil {
		return nil
	}
	return names
}
