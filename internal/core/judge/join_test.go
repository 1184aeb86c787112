package judge

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/policyfile"
)

// TestSeveralTools: what several tools say of one fault is one finding, which each of them stands for.
func TestSeveralTools(t *testing.T) {
	const head = "zincdoor: 1\nsame: [[shadowed, \"-Wshadow\"], [deep-*]]\nseverities: [{rule: hidden, is: ignored}, {rule: grave, is: error}]\n"
	said := func(tool, rule, message string) finding.Finding {
		f := at(4, finding.Warning)
		f.Tool, f.Rule, f.Message, f.Sources = tool, rule, message, []string{tool + ".txt"}
		return f
	}
	columns := func(f finding.Finding, from, to int) finding.Finding {
		f.Region.Column, f.Region.EndColumn = from, to
		return f
	}
	gcc := said("gcc", "-Wunused", "unused variable 'depth'")
	clang := said("clang", "7", "Unused variable: `depth`")
	for _, c := range []struct {
		name     string
		findings []finding.Finding
		accepted []finding.Finding
		waived   string // a rule
		limit    string
		want     string // tool rule severity standing +others, of each; then what the limit counts
	}{
		{"the same words", []finding.Finding{gcc, clang}, nil, "", "count: new", "gcc -Wunused warning new +clang; 1"},
		{"another name", []finding.Finding{gcc, said("clang", "7", "unused variable 'height'")}, nil, "", "count: new", "gcc -Wunused warning new; clang 7 warning new; 2"},
		{"another number", []finding.Finding{said("gcc", "a", "21 deep"), said("clang", "b", "22 deep")}, nil, "", "count: new", "gcc a warning new; clang b warning new; 2"},
		{"declared the same", []finding.Finding{said("gcc", "-Wshadow", "x"), said("board", "shadowed", "y")}, nil, "", "count: new", "gcc -Wshadow warning new +board; 1"},
		{"two of one tool", []finding.Finding{said("gcc", "-Wshadow", "x"), said("gcc", "shadowed", "x")}, nil, "", "count: new", "gcc -Wshadow warning new; gcc shadowed warning new; 2"},
		{"two and one", []finding.Finding{said("gcc", "a", "x"), said("gcc", "b", "x"), said("clang", "c", "x")}, nil, "", "count: new", "gcc a warning new +clang; gcc b warning new; 2"},
		{"accepted by one, the other covered", []finding.Finding{gcc, clang}, []finding.Finding{gcc}, "", "count: new", "gcc -Wunused warning new +clang; 1"},
		{"accepted by one, the other not covered", []finding.Finding{gcc, said("quay", "7", "Unused variable: `depth`")}, []finding.Finding{gcc}, "", "count: new", "gcc -Wunused warning accepted +quay; 0"},
		{"accepted by both", []finding.Finding{gcc, clang}, []finding.Finding{gcc, clang}, "", "count: new", "gcc -Wunused warning accepted +clang; 0"},
		{"one rule, the same name quoted", []finding.Finding{said("gcc", "-Wx", "no use of 'depth' here"), said("clang", "-Wx", "`depth` isn't read")}, nil, "", "count: new", "clang -Wx warning new +gcc; 1"},
		{"one rule, other names", []finding.Finding{said("gcc", "-Wx", "no use of 'depth' here"), said("clang", "-Wx", "`height` isn't read")}, nil, "", "count: new", "clang -Wx warning new; gcc -Wx warning new; 2"},
		{"one rule, overlapping columns", []finding.Finding{columns(said("gcc", "-Wx", "a"), 5, 9), columns(said("clang", "-Wx", "b"), 8, 0)}, nil, "", "count: new", "gcc -Wx warning new +clang; 1"},
		{"one rule, columns apart", []finding.Finding{columns(said("gcc", "-Wx", "a"), 5, 8), columns(said("clang", "-Wx", "b"), 8, 0)}, nil, "", "count: new", "gcc -Wx warning new; clang -Wx warning new; 2"},
		{"no rule, overlapping columns", []finding.Finding{columns(said("gcc", "", "a"), 5, 9), columns(said("clang", "", "b"), 5, 9)}, nil, "", "count: new", "clang  warning new; gcc  warning new; 2"},
		{"one rule of three tools, pairs one to one", []finding.Finding{said("board", "-Wx", "'a'"), said("gcc", "-Wx", "x 'a'"), said("gcc", "-Wx", "y 'a'"), said("clang", "-Wx", "z 'a'")}, nil, "", "count: new", "board -Wx warning new +clang +gcc; gcc -Wx warning new; 2"},
		{"one name declared the same", []finding.Finding{said("gcc", "deep-a", "x"), said("board", "deep-a", "y")}, nil, "", "count: new", "board deep-a warning new +gcc; 1"},
		{"one glob declared the same, other names", []finding.Finding{said("gcc", "deep-a", "x"), said("board", "deep-b", "y")}, nil, "", "count: new", "gcc deep-a warning new; board deep-b warning new; 2"},
		{"the worst severity", []finding.Finding{gcc, said("board", "grave", "unused variable depth")}, nil, "", "count: new, severity: error", "board grave error new +gcc; 1"},
		{"any selector", []finding.Finding{gcc, said("board", "grave", "unused variable depth")}, nil, "", "count: new, tool: gcc, severity: error", "board grave error new +gcc; 1"},
		{"ignored takes a source out", []finding.Finding{gcc, said("board", "hidden", "unused variable depth")}, nil, "", "count: new, rule: hidden", "gcc -Wunused warning new; 0"},
		{"all ignored", []finding.Finding{said("gcc", "hidden", "x"), said("board", "hidden", "x")}, nil, "", "count: new", "board hidden ignored new +gcc; 0"},
		{"waived takes a source out", []finding.Finding{gcc, clang}, nil, "-Wunused", "count: new", "clang 7 warning new; 1"},
		{"all waived", []finding.Finding{gcc, clang}, nil, "*", "count: new", "gcc -Wunused warning waived +clang; 0"},
		{"accepted goes with waived", []finding.Finding{gcc, clang}, []finding.Finding{clang}, "-Wunused", "count: all", "clang 7 warning accepted; 1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, err := policyfile.Parse("p", []byte(head+"doors: {d: {limits: [{most: 0, "+c.limit+"}, {count: all, most: 99, mode: advise}]}}\n"))
			if err != nil && strings.Contains(c.limit, "error") {
				p, err = policyfile.Parse("p", []byte(head+"doors: {d: {limits: [{most: 0, "+c.limit+"}]}}\n"))
			}
			if err != nil {
				t.Fatal(err)
			}
			one := Input{
				Change: change.New([]change.File{tide}, change.Rules{}), Findings: finding.Merge(c.findings), Evidence: []Evidence{readIt}, Policy: p.Policy, Door: p.Policy.Doors[0],
				Today: "2026-11-23", Baseline: &baseline.Baseline{Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{"**"}}, {Tool: "clang", Paths: []string{"**"}}, {Tool: "board", Paths: []string{"**"}}}},
			}
			for _, f := range c.accepted {
				one.Baseline.Entries = append(one.Baseline.Entries, baseline.EntryFor(f, "warning"))
			}
			if c.waived != "" {
				one.Waivers = []waiver.Waiver{{Path: tide.Path, Line: 4, Target: 4, Rules: []string{c.waived}, Reason: "r"}}
			}
			v := Judge(one)
			var got []string
			for _, f := range v.Findings {
				text := fmt.Sprintf("%s %s %s %s", f.Tool, f.Rule, f.Severity, f.Standing)
				for _, o := range f.Also {
					text += " +" + o.Tool
				}
				if len(f.Also) > 0 && len(f.Sources) < 2 {
					t.Errorf("sources %v", f.Sources)
				}
				got = append(got, text)
			}
			got = append(got, fmt.Sprint(v.Limits[0].Found))
			if text := strings.Join(got, "; "); text != c.want {
				t.Errorf("got  %s\nwant %s", text, c.want)
			}
			for _, w := range v.Waivers {
				for _, id := range w.Findings {
					known := false
					for _, f := range v.Findings {
						known = known || f.ID == id
					}
					if !known {
						t.Errorf("a waiver names the finding %s, which is none", id)
					}
				}
			}
		})
	}
}

// TestJoinedLimits: a limit that was measured before findings were joined still names its own.
func TestJoinedLimits(t *testing.T) {
	p, door := doorOf(t, "enforce", noError)
	door.Acceptances = &policy.Acceptances{}
	gcc, clang := at(3, finding.Warning), at(3, finding.Warning)
	clang.Tool = "clang"
	added := at(4, finding.Warning)
	v := Judge(Input{
		Change: change.New([]change.File{tide}, change.Rules{}), Findings: finding.Merge([]finding.Finding{gcc, clang, added}), Evidence: []Evidence{readIt}, Policy: p, Door: door,
		Added: []baseline.Addition{{Entry: baseline.EntryFor(added, "warning")}},
	})
	last := v.Limits[len(v.Limits)-1]
	if len(v.Findings) != 2 || last.Name != "acceptances" || len(last.Findings) != 1 || v.Findings[last.Findings[0]].Region.Line != 4 {
		t.Errorf("%d findings; %s counts %v", len(v.Findings), last.Name, last.Findings)
	}
}
