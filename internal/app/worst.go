package app

import (
	"context"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
)

// WorstRequest says what is compared to find what is worst off.
type WorstRequest struct {
	Branch Branch
	By     record.By
	From   time.Time // since when growth and changes count
	Takes  func(judge.Finding) bool
}

// Ranked is what is worst off, and of what.
type Ranked struct {
	All         []record.Worst
	Now, Before record.Summary
	Of          Branch
	Others      []Branch
}

// Worst ranks files, rules, teams or folders of the last state: busy and costly ones first.
func (h *History) Worst(ctx context.Context, q WorstRequest) (*Ranked, error) {
	states, is, others, err := h.States(ctx, q.Branch)
	if err != nil {
		return nil, err
	}
	r := &Ranked{Now: states[len(states)-1], Of: is, Others: others}
	var found bool
	if r.Before, found = record.LastUpTo(states, q.From); !found {
		r.Before = states[0]
	}
	count := h.counting(q.By, q.Takes)
	sums := [2]map[string]record.Tally{{}, {}}
	for i, state := range []record.Summary{r.Now, r.Before} {
		tallies, err := count(ctx, state)
		if err != nil {
			return nil, err
		}
		record.Add(sums[i], tallies)
	}
	changes, err := h.changes(q.By, r.Now.Head, q.From)
	if err != nil {
		return nil, err
	}
	r.All = record.Rank(sums[0], sums[1], changes)
	return r, nil
}

// changes gives how many commits since a time changed a file, or one of a folder or a team, up to a commit; nil where that can't be
// said.
func (h *History) changes(by record.By, head string, since time.Time) (func(name string) int, error) {
	name := map[record.By]func(path string) string{
		record.ByFile:   func(path string) string { return path },
		record.ByFolder: record.FolderOf,
		record.ByTeam:   h.Policy.TeamOf,
	}[by]
	if name == nil || !h.has(head) {
		return nil, nil
	}
	counts := map[string]int{}
	err := h.repo.EachChange(head, since, func(paths []string) {
		changed := map[string]bool{}
		for _, path := range paths {
			changed[name(path)] = true
		}
		for n := range changed {
			counts[n]++
		}
	})
	return func(name string) int { return counts[name] }, err
}
