package policyfile

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

const whole = `zincdoor: 1
ladder: [grave, "no", slight]   # "no" is a severity like any other
levels: {error: grave, warning: no, note: slight}
baseline: lint/accepted.jsonl
place: {whitespace: counts, moved: ignored, seams: true}
aliases: {oldest: old, old: new}
numbers: [{rule: "depth-*", tool: gauge, number: 2, worse: less}, {rule: "*", number: none}]
teams:
  all: {path: "**"}
  fares: {path: [fares/**], contact: "#fares"}
  prices: {path: [fares/prices/**, "fares/*.csv"]}
doors:
  commit:
    judges: staged
    limits: &strict
      - {count: new, severity: grave, most: 0}
      - {count: new, severity: grave, most: 0}
  merge:
    judges: branch
    into: main
    mode: advise
    waivers: {tool: true, upto: slight, except: {rule: secret*, tag: security}}
    acceptances: {upto: no, most: 5, need: [why, until]}
    limits:
      - {count: touched, rule: "-Wunused*", path: [core/**, fares/*.go], most: 3, say: "Tidy up."}
      - {name: debt, count: all, severity: no, exact: false, most: 40, mode: advise}
  nightly: {judges: tree, limits: *strict}
`

// parse reads a policy that stands alone.
func parse(file string, data []byte) (*policy.Policy, error) {
	f, err := Parse(file, data)
	if err != nil {
		return nil, err
	}
	return f.Policy, nil
}

