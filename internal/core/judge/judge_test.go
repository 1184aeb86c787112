package judge

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/policyfile"
)

// tide is a modified file whose lines 3 and 4 are touched.
var tide = change.File{Path: "core/tide.c", Old: "core/tide.c", Status: change.Modified,
	Hunks: []change.Hunk{{OldStart: 2, NewStart: 3, NewCount: 2, Added: []string{"x", "y"}}}}

func at(line int, level finding.Level) finding.Finding {
	return finding.Finding{Tool: "gcc", Rule: "-Wshadow", Level: level, Path: tide.Path, Region: finding.Region{Line: line},
		Message: fmt.Sprint("line ", line), Code: source.Code{Text: fmt.Sprint("code ", line), Alike: 1}}
}

// doorOf reads a door's limits from YAML, one limit a line.
func doorOf(t *testing.T, mode string, limits ...string) (*policy.Policy, policy.Door) {
	t.Helper()
	text := "zincdoor: 1\ndoors:\n  d:\n    mode: " + mode + "\n    limits:\n"
	for _, l := range limits {
		text += "      - {" + l + "}\n"
	}
	p, err := policyfile.Parse("p", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return p.Policy, p.Policy.Doors[0]
}

const (
	noError   = "count: new, severity: error, most: 0"
	noWarning = "count: new, severity: warning, exact: true, most: 0"
)

var readIt = Evidence{Name: "r", State: Read, Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{baseline.Everywhere}}}}

func TestStanding(t *testing.T) {
	covered := []baseline.Cover{{Tool: "gcc", Paths: []string{baseline.Everywhere}}}
	accepted := baseline.EntryFor(at(9, finding.Warning), "warning")
	expired := accepted
	expired.Until = "2026-11-22"
	lastDay := accepted
	lastDay.Until = "2026-11-23"
	ownFolder := &change.Change{Files: []change.File{{Path: ".zincdoor/policy.yaml", Old: ".zincdoor/policy.yaml", Status: change.Modified}}}
	noFile := finding.Finding{Tool: "gcc", Level: finding.Warning, Message: "no file"}
	fresh := at(9, finding.Warning)
	fresh.Fresh = true
	outside := finding.Finding{Tool: "gcc", Level: finding.Warning, Path: "/usr/include/math.h", Region: finding.Region{Line: 3}, Outside: true}

	for _, c := range []struct {
		name     string
		change   *change.Change
		baseline *baseline.Baseline
		finding  finding.Finding
		want     string
	}{
		{"line rule, touched", nil, nil, at(3, finding.Warning), "touched new"},
		{"line rule, untouched", nil, nil, at(9, finding.Warning), "file existing"},
		{"line rule, no file", nil, nil, noFile, "elsewhere new"},
		{"line rule, outside", nil, nil, outside, "elsewhere existing"},
		{"covered, untouched", nil, &baseline.Baseline{Covers: covered}, at(9, finding.Warning), "file new"},
		{"covered, outside", nil, &baseline.Baseline{Covers: covered}, outside, "elsewhere new"},
		{"another tool covered", nil, &baseline.Baseline{Covers: []baseline.Cover{{Tool: "clang", Paths: []string{"**"}}}}, at(9, finding.Warning), "file existing"},
		{"one entry alone covers nothing", nil, &baseline.Baseline{Entries: []baseline.Entry{accepted}}, at(8, finding.Warning), "file existing"},
		{"accepted", nil, &baseline.Baseline{Covers: covered, Entries: []baseline.Entry{accepted}}, at(9, finding.Warning), "file accepted"},
		{"expired", nil, &baseline.Baseline{Covers: covered, Entries: []baseline.Entry{expired}}, at(9, finding.Warning), "file expired"},
		{"accepted on its last day", nil, &baseline.Baseline{Entries: []baseline.Entry{lastDay}}, at(9, finding.Warning), "file accepted"},
		{"a change of the door's own folder", ownFolder, &baseline.Baseline{Covers: covered}, at(9, finding.Warning), "elsewhere existing"},
		{"known not to have been there", nil, nil, fresh, "file new"},
		{"everything, no comparison", &change.Change{Everything: true}, nil, at(9, finding.Warning), "touched new"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, door := doorOf(t, "enforce", noError)
			if c.change == nil {
				c.change = change.New([]change.File{tide}, change.Rules{})
			}
			v := Judge(Input{Change: c.change, Findings: []finding.Finding{c.finding}, Baseline: c.baseline, Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23"})
			if got := fmt.Sprint(v.Findings[0].Place, " ", v.Findings[0].Standing); got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
}

func TestOutcome(t *testing.T) {
	missing := Evidence{Name: "m", State: Missing}
	for _, c := range []struct {
		name     string
		mode     string
		limits   []string
		findings []finding.Finding
		evidence []Evidence
		want     string // outcome, enforced, then each limit's count
	}{
		{"nothing found", "enforce", []string{noError}, nil, []Evidence{readIt}, "open open 0"},
		{"a new error", "enforce", []string{noError, noWarning}, []finding.Finding{at(3, finding.Error)}, []Evidence{readIt}, "shut shut 1 0"},
		{"a milder one", "enforce", []string{noError}, []finding.Finding{at(3, finding.Warning)}, []Evidence{readIt}, "open open 0"},
		{"evidence missing", "enforce", []string{noError}, nil, []Evidence{readIt, missing}, "unjudged unjudged 0"},
		{"shut whatever is missing", "enforce", []string{noError}, []finding.Finding{at(3, finding.Error)}, []Evidence{readIt, missing}, "shut shut 1"},
		{"nothing but what isn't needed", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Failed, Optional: true}}, "unjudged unjudged 0"},
		{"nothing but what was before", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Failed, Optional: true}, {Name: "b", State: Read, Before: true}}, "unjudged unjudged 0"},
		{"one that isn't needed, and one that is", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Failed, Optional: true}, readIt}, "open open 0"},
		{"known answers", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Cached}}, "open open 0"},
		{"nothing to ask about", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Skipped}}, "open open 0"},
		{"nothing but our own checks along", "enforce", []string{noError}, nil, []Evidence{{Name: "g", State: Failed, Optional: true}, {Name: "house", State: Read, Optional: true, Along: true}}, "unjudged unjudged 0"},
		{"our own checks where they are needed", "enforce", []string{noError}, nil, []Evidence{{Name: "house", State: Read}}, "open open 0"},
		{"an advising door", "advise", []string{noError}, []finding.Finding{at(3, finding.Error)}, []Evidence{readIt}, "open shut 1"},
		{"an advising door without evidence", "advise", []string{noError}, []finding.Finding{at(3, finding.Error)}, []Evidence{missing}, "unjudged shut 1"},
		{"an advising limit", "enforce", []string{noError + ", mode: advise"}, []finding.Finding{at(3, finding.Error)}, []Evidence{readIt}, "open open 1"},
		{"touched only", "enforce", []string{"count: touched, most: 0"}, []finding.Finding{at(3, finding.Note), at(9, finding.Error)}, []Evidence{readIt}, "shut shut 1"},
		{"all", "enforce", []string{"count: all, most: 2"}, []finding.Finding{at(3, finding.Note), at(9, finding.Error)}, []Evidence{readIt}, "open open 2"},
		{"by rule and path", "enforce", []string{"count: all, rule: -Wsha*, path: core/**, most: 0", "count: all, path: fares/**, most: 0"}, []finding.Finding{at(3, finding.Note)}, []Evidence{readIt}, "shut shut 1 0"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, door := doorOf(t, c.mode, c.limits...)
			v := Judge(Input{Change: change.New([]change.File{tide}, change.Rules{}), Findings: c.findings, Evidence: c.evidence, Policy: p, Door: door})
			got := fmt.Sprint(v.Outcome, " ", v.Enforced)
			for _, l := range v.Limits {
				got += fmt.Sprint(" ", l.Found)
			}
			if got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
}

