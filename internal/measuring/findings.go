package measuring

import (
	"cmp"
	"fmt"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// find makes a finding about a number.
func (t *taking) find(n measure.Number, of measure.Scope, path string, lines change.Span, message string, part int) *finding.Finding {
	f := finding.Finding{
		Tool: measure.Tool, Rule: measure.Rule(n, of), Level: finding.Warning, Message: message, Path: path, Occurrences: 1, Sources: []string{measure.Tool},
		Region: finding.Region{Line: lines.First, EndLine: lines.Last}, Traits: &finding.Traits{Measured: fmt.Sprint(part)},
	}
	if lines.Last == lines.First {
		f.Region.EndLine = 0
	}
	t.shown = append(t.shown, f)
	return &t.shown[len(t.shown)-1]
}

// mostFiles is how many files are shown of a number of everything, those that weigh most.
const mostFiles = 20

// show makes findings of the values that may break a limit, and gives all findings the code that they stand on.
func (t *taking) show() error {
	weighty := map[measure.Number][]measure.Value{}
	for _, v := range t.values {
		switch {
		case v.Of == measure.OfFunction, v.Of == measure.OfFile:
			if t.mayBreak(v) {
				t.find(v.Number, v.Of, v.Path, v.Lines, v.Message(), v.Part)
			}
		case v.Of == measure.OfAll && v.Number.Limiting().Shares && v.Part > 0 && t.touches(v.Path):
			weighty[v.Number] = append(weighty[v.Number], v)
		}
	}
	for _, all := range weighty {
		slices.SortStableFunc(all, func(a, b measure.Value) int { return cmp.Compare(b.Part, a.Part) })
		for _, v := range all[:min(len(all), mostFiles)] {
			t.find(v.Number, v.Of, v.Path, change.Span{}, v.Message(), v.Part)
		}
	}
	return t.fillCode()
}

// mayBreak reports whether a value breaks the bound of some limit on it.
func (t *taking) mayBreak(v measure.Value) bool {
	return t.any(func(d policy.Demand) bool {
		if d.Number != v.Number || d.Of != v.Of {
			return false
		}
		bound := d.Bound
		if d.NotWorse {
			if v.Before == nil {
				return false
			}
			bound = d.NumberOf(*v.Before)
		}
		parts := measure.Parts{Part: v.Part, Whole: v.Whole}
		return d.Counts(parts) && !d.Holds(d.NumberOf(parts), bound)
	})
}

// fillCode gives the findings the code that they stand on.
func (t *taking) fillCode() error {
	for i := range t.shown {
		f := &t.shown[i]
		if f.Path == "" || f.Region.Line == 0 {
			continue
		}
		if t.texts[f.Path] == nil {
			data, _, err := t.Target.Tree.Read(f.Path)
			if err != nil {
				return err
			}
			t.texts[f.Path] = source.New(data)
		}
		f.Code = t.texts[f.Path].CodeAt(f.Region.Line)
	}
	return nil
}

// Rules are what there is to say of the rules of findings about numbers.
func Rules() map[string]finding.Rule {
	all := map[string]finding.Rule{}
	for _, n := range measure.Limited {
		for _, of := range n.Limiting().Scopes {
			if text := n.About(of); text != "" {
				all[measure.Rule(n, of)] = finding.Rule{Name: measure.Rule(n, of), Short: text, Help: n.Advice()}
			}
		}
	}
	return all
}
