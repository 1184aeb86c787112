package policyfile

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// shelf holds policies by their names, for others to inherit.
type shelf map[string]string

func (s shelf) text(name string) Text {
	return Text{Name: name, Data: []byte(s[name]), Find: func(i Inherit) (Text, error) {
		if s[i.Path] == "" {
			return Text{}, fmt.Errorf("no such file")
		}
		return s.text(i.Path), nil
	}}
}

const standards = `zincdoor: 1
firm: [place, teams]
place: {moved: counts}
teams: {fares: {path: fares/**}, core: {path: core/**}}
groups: {unused: [unused-*], grave: [overflow, broken-*], worst: [grave]}
paths: {skip: attic/**, sets: {tests: test/**}}
severities:
  - {tag: security, is: error, firm: true}
  - {rule: dead, floor: warning, firm: true}
  - {rule: worst, floor: error, firm: true}
  - {rule: unused, is: note}
  - {path: tests, cap: note}
doors:
  merge:
    judges: branch
    limits:
      - {name: broken, count: new, severity: error, most: 1, firm: true}
      - {name: noise, count: new, severity: warning, exact: true, most: 3}
    waivers: {upto: warning, most: 2, firm: true}
    acceptances: {most: 5, need: [why, until], firm: true}
`

// TestInherit: ours is laid over what we inherit.
func TestInherit(t *testing.T) {
	s := shelf{"door.yaml": standards, "ours.yaml": `zincdoor: 1
inherit: {path: door.yaml}
groups: {unused: [unused-*, idle-*]}
paths: {skip: [gone/**, vault/**], sets: {tests: [test/**, trial/**]}}
severities:
  - {tag: security, is: note}
  - {rule: security-*, cap: note}
  - {rule: dead, is: ignored}
  - {rule: unused, is: warning}
  - {path: test/loud/**, floor: error}
doors:
  merge:
    into: main
    limits:
      - {name: broken, count: new, severity: error, most: 0}
      - {name: noise, count: new, severity: warning, exact: true, most: 9}
      - {count: touched, severity: note, most: 2}
    waivers: {most: 1}
  commit: {judges: staged, like: merge}
`}
	file, err := Read(s.text("ours.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	p := file.Policy
	for _, c := range []struct {
		f    finding.Finding
		want string
	}{
		{finding.Finding{Rule: "x", Level: finding.Note, Traits: &finding.Traits{Tags: []string{"security"}}}, "error"},
		{finding.Finding{Rule: "security-x", Level: finding.Note, Traits: &finding.Traits{Tags: []string{"security"}}}, "error"},
		{finding.Finding{Rule: "x", Path: "vault/a.c", Level: finding.Note, Traits: &finding.Traits{Tags: []string{"security"}}}, "error"},
		{finding.Finding{Rule: "x", Path: "vault/a.c", Level: finding.Error}, policy.Ignored},
		{finding.Finding{Rule: "x", Path: "attic/a.c", Level: finding.Error}, policy.Ignored},
		{finding.Finding{Rule: "dead", Level: finding.Note}, "warning"},
		{finding.Finding{Rule: "unused-arg", Level: finding.Error}, "warning"},
		{finding.Finding{Rule: "idle-arg", Level: finding.Error}, "warning"},
		{finding.Finding{Rule: "x", Path: "trial/a.c", Level: finding.Error}, "note"},
		{finding.Finding{Rule: "x", Path: "test/a.c", Level: finding.Error}, "note"},
		{finding.Finding{Rule: "x", Path: "test/loud/a.c", Level: finding.Note}, "error"},
	} {
		if got := p.Grade(c.f, ""); got != c.want {
			t.Errorf("%s %s %s: %s, want %s", c.f.Rule, c.f.Path, c.f.Level, got, c.want)
		}
	}
	for _, want := range []string{
		"judges: branch # door.yaml:15",
		"into: main # ours.yaml:13",
		"# ours.yaml:15 - {name: broken, count: new, severity: error, most: 0, firm: true}",
		"# ours.yaml:16 - {name: noise, count: new, severity: warning, exact: true, most: 9}",
		"acceptances: {most: 5, need: [why, until], firm: true} # door.yaml:20",
		"# ours.yaml:18 waivers: {code: true, tool: false, upto: warning, most: 1, firm: true}",
		"moved: counts # door.yaml:3",
		"# inherits door.yaml, sha256:",
	} {
		if written := string(file.Write(true)); !strings.Contains(strings.Join(strings.Fields(written), " "), want) {
			t.Fatalf("no line %q in\n%s", want, written)
		}
	}
	if commit, _ := p.Door("commit"); len(commit.Limits) != 3 {
		t.Errorf("built on an inherited door: %v", commit.Limits)
	}
}

// TestFirm: what is firm can be tightened and not loosened, and the attempt names both lines.
func TestFirm(t *testing.T) {
	for ours, want := range map[string]string{
		`doors: {merge: {limits: [{name: broken, count: new, severity: error, most: 2}]}}`:                   `ours.yaml:3:26: limit "broken" of door merge is firm in door.yaml:17 and can't be loosened here`,
		`doors: {merge: {limits: [{name: broken, count: new, severity: error, most: 0}]}}`:                   "",
		`doors: {merge: {limits: [{name: broken, count: new, severity: error, most: 1, mode: advise}]}}`:     `is firm in door.yaml:17`,
		`doors: {merge: {limits: [{name: broken, count: new, severity: error, most: 1, path: core/**}]}}`:    `is firm in door.yaml:17`,
		`doors: {merge: {limits: [{name: broken, count: new, severity: error, most: 1, from: 2030-01-01}]}}`: `is firm in door.yaml:17`,
		`doors: {merge: {mode: advise}}`:                                            `ours.yaml:3:23: door merge can't only advise, since a limit of it is firm in door.yaml:17`,
		`doors: {merge: {waivers: {most: 3}}}`:                                      `waivers are firm in door.yaml:19`,
		`doors: {merge: {waivers: {tool: true}}}`:                                   `waivers are firm in door.yaml:19`,
		`doors: {merge: {waivers: {upto: note, except: {rule: x}, most: 0}}}`:       "",
		`doors: {merge: {acceptances: {need: why}}}`:                                `acceptances are firm in door.yaml:20`,
		`doors: {merge: {acceptances: {most: 6}}}`:                                  `acceptances are firm in door.yaml:20`,
		`doors: {merge: {acceptances: {upto: note, need: [until, why, link]}}}`:     "",
		`doors: {own: {limits: [{count: new, most: 0, firm: true}], mode: advise}}`: "",
		`place: {seams: true}`:                                                      `ours.yaml:3:1: place is firm in door.yaml:2, so it can't be set here`,
		`teams: {core: {path: none/**}}`:                                            `teams is firm in door.yaml:2`,
		`ladder: [note, warning, error]`:                                            `the ladder can't be changed, since door.yaml:8 is firm`,
		`doors: {merge: {limits: [{count: new, most: 0, say: why}]}}`:               "",
		`groups: {grave: [none]}`:                                                   `the group "grave" can't be redefined, since what is firm in door.yaml:10 uses it`,
	} {
		s := shelf{"door.yaml": standards, "ours.yaml": "zincdoor: 1\ninherit: [{path: door.yaml}]\n" + ours + "\n"}
		_, err := Read(s.text("ours.yaml"))
		if got := fmt.Sprint(err); want == "" && err != nil || !strings.Contains(got, want) {
			t.Errorf("%s: %v, want %s", ours, err, want)
		}
	}
}

// TestFirmTeams: what a firm limit says of a team stays said of its files, whatever teams come after.
func TestFirmTeams(t *testing.T) {
	s := shelf{
		"org.yaml":  "zincdoor: 1\nteams: {tides: {path: 'core/**'}, fares: {path: 'fares/**'}, clock: {path: 'core/clock/**'}}\ndoors: {d: {limits: [{count: new, team: tides, most: 0, firm: true}]}}\n",
		"mid.yaml":  "zincdoor: 1\ninherit: [{path: org.yaml}]\nteams: {others: {path: ['core/tide.c', 'fares/zone/**']}}\n",
		"ours.yaml": "zincdoor: 1\ninherit: [{path: mid.yaml}]\nteams: {more: {path: 'core/low/**'}, clock: {path: 'core/**'}}\n",
	}
	f, err := Read(s.text("ours.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"core/tide.c": "tides", "core/low/a.c": "tides", "core/clock/a.c": "clock", "fares/fare.go": "fares", "fares/zone/a.go": "others"} {
		if got := f.Policy.TeamOf(path); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

// TestInheritErrors: what can't be followed, and where.
func TestInheritErrors(t *testing.T) {
	digest := Text{Data: []byte(standards)}.Digest()
	s := shelf{
		"door.yaml": standards, "circle.yaml": "zincdoor: 1\ninherit: {path: round.yaml}\n", "round.yaml": "zincdoor: 1\ninherit: {path: circle.yaml}\n",
		"broken.yaml": "zincdoor: 1\nladders: [a]\n", "steep.yaml": "zincdoor: 1\nladder: [bad, fine]\nlevels: {error: bad, warning: bad, note: fine}\n",
		"over.yaml": "zincdoor: 1\ninherit: {path: steep.yaml}\nseverities: [{rule: x, is: bad}]\n",
	}
	for ours, want := range map[string]string{
		"inherit: {path: gone.yaml}":                                                   "p.yaml:2: the policy gone.yaml can't be got: no such file",
		"inherit: [{path: door.yaml, digest: '" + digest + "'}]":                       "",
		"inherit: {path: door.yaml, digest: 'sha256:" + strings.Repeat("0", 64) + "'}": "has the digest " + digest,
		"inherit: {path: circle.yaml}":                                                 "circle: p.yaml → circle.yaml → round.yaml → circle.yaml",
		"inherit: {path: broken.yaml}":                                                 `broken.yaml:2:1: unknown key "ladders"; did you mean "ladder"?`,
		"inherit: {path: ../door.yaml}":                                                "outside the repository needs a digest",
		"inherit: {git: ../s, at: v1, path: ../door.yaml}":                             "is outside of the repository ../s",
		"inherit: {git: -x, at: v1, path: door.yaml}":                                  "can't begin with a dash",
		"inherit: {at: v1, path: door.yaml}":                                           "at goes with git",
		"inherit: {path: steep.yaml}":                                                  `the policy needs the key "doors"`,
		"inherit: {path: over.yaml}\nladder: [error, warning, note]":                   `the ladder lacks the severity "bad", which over.yaml:3 names`,
		"inherit: [{path: over.yaml}, {path: steep.yaml}]\ndoors: {d: {limits: [{count: new, severity: bad, most: 0}]}}": "",
	} {
		s["p.yaml"] = "zincdoor: 1\n" + ours + "\n"
		_, err := Read(s.text("p.yaml"))
		if got := fmt.Sprint(err); want == "" && err != nil || !strings.Contains(strings.ReplaceAll(got, " in the policy", ""), want) {
			t.Errorf("%s: %v, want %s", ours, err, want)
		}
	}
}

// TestWrite: a policy that is written out says the same as the one it was read from.
func TestWrite(t *testing.T) {
	for _, text := range []string{whole, graded, building, standards, string(BuiltinText())} {
		p, err := Parse("p", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		written := p.Write(false)
		again, err := Parse("again", written)
		if err != nil {
			t.Fatalf("%v\n%s", err, written)
		}
		if altered := Compare(p.Policy, again.Policy); len(altered) > 0 || string(again.Write(false)) != string(written) {
			t.Errorf("%v\n%s\n%s", altered, text, written)
		}
	}
}