// What one change was allowed must not shut the door for the next: a limit that allows some new findings counts touched
// ones only, as long as there are no base findings.
func TestLimitThatBearsSome(t *testing.T) {
	p, door := doorOf(t, "enforce", "count: new, most: 1")
	covered := &baseline.Baseline{Covers: readIt.Covers}
	v := Judge(Input{Change: change.New([]change.File{tide}, change.Rules{}), Baseline: covered, Evidence: []Evidence{readIt}, Policy: p, Door: door,
		Findings: []finding.Finding{at(3, finding.Error), at(8, finding.Error), at(9, finding.Error)}})
	if v.Outcome != Open || v.Limits[0].Found != 1 || len(v.Notices) != 1 || !strings.Contains(v.Notices[0], "2 findings on other lines aren't counted") {
		t.Errorf("%s, %d found, notices %q", v.Outcome, v.Limits[0].Found, v.Notices)
	}
}

func TestGone(t *testing.T) {
	entry := func(path string) baseline.Entry {
		return baseline.Entry{Tool: "gcc", Rule: "x", Path: path, Message: path}
	}
	accepted := &baseline.Baseline{Entries: []baseline.Entry{entry("core/tide.c"), entry("fares/a.go"), entry("lost.c")}}
	partly := Evidence{State: Read, Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{"core/**"}}}}
	failed := Evidence{State: Failed, Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{"fares/**"}}}}
	p, door := doorOf(t, "enforce", noError)
	v := Judge(Input{Change: &change.Change{}, Baseline: accepted, Evidence: []Evidence{partly, failed}, Policy: p, Door: door,
		Texts: Texts{Missing: func(path string) bool { return path == "lost.c" }}})
	var got []string
	for _, e := range v.Gone {
		got = append(got, e.Path)
	}
	if fmt.Sprint(got) != "[core/tide.c lost.c]" {
		t.Errorf("gone: %v, want what sound evidence covers, and the lost file", got)
	}
}

