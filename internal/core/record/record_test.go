package record

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/source"
)

func found(path, rule, message string, line int, standing judge.Standing) judge.Finding {
	f := judge.Finding{Finding: &finding.Finding{Tool: "gcc", Rule: rule, Path: path, Message: message, Region: finding.Region{Line: line}}, ID: path + rule + message, Severity: "warning", Place: change.Elsewhere, Cost: 5}
	f.Standing = standing
	return f
}

func ids(all []judge.Finding) string {
	var names []string
	for _, f := range all {
		names = append(names, f.Path+" "+f.Rule)
	}
	return strings.Join(names, ", ")
}

// TestOf: what is kept of a verdict, and whether it counts as a state of its branch.
func TestOf(t *testing.T) {
	touched, elsewhere, accepted := found("core/tide.c", "new", "x", 3, judge.New), found("core/ebb.c", "old", "y", 4, judge.Existing), found("core/ebb.c", "known", "z", 5, judge.Accepted)
	touched.Place = change.OnTouched
	ours := found("docs/a.md", "blank-ends", "w", 1, judge.New)
	ours.Finding.Tool = house.Tool
	all := []judge.Finding{accepted, elsewhere, touched, ours}
	read, missing, needless := judge.Evidence{Name: "gcc", State: judge.Read}, judge.Evidence{Name: "gcc", State: judge.Missing}, judge.Evidence{Name: "vet", State: judge.Missing, Optional: true}
	partly, checks := judge.Evidence{Name: "gcc", State: judge.Read, Partly: true}, judge.Evidence{Name: house.Tool, State: judge.Read, Partly: true}
	for _, c := range []struct {
		name, branch string
		evidence     []judge.Evidence
		want, is     string // the findings that are kept, and the branch whose state it is
	}{
		{"a state", "main", []judge.Evidence{read, needless}, ids(all), "main"},
		{"a state with our own checks of the change", "main", []judge.Evidence{read, checks}, ids(all[:3]), "main"},
		{"a change", "", []judge.Evidence{read}, ids(all[2:]), ""},
		{"evidence that is missing", "main", []judge.Evidence{missing}, ids(all[2:]), ""},
		{"files of the change alone", "main", []judge.Evidence{partly}, ids(all[2:]), ""},
	} {
		v := judge.Verdict{Evidence: c.evidence, Findings: all, Limits: []judge.LimitResult{{Findings: []int{2, 3}}}}
		r := Of(v, c.branch, &policy.Policy{})
		if got := ids(r.Verdict.Findings); got != c.want || r.Branch != c.is || r.Apart != len(all)-len(r.Verdict.Findings) {
			t.Errorf("%s: kept %q of %q, and %d apart", c.name, got, r.Branch, r.Apart)
		}
		for _, at := range r.Verdict.Limits[0].Findings {
			if f := r.Verdict.Findings[at]; f.Rule != "new" && f.Rule != "blank-ends" {
				t.Errorf("%s: its limit counted %s", c.name, f.Rule)
			}
		}
		if len(v.Limits[0].Findings) != 2 || len(v.Findings) != len(all) {
			t.Errorf("%s: the verdict was altered", c.name)
		}
	}
}

// TestCount: findings are counted by what they have in common, those that are ignored not at all.
func TestCount(t *testing.T) {
	ignored := found("core/tide.c", "noise", "n", 9, judge.New)
	ignored.Severity = policy.Ignored
	all := []judge.Finding{found("core/tide.c", "a", "1", 1, judge.New), found("core/sub/x.c", "a", "2", 1, judge.Accepted), found("top.c", "b", "3", 1, judge.New), ignored}
	sets := map[string][]string{"core": {"core/**"}, "deep": {"core/sub/**"}}
	for _, c := range []struct {
		by   By
		want string
	}{
		{ByRule, "a 2 10, b 1 5"}, {ByFile, "core/sub/x.c 1 5, core/tide.c 1 5, top.c 1 5"}, {ByFolder, ". 1 5, core 1 5, core/sub 1 5"},
		{ByStanding, "new 2 10, accepted 1 5"}, {BySet, "core 2 10,  1 5, deep 1 5"}, {BySeverity, "warning 3 15"}, {ByTool, "gcc 3 15"}, {ByTeam, " 3 15"},
	} {
		var got []string
		for _, tally := range Count(all, Names(c.by, sets)) {
			got = append(got, fmt.Sprintf("%s %d %d", tally.Name, tally.Findings, tally.Cost))
		}
		if s := strings.Join(got, ", "); s != c.want {
			t.Errorf("by %s: %s, want %s", c.by, s, c.want)
		}
	}
	if none := Count(all, Names(BySet, nil)); len(none) != 0 {
		t.Errorf("without sets: %v", none)
	}
}

