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
	"zincdoor/internal/core/policy"
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
	tagged.Tags = []string{"security"}
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
		{"count: all, most: 0, standing: [inherited, accepted]", []finding.Finding{at(3, finding.Warning), at(9, finding.Warning)}, nil, "1 0 false shut"},
	} {
		p, door := doorOf(t, "enforce", c.limit)
		way := change.New([]change.File{tide, long}, change.Rules{})
		k := Case{Change: way, Findings: finding.Merge(slices.Clone(c.findings)), Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23", BaseFindings: c.base}
		k.BaseRecognised = baseline.Recognise(k.Findings, nil, baseline.View{})
		if c.base != nil {
			k.BaseCovers = readIt.Covers
		}
		v := Judge(k)
		l := v.Limits[0]
		if got := fmt.Sprint(l.Found, " ", l.Bound, " ", l.Held, " ", v.Outcome); got != c.want {
			t.Errorf("%s: %s, want %s", c.limit, got, c.want)
		}
	}
}

// plainly judges a limit once more, in the plainest way there is: word by word as the policy's text says it.
func plainly(text string, v Verdict) (found int) {
	asked := map[string]string{}
	for part := range strings.SplitSeq(text, ", ") {
		key, value, _ := strings.Cut(part, ": ")
		asked[key] = strings.Trim(value, `"`)
	}
	ladder := []string{"error", "warning", "note"}
	for _, f := range v.Findings {
		ok := map[string]bool{
			"new":     f.Standing == New || f.Standing == Worsened || f.Standing == Lapsed && f.Place == change.OnTouched,
			"touched": f.Place == change.OnTouched && f.Standing != Accepted && f.Standing != Waived,
			"all":     f.Standing != Waived,
			"lapsed":  f.Standing == Lapsed,
		}[asked["count"]]
		if s, given := asked["severity"]; given {
			ok = ok && (asked["only"] == "true" && f.Severity == s || asked["only"] != "true" && slices.Index(ladder, f.Severity) <= slices.Index(ladder, s))
		}
		if s, given := asked["rule"]; given {
			ok = ok && (f.Rule == s || strings.HasSuffix(s, "*") && strings.HasPrefix(f.Rule, strings.TrimSuffix(s, "*")))
		}
		if s, given := asked["path"]; given {
			ok = ok && strings.HasPrefix(f.Path, strings.TrimSuffix(s, "**"))
		}
		if s, given := asked["tool"]; given {
			ok = ok && f.Tool == s
		}
		if s, given := asked["tag"]; given {
			ok = ok && slices.Contains(f.Tags, s)
		}
		if s, given := asked["place"]; given {
			ok = ok && string(f.Place) == s
		}
		if ok && f.Severity != "ignored" {
			found++
		}
	}
	return found
}

// TestAgainstThePlainest: random limits over random findings count what the plainest reading of them counts.
func TestAgainstThePlainest(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	pick := func(from ...string) string { return from[random.IntN(len(from))] }
	for range 400 {
		var findings []finding.Finding
		for range random.IntN(12) {
			f := at(1+random.IntN(9), finding.Levels[random.IntN(4)])
			f.Tool, f.Rule, f.Path = pick("gcc", "clang"), pick("-Wshadow", "-Wunused", "odd"), pick("core/tide.c", "fares/fare.go", "skipped/a.c", "")
			f.Tags = []string{pick("security", "style")}
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
		limit := "count: " + pick("new", "touched", "all", "lapsed") + ", most: 0"
		for _, more := range []string{
			"severity: " + pick("error", "warning", "note"), "rule: \"" + pick("-W*", "odd") + "\"", "path: " + pick("core/**", "fares/**"),
			"tool: " + pick("gcc", "clang"), "tag: " + pick("security", "style"), "place: " + pick("touched", "file", "elsewhere"),
		} {
			if random.IntN(3) == 0 {
				limit += ", " + more
			}
		}
		if strings.Contains(limit, "severity: error") {
			limit += ", only: true"
		}
		text := "zincdoor: 1\npaths: {skip: skipped/**}\nseverities: [{tag: security, floor: warning}, {rule: odd, cap: note}]\ndoors: {d: {limits: [{" + limit + "}]}}\n"
		p, err := policy.Parse("p", []byte(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		v := judged(Case{
			Change: change.New([]change.File{tide}, change.Rules{}), Findings: findings, Evidence: []Evidence{readIt}, Policy: p, Door: p.Doors[0],
			Today: "2026-11-23", Baseline: &baseline.Baseline{Entries: entries, Covers: []baseline.Cover{{Tool: pick("gcc", "none"), Paths: []string{"**"}}}},
		})
		if got, want := v.Limits[0].Found, plainly(limit, v); got != want {
			t.Fatalf("%s: counts %d, plainly %d\n%+v", limit, got, want, v.Findings)
		}
	}
}