// TestAcceptedByTheChange: what a change may accept for itself, how bad it may be, and how many.
func TestAcceptedByTheChange(t *testing.T) {
	found := at(3, finding.Warning)
	entry := baseline.EntryFor(found, "warning")
	until := func(day string) baseline.Entry {
		e := entry
		e.Until, e.Why = day, baseline.Debt
		return e
	}
	for _, c := range []struct {
		name        string
		acceptances *policy.Acceptances
		entry       baseline.Entry
		want        string // standing, honoured, the limit's count and whether it holds
	}{
		{"the door honours none", nil, entry, "new false"},
		{"as bad as is allowed", &policy.Acceptances{Upto: "warning", Most: 1}, entry, "accepted true 1 true"},
		{"worse than is allowed", &policy.Acceptances{Upto: "note", Most: 1}, entry, "new false 0 true"},
		{"any severity", &policy.Acceptances{Most: 1}, entry, "accepted true 1 true"},
		{"more than is allowed", &policy.Acceptances{}, entry, "accepted true 1 false"},
		{"without what is asked for", &policy.Acceptances{Most: 1, Need: []string{"until"}}, entry, "new false 0 true"},
		{"on its last day", &policy.Acceptances{Most: 1, Need: []string{"why", "until"}}, until("2026-11-23"), "accepted true 1 true"},
		{"a day later", &policy.Acceptances{Most: 1}, until("2026-11-22"), "expired true 1 true"},
		{"for another finding", &policy.Acceptances{Most: 1}, baseline.EntryFor(at(9, finding.Warning), "warning"), "new false 1 false"},
	} {
		p, door := doorOf(t, "enforce", noError)
		door.Acceptances = c.acceptances
		v := Judge(Input{
			Change: change.New([]change.File{tide}, change.Rules{}), Findings: []finding.Finding{found}, Evidence: []Evidence{readIt}, Policy: p, Door: door, Today: "2026-11-23",
			Added: []baseline.Addition{{Entry: c.entry}},
		})
		got := fmt.Sprint(v.Findings[0].Standing, " ", v.Acceptances[0].Honoured)
		if l := v.Limits[len(v.Limits)-1]; l.Counted == Acceptances {
			got += fmt.Sprint(" ", l.Found, " ", l.Held)
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestRefreshedEntry: an entry that notes anew where an accepted finding stands is no acceptance of the change's.
func TestRefreshedEntry(t *testing.T) {
	old := baseline.EntryFor(at(3, finding.Warning), "warning")
	old.Line, old.Message = 2, "line 3"
	fresh := baseline.EntryFor(at(3, finding.Warning), "warning")
	p, door := doorOf(t, "enforce", noError)
	door.Acceptances = &policy.Acceptances{}
	v := Judge(Input{
		Change: change.New([]change.File{tide}, change.Rules{}), Findings: []finding.Finding{at(3, finding.Warning)}, Evidence: []Evidence{readIt}, Policy: p, Door: door,
		Baseline: &baseline.Baseline{Entries: []baseline.Entry{old}}, Added: []baseline.Addition{{Entry: fresh, Was: &old}},
	})
	if v.Outcome != Open || len(v.Acceptances) != 0 || v.Findings[0].Standing != Accepted {
		t.Errorf("%s, acceptances %+v, standing %s", v.Outcome, v.Acceptances, v.Findings[0].Standing)
	}
}

// TestWaiversAreMatchedOnce: findings about waivers come among the others, and each waiver still sets its own finding aside.
func TestWaiversAreMatchedOnce(t *testing.T) {
	made := func(line, target int, reason string) waiver.Waiver {
		return waiver.Waiver{Path: tide.Path, Line: line, Target: target, Rules: []string{"-Wshadow"}, Reason: reason}
	}
	p, door := doorOf(t, "enforce", noError)
	v := Judge(Input{
		Change: change.New([]change.File{tide}, change.Rules{}), Findings: []finding.Finding{at(3, finding.Warning), at(9, finding.Warning)}, Evidence: []Evidence{readIt}, Policy: p, Door: door,
		Waivers: []waiver.Waiver{made(2, 3, "measured"), made(5, 6, "nothing stands there"), made(9, 9, "")},
	})
	var got []string
	for _, f := range v.Findings {
		got = append(got, fmt.Sprintf("%d %s %s", f.Region.Line, f.Tool, f.Standing))
	}
	want := "3 gcc waived, 5 zincdoor existing, 9 gcc existing, 9 zincdoor existing"
	if text := strings.Join(got, ", "); text != want || len(v.Waivers) != 1 || v.Waivers[0].Line != 2 || v.Waivers[0].Findings[0] != v.Findings[0].ID {
		t.Errorf("got  %s, waivers %+v\nwant %s", text, v.Waivers, want)
	}
}
