package policyfile

import (
	"strings"
	"testing"

	"zincdoor/internal/core/measure"
)

func withLimit(limit string) string {
	return "zincdoor: 1\nteams: {tides: {path: core}}\ndoors:\n  d:\n    limits:\n      - {count: new, most: 0}\n      - {" + limit + "}\n"
}

// TestDemands: limits on numbers about code are read and written, named by what they ask, and valid by the schema; what doesn't go
// together is refused by both.
func TestDemands(t *testing.T) {
	schema := compiledSchema(t)
	for _, c := range []struct{ limit, written, name string }{
		{"measure: coverage, of: touched, least: 70", "{measure: coverage, of: touched, least: 70%}", "coverage of changed lines"},
		{"measure: coverage, of: all, least: no-drop, tolerance: 0.5", "{measure: coverage, of: all, least: no-drop, tolerance: 0.5%}", "coverage of all"},
		{"measure: branch-coverage, of: touched, least: 50.5%, each: file, from-lines: 10", "{measure: branch-coverage, of: touched, least: 50.5%, from-lines: 10, each: file}", "branch coverage of changed lines in each file"},
		{"measure: duplicated-lines, of: touched, most: 5%, mode: advise", "{measure: duplicated-lines, of: touched, most: 5%, mode: advise}", "duplicated changed lines"},
		{"measure: duplicated-lines, of: all, most: 900", "{measure: duplicated-lines, of: all, most: 900}", "duplicated lines of all"},
		{"measure: decisions, of: function, most: 12, team: tides, standing: [new, worsened]", "{measure: decisions, of: function, team: tides, standing: [new, worsened], most: 12}", "decisions of functions for tides that are new, worsened"},
		{"measure: lines, of: touched, most: 400, except: {path: docs}", "{measure: lines, of: touched, except: {path: docs}, most: 400}", "changed lines with exceptions"},
		{"measure: lines, of: file, most: no-growth, until: 2027-01-01", "{measure: lines, of: file, most: no-growth, until: 2027-01-01}", "lines of files"},
		{"measure: findings, of: all, severity: warning, most: 2.5", "{measure: findings, of: all, severity: warning, most: 2.5}", "findings of all warning"},
		{"measure: reported, of: touched, rule: complexity, most: 15", "{measure: reported, of: touched, rule: complexity, most: 15}", "reported of changed lines of complexity"},
		{"measure: debt, of: all, most: 1h30m", "{measure: debt, of: all, most: 90m}", "debt of all"},
	} {
		file, err := Parse("p.yaml", []byte(withLimit(c.limit)))
		if err != nil {
			t.Errorf("%s: %v", c.limit, err)
			continue
		}
		l := file.Policy.Doors[0].Limits[1]
		if got := WriteLimit(l); got != c.written || l.Name != c.name {
			t.Errorf("%s: %s, called %q; want %s, called %q", c.limit, got, l.Name, c.written, c.name)
		}
		again, err := Parse("p.yaml", []byte(withLimit(strings.Trim(c.written, "{}"))))
		if err != nil || *again.Policy.Doors[0].Limits[1].Demand != *l.Demand {
			t.Errorf("%s reads as %+v, %v", c.written, again, err)
		}
		for _, text := range []string{c.limit, strings.Trim(c.written, "{}")} {
			var value any
			if err := load(withLimit(text), &value); err != nil {
				t.Fatal(err)
			}
			if err := schema.Validate(value); err != nil {
				t.Errorf("the schema says %v of %s", err, text)
			}
		}
	}
	for limit, want := range map[string]string{
		"measure: speed, of: all, most: 1":                                      "speed",
		"measure: coverage, least: 70":                                          `needs the key "of"`,
		"measure: coverage, of: touched, most: 70":                              "a limit on coverage has least:",
		"measure: coverage, of: touched, least: 70, most: 80":                   "least: alone",
		"measure: coverage, of: touched, least: 170":                            "percent from 0 to 100",
		"measure: coverage, of: touched, least: -1":                             "percent from 0 to 100",
		"measure: coverage, of: touched, least: .nan":                           "percent from 0 to 100",
		"measure: coverage, of: touched, least: no-drop":                        "nothing before the change",
		"measure: coverage, of: function, least: no-drop":                       "nothing before the change",
		"measure: coverage, of: touched, least: 70, severity: error":            "by path and team alone",
		"measure: coverage, of: touched, least: 70, standing: new":              "by path and team alone",
		"measure: coverage, of: touched, least: 70, except: {rule: x}":          "by path and team alone",
		"measure: coverage, of: touched, least: 70, tolerance: 1":               "tolerance goes with least: no-drop",
		"measure: coverage, of: touched, least: 70, count: new":                 `"count"`,
		"measure: coverage, of: file, least: 70, each: file":                    "each: file goes with of: touched",
		"measure: decisions, of: touched, most: 3":                              "decisions is no measure of: touched",
		"measure: decisions, of: function, most: 3.5":                           "a whole number of decisions",
		"measure: decisions, of: function, most: 3%":                            "a whole number of decisions",
		"measure: decisions, of: function, most: 3, from-lines: 2":              "from-lines is for measures of lines",
		"measure: debt, of: all, most: 8":                                       "a time of work",
		"measure: debt, of: all, most: 8h, from: 2027-02-01, until: 2027-01-01": "never in force",
		"measure: duplicated-lines, of: touched, most: no-growth":               "nothing before the change",
		"measure: duplicated-lines, of: touched, most: 5%, per: 100-lines":      `"per"`,
		"measure: parameters, of: function, most: 4, team: nobody":              "nobody",
	} {
		if _, err := Parse("p.yaml", []byte(withLimit(limit))); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "p.yaml:7:") {
			t.Errorf("%s: %v, want %q", limit, err, want)
		}
	}
}

