package record

import (
	"slices"
	"time"

	"zincdoor/internal/core/judge"
)

// MeasuredPoint are the numbers about code in a step.
type MeasuredPoint struct {
	Start  time.Time
	ID     string              // of the record; "" where there is none
	Limits []judge.LimitResult // on numbers that were known, in the order of the record
}

// MeasuredTrend is how numbers about code grew and shrank, step by step, by the limits that were held against them.
type MeasuredTrend struct {
	Every  Every
	Names  []string // of the limits, those of the newest record first
	Points []MeasuredPoint
}

// Add adds a step, which comes after those that were added before.
func (t *MeasuredTrend) Add(start time.Time, id string, limits []judge.LimitResult) {
	p := MeasuredPoint{Start: start, ID: id}
	var names []string
	for _, l := range limits {
		if l.Measured != nil && !l.Unknown {
			p.Limits, names = append(p.Limits, l), append(names, l.Name)
		}
	}
	for _, name := range t.Names {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	t.Names, t.Points = names, append(t.Points, p)
}

// Of is the limit of that name in a step; false where it wasn't held there.
func (p MeasuredPoint) Of(name string) (judge.LimitResult, bool) {
	i := slices.IndexFunc(p.Limits, func(l judge.LimitResult) bool { return l.Name == name })
	if i < 0 {
		return judge.LimitResult{}, false
	}
	return p.Limits[i], true
}

// Trimmed is the trend without the steps at its ends of which nothing is known.
func (t MeasuredTrend) Trimmed() MeasuredTrend {
	known := func(p MeasuredPoint) bool { return len(p.Limits) > 0 }
	first := slices.IndexFunc(t.Points, known)
	if first < 0 {
		t.Points = nil
		return t
	}
	last := len(t.Points)
	for !known(t.Points[last-1]) {
		last--
	}
	t.Points = t.Points[first:last]
	return t
}
