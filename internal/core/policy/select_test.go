package policy

import (
	"testing"

	"zincdoor/internal/core/finding"
)

// TestSelectors: a limit takes its severity or worse, rules by globs that cross slashes, paths by globs that don't.
func TestSelectors(t *testing.T) {
	ladder := Ladder{"error", "warning", "note"}
	for _, c := range []struct {
		selector             Selector
		severity, rule, path string
		want                 bool
	}{
		{Selector{}, "note", "x", "", true},
		{Selector{Severity: "warning"}, "error", "x", "a", true},
		{Selector{Severity: "warning"}, "note", "x", "a", false},
		{Selector{Severity: "warning", Exact: true}, "error", "x", "a", false},
		{Selector{Rules: []string{"-Wunused*"}}, "error", "-Wunused-variable", "a", true},
		{Selector{Rules: []string{"fares/*"}}, "error", "fares/deep/rule", "a", true},
		{Selector{Rules: []string{"x"}}, "error", "", "a", false},
		{Selector{Paths: []string{"core/*.c"}}, "error", "x", "core/tide.c", true},
		{Selector{Paths: []string{"core/*.c"}}, "error", "x", "core/sub/tide.c", false},
		{Selector{Paths: []string{"core/**"}}, "error", "x", "core/sub/tide.c", true},
		{Selector{Paths: []string{"**"}}, "error", "x", "", true},
		{Selector{Paths: []string{"**/*_test.*"}}, "error", "x", "a_test.go", true},
		{Selector{Paths: []string{"core"}}, "error", "x", "core/sub/tide.c", true},
		{Selector{Paths: []string{"core/"}}, "error", "x", "core/tide.c", true},
		{Selector{Paths: []string{"core"}}, "error", "x", "core2/tide.c", false},
		{Selector{Except: &Selector{Severity: "warning"}}, "error", "x", "a", false},
		{Selector{Except: &Selector{Severity: "warning"}}, "note", "x", "a", true},
		{Selector{Except: &Selector{Severity: "warning", Rules: []string{"y"}}}, "error", "x", "a", true},
	} {
		got := c.selector.TakesSeverity(ladder, c.severity) && c.selector.TakesRule(finding.Finding{Rule: c.rule}) && c.selector.TakesPath(c.path)
		if got != c.want {
			t.Errorf("%+v takes %s %s %q: %v, want %v", c.selector, c.severity, c.rule, c.path, got, c.want)
		}
	}
}

// TestExcept: what an exception takes away, as far as it is known before a finding is judged, and by numbers.
func TestExcept(t *testing.T) {
	ladder := Ladder{"error", "warning", "note"}
	over := func(text string) Comparison {
		c, err := ParseComparison(text)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	p := &Policy{Sets: map[string][]string{"tests": {"**/*_test.go"}}, Numbers: []Number{{Rules: []string{"late"}, Gauge: finding.Gauge{Number: 2}}}}
	for _, c := range []struct {
		name     string
		selector Selector
		f        finding.Finding
		is       Judged
		before   bool // it is judged
		want     bool
	}{
		{"a path", Selector{Except: &Selector{Paths: []string{"tests"}}}, finding.Finding{Path: "a_test.go"}, Judged{}, false, false},
		{"another path", Selector{Except: &Selector{Paths: []string{"tests"}}}, finding.Finding{Path: "a.go"}, Judged{}, true, true},
		{"all of it must match", Selector{Except: &Selector{Paths: []string{"tests"}, Rules: []string{"x"}}}, finding.Finding{Path: "a_test.go", Rule: "y"}, Judged{}, true, true},
		{"a standing, known later", Selector{Except: &Selector{Standings: []string{"existing"}}}, finding.Finding{}, Judged{Standing: "existing"}, true, false},
		{"a severity, known later", Selector{Except: &Selector{Severity: "warning"}}, finding.Finding{}, Judged{Severity: "error"}, true, false},
		{"another severity", Selector{Except: &Selector{Severity: "warning", Exact: true}}, finding.Finding{}, Judged{Severity: "error"}, true, true},
		{"a number", Selector{Number: over(">15")}, finding.Finding{Message: "complexity 16, at most 10"}, Judged{}, true, true},
		{"a small number", Selector{Number: over(">15")}, finding.Finding{Message: "complexity 15, at most 10"}, Judged{}, false, false},
		{"no number", Selector{Number: over("<=15")}, finding.Finding{Message: "complex"}, Judged{}, false, false},
		{"the tool's own number", Selector{Number: over(">=2.5")}, finding.Finding{Message: "deep", Traits: &finding.Traits{Measured: "2.5"}}, Judged{}, true, true},
		{"the number that the policy names", Selector{Number: over("=7")}, finding.Finding{Rule: "late", Message: "berth 4, 7 minutes"}, Judged{}, true, true},
	} {
		s, err := p.Choose(c.selector)
		if err != nil {
			t.Fatal(err)
		}
		if got := s.Takes(c.f, ""); got != c.before {
			t.Errorf("%s, before it is judged: %v", c.name, got)
		}
		if got := s.TakesJudged(c.f, "", ladder, c.is); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
	for _, bad := range []string{"", "15", ">", "> x", "=>3", ">NaN"} {
		if _, err := ParseComparison(bad); err == nil {
			t.Errorf("%q is a comparison", bad)
		}
	}
}

// TestTeamOf: the team with the most specific glob answers for a file, and another with as specific a one is known.
func TestTeamOf(t *testing.T) {
	p := &Policy{Teams: []Team{{Name: "all", Paths: []string{"**"}}, {Name: "fares", Paths: []string{"fares/**"}}, {Name: "prices", Paths: []string{"fares/prices/**"}}, {Name: "tables", Paths: []string{"fares/*.csv"}}}}
	for path, want := range map[string]string{"core/tide.c": "all", "fares/fare.go": "fares", "fares/prices/a.go": "prices", "fares/a.csv": "fares, tables", "": ""} {
		team, rival := p.ClaimOf(path)
		if rival != "" {
			team += ", " + rival
		}
		if team != want {
			t.Errorf("%q: %s, want %s", path, team, want)
		}
	}
}

// TestResolve: groups and sets select once they were looked up, groups within groups too.
func TestResolve(t *testing.T) {
	p := &Policy{
		Groups: map[string]*Group{"unused": {Rules: []string{"-Wunused*"}}, "tidy": {Rules: []string{"unused", "line-*"}, Except: []string{"line-ends"}}},
		Sets:   map[string][]string{"tests": {"**/*_test.go"}},
	}
	p.Resolve()
	s, err := p.Choose(Selector{Rules: []string{"tidy"}, Paths: []string{"tests"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		rule, path string
		want       bool
	}{{"-Wunused-label", "a_test.go", true}, {"line-length", "core/a_test.go", true}, {"line-ends", "a_test.go", false}, {"line-length", "a.go", false}} {
		if got := s.Takes(finding.Finding{Rule: c.rule, Path: c.path}, ""); got != c.want {
			t.Errorf("%s in %s: %v", c.rule, c.path, got)
		}
	}
	if _, err := p.Choose(Selector{Teams: []string{"nobody"}}); err == nil {
		t.Error("a team that isn't there is chosen")
	}
	if plain := s.Unresolved(); plain.Takes(finding.Finding{Rule: "line-length", Path: "a_test.go"}, "") {
		t.Error("names still select")
	}
}