func TestParse(t *testing.T) {
	p, err := parse("policy.yaml", []byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(p.Ladder, p.Levels[finding.Warning], p.Levels[finding.None], p.Baseline) != "[grave no slight]noslightlint/accepted.jsonl" {
		t.Errorf("ladder and levels: %v %v", p.Ladder, p.Levels)
	}
	if p.Place != (change.Rules{CountSpace: true, Seams: true}) {
		t.Errorf("place is %+v", p.Place)
	}
	merge, _ := p.Door("merge")
	if merge.Judges != policy.Branch || merge.Into != "main" || merge.ModeOf(merge.Limits[0]) != policy.Advise || merge.Limits[0].Most != 3 {
		t.Errorf("merge is %+v", merge)
	}
	if w := merge.Waivers; !w.Code || !w.Tool || w.Most != 3 || w.MayWaive(p.Ladder, finding.Finding{}, "no") || !w.MayWaive(p.Ladder, finding.Finding{Rule: "x"}, "slight") ||
		w.MayWaive(p.Ladder, finding.Finding{Rule: "secrets"}, "slight") || w.MayWaive(p.Ladder, finding.Finding{Traits: &finding.Traits{Tags: []string{"security"}}}, "slight") {
		t.Errorf("waivers are %+v", w)
	}
	if a := merge.Acceptances; a.Lacks(baseline.Entry{Why: baseline.Debt}) != "until" || a.Most != 5 || a.Upto != "no" || p.Doors[0].Acceptances != nil {
		t.Errorf("acceptances are %+v", a)
	}
	if p.Aliases["oldest"] != "new" || *p.Gauge("gauge", "depth-max") != (finding.Gauge{Number: 2, Less: true}) || p.Gauge("other", "depth-max").Number != 0 {
		t.Errorf("aliases %v, measures %+v", p.Aliases, p.Numbers)
	}
	if got := fmt.Sprint(p.TeamOf("core/a.c"), p.TeamOf("fares/a.go"), p.TeamOf("fares/prices/x/a.go"), p.TeamOf("")); got != "allfaresprices" {
		t.Errorf("teams: %s", got)
	}
	var names []string
	for _, d := range p.Doors {
		for _, l := range d.Limits {
			names = append(names, l.Name)
		}
	}
	want := "new grave|new grave 2|touched of -Wunused* in core/**, fares/*.go|debt|new grave|new grave 2"
	if got := strings.Join(names, "|"); got != want {
		t.Errorf("limits are called %s, want %s", got, want)
	}
	if got := policy.Names(p.DoorsFor(policy.Tree)); got != "nightly" {
		t.Errorf("doors for the tree: %s", got)
	}
	if b := Builtin().Policy; len(b.Doors) != 1 || b.Doors[0].Name != "default" || len(b.DoorsFor(policy.Push)) != 1 {
		t.Errorf("the built-in policy has the doors %s", policy.Names(b.Doors))
	}
}

// graded is a policy with every kind of severity.
const graded = `zincdoor: 1
ladder: [error, warning, note]
paths:
  skip: third_party/**
  generated: "**/*.gen.go"
  sets: {tests: ["**/*_test.go", tests/**]}
groups:
  unused: ["unused-*", "-Wunused*"]
  tidy: {rule: [unused, "line-*"], tag: style, except: ["line-ends", loud]}
  loud: {rule: "-Wunused-result"}
teams:
  fares: {path: fares/**}
severities:
  - {tag: security, is: error}
  - {security: 7, is: error}
  - {rule: tidy, path: tests, is: ignored}
  - {rule: tidy, is: note}
  - {tool: "gauge*", level: note, message: "(?i)deprecated", is: warning}
  - {path: generated, cap: note}
  - {team: fares, floor: warning}
  - {rank: ">=90", floor: error}
cost:
  rule: {-Wunused-result: 1h30m, unused: 5m, "line-*": 0}
  severity: {error: 45m, note: 10m}
doors: {d: {limits: [{count: new, most: 0}]}}
`

// TestGrade: the first rule with a severity decides, then caps and floors in their order.
func TestGrade(t *testing.T) {
	p, err := parse("policy.yaml", []byte(graded))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		f    finding.Finding
		want string
	}{
		{finding.Finding{Rule: "x", Level: finding.Warning}, "warning"},
		{finding.Finding{Rule: "x", Level: finding.Note, Traits: &finding.Traits{Tags: []string{"b", "security"}}}, "error"},
		{finding.Finding{Rule: "x", Level: finding.Note, Traits: &finding.Traits{Security: 7.5}}, "error"},
		{finding.Finding{Rule: "x", Level: finding.Note, Traits: &finding.Traits{Security: 6.9}}, "note"},
		{finding.Finding{Rule: "-Wunused-variable", Level: finding.Error, Path: "core/tide.c"}, "note"},
		{finding.Finding{Rule: "-Wunused-result", Level: finding.Error, Path: "core/tide.c"}, "error"},
		{finding.Finding{Rule: "line-length", Level: finding.Error}, "note"},
		{finding.Finding{Rule: "line-ends", Level: finding.Error}, "error"},
		{finding.Finding{Rule: "odd", Traits: &finding.Traits{Tags: []string{"style"}}, Level: finding.Error, Path: "core/a_test.go"}, "ignored"},
		{finding.Finding{Rule: "x", Traits: &finding.Traits{Tags: []string{"security", "style"}}, Level: finding.Note, Path: "core/a_test.go"}, "error"},
		{finding.Finding{Tool: "gauge-2", Level: finding.Note, Message: "this is Deprecated"}, "warning"},
		{finding.Finding{Tool: "gauge-2", Level: finding.Error, Message: "this is Deprecated"}, "error"},
		{finding.Finding{Rule: "x", Level: finding.Error, Path: "core/a.gen.go"}, "note"},
		{finding.Finding{Rule: "x", Level: finding.Error, Path: "fares/a.gen.go"}, "warning"},
		{finding.Finding{Rule: "x", Level: finding.Note, Path: "fares/a.go"}, "warning"},
		{finding.Finding{Rule: "x", Level: finding.Note, Path: "core/a.gen.go", Traits: &finding.Traits{Rank: 95}}, "error"},
		{finding.Finding{Rule: "x", Level: finding.Error, Path: "third_party/a.c", Traits: &finding.Traits{Tags: []string{"security"}}}, "ignored"},
		{finding.Finding{Rule: "line-length", Path: "tests/a", Level: finding.Error, Traits: &finding.Traits{Rank: 99}}, "ignored"},
	} {
		if got := p.Grade(c.f, p.TeamOf(c.f.Path)); got != c.want {
			t.Errorf("%+v: %s, want %s", c.f, got, c.want)
		}
	}
}