// TestDemandsAltered: a bound that lets less pass is tighter, and one that is firm can't let more pass where it is inherited.
func TestDemandsAltered(t *testing.T) {
	for _, c := range []struct {
		old, new string
		tighter  bool
	}{
		{"measure: coverage, of: touched, least: 70", "measure: coverage, of: touched, least: 80", true},
		{"measure: coverage, of: touched, least: 70", "measure: coverage, of: touched, least: 60", false},
		{"measure: coverage, of: touched, least: 70", "measure: coverage, of: touched, least: 70, from-lines: 9", false},
		{"measure: decisions, of: function, most: 12", "measure: decisions, of: function, most: 9", true},
		{"measure: decisions, of: function, most: 12", "measure: decisions, of: function, most: no-growth", false},
		{"measure: coverage, of: all, least: no-drop, tolerance: 2", "measure: coverage, of: all, least: no-drop, tolerance: 1", true},
	} {
		old, err := Parse("p.yaml", []byte(withLimit(c.old)))
		if err != nil {
			t.Fatal(err)
		}
		new, err := Parse("p.yaml", []byte(withLimit(c.new)))
		if err != nil {
			t.Fatal(err)
		}
		if all := Compare(old.Policy, new.Policy); len(all) != 1 || all[0].Tighter != c.tighter {
			t.Errorf("%s → %s: %+v", c.old, c.new, all)
		}
		files := shelf{"base.yaml": withLimit(c.old + ", name: it, firm: true"), "ours.yaml": strings.Replace(strings.Replace(withLimit(c.new+", name: it"), "teams:", "inherit: {path: base.yaml}\nteams:", 1), "      - {count: new, most: 0}\n", "", 1)}
		if _, err := Read(files.text("ours.yaml")); (err == nil) != c.tighter {
			t.Errorf("firm, %s → %s: %v", c.old, c.new, err)
		}
	}
	base := "zincdoor: 1\nduplication: {lines: 8, fold: [names, values]}\ndoors: {d: {limits: [{measure: duplicated-lines, of: touched, most: 5%, firm: true}]}}\n"
	file, err := Parse("base.yaml", []byte(base))
	if want := (measure.Duplication{Tokens: 60, Lines: 8, FoldNames: true, FoldValues: true}); err != nil || file.Policy.Duplication != want {
		t.Fatalf("%v %+v", err, file)
	}
	if written := string(file.Write(false)); !strings.Contains(written, "duplication:\n  tokens: 60\n  lines: 8\n  fold: [names, values]\n") {
		t.Error(written)
	}
	if _, err := Read(shelf{"base.yaml": base, "ours.yaml": "zincdoor: 1\ninherit: {path: base.yaml}\nduplication: {tokens: 900}\n"}.text("ours.yaml")); err == nil || !strings.Contains(err.Error(), "firm") {
		t.Errorf("duplicated code is loosened under a firm limit: %v", err)
	}
}
