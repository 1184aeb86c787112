package app

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/target"
)

// TrendRequest says what a trend counts.
type TrendRequest struct {
	Branch   Branch
	By       string // of record.By, or "door" or "outcome": these count records
	From, To time.Time
	Every    record.Every
	Takes    func(judge.Finding) bool // only such findings; nil for all
}

// What a trend counts records by.
const (
	ByDoor    = "door"
	ByOutcome = "outcome"
	ByMeasure = "measure" // these are numbers about code that limits were held against
)

// Trended is a trend, and of what it is.
type Trended struct {
	record.Trend
	Of     Branch // of which branch, where findings are counted
	Others []Branch
}

// Trend counts findings of the last state in each step of time, or the records in it.
func (h *History) Trend(ctx context.Context, q TrendRequest) (*Trended, error) {
	steps, err := q.Every.Span(q.From, q.To)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	if q.By == ByDoor || q.By == ByOutcome {
		all, err := h.List(ctx, history.Filter{Door: q.Branch.Door, Since: steps[0], Until: q.To})
		if err != nil {
			return nil, err
		}
		name := func(r record.Summary) string { return r.Door }
		if q.By == ByOutcome {
			name = func(r record.Summary) string { return string(r.Outcome) }
		}
		return &Trended{Trend: record.CountRecords(all, steps, q.Every, q.By, name)}, nil
	}
	states, is, others, err := h.States(ctx, q.Branch)
	if err != nil {
		return nil, err
	}
	count := h.counting(record.By(q.By), q.Takes)
	points := make([]record.Point, len(steps))
	for i, last := range record.LastStates(states, steps, q.Every) {
		points[i].Start = steps[i]
		if last == nil || !last.Time.Before(q.To) {
			continue
		}
		points[i].ID = last.ID
		if points[i].Tallies, err = count(ctx, *last); err != nil {
			return nil, err
		}
	}
	return &Trended{record.Over(points, q.Every, record.By(q.By), h.Policy.Ladder), is, others}, nil
}

// MeasuredTrend is how numbers about code grew and shrank.
type MeasuredTrend struct {
	record.MeasuredTrend
	Of     Branch
	Others []Branch
}

// TrendOfMeasures gives the numbers that limits were held against in the last state in each step of time.
func (h *History) TrendOfMeasures(ctx context.Context, q TrendRequest) (*MeasuredTrend, error) {
	steps, err := q.Every.Span(q.From, q.To)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	states, is, others, err := h.States(ctx, q.Branch)
	if err != nil {
		return nil, err
	}
	t := &MeasuredTrend{Of: is, Others: others, MeasuredTrend: record.MeasuredTrend{Every: q.Every}}
	for i, last := range record.LastStates(states, steps, q.Every) {
		if last == nil || !last.Time.Before(q.To) {
			t.Add(steps[i], "", nil)
			continue
		}
		r, err := h.store.Record(ctx, *last)
		if err != nil {
			return nil, err
		}
		t.Add(steps[i], last.ID, r.Verdict.Limits)
	}
	return t, nil
}

// counting gives what counts the findings of a state. What was counted when the record was made serves as far as it goes; else the
// findings are read, each part that several states share once.
func (h *History) counting(by record.By, takes func(judge.Finding) bool) func(context.Context, record.Summary) ([]record.Tally, error) {
	if takes == nil && (by == record.BySeverity || by == record.ByRule || by == record.ByTool || by == record.ByTeam || by == record.BySet) {
		return func(ctx context.Context, is record.Summary) ([]record.Tally, error) {
			tallies, err := h.store.Tallies(ctx, is.ID)
			return tallies[by], err
		}
	}
	names, known := record.Names(by, h.Policy.Sets), map[string][]record.Tally{}
	return func(ctx context.Context, is record.Summary) ([]record.Tally, error) {
		sums := map[string]record.Tally{}
		err := h.store.EachPart(ctx, is.State, func(part string, packed []byte) error {
			tallies, ok := known[part]
			if !ok {
				findings, err := history.FindingsOf(bytes.Clone(packed))
				if err != nil {
					return err
				}
				if takes != nil {
					findings = slices.DeleteFunc(findings, func(f judge.Finding) bool { return !takes(f) })
				}
				tallies = record.Count(findings, names)
				known[part] = tallies
			}
			record.Add(sums, tallies)
			return nil
		})
		return slices.Collect(maps.Values(sums)), err
	}
}