// TestCost: the first rule that takes a finding has its cost, else its severity; what is ignored costs nothing.
func TestCost(t *testing.T) {
	inherited := shelf{"graded.yaml": graded, "ours.yaml": "zincdoor: 1\ninherit: {path: graded.yaml}\ncost: {rule: {unused: 20m, odd: 1h}, severity: {note: 15m}}\n"}
	laid, err := Read(inherited.text("ours.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	alone, err := parse("policy.yaml", []byte(graded))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		p              *policy.Policy
		rule, severity string
		minutes        int
	}{
		{alone, "-Wunused-result", "warning", 90}, {alone, "-Wunused-variable", "note", 5}, {alone, "line-length", "error", 0},
		{alone, "other", "error", 45}, {alone, "other", "warning", 0}, {alone, "-Wunused-result", policy.Ignored, 0},
		{laid.Policy, "-Wunused-variable", "note", 20}, {laid.Policy, "-Wunused-result", "note", 20}, {laid.Policy, "odd", "note", 60},
		{laid.Policy, "line-length", "error", 0}, {laid.Policy, "other", "note", 15}, {laid.Policy, "other", "error", 45},
	} {
		if got := c.p.CostOf(finding.Finding{Rule: c.rule}, c.severity); got != c.minutes {
			t.Errorf("%s as %s costs %d minutes, want %d", c.rule, c.severity, got, c.minutes)
		}
	}
	kept, err := Read(shelf{"keeps.yaml": "zincdoor: 1\nhistory: {record: true, keep: 400d}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", "ours.yaml": "zincdoor: 1\ninherit: {path: keeps.yaml}\nhistory: {record: false}\n"}.text("ours.yaml"))
	if err != nil || kept.Policy.History.Record || kept.Policy.History.Keep.Days != 400 || !strings.Contains(string(kept.Write(false)), "history:\n  record: false\n  keep: 400d\n") {
		t.Errorf("a history that is kept only where it is inherited: %+v, %v", kept.Policy.History, err)
	}
	if written := string(laid.Write(true)); !strings.Contains(written, "    error: 45m") || !regexp.MustCompile(`odd: 60m +# ours.yaml:3\n`).MatchString(written) {
		t.Errorf("written as\n%s", written)
	}
}

const building = `zincdoor: 1
doors:
  nightly: {like: merge, judges: tree, limits: [{name: debt, count: all, most: 9}]}
  commit: {judges: staged, limits: [{count: new, severity: error, most: 0}]}
  merge:
    like: commit
    judges: branch
    acceptances: {most: 2}
    limits:
      - {name: debt, count: all, most: 40, mode: advise}
      - {count: new, severity: error, most: 0, path: fares/**}
`

// TestLike: a door has the limits of the one it builds on, then its own.
func TestLike(t *testing.T) {
	p, err := parse("policy.yaml", []byte(building))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, d := range p.Doors {
		for _, l := range d.Limits {
			got = append(got, fmt.Sprint(d.Name, ": ", l.Name, " ", l.Most))
		}
	}
	want := "nightly: new error 0|nightly: new error in fares/** 0|nightly: debt 9|commit: new error 0|merge: new error 0|merge: debt 40|merge: new error in fares/** 0"
	if strings.Join(got, "|") != want || p.Doors[0].Acceptances == nil || p.Doors[1].Acceptances != nil {
		t.Errorf("got %s", strings.Join(got, "|"))
	}
	for _, bad := range []string{"like: merge", "like: gate"} {
		_, err := parse("policy.yaml", []byte(strings.Replace(building, "judges: staged", bad, 1)))
		if err == nil || !strings.Contains(err.Error(), "is like ") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// TestCompare: what a new policy alters is reported in plain words, and whether it only tightens.
func TestCompare(t *testing.T) {
	old, err := parse("policy.yaml", []byte(building))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ from, to, want string }{
		{"zincdoor: 1", "zincdoor: 1 # the same", ""},
		{"most: 40", "most: 30", "merge: debt 40 → 30 true"},
		{"most: 9", "most: 10", "nightly: debt 9 → 10 false"},
		{"most: 40, mode: advise", "most: 40", "merge: debt advise → enforce true"},
		{"like: merge, ", "", "nightly: acceptances altered true|nightly: new error removed false|nightly: new error in fares/** removed false"},
		{"judges: branch", "judges: range\n    mode: advise", "merge: judges \"branch\" → \"range\" false|merge: enforce → advise false"},
		{"doors:", "severities: [{rule: x, is: note}]\ndoors:", "severities altered false"},
		{"path: fares/**", "path: fares/*, name: new error in fares/**", "nightly: new error in fares/** altered false|merge: new error in fares/** altered false"},
		{"  merge:\n", "  slip: {limits: [{count: new, most: 0}]}\n  merge:\n", "door slip added true"},
	} {
		now, err := parse("policy.yaml", []byte(strings.Replace(building, c.from, c.to, 1)))
		if err != nil {
			t.Errorf("%s: %v", c.to, err)
			continue
		}
		var got []string
		for _, a := range Compare(old, now) {
			got = append(got, fmt.Sprint(a.What, " ", a.Tighter))
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: got %s, want %s", c.to, strings.Join(got, "|"), c.want)
		}
	}
}

// TestIdle: what can never matter is reported, and nothing else.
func TestIdle(t *testing.T) {
	p, err := Parse("policy.yaml", []byte(`zincdoor: 1
paths: {skip: [gone/**, core/old*], sets: {tests: "**/*_test.go"}}
teams: {fares: {path: fares/**}, core: {path: core/**}}
severities: [{path: [nowhere/**], rule: [late-*, unused], is: note}, {path: [nowhere/**, core/**], rule: idle, is: note}]
groups: {idle: [unused, -Wunused*]}
reports: {gauge: {file: a.txt, as: diagnostics}, berth: {file: b.txt, as: diagnostics}, quay: {file: c.txt, as: diagnostics, tool: quay}, any: {file: d.txt}}
doors:
  d:
    limits:
      - {name: all, count: new, most: 3}
      - {name: one, count: new, severity: error, most: 3}
      - {name: fewer, count: new, severity: error, most: 1}
      - {name: sound, count: touched, most: 9}
      - {name: same, count: touched, most: 9}
      - {name: later, count: new, most: 5, from: 2027-01-01}
`))
	if err != nil {
		t.Fatal(err)
	}
	want := `policy.yaml:2:9: no file matches "gone/**"
policy.yaml:2:44: the set tests of paths has no file
policy.yaml:3:9: team fares has no file
policy.yaml:4:14: no file is in nowhere/**
policy.yaml:4:14: no report here has shown a rule that "late-*" takes
policy.yaml:5:10: no report here has shown a rule that "-Wunused*" takes
policy.yaml:6:50: the reports gauge and berth are both of a tool called diagnostics; tool: in each tells them apart
policy.yaml:11:9: limit "one" of door d never decides, since "all" counts all of that and allows no more
policy.yaml:14:9: limit "same" of door d never decides, since "sound" counts all of that and allows no more`
	if got := p.Idle([]string{"core/tide.c", "core/old.c"}, []finding.Finding{{Rule: "unused"}, {Rule: "other"}}); got.Error() != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func door(limits string) string {
	return "zincdoor: 1\ndoors:\n  commit:\n    limits:\n" + limits
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct{ name, text, say string }{
		{"empty", "# nothing\n", "p.yaml: the policy is empty"},
		{"syntax", "zincdoor: 1\ndoors: [\n", "p.yaml:"},
		{"two documents", "zincdoor: 1\n---\nzincdoor: 1\n", "p.yaml:3:1: the policy is one YAML document"},
		{"a comment for some readers", "zincdoor: 1\n# é\u2028paths: {skip: '**'}\n", "p.yaml:2:4: it holds the character U+2028"},
		{"no UTF-8", "zincdoor: 1\n# caf\xe9\n", "p.yaml:2:6: it isn't UTF-8 here"},
		{"not a mapping", "- a\n", "p.yaml:1:1: the policy must be a mapping"},
		{"another form", strings.Replace(whole, "1", "2", 1), `p.yaml:1:11: this program reads policies of form 1, not "2"`},
		{"no doors", "zincdoor: 1\n", `the policy needs the key "doors"`},
		{"unknown key", "zincdoor: 1\nlader: [a]\n", `p.yaml:2:1: unknown key "lader" in the policy; did you mean "ladder"?`},
		{"a key twice", "zincdoor: 1\nzincdoor: 1\n", "p.yaml:2:1: the key \"zincdoor\" is on line 1 already"},
		{"no truth", "zincdoor: 1\ndoors:\n  d:\n    limits: [{count: new, most: 0}]\n    fix: x\n", `p.yaml:5:10: fix is true or false`},
		{"a report from nowhere", "zincdoor: 1\nreports: {g: {as: sarif}}\n", "p.yaml:2:14: report g needs one of the keys file, which a linter writes before, and run"},
		{"no linter to give files to", "zincdoor: 1\nreports: {g: {file: a, given: changed}}\n", "p.yaml:2:31: this key is for a linter that is started, and there is no run"},
		{"two files of one run", "zincdoor: 1\nreports: {g: {run: g, file: [a, b]}}\n", "a linter that is started writes one file"},
		{"no time", "zincdoor: 1\nreports: {g: {run: g, timeout: soon}}\n", "a time like 90s or 2m"},
		{"a code of both kinds", "zincdoor: 1\nreports: {g: {run: g, exits: {found: 1, failed: [1]}}}\n", "1 can't mean both"},
		{"a folder outside", "zincdoor: 1\nreports: {g: {run: g, folder: ../x}}\n", "plain path from the repository's root"},
		{"unknown severity", door("    - {count: new, severity: eror, most: 0}\n"), `p.yaml:5:30: severity: the ladder has no "eror"; did you mean "error"?`},
		{"no number", door("    - {count: new, most: few}\n"), `p.yaml:5:26: most must be a whole number from 0, not "few"`},
		{"no growth of new ones", door("    - {count: new, most: no-growth}\n"), "goes with count: all"},
		{"two bounds", door("    - {count: new, most: 1, each: file, per: 100-lines}\n"), "one bound"},
		{"never in force", door("    - {count: new, most: 1, from: 2027-02-01, until: 2027-01-01}\n"), "never in force"},
		{"no date", door("    - {count: new, most: 1, from: soon}\n"), "a date like 2027-02-01"},
		{"an impossible standing", door("    - {count: touched, standing: accepted, most: 0}\n"), "can count nothing"},
		{"no team", "zincdoor: 1\nteams: {fares: {path: a}}\ndoors:\n  d:\n    limits: [{count: new, most: 0, team: fare}]\n", `p.yaml:5:42: there is no team "fare"; did you mean "fares"?`},
		{"a severity of nothing", "zincdoor: 1\nseverities: [{rule: x}]\n", "says one of is, cap and floor"},
		{"a severity off the ladder", "zincdoor: 1\nseverities: [{rule: x, is: nte}]\n", `did you mean "note"?`},
		{"a broken pattern", "zincdoor: 1\nseverities: [{message: '(', is: note}]\n", "no regular expression"},
		{"a group in itself", "zincdoor: 1\ngroups: {a: [b], b: {rule: [x], except: a}}\n", "holds itself"},
		{"a set twice", "zincdoor: 1\npaths: {generated: a, sets: {generated: b}}\n", "is there already"},
		{"negative", door("    - {count: new, most: -1}\n"), "whole number from 0"},
		{"no most", door("    - {count: new}\n"), `a limit needs the key "most"`},
		{"unknown count", door("    - {count: newer, most: 0}\n"), `did you mean "new"?`},
		{"empty selector", door("    - {count: new, path: [], most: 0}\n"), "path is an empty list"},
		{"rooted glob", door("    - {count: new, path: /core/*, most: 0}\n"), "globs start at the repository's root"},
		{"broken glob", door("    - {count: new, rule: 'a[', most: 0}\n"), "no valid glob"},
		{"only without severity", door("    - {count: new, exact: true, most: 0}\n"), "needs a severity"},
		{"an exception that lets a worse severity through", door("    - {count: new, severity: warning, most: 0, except: {severity: error}}\n"), `no limit counts "error", though one counts the milder "warning"`},
		{"an exception of nothing", door("    - {count: new, most: 0, except: {}}\n"), "except takes away what its selectors mean, and has none"},
		{"a comparison without a sign", door("    - {count: new, most: 0, number: 15}\n"), `a number is compared as in ">15"`},
		{"growth without a standing before", door("    - {count: all, most: no-growth, except: {standing: accepted}}\n"), "no-growth goes with no except by place or standing"},
		{"a worse severity slips through", door("    - {count: new, severity: warning, exact: true, most: 0}\n"), `no limit counts "error", though one counts the milder "warning"`},
		{"advice doesn't hold the severity", door("    - {count: new, severity: error, most: 0, mode: advise}\n    - {count: new, severity: warning, exact: true, most: 0}\n"), `no limit counts "error"`},
		{"a door without limits", "zincdoor: 1\ndoors:\n  open: {judges: tree}\n", "p.yaml:3:3: door open has no limits"},
		{"no limits in it", "zincdoor: 1\ndoors:\n  open: {limits: []}\n", "at least one limit"},
		{"levels missing", "zincdoor: 1\nladder: [bad]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", `the ladder has no severity "error"`},
		{"a severity twice", "zincdoor: 1\nladder: [error, warning, note, error]\n", `names "error" twice`},
		{"baseline outside", "zincdoor: 1\nbaseline: ../b\n", "p.yaml:2:11: baseline must be a plain path"},
		{"endless aliases", "zincdoor: 1\naliases: {a: b, b: a}\n", "back to itself"},
		{"which number", "zincdoor: 1\nnumbers: [{rule: x, number: first}]\n", "1 for the first"},
		{"a cost of seconds", "zincdoor: 1\ncost: {rule: {x: 90s}}\n", `p.yaml:2:18: cost: x is a time of work in whole minutes, like 10m or 1h30m, at most 1000h, not "90s"`},
		{"a cost without a unit", "zincdoor: 1\ncost: {severity: {error: 30}}\n", `not "30"`},
		{"a cost that overflows", "zincdoor: 1\ncost: {rule: {x: 1001h}}\n", "at most 1000h"},
		{"a cost off the ladder", "zincdoor: 1\ncost: {severity: {eror: 30m}}\n", `did you mean "error"?`},
		{"a cost by no valid glob", "zincdoor: 1\ncost: {rule: {'a[': 30m}}\n", "no valid glob"},
		{"a history without a unit", "zincdoor: 1\nhistory: {keep: 400}\n", `p.yaml:2:17: history: keep: "400" is no time like 90d, 12w or 6m`},
		{"a history elsewhere", "zincdoor: 1\nhistory: {record: true, file: /tmp/h.db}\n", `unknown key "file" in history`},
		{"a history that is perhaps recorded", "zincdoor: 1\nhistory: {record: perhaps}\n", "history: record is true or false"},
		{"a cost by something else", "zincdoor: 1\ncost: {tool: {gcc: 30m}}\n", `unknown key "tool" in cost`},
		{"acceptances without a number", door("    - {count: new, most: 0}\n    acceptances: {need: [why]}\n"), `acceptances needs the key "most"`},
		{"an unknown need", door("    - {count: new, most: 0}\n    acceptances: {most: 1, need: [who]}\n"), `not "who"`},
		{"a team without paths", "zincdoor: 1\nteams: {fares: {contact: x}}\n", `team fares needs the key "path"`},
		{"place", "zincdoor: 1\nplace: {moved: ignore, flows: true}\n", `did you mean "ignored"?`},
		{"merge key", "zincdoor: 1\ndoors: {d: {<<: {}, limits: [{count: new, most: 0}]}}\n", "merge keys"},
		{"unknown alias", "zincdoor: 1\ndoors: *none\n", "p.yaml:2:8"},
		{"an alias of itself", "zincdoor: 1\ndoors: &d {d: *d}\n", "p.yaml:2:"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := parse("p.yaml", []byte(c.text))
			var problems Problems
			if !errors.As(err, &problems) || !strings.Contains(err.Error(), c.say) {
				t.Errorf("error %q, want %q", err, c.say)
			}
		})
	}
	_, err := parse("p.yaml", []byte("zincdoor: 2\nlader: [a]\ndoors: {d: {limit: 1}}\n"))
	if problems, _ := err.(Problems); len(problems) < 3 {
		t.Errorf("not all problems at once: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(whole)
	f.Add(door("    - {count: new, most: 0}\n"))
	f.Add("zincdoor: 1\na: &a [*a]\n? b\n: !!x c\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := parse("p.yaml", []byte(text))
		if (p == nil) == (err == nil) {
			t.Fatal("either a policy or an error")
		}
		if p != nil {
			for _, level := range finding.Levels {
				if p.Levels[level] == "" {
					t.Fatalf("level %s gets no severity", level)
				}
			}
		}
	})
}

// TestPatternBounds: a regular expression that is too long, or becomes too long when its repetitions are written out, is refused.
func TestPatternBounds(t *testing.T) {
	for pattern, say := range map[string]string{
		strings.Repeat("a", longestPattern+1):  "over 65536 bytes long",
		strings.Repeat("(?:ab|cd){500}|", 200): "over 100000 steps",
		strings.Repeat("tide|", 1000):          "",
	} {
		_, err := Parse("policy.yaml", []byte("zincdoor: 1\nreports: {a: {as: diagnostics, file: a.txt, noise: '"+pattern+"'}}\ndoors: {now: {judges: worktree, needs: a, limits: [{count: new, severity: error, most: 0}]}}\n"))
		if (err != nil) != (say != "") || err != nil && !strings.Contains(err.Error(), say) {
			t.Errorf("%.20s… of %d bytes: %.300v, want %q", pattern, len(pattern), err, say)
		}
	}
}
