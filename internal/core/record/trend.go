package record

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
)

// Every is how long the steps of a trend are.
type Every string

// The steps, all of the calendar: days, weeks from Monday, months; in UTC.
const (
	Day   Every = "day"
	Week  Every = "week"
	Month Every = "month"
)

// Steps lists every step.
var Steps = []Every{Day, Week, Month}

// Start is the beginning of the step that a time lies in.
func (e Every) Start(t time.Time) time.Time {
	t = t.UTC()
	day := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
	switch e {
	case Week:
		return day.AddDate(0, 0, -(int(day.Weekday())+6)%7)
	case Month:
		return day.AddDate(0, 0, 1-day.Day())
	}
	return day
}

// Next is the beginning of the step after the one that begins at start.
func (e Every) Next(start time.Time) time.Time {
	switch e {
	case Week:
		return start.AddDate(0, 0, 7)
	case Month:
		return start.AddDate(0, 1, 0)
	}
	return start.AddDate(0, 0, 1)
}

// mostSteps bounds how many steps a trend has.
const mostSteps = 4000

// Span lists the beginnings of the steps from one time to another, both in steps that are listed.
func (e Every) Span(from, to time.Time) ([]time.Time, error) {
	var all []time.Time
	for start := e.Start(from); !start.After(to); start = e.Next(start) {
		if all = append(all, start); len(all) > mostSteps {
			return nil, fmt.Errorf("these are more than %d steps of a %s; take longer ones, or less time", mostSteps, e)
		}
	}
	return all, nil
}

// Point is what was counted in a step.
type Point struct {
	Start   time.Time
	ID      string // of the record that it was counted in; "" where there is none, or where records themselves are counted
	Tallies []Tally
}

// Trend is how counts grew and shrank, step by step.
type Trend struct {
	Every  Every
	By     string   // what they are counted by
	Names  []string // of what is counted, in the order in which people are shown it
	Points []Point
}

// LastStates picks the last state of each step, by its position: nil where the step has none.
func LastStates(states []Summary, steps []time.Time, every Every) []*Summary {
	last := make([]*Summary, len(steps))
	for i := range states {
		at, found := slices.BinarySearchFunc(steps, every.Start(states[i].Time), time.Time.Compare)
		if found && (last[at] == nil || last[at].State.Position < states[i].State.Position) {
			last[at] = &states[i]
		}
	}
	return last
}

// LastUpTo is the last of some states, which come in the order of their positions, up to a time; false where all are later.
func LastUpTo(states []Summary, at time.Time) (is Summary, found bool) {
	for _, s := range slices.Backward(states) {
		if !s.Time.After(at) {
			return s, true
		}
	}
	return is, false
}

// CountRecords counts records themselves in each step.
func CountRecords(records []Summary, steps []time.Time, every Every, by string, name func(Summary) string) Trend {
	t := Trend{Every: every, By: by}
	counts := make([]map[string]int, len(steps))
	for _, r := range records {
		if at, found := slices.BinarySearchFunc(steps, every.Start(r.Time), time.Time.Compare); found {
			if counts[at] == nil {
				counts[at] = map[string]int{}
			}
			counts[at][name(r)]++
		}
	}
	for i, start := range steps {
		p := Point{Start: start}
		for name, n := range counts[i] {
			p.Tallies = append(p.Tallies, Tally{Name: name, Findings: n})
		}
		t.Points = append(t.Points, p)
	}
	t.Names = t.names(nil)
	return t
}

// Over makes the trend of what was counted in each step. Severities come in the order of the ladder.
func Over(points []Point, every Every, by By, ladder []string) Trend {
	t := Trend{Every: every, By: string(by), Points: points}
	if by == ByStanding {
		for _, s := range judge.Standings {
			ladder = append(ladder, string(s))
		}
	}
	t.Names = t.names(ladder)
	return t
}

// names lists the names of all that is counted: first those of an order, then those of which there were most at the end.
func (t *Trend) names(order []string) (all []string) {
	last, most := map[string]int{}, map[string]int{}
	for _, p := range t.Points {
		if p.Known() {
			clear(last)
		}
		for _, tally := range p.Tallies {
			last[tally.Name], most[tally.Name] = tally.Findings, max(most[tally.Name], tally.Findings)
		}
	}
	for name := range most {
		all = append(all, name)
	}
	place := func(name string) int {
		if at := slices.Index(order, name); at >= 0 {
			return at
		}
		return len(order)
	}
	slices.SortFunc(all, func(a, b string) int {
		return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(last[b], last[a]), cmp.Compare(most[b], most[a]), strings.Compare(a, b))
	})
	return all
}

// Of is what a point counted under a name; the zero value where there was none.
func (p Point) Of(name string) Tally {
	for _, t := range p.Tallies {
		if t.Name == name {
			return t
		}
	}
	return Tally{Name: name}
}

// Trimmed is the trend without the steps at its ends of which nothing is known.
func (t Trend) Trimmed() Trend {
	first := slices.IndexFunc(t.Points, Point.Known)
	if first < 0 {
		t.Points = nil
		return t
	}
	last := len(t.Points)
	for !t.Points[last-1].Known() {
		last--
	}
	t.Points = t.Points[first:last]
	return t
}

// Known reports whether anything is known of the step.
func (p Point) Known() bool { return p.ID != "" || len(p.Tallies) > 0 }

// Add adds counts to others of the same name.
func Add(to map[string]Tally, tallies []Tally) {
	for _, t := range tallies {
		sum, ok := to[t.Name]
		if !ok {
			sum = Tally{Name: t.Name, By: map[judge.Standing]int{}}
		}
		sum.Findings += t.Findings
		sum.Cost += t.Cost
		for standing, n := range t.By {
			sum.By[standing] += n
		}
		to[t.Name] = sum
	}
}

// Worst is what weighs most in a state.
type Worst struct {
	Name           string
	Findings, Cost int // now
	Before         int // how many findings there were at the beginning
	CostBefore     int
	Changes        int // how many commits have changed its files since then, as git says
	ChangesUnknown bool
}

// Growth is how many findings there are more than before.
func (w Worst) Growth() int { return w.Findings - w.Before }

// weight is what puts the busy and costly ones first: the cost, or where none is known the findings, as often as their files change.
func (w Worst) weight(costs bool) int {
	weight := w.Findings
	if costs {
		weight = w.Cost
	}
	if !w.ChangesUnknown {
		weight *= w.Changes + 1
	}
	return weight
}

// Rank compares two states by what their findings have in common, busy and costly ones first. Changes gives how often the files of
// one of them were changed; nil where that doesn't belong to it.
func Rank(now, before map[string]Tally, changes func(name string) int) (all []Worst) {
	costs := false
	for name, t := range now {
		w := Worst{Name: name, Findings: t.Findings, Cost: t.Cost, Before: before[name].Findings, CostBefore: before[name].Cost, ChangesUnknown: changes == nil}
		if changes != nil {
			w.Changes = changes(name)
		}
		costs = costs || t.Cost > 0
		all = append(all, w)
	}
	slices.SortFunc(all, func(a, b Worst) int {
		return cmp.Or(cmp.Compare(b.weight(costs), a.weight(costs)), cmp.Compare(b.Findings, a.Findings), strings.Compare(a.Name, b.Name))
	})
	return all
}
