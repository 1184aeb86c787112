package measuring

import (
	"maps"
	"slices"

	"zincdoor/internal/core/measure"
)

// sizes takes the numbers that are read off the text alone.
func (t *taking) sizes() {
	t.once(measure.Number.Size, func(n measure.Number, of measure.Scope) {
		switch of {
		case measure.OfTouched:
			t.touchedLines(n)
		case measure.OfFunction:
			t.rows(n, of, measure.OfFunction)
		default:
			t.rows(n, of, measure.OfFile)
		}
	})
	t.once(func(n measure.Number) bool { return n == measure.NumberFindings }, func(n measure.Number, of measure.Scope) {
		for _, f := range t.files {
			if of == measure.OfAll || t.touches(f.Path) {
				t.add(measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Path}, Whole: f.Code.Count()})
			}
		}
	})
}

func (t *taking) add(v measure.Value) { t.values = append(t.values, v) }

// touchedLines counts the lines with code that the change touches.
func (t *taking) touchedLines(n measure.Number) {
	for _, f := range t.files {
		if !t.touches(f.Path) {
			continue
		}
		t.add(measure.Value{Subject: measure.Subject{Number: n, Of: measure.OfTouched, Path: f.Path}, Part: t.Change.Touched(f.Path, f.Code).Count()})
	}
}

// rows takes a number of functions or files, and what it was before the change.
func (t *taking) rows(n measure.Number, of, rowsOf measure.Scope) {
	var changed, others []measure.Measured
	for _, f := range t.files {
		if t.touches(f.Path) {
			changed = append(changed, f)
		} else if of == measure.OfAll {
			others = append(others, f)
		}
	}
	rows := measure.Rows(changed, rowsOf)
	old := slices.SortedFunc(maps.Values(t.before), measure.ByPath)
	if t.Target.Diff != nil {
		rows = measure.Compare(rows, measure.Rows(old, rowsOf), t.Change)
	}
	value := func(r measure.Row) measure.Value {
		return measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: r.Path, Function: r.Function, Lines: r.Lines}, Part: r.Numbers[n], Estimated: r.Estimated && n.Guesses()}
	}
	for _, r := range rows {
		v := value(r)
		if r.Before != nil {
			v.Before = &measure.Parts{Part: r.Before[n]}
		}
		if of != measure.OfFunction || t.Change.Everything || t.Change.TouchesAny(r.Path, r.Lines) {
			t.add(v)
		}
	}
	for _, r := range measure.Rows(others, rowsOf) {
		v := value(r)
		v.Before = &measure.Parts{Part: v.Part}
		t.add(v)
	}
	if of != measure.OfAll {
		return
	}
	for _, r := range measure.Rows(t.gone(), rowsOf) {
		t.add(measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: r.Path}, Before: &measure.Parts{Part: r.Numbers[n]}})
	}
}
