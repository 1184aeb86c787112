package measuring

import (
	"fmt"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/measure"
)

// everywhere takes every line.
func everywhere(int) bool { return true }

// coverage takes what tests cover.
func (t *taking) coverage() {
	if t.Coverage == nil {
		return
	}
	isCoverage := func(n measure.Number) bool { return n == measure.NumberCoverage || n == measure.NumberBranches }
	t.once(isCoverage, func(n measure.Number, of measure.Scope) {
		for _, f := range t.files {
			changed := t.touches(f.Path) && !t.Change.Everything
			lines, counts := t.Coverage.LinesOf(f, changed)
			switch {
			case of != measure.OfAll && !t.touches(f.Path):
			case !counts && of == measure.OfAll:
				t.coverageLost(f, n)
			case counts:
				if n == measure.NumberCoverage && changed {
					lines.AddUnknown(f, func(line int) bool { return t.Change.Touches(f.Path, line) })
				}
				t.coverageOf(f, n, of, lines)
			}
		}
		if of == measure.OfAll && t.Before != nil {
			t.coverageGone(n)
		}
	})
}

// coverageOf takes what tests cover of a file, of its changed lines, or of its functions that the change touches.
func (t *taking) coverageOf(f measure.Measured, n measure.Number, of measure.Scope, lines measure.FileCoverage) {
	add := func(function string, span change.Span, take func(line int) bool) {
		parts := lines.Parts(n, take)
		v := measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Path, Function: function, Lines: span}, Part: parts.Part, Whole: parts.Whole}
		if function == "" && of != measure.OfTouched {
			v.Before = t.coverageBefore(f, n)
		}
		t.add(v)
	}
	switch of {
	case measure.OfTouched:
		touched := func(line int) bool { return t.Change.Touches(f.Path, line) }
		add("", change.Span{}, touched)
		t.stretches(f, n, of, lines, touched)
	case measure.OfFunction:
		for _, fn := range f.Functions {
			if t.Change.Everything || t.Change.TouchesAny(f.Path, fn.Span) {
				add(fn.Name, fn.Span, func(line int) bool { return line >= fn.First && line <= fn.Last })
			}
		}
	default:
		add("", change.Span{}, everywhere)
	}
}

// coverageLost takes a file of which no report speaks any more, though one did before the change: no test comes there now.
func (t *taking) coverageLost(f measure.Measured, n measure.Number) {
	if was := t.coverageBefore(f, n); was != nil {
		t.add(measure.Value{Subject: measure.Subject{Number: n, Of: measure.OfAll, Path: f.Path}, Part: was.Whole, Whole: was.Whole, Before: was})
	}
}

// coverageBefore is what tests covered of a file before the change, nil where that isn't known.
func (t *taking) coverageBefore(f measure.Measured, n measure.Number) *measure.Parts {
	if t.Before == nil {
		return nil
	}
	was := f
	if c := t.Change.File(f.Path); c != nil {
		if was = t.before[c.Old]; c.Old == "" || was.Path == "" {
			return nil
		}
	}
	lines, counts := t.Before.LinesOf(was, false)
	if !counts {
		return nil
	}
	parts := lines.Parts(n, everywhere)
	return &parts
}

// coverageGone takes what tests covered of files that the change takes away.
func (t *taking) coverageGone(n measure.Number) {
	for _, was := range t.gone() {
		if lines, counts := t.Before.LinesOf(was, false); counts {
			parts := lines.Parts(n, everywhere)
			t.add(measure.Value{Subject: measure.Subject{Number: n, Of: measure.OfAll, Path: was.Path}, Before: &parts})
		}
	}
}

// stretches makes findings of the stretches of lines that tests don't come to.
func (t *taking) stretches(f measure.Measured, n measure.Number, of measure.Scope, lines measure.FileCoverage, take func(line int) bool) {
	for _, s := range lines.Stretches(n, take) {
		message := "no test runs this changed line"
		switch {
		case n == measure.NumberBranches && s.Parts.Whole > 0:
			message = fmt.Sprintf("tests take %d of the %d ways on from this changed line", s.Parts.Whole-s.Parts.Part, s.Parts.Whole)
		case s.Parts.Part > 1:
			message = fmt.Sprintf("no test runs these %d changed lines", s.Parts.Part)
		}
		t.find(n, of, f.Path, s.Span, message, s.Parts.Part)
	}
}
