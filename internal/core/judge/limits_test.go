package judge

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/policyfile"
)

// TestKindsOfLimits: bounds for each file, for touched lines, of what was found before, and limits that wait for their day.
func TestKindsOfLimits(t *testing.T) {
	long := change.File{Path: "core/long.c", Status: change.Added, Hunks: []change.Hunk{{NewStart: 1, NewCount: 148, Added: slices.Repeat([]string{"depth = sound(it);"}, 148)}}}
	in := func(path string, line int) finding.Finding {
		f := at(line, finding.Warning)
		f.Path = path
		return f
	}
	before := []finding.Finding{in("core/tide.c", 3), in("core/gauge.c", 1)}
	tagged := at(3, finding.Warning)
	tagged.Traits = &finding.Traits{Tags: []string{"security"}}
	five := []finding.Finding{in("core/long.c", 1), in("core/long.c", 2), in("core/long.c", 3), in("core/tide.c", 3), in("core/tide.c", 4)}
	for _, c := range []struct {
		limit    string
		findings []finding.Finding
		base     []finding.Finding
		want     string // found, bound, held, outcome
	}{
		{"count: new, most: 2, each: file", five, nil, "3 2 false shut"},
		{"count: new, most: 3, each: file", five, nil, "3 3 true open"},
		{"count: touched, most: 2, per: 100-lines", five, nil, "5 4 false shut"},
		{"count: touched, most: 2, per: 50-lines", five, nil, "5 6 true open"},
		{"count: touched, most: 2, per: 1000-lines", five, nil, "5 2 false shut"},
		{"count: all, most: no-growth", five, nil, "5 0 true unjudged"},
		{"count: all, most: no-growth, mode: advise", five, nil, "5 0 true open"},
		{"count: all, most: no-growth", five, before, "5 2 false shut"},
		{"count: all, most: no-growth, path: core/tide.c", five[3:4], before, "1 1 true open"},
		{"count: new, most: 0, from: 2026-11-24", five, nil, "5 0 false open"},
		{"count: new, most: 0, from: 2026-11-23", five, nil, "5 0 false shut"},
		{"count: new, most: 0, until: 2026-11-22", five, nil, "5 0 false open"},
		{"count: new, most: 0, tag: security", []finding.Finding{tagged, at(4, finding.Warning)}, nil, "1 0 false shut"},
		{"count: new, most: 0, tool: clang*", five, nil, "0 0 true open"},
		{"count: all, most: 0, place: touched", []finding.Finding{at(3, finding.Warning), at(9, finding.Warning)}, nil, "1 0 false shut"},
		{"count: all, most: 0, standing: [existing, accepted]", []finding.Finding{at(3, finding.Warning), at(9, finding.Warning)}, nil, "1 0 false shut"},
	} {
		p, door := doorOf(t, "enforce", c.limit)
		way := change.New([]change.File{tide, long}, change.Rules{})
		in := Input{Change: way, Findings: finding.Merge(slices.Clone(c.findings)), Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23", BaseFindings: c.base}
		if c.base != nil {
			in.BaseCovers = readIt.Covers
		}
		v := Judge(in)
		l := v.Limits[0]
		if got := fmt.Sprint(l.Found, " ", l.Bound, " ", l.Held, " ", v.Outcome); got != c.want {
			t.Errorf("%s: %s, want %s", c.limit, got, c.want)
		}
	}
}

// asked cuts "key: value, key: value" into its parts.
func asked(text string) map[string]string {
	parts := map[string]string{}
	for part := range strings.SplitSeq(text, ", ") {
		key, value, _ := strings.Cut(part, ": ")
		parts[key] = strings.Trim(value, `"`)
	}
	return parts
}

// plainlyTakes reads a selector once more, in the plainest way there is: word by word as the policy's text says it. The
// group is the rules -Wshadow and odd, the set the paths under core, the team tides has core, the team fares has fares.
func plainlyTakes(asked map[string]string, f finding.Finding) bool {
	team := map[string]string{"core": "tides", "fares": "fares"}[strings.Split(f.Path, "/")[0]]
	for key, value := range asked {
		switch key {
		case "rule":
			if value == "shade" && (f.Rule == "-Wshadow" || f.Rule == "odd") || f.Rule == value || strings.HasSuffix(value, "*") && strings.HasPrefix(f.Rule, strings.TrimSuffix(value, "*")) {
				continue
			}
		case "path":
			if value == "deep" && strings.HasPrefix(f.Path, "core/") || strings.HasPrefix(f.Path, strings.TrimSuffix(value, "**")) {
				continue
			}
		case "tool":
			if f.Tool == value {
				continue
			}
		case "tag":
			if slices.Contains(f.Weight().Tags, value) {
				continue
			}
		case "team":
			if team == value {
				continue
			}
		case "level":
			if string(f.Level) == value {
				continue
			}
		default:
			continue
		}
		return false
	}
	return true
}

var ladder = []string{"error", "warning", "note"}

// plainSeverity grades a finding by the sentences of the guide: firm ones are tried first, then ours, then inherited; then
// what bounds, inherited first, ours after it, and what is firm last and above all.
func plainSeverity(f finding.Finding, inherited, ours []string) string {
	firm := func(list []string, want bool) (some []map[string]string) {
		for _, text := range list {
			if s := asked(text); (s["firm"] == "true") == want && plainlyTakes(s, f) {
				some = append(some, s)
			}
		}
		return some
	}
	severity, decided, firmly := map[finding.Level]string{"error": "error", "warning": "warning", "note": "note", "none": "note"}[f.Level], false, false
	for i, list := range [][]map[string]string{firm(inherited, true), firm(ours, true), firm(ours, false), firm(inherited, false)} {
		for _, s := range list {
			if s["is"] != "" && !decided {
				severity, decided, firmly = s["is"], true, i < 2
			}
		}
	}
	demanded := len(firm(inherited, true))+len(firm(ours, true)) > 0
	if strings.HasPrefix(f.Path, "skipped/") && !demanded {
		return "ignored"
	}
	for i, list := range [][]map[string]string{firm(inherited, false), firm(ours, false), firm(ours, true), firm(inherited, true)} {
		for _, s := range list {
			at := slices.Index(ladder, severity) // -1 for ignored
			if s["cap"] != "" && severity != "ignored" && !firmly && at < slices.Index(ladder, s["cap"]) {
				severity = s["cap"]
			}
			if s["floor"] != "" && (severity != "ignored" && at > slices.Index(ladder, s["floor"]) || severity == "ignored" && i >= 2) {
				severity = s["floor"]
			}
		}
	}
	return severity
}

// plainly judges a limit once more, by the same reading.
func plainly(text string, v Verdict) (found int) {
	text, exception, excepts := strings.Cut(text, ", except: {")
	said, excepted := asked(text), asked(strings.TrimSuffix(exception, "}"))
	for _, f := range v.Findings {
		ok := map[string]bool{
			"new":     f.Standing == New || f.Standing == Worsened || f.Standing == Expired && f.Place == change.OnTouched,
			"touched": f.Place == change.OnTouched && f.Standing != Accepted && f.Standing != Waived,
			"all":     f.Standing != Waived,
			"expired": f.Standing == Expired,
		}[said["count"]]
		judged := func(said map[string]string) bool {
			ok := true
			if s, given := said["severity"]; given {
				ok = said["exact"] == "true" && f.Severity == s || said["exact"] != "true" && slices.Index(ladder, f.Severity) <= slices.Index(ladder, s)
			}
			if s, given := said["place"]; given {
				ok = ok && string(f.Place) == s
			}
			if s, given := said["standing"]; given {
				ok = ok && string(f.Standing) == s
			}
			return ok
		}
		ok = ok && judged(said)
		for _, source := range append([]Finding{f}, f.Also...) {
			if excepts && judged(excepted) && plainlyTakes(excepted, *source.Finding) {
				continue
			}
			if ok && plainlyTakes(said, *source.Finding) && f.Severity != "ignored" {
				found++
				break
			}
		}
	}
	return found
}

// TestAgainstThePlainest: random policies over random findings grade and count as the plainest reading of them does.
func TestAgainstThePlainest(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	pick := func(from ...string) string { return from[random.IntN(len(from))] }
	selector := func(often int) (text string) {
		for _, more := range []string{
			"rule: \"" + pick("-W*", "odd", "shade") + "\"", "path: " + pick("core/**", "fares/**", "deep"), "tool: " + pick("gcc", "clang"),
			"tag: " + pick("security", "style"), "team: " + pick("tides", "fares"),
		} {
			if random.IntN(often) == 0 {
				text += ", " + more
			}
		}
		return text
	}
	severities := func() (list []string) {
		for range random.IntN(5) {
			s := pick("is", "cap", "floor")
			s += ": " + pick("error", "warning", "note")
			if strings.HasPrefix(s, "is") && random.IntN(4) == 0 {
				s = "is: ignored"
			}
			if random.IntN(3) == 0 {
				s += ", level: " + pick("error", "warning", "note", "none")
			}
			if !strings.HasPrefix(s, "cap") && !strings.HasPrefix(s, "is: ignored") && random.IntN(4) == 0 {
				s += ", firm: true"
			}
			list = append(list, s+selector(3))
		}
		return list
	}
	policyOf := func(first string, list []string, last string) string {
		text := "zincdoor: 1\n" + first
		if len(list) > 0 {
			text += "severities: [{" + strings.Join(list, "}, {") + "}]\n"
		}
		return text + last
	}
	for range 600 {
		var findings []finding.Finding
		for range random.IntN(12) {
			f := at(1+random.IntN(9), finding.Levels[random.IntN(4)])
			f.Tool, f.Rule, f.Path = pick("gcc", "clang"), pick("-Wshadow", "-Wunused", "odd"), pick("core/tide.c", "fares/fare.go", "skipped/a.c", "")
			f.Traits = &finding.Traits{Tags: []string{pick("security", "style")}}
			f.Code.Text = fmt.Sprint(random.IntN(1000))
			findings = append(findings, f)
		}
		findings = finding.Merge(findings)
		var entries []baseline.Entry
		for _, f := range findings {
			if random.IntN(3) == 0 {
				e := baseline.EntryFor(f, "note")
				e.Until = pick("", "2026-01-01")
				entries = append(entries, e)
			}
		}
		limit := "count: " + pick("new", "touched", "all", "expired") + ", most: 0" + selector(4)
		if random.IntN(3) == 0 {
			limit += ", place: " + pick("touched", "file", "elsewhere")
		}
		if random.IntN(3) == 0 {
			limit += ", severity: " + pick("error", "warning", "note")
		}
		if strings.Contains(limit, "severity: error") {
			limit += ", exact: true"
		}
		if random.IntN(3) == 0 {
			limit += ", except: {" + pick("place: touched", "standing: new", "severity: warning, place: touched", "severity: error, exact: true, standing: new") + selector(2) + "}"
		}
		inherited, ours := severities(), severities()
		const names = "paths: {skip: skipped/**, sets: {deep: core/**}}\ngroups: {shade: [-Wshadow, odd]}\nteams: {tides: {path: core/**}, fares: {path: fares/**}}\n"
		base := policyfile.Text{Name: "base", Data: []byte(policyOf(names, inherited, ""))}
		text := policyOf("inherit: {path: base}\n", ours, "doors: {d: {limits: [{"+limit+"}]}}\n")
		p, err := policyfile.Read(policyfile.Text{Name: "p", Data: []byte(text), Find: func(policyfile.Inherit) (policyfile.Text, error) { return base, nil }})
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		v := Judge(Input{
			Change: change.New([]change.File{tide}, change.Rules{}), Findings: findings, Evidence: []Evidence{readIt}, Policy: p.Policy, Door: p.Policy.Doors[0],
			Today: "2026-11-23", Baseline: &baseline.Baseline{Entries: entries, Covers: []baseline.Cover{{Tool: pick("gcc", "none"), Paths: []string{"**"}}}},
		})
		for _, f := range v.Findings {
			if want := plainSeverity(*f.Finding, inherited, ours); f.Severity != want {
				t.Fatalf("%s %s %s %v %s is graded %s, plainly %s\n%s\n%s", f.Tool, f.Rule, f.Path, f.Weight().Tags, f.Level, f.Severity, want, base.Data, text)
			}
		}
		if got, want := v.Limits[0].Found, plainly(limit, v); got != want {
			t.Fatalf("%s: counts %d, plainly %d\n%+v", limit, got, want, v.Findings)
		}
	}
}