// TestSteps: steps are those of the calendar, whatever their length and the year.
func TestSteps(t *testing.T) {
	day := func(s string) time.Time {
		at, err := time.Parse("2006-01-02 15:04", s)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for _, c := range []struct {
		every    Every
		from, to string
		want     string
	}{
		{Week, "2026-12-30 23:59", "2027-01-11 00:00", "2026-12-28 2027-01-04 2027-01-11"},
		{Week, "2028-02-28 00:00", "2028-03-05 23:59", "2028-02-28"},
		{Month, "2026-11-30 10:00", "2027-01-01 00:00", "2026-11-01 2026-12-01 2027-01-01"},
		{Day, "2028-02-28 10:00", "2028-03-01 00:00", "2028-02-28 2028-02-29 2028-03-01"},
		{Day, "2027-01-02 10:00", "2027-01-01 00:00", ""},
	} {
		steps, err := c.every.Span(day(c.from), day(c.to))
		var got []string
		for _, s := range steps {
			got = append(got, s.Format(time.DateOnly))
		}
		if s := strings.Join(got, " "); s != c.want || err != nil {
			t.Errorf("%s from %s to %s: %s, %v; want %s", c.every, c.from, c.to, s, err, c.want)
		}
	}
	if _, err := Day.Span(day("1970-01-01 00:00"), day("2030-01-01 00:00")); err == nil {
		t.Error("as many steps as there are days")
	}
}

// TestTrend: of each step the last state counts, by its position; names come in the order of the ladder, else by what there is of them
// at the end.
func TestTrend(t *testing.T) {
	start := time.Date(2026, 4, 6, 0, 0, 0, 0, time.UTC)
	steps, err := Week.Span(start, start.AddDate(0, 0, 20))
	if err != nil {
		t.Fatal(err)
	}
	state := func(id string, days, position int) Summary {
		return Summary{ID: id, Time: start.AddDate(0, 0, days), State: State{1, int64(position)}, Outcome: judge.Outcome(id[:1])}
	}
	all := []Summary{state("a1", 1, 1), state("b1", 3, 3), state("a2", 5, 2), state("c1", 15, 4), state("z", 40, 5)}
	var got []string
	for _, last := range LastStates(all, steps, Week) {
		if last == nil {
			got = append(got, "-")
		} else {
			got = append(got, last.ID)
		}
	}
	if s := strings.Join(got, " "); s != "b1 - c1" {
		t.Errorf("the last ones: %s", s)
	}
	counted := CountRecords(all, steps, Week, "outcome", func(r Summary) string { return string(r.Outcome) })
	if strings.Join(counted.Names, "") != "cab" || counted.Points[0].Of("a").Findings != 2 || counted.Points[1].Known() {
		t.Errorf("records: %v %+v", counted.Names, counted.Points)
	}
	points := []Point{{Start: steps[0]}, {Start: steps[1], ID: "x", Tallies: []Tally{{Name: "note", Findings: 9}, {Name: "error", Findings: 1}, {Name: "odd", Findings: 3}}}, {Start: steps[2]}}
	trend := Over(points, Week, BySeverity, []string{"error", "warning", "note"})
	if strings.Join(trend.Names, " ") != "error note odd" {
		t.Errorf("by the ladder: %v", trend.Names)
	}
	if trimmed := trend.Trimmed(); len(trimmed.Points) != 1 || trimmed.Points[0].ID != "x" || len(trend.Points) != 3 {
		t.Errorf("trimmed: %+v", trimmed.Points)
	}
	if none := Over(points[:1], Week, ByRule, nil).Trimmed(); len(none.Points) != 0 {
		t.Errorf("nothing known: %+v", none)
	}
}

// TestRank: what is costly and often changed comes first; where no cost is known, findings weigh; where no changes are, these aren't
// counted.
func TestRank(t *testing.T) {
	now := map[string]Tally{"calm.c": {Findings: 9, Cost: 90}, "busy.c": {Findings: 3, Cost: 60}, "free.c": {Findings: 20}}
	before := map[string]Tally{"busy.c": {Findings: 1}, "gone.c": {Findings: 5}}
	changes := map[string]int{"busy.c": 4, "free.c": 9}
	order := func(all []Worst) string {
		var names []string
		for _, w := range all {
			names = append(names, fmt.Sprintf("%s%+d", w.Name, w.Growth()))
		}
		return strings.Join(names, " ")
	}
	if got := order(Rank(now, before, func(name string) int { return changes[name] })); got != "busy.c+2 calm.c+9 free.c+20" {
		t.Errorf("with changes: %s", got)
	}
	if got := order(Rank(now, before, nil)); got != "calm.c+9 busy.c+2 free.c+20" {
		t.Errorf("without: %s", got)
	}
	free := map[string]Tally{"a": {Findings: 2}, "b": {Findings: 3}}
	if got := order(Rank(free, nil, nil)); got != "b+3 a+2" {
		t.Errorf("without costs: %s", got)
	}
}

// TestCompare: findings are recognised where their lines and files moved, and where nothing but what they say is known.
func TestCompare(t *testing.T) {
	old := map[string]string{"core/tide.c": "int a;\nint neap;\nint c;\n", "core/ebb.c": "long way;\nint spring;\nlong more;\n"}
	new := map[string]string{"core/tide.c": "int z;\nint a;\nint neap;\nint c;\n", "core/flow.c": "long way;\nint spring;\nlong more;\n"}
	reader := func(files map[string]string) func(path string) *source.Text {
		return func(path string) *source.Text {
			if text, ok := files[path]; ok {
				return source.New([]byte(text))
			}
			return nil
		}
	}
	before := []judge.Finding{found("core/ebb.c", "-Wmoves", "unused 'spring'", 2, judge.Accepted), found("core/tide.c", "-Wlong", "line of 90 letters", 2, judge.Existing), found("core/tide.c", "-Wgone", "no more", 3, judge.Existing)}
	after := []judge.Finding{found("core/flow.c", "-Wmoves", "unused 'spring'", 2, judge.Accepted), found("core/tide.c", "-Wfresh", "just come", 1, judge.New), found("core/tide.c", "-Wlong", "line of 120 letters", 3, judge.Existing)}
	for _, list := range [][]judge.Finding{before, after} {
		slices.SortFunc(list, func(a, b judge.Finding) int { return finding.Order(*a.Finding, *b.Finding) })
	}
	p := &policy.Policy{Numbers: []policy.Number{{Rules: []string{"-Wlong"}, Gauge: finding.Gauge{Number: 1}}}}
	way := change.New([]change.File{
		{Path: "core/flow.c", Old: "core/ebb.c", Status: change.Renamed},
		{Path: "core/tide.c", Old: "core/tide.c", Status: change.Modified, Hunks: []change.Hunk{{OldStart: 0, NewStart: 1, NewCount: 1, Added: []string{"int z;"}}}},
	}, change.Rules{})
	for name, view := range map[string]recognise.View{"with the texts": {Change: way, OldText: reader(old), NewText: reader(new)}, "without": {}} {
		c := Compare(before, after, p, view)
		came, went := "core/tide.c -Wfresh", "core/tide.c -Wgone"
		if name == "without" {
			came, went = "core/flow.c -Wmoves, "+came, "core/ebb.c -Wmoves, "+went
		}
		if c.Before != 3 || c.After != 3 || c.Costs != 15 || ids(c.Came) != came || ids(c.Went) != went {
			t.Errorf("%s: %d, %d, came %s, went %s", name, c.Before, c.After, ids(c.Came), ids(c.Went))
		}
		if len(c.Worsened) != 1 || c.Worsened[0].After.Measure != "120" || c.Worsened[0].After.AcceptedMeasure != "90" {
			t.Errorf("%s: worsened %+v", name, c.Worsened)
		}
		if name == "with the texts" && (len(c.Moved) != 1 || c.Moved[0].Before.Path != "core/ebb.c" || c.Moved[0].After.Path != "core/flow.c") {
			t.Errorf("moved: %+v", c.Moved)
		}
		if len(c.Rules) < 2 || len(c.Files) < 2 {
			t.Errorf("%s: %+v %+v", name, c.Files, c.Rules)
		}
	}
	same := Compare(before, before, p, recognise.View{})
	if len(same.Came)+len(same.Went)+len(same.Moved)+len(same.Worsened)+len(same.Files)+len(same.Rules) > 0 {
		t.Errorf("a state and itself: %+v", same)
	}
}
