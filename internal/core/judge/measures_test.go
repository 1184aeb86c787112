package judge

import (
	"fmt"
	"slices"
	"testing"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// value is a value of a file; a function with a name begins at a line.
func value(n measure.Number, of measure.Scope, path string, line, part, whole int, before ...int) measure.Value {
	v := measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: path}, Part: part, Whole: whole}
	if line > 0 {
		v.Function, v.Lines = fmt.Sprint("f", line), change.Span{First: line, Last: line + 5}
	}
	if len(before) == 2 {
		v.Before = &measure.Parts{Part: before[0], Whole: before[1]}
	}
	return v
}

// about is the finding about a value.
func about(n measure.Number, of measure.Scope, path string, line, part int) finding.Finding {
	return finding.Finding{
		Tool: measure.Tool, Rule: measure.Rule(n, of), Level: finding.Warning, Message: fmt.Sprintf("%d of it", part), Path: path, Occurrences: 1,
		Region: finding.Region{Line: line}, Traits: &finding.Traits{Measured: fmt.Sprint(part)}, Sources: []string{measure.Tool},
	}
}

// numbered is a finding of a tool that gives its number.
func numbered(line, number int) finding.Finding {
	f := at(line, finding.Warning)
	f.Rule, f.Traits = "deep", &finding.Traits{Measured: fmt.Sprint(number)}
	return f
}

// TestDemands: numbers about code are held against their limits: touched lines and all files together, files and functions each by
// itself, against a bound or what was there before; what nobody knows leaves the door unjudged.
func TestDemands(t *testing.T) {
	const (
		cov, dup, dec, lines = measure.NumberCoverage, measure.NumberDuplicated, measure.NumberDecisions, measure.NumberLines
		touched, fn, file    = measure.OfTouched, measure.OfFunction, measure.OfFile
		all                  = measure.OfAll
	)
	covered := []measure.Value{value(cov, touched, "core/tide.c", 0, 3, 10), value(cov, touched, "core/slack.c", 0, 2, 2)}
	uncovered := []finding.Finding{about(cov, touched, "core/tide.c", 3, 3), about(cov, touched, "core/slack.c", 1, 2)}
	grown := []measure.Value{value(dec, fn, "core/tide.c", 3, 9, 0, 7, 0), value(dec, fn, "core/tide.c", 20, 14, 0, 14, 0), value(dec, fn, "core/tide.c", 40, 13, 0)}
	complex := []finding.Finding{about(dec, fn, "core/tide.c", 3, 9), about(dec, fn, "core/tide.c", 20, 14), about(dec, fn, "core/tide.c", 40, 13)}
	for _, c := range []struct {
		limit    string
		values   []measure.Value
		findings []finding.Finding
		want     string // number, bound, held, findings, outcome
	}{
		{"measure: coverage, of: touched, least: 70", covered, uncovered, "58.3 70.0 false 2 shut"},
		{"measure: coverage, of: touched, least: 58", covered, uncovered, "58.3 58.0 true 0 open"},
		{"measure: coverage, of: touched, least: 70, path: core/tide.c", covered, uncovered, "70.0 70.0 true 0 open"},
		{"measure: coverage, of: touched, least: 71, except: {path: core/slack.c}", covered, uncovered, "70.0 71.0 false 1 shut"},
		{"measure: coverage, of: touched, least: 70, each: file", covered, uncovered, "0.0 70.0 false 1 shut"},
		{"measure: coverage, of: touched, least: 70, each: file, from-lines: 3", covered, uncovered, "70.0 70.0 true 0 open"},
		{"measure: coverage, of: touched, least: 100, from-lines: 13", covered, uncovered, "58.3 100.0 true 0 open"},
		{"measure: coverage, of: touched, least: 100", nil, nil, "100.0 100.0 true 0 open"},
		{"measure: coverage, of: touched, least: 70, mode: advise", covered, uncovered, "58.3 70.0 false 2 open"},
		{"measure: coverage, of: touched, least: 70, from: 2026-12-24", covered, uncovered, "58.3 70.0 false 0 open"},
		{"measure: branch-coverage, of: touched, least: 70", covered, uncovered, "0.0 0.0 true 0 unjudged"},
		{"measure: branch-coverage, of: touched, least: 70, mode: advise", covered, uncovered, "0.0 0.0 true 0 open"},
		{"measure: coverage, of: all, least: no-drop", []measure.Value{value(cov, all, "core/tide.c", 0, 3, 10, 2, 10)}, nil, "70.0 80.0 false 0 shut"},
		{"measure: coverage, of: all, least: no-drop, tolerance: 10", []measure.Value{value(cov, all, "core/tide.c", 0, 3, 10, 2, 10)}, nil, "70.0 80.0 true 0 open"},
		{"measure: duplicated-lines, of: touched, most: 5%", []measure.Value{value(dup, touched, "core/tide.c", 0, 6, 100)}, []finding.Finding{about(dup, touched, "core/tide.c", 3, 6)}, "6.0 5.0 false 1 shut"},
		{"measure: duplicated-lines, of: touched, most: 6", []measure.Value{value(dup, touched, "core/tide.c", 0, 6, 100)}, []finding.Finding{about(dup, touched, "core/tide.c", 3, 6)}, "6.0 6.0 true 0 open"},
		{"measure: decisions, of: function, most: 12", grown, complex, "14.0 12.0 false 2 shut"},
		{"measure: decisions, of: function, most: 12, standing: [new, worsened]", grown, complex, "13.0 12.0 false 1 shut"},
		{"measure: decisions, of: function, most: no-growth", grown, complex, "9.0 7.0 false 1 shut"},
		{"measure: decisions, of: function, most: 20", grown, nil, "14.0 20.0 true 0 open"},
		{"measure: decisions, of: function, most: 12, path: fares", grown, complex, "0.0 0.0 true 0 open"},
		{"measure: lines, of: file, most: no-growth", []measure.Value{value(lines, file, "core/tide.c", 0, 60, 0, 50, 0)}, []finding.Finding{about(lines, file, "core/tide.c", 0, 60)}, "60.0 50.0 false 1 shut"},
		{"measure: lines, of: touched, most: 400", []measure.Value{value(lines, touched, "core/tide.c", 0, 401, 0)}, nil, "401.0 400.0 false 0 shut"},
		{"measure: lines, of: all, most: no-growth", []measure.Value{value(lines, all, "core/tide.c", 0, 0, 0, 9, 0), value(lines, all, "core/slack.c", 0, 9, 0)}, nil, "9.0 9.0 true 0 open"},
		{"measure: reported, of: touched, rule: deep, most: 15", nil, []finding.Finding{numbered(3, 16), numbered(9, 99)}, "16.0 15.0 false 2 shut"},
		{"measure: reported, of: all, rule: deep, most: 15", nil, []finding.Finding{numbered(3, 14)}, "14.0 15.0 true 0 open"},
		{"measure: reported, of: all, rule: other, most: 15", nil, []finding.Finding{numbered(3, 16)}, "0.0 0.0 true 0 open"},
		{"measure: findings, of: all, most: 20", []measure.Value{value(measure.NumberFindings, all, "core/tide.c", 0, 0, 50)}, []finding.Finding{at(3, finding.Warning)}, "20.0 20.0 true 0 open"},
		{"measure: findings, of: all, most: 10", []measure.Value{value(measure.NumberFindings, all, "core/tide.c", 0, 0, 50)}, []finding.Finding{at(3, finding.Warning)}, "20.0 10.0 false 1 shut"},
	} {
		p, door := doorOf(t, "enforce", c.limit)
		door.Limits = door.Limits[:1]
		in := Input{
			Change: change.New([]change.File{tide}, change.Rules{}), Findings: finding.Merge(slices.Clone(c.findings)), Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23",
			Measures: Measures{Values: c.values, Known: []measure.Number{cov, dup, dec, lines, measure.NumberFindings, measure.NumberDebt, measure.NumberReported}, Before: []measure.Number{cov, dec, lines}},
		}
		v := Judge(in)
		m, l := v.Limits[0].Measured, v.Limits[0]
		shown := 0
		for _, f := range v.Findings {
			if isOurs(f) || f.Tool != measure.Tool && !l.Held {
				shown++
			}
		}
		if got := fmt.Sprintf("%.1f %.1f %v %d %s", m.Number, m.Bound, l.Held, shown, v.Outcome); got != c.want {
			t.Errorf("%s: %s, want %s", c.limit, got, c.want)
		}
	}
}

