package record

import (
	"cmp"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/source"
)

// Comparison is what became of the findings of one state in a later one.
type Comparison struct {
	Before, After     int             // how many there were
	CostBefore, Costs int             // of all of them, in minutes
	Came, Went        []judge.Finding // of the later state, and of the earlier one
	Moved             []Pair          // that stand in another file now
	Worsened          []Pair          // whose number has grown
	Files, Rules      []Shift         // those of which some came or went, the greatest change first
}

// Pair is a finding of the earlier state and what became of it.
type Pair struct{ Before, After judge.Finding }

// Shift is how many findings of a file or rule there were and are, and how many of them came and went.
type Shift struct {
	Name                      string
	Before, After, Came, Went int
}

// Compare finds what became of the findings of one state in a later one, by what recognises findings that were there before a
// change; view is what is known of the way from one to the other. What the policy ignores is left out.
func Compare(before, after []judge.Finding, p *policy.Policy, view recognise.View) Comparison {
	before, after = counting(before), counting(after)
	c := Comparison{Before: len(before), After: len(after)}
	for _, f := range before {
		c.CostBefore += f.Cost
	}
	for _, f := range after {
		c.Costs += f.Cost
	}
	c.Went, c.Came = apart(before, after), apart(after, before)
	c.recognise(p, view)
	c.Files, c.Rules = c.shifts(before, after, Names(ByFile, nil)), c.shifts(before, after, Names(ByRule, nil))
	return c
}

// counting are the findings that limits may count, in finding.Order.
func counting(all []judge.Finding) []judge.Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f judge.Finding) bool { return f.Severity == policy.Ignored })
}

// apart are the findings that others don't have just so. A finding has the same id wherever its line stands.
func apart(all, others []judge.Finding) (left []judge.Finding) {
	there := make(map[string]bool, len(others))
	for i := range others {
		there[others[i].ID] = true
	}
	for _, f := range all {
		if !there[f.ID] {
			left = append(left, f)
		}
	}
	return left
}

// recognise finds which of those that went are those that came.
func (c *Comparison) recognise(p *policy.Policy, view recognise.View) {
	entries := make([]baseline.Entry, len(c.Went))
	for i, f := range code(c.Went, view.OldText) {
		entries[i] = p.EntryFor(f, c.Went[i].Severity)
	}
	now := code(c.Came, view.NewText)
	known := recognise.Recognise(now, entries, view)
	stayed := make([]bool, len(c.Went))
	var came []judge.Finding
	for i, e := range known.EntryOf {
		if e == recognise.None {
			came = append(came, c.Came[i])
			continue
		}
		stayed[e] = true
		pair := Pair{c.Went[e], c.Came[i]}
		if pair.Before.Path != pair.After.Path {
			c.Moved = append(c.Moved, pair)
		}
		measure, less := p.MeasureOf(now[i])
		if finding.Worsened(entries[e].Measure, measure, less) {
			pair.After.Measure, pair.After.AcceptedMeasure = measure, entries[e].Measure
			c.Worsened = append(c.Worsened, pair)
		}
	}
	var went []judge.Finding
	for i, f := range c.Went {
		if !stayed[i] {
			went = append(went, f)
		}
	}
	c.Came, c.Went = came, went
}

// code are findings with the code that they stand on.
func code(all []judge.Finding, text func(path string) *source.Text) []finding.Finding {
	plain := make([]finding.Finding, len(all))
	for i, f := range all {
		plain[i] = *f.Finding
		if text == nil || f.Region.Line == 0 {
			continue
		}
		if t := text(f.Path); t != nil {
			plain[i].Code = t.CodeAt(f.Region.Line)
		}
	}
	return plain
}

func (c *Comparison) shifts(before, after []judge.Finding, names func(f *judge.Finding, each func(name string))) (all []Shift) {
	at := map[string]*Shift{}
	count := func(findings []judge.Finding, of func(s *Shift) *int) {
		for i := range findings {
			names(&findings[i], func(name string) {
				if at[name] == nil {
					at[name] = &Shift{Name: name}
				}
				*of(at[name])++
			})
		}
	}
	count(before, func(s *Shift) *int { return &s.Before })
	count(after, func(s *Shift) *int { return &s.After })
	count(c.Came, func(s *Shift) *int { return &s.Came })
	count(c.Went, func(s *Shift) *int { return &s.Went })
	for _, s := range at {
		if s.Came+s.Went > 0 || s.Before != s.After {
			all = append(all, *s)
		}
	}
	slices.SortFunc(all, func(a, b Shift) int {
		return cmp.Or(cmp.Compare(b.Came+b.Went, a.Came+a.Went), cmp.Compare(b.After, a.After), strings.Compare(a.Name, b.Name))
	})
	return all
}
