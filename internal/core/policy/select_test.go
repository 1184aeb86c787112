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
	} {
		got := c.selector.TakesSeverity(ladder, c.severity) && c.selector.TakesRule(finding.Finding{Rule: c.rule}) && c.selector.TakesPath(c.path)
		if got != c.want {
			t.Errorf("%+v takes %s %s %q: %v, want %v", c.selector, c.severity, c.rule, c.path, got, c.want)
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
