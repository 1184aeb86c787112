package app

import (
	"context"
	"maps"
	"slices"
	"sync"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/history"
	"zincdoor/internal/measuring"
	"zincdoor/internal/target"
)

// addMeasures adds the numbers that the door's limits need, and the findings about them. Before is what tests covered before the
// change, nil where that isn't known.
func addMeasures(ctx context.Context, t *target.Target, in *judge.Input, c *evidence.Collected, before *measure.Reported) error {
	measured, err := measuring.ForLimits(ctx, measuring.Request{Target: t, Policy: in.Policy, Door: in.Door, Change: in.Change, Coverage: c.Coverage, Before: before})
	if err != nil || len(measured.Measures.Known) == 0 {
		return err
	}
	in.Measures, in.Evidence = measured.Measures, slices.Concat(in.Evidence, measured.Evidence)
	in.Findings = finding.Merge(slices.Concat(in.Findings, measured.Findings))
	if c.Rules != nil {
		c.Rules[measure.Tool] = measured.Rules
		maps.Copy(c.Texts, measured.Texts)
	}
	return nil
}

// recall gives what recorded verdicts say that the numbers of exactly the base's tree were. The store is opened when it is first asked;
// one that isn't there, or can't be read, knows nothing.
func (q GateRequest) recall(ctx context.Context, t *target.Target) func(l policy.Limit) (number float64, ok bool) {
	if t.Repo == nil || t.Diff == nil {
		return nil
	}
	recorded := sync.OnceValue(func() []judge.LimitResult { return q.recorded(ctx, t) })
	return func(l policy.Limit) (number float64, ok bool) {
		for _, r := range recorded() {
			if r.Demand.Number == l.Demand.Number && r.Demand.Of == l.Demand.Of && r.Demand.Share == l.Demand.Share && l.Except == nil &&
				slices.Equal(r.Paths, l.Paths) && slices.Equal(r.Teams, l.Teams) {
				return r.Measured.Number, true
			}
		}
		return 0, false
	}
}

// mostRecalled is how many records of one tree are looked at, the newest.
const mostRecalled = 10

// recorded are the limits on numbers of all, as they were held on the base's tree, those of the newest record first.
func (q GateRequest) recorded(ctx context.Context, t *target.Target) (all []judge.LimitResult) {
	tree, err := t.Repo.TreeOf(string(t.Diff.Old()))
	if err != nil {
		return nil
	}
	home := homeOf(t.Repo, q.Dir)
	place, _, err := q.Record.Place.at(home, q.Dir)
	if err != nil {
		return nil
	}
	store, err := history.OpenThere(ctx, place)
	if err != nil {
		return nil
	}
	defer store.Close()
	records, err := store.List(ctx, history.Filter{Repository: home.name, Tree: tree, Last: mostRecalled})
	if err != nil {
		return nil
	}
	for _, is := range slices.Backward(records) {
		r, err := store.Record(ctx, is)
		if err != nil {
			return nil
		}
		for _, l := range r.Verdict.Limits {
			if l.Measured != nil && l.Demand.Of == measure.OfAll && !l.Unknown && l.Measured.Alone {
				all = append(all, l)
			}
		}
	}
	return all
}