// TestDemandsAside: what is accepted or ignored is taken out of a number, and what breaks one limit counts at no other.
func TestDemandsAside(t *testing.T) {
	p, door := doorOf(t, "enforce", "measure: coverage, of: touched, least: 70", "count: new, severity: error, most: 0")
	p.Severities = []policy.Severity{{Selector: policy.Selector{Paths: []string{"core/slack.c"}}, Is: policy.Ignored}, {Selector: policy.Selector{Tools: []string{measure.Tool}}, Is: "error"}}
	p.Resolve()
	in := Input{
		Change: change.New([]change.File{tide}, change.Rules{}), Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23",
		Findings: finding.Merge([]finding.Finding{about(measure.NumberCoverage, measure.OfTouched, "core/tide.c", 3, 3), about(measure.NumberCoverage, measure.OfTouched, "core/slack.c", 1, 2)}),
		Measures: Measures{Values: []measure.Value{value(measure.NumberCoverage, measure.OfTouched, "core/slack.c", 0, 2, 2), value(measure.NumberCoverage, measure.OfTouched, "core/tide.c", 0, 3, 10)}, Known: []measure.Number{measure.NumberCoverage}},
	}
	v := Judge(in)
	if m := v.Limits[0].Measured; m.Number != 70 || m.Lines != 10 || !v.Limits[0].Held || v.Limits[1].Found != 0 || v.Outcome != Open {
		t.Errorf("%+v, %+v, %s", m, v.Limits[1], v.Outcome)
	}
	in.Measures.Recall = func(policy.Limit) (float64, bool) { return 80, true }
	_, in.Door = doorOf(t, "enforce", "measure: coverage, of: all, least: no-drop")
	in.Measures.Values = []measure.Value{value(measure.NumberCoverage, measure.OfAll, "core/tide.c", 0, 3, 10)}
	if v := Judge(in); v.Outcome != Shut || v.Limits[0].Measured.Bound != 80 {
		t.Errorf("against what was recorded: %s, %+v", v.Outcome, v.Limits[0].Measured)
	}
	in.Measures.Recall = nil
	if v := Judge(in); v.Outcome != Unjudged || !v.Limits[0].Unknown {
		t.Errorf("with nothing to compare with: %s", v.Outcome)
	}
}
