package app

import (
	"context"
	"maps"
	"slices"
	"sync"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/git"
)

// NameOwners names who is to put findings of the verdict right where neither an entry nor a team says: whom git blames for the line
// that they stand on. Lines that no commit has yet are the caller's.
func (j *Judged) NameOwners(ctx context.Context, all []judge.Finding) error {
	free := func(f judge.Finding) bool { return f.Owner == "" && hasLine(f) && !f.Outside }
	if j.side == "" || !slices.ContainsFunc(all, free) {
		return nil
	}
	repo, err := openIfAny(ctx, j.Dir)
	if repo == nil || err != nil {
		return err
	}
	defer repo.Close()
	blamed, caller := blame(repo, j.side, all, free), sync.OnceValue(repo.UserName)
	for i := range all {
		if free(all[i]) {
			if all[i].Owner = blamed[i].Author; all[i].Owner == "" {
				all[i].Owner = caller()
			}
		}
	}
	return ctx.Err()
}

func hasLine(f judge.Finding) bool { return f.Path != "" && f.Region.Line > 0 }

// blame asks git, by the indices of those findings that are asked about, whose the lines are that they stand on as a side has them. What
// git can't tell is left out: a file that it doesn't have, a history that is cut off, a line that no commit has yet.
func blame(repo *git.Repo, side git.Side, all []judge.Finding, asked func(judge.Finding) bool) map[int]git.Author {
	at := map[string]map[int][]int{} // by file and line
	for i, f := range all {
		if asked(f) {
			if at[f.Path] == nil {
				at[f.Path] = map[int][]int{}
			}
			at[f.Path][f.Region.Line] = append(at[f.Path][f.Region.Line], i)
		}
	}
	authors := map[int]git.Author{}
	for _, path := range slices.Sorted(maps.Keys(at)) {
		blamed, err := repo.Blame(side, path, slices.Sorted(maps.Keys(at[path])))
		if err != nil {
			continue
		}
		for line, author := range blamed {
			for _, i := range at[path][line] {
				authors[i] = author
			}
		}
	}
	return authors
}
