package app

import (
	"context"
	"slices"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/record"
	"zincdoor/internal/git"
	"zincdoor/internal/history"
)

// Compared is a comparison of two states, and which they were.
type Compared struct {
	record.Comparison
	From, To record.Summary
	Of       Branch
	Who      map[string]history.Interval // by finding that came, who brought it in
	Unblamed error                       // why it isn't known of all, nil where it is
	Lost     string                      // the commit of one of them that the repository doesn't have (any more), "" where it has both
}

// has reports whether the repository at hand has a commit.
func (h *History) has(commit string) bool {
	return isThere(h.repo, commit)
}

// lost is the first of some commits that the repository doesn't have, "" where it has all.
func (h *History) lost(commits ...string) string {
	for _, commit := range commits {
		if !h.has(commit) {
			return commit
		}
	}
	return ""
}

// Compare finds what became of the findings of one state of a branch in another one.
func (h *History) Compare(ctx context.Context, of Branch, from, to string, takes func(judge.Finding) bool) (*Compared, error) {
	states, is, _, err := h.States(ctx, of)
	if err != nil {
		return nil, err
	}
	c := &Compared{Of: is}
	if c.From, err = h.At(ctx, states, from); err != nil {
		return nil, err
	}
	if c.To, err = h.At(ctx, states, to); err != nil {
		return nil, err
	}
	c.Unblamed = h.Blame(ctx, c.To.State.Stream)
	var sides [2][]judge.Finding
	for i, state := range []record.Summary{c.From, c.To} {
		r, err := h.store.Record(ctx, state)
		if err != nil {
			return nil, err
		}
		sides[i] = r.Verdict.Findings
		if takes != nil {
			sides[i] = slices.DeleteFunc(sides[i], func(f judge.Finding) bool { return !takes(f) })
		}
	}
	view := recognise.View{Aliases: h.Policy.Aliases}
	if c.Lost = h.lost(c.From.Head, c.To.Head); c.Lost == "" {
		var done func()
		view.OldText, done = textsAt(h.repo, c.From.Head)
		defer done()
		view.NewText, done = textsAt(h.repo, c.To.Head)
		defer done()
		if view.Change, err = wayBetween(h.repo, c.From.Head, c.To.Head, h.Policy.Place, pathsOf(slices.Concat(sides[0], sides[1]))); err != nil {
			return nil, err
		}
	}
	c.Comparison = record.Compare(sides[0], sides[1], h.Policy, view)
	c.Who, err = h.store.Intervals(ctx, c.To.State)
	return c, err
}

// Blame finds out who brought the new findings of a branch's states in, as far as that isn't known yet: whose commit git blames for
// their lines. What git no longer has, nobody is known of.
func (h *History) Blame(ctx context.Context, stream int64) error {
	if h.repo == nil {
		return nil
	}
	states, err := h.store.Unblamed(ctx, stream)
	if err != nil {
		return err
	}
	for _, is := range states {
		by, err := h.blame(ctx, is)
		if err != nil {
			return err
		}
		if err := h.store.Blame(ctx, is, by); err != nil {
			return err
		}
	}
	return nil
}

func (h *History) blame(ctx context.Context, is record.Summary) (map[string]history.Interval, error) {
	by := map[string]history.Interval{}
	if !h.has(is.Head) {
		return by, nil
	}
	r, err := h.store.Record(ctx, is)
	if err != nil {
		return nil, err
	}
	ids, err := h.store.Came(ctx, is.State)
	if err != nil {
		return nil, err
	}
	came := map[string]bool{}
	for _, id := range ids {
		came[id] = true
	}
	all := r.Verdict.Findings
	brought := func(f judge.Finding) bool { return f.Standing == judge.New && hasLine(f) && came[f.ID] }
	for i, author := range blame(h.repo, git.Side(is.Head), all, brought) {
		by[all[i].ID] = history.Interval{Commit: author.Commit, Author: author.Author}
	}
	return by, nil
}
