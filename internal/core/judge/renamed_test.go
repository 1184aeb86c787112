package judge

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
)

// TestRenamed: a tool that is called otherwise than when its findings were accepted is known by what it says.
func TestRenamed(t *testing.T) {
	covers := func(tools ...string) (all []baseline.Cover) {
		for _, tool := range tools {
			all = append(all, baseline.Cover{Tool: tool, Paths: []string{baseline.Everywhere}})
		}
		return all
	}
	of := func(tool string, lines ...int) (all []finding.Finding) {
		for _, line := range lines {
			f := at(line, finding.Warning)
			f.Tool, f.Message = tool, fmt.Sprintf("deep %c", 'a'+line)
			all = append(all, f)
		}
		return all
	}
	entries := func(findings []finding.Finding) (all []baseline.Entry) {
		for _, f := range findings {
			all = append(all, baseline.EntryFor(f, "warning"))
		}
		return all
	}
	for _, c := range []struct {
		name              string
		accepted, found   []finding.Finding
		baseline, reports []baseline.Cover
		state             State
		pinned            bool
		want              string // standings
		say               string
	}{
		{"all the same", of("gcc", 6, 9), of("cc", 6, 9), covers("gcc"), covers("cc"), Read, false, "accepted accepted", "cc is taken as gcc"},
		{"half of them", of("gcc", 6), of("cc", 6, 9), covers("gcc"), covers("cc"), Read, false, "accepted new", "cc is taken as gcc"},
		{"less than half", of("gcc", 6), of("cc", 6, 8, 9), covers("gcc"), covers("cc"), Read, false, "existing existing existing", "and there is no report of it"},
		{"less, and pinned", of("gcc", 6), of("cc", 6, 8, 9), covers("gcc"), covers("cc"), Read, true, "existing existing existing", ""},
		{"the tool is there too", of("gcc", 6), of("cc", 6), covers("gcc"), covers("gcc", "cc"), Read, false, "existing", ""},
		{"the new name is covered", of("gcc", 6), of("cc", 6), covers("gcc", "cc"), covers("cc"), Read, false, "new", ""},
		{"each once", of("gcc", 6), append(of("cc", 6), of("other", 6)...), covers("gcc"), covers("cc", "other"), Read, false, "accepted existing", "cc is taken as gcc"},
		{"a report that can't be read may be of it", of("gcc", 6), of("cc", 6), covers("gcc"), nil, Failed, false, "existing", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, door := doorOf(t, "enforce", noError)
			v := Judge(Input{
				Change: change.New([]change.File{tide}, change.Rules{}), Findings: finding.Merge(c.found), Policy: p, Door: door, Today: "2026-11-23", KeepApart: true,
				Baseline: &baseline.Baseline{Covers: c.baseline, Entries: entries(c.accepted)}, Evidence: []Evidence{{Name: "r", State: c.state, Covers: c.reports, Pinned: c.pinned}},
			})
			var got []string
			for _, f := range v.Findings {
				got = append(got, string(f.Standing))
				if f.Entry != nil && f.Entry.Tool != "gcc" {
					t.Errorf("the entry isn't the list's own: %+v", f.Entry)
				}
			}
			notices := strings.Join(v.Notices, "; ")
			if strings.Join(got, " ") != c.want || !strings.Contains(notices, c.say) || c.say == "" && strings.Contains(notices, "gcc") {
				t.Errorf("%v, want %s; %s", got, c.want, notices)
			}
		})
	}
}

// TestGoneNeedsAll: of a tool with several reports nothing is gone while one of them isn't believed.
func TestGoneNeedsAll(t *testing.T) {
	p, door := doorOf(t, "enforce", noError)
	for _, c := range []struct {
		states []State
		gone   int
	}{{[]State{Read}, 1}, {[]State{Read, Empty}, 1}, {[]State{Read, Failed}, 0}, {[]State{Missing, Read}, 0}} {
		in := Input{Change: &change.Change{}, Policy: p, Door: door, Baseline: &baseline.Baseline{Covers: readIt.Covers, Entries: []baseline.Entry{baseline.EntryFor(at(9, finding.Warning), "warning")}}}
		for _, state := range c.states {
			in.Evidence = append(in.Evidence, Evidence{State: state, Covers: readIt.Covers})
		}
		if v := Judge(in); len(v.Gone) != c.gone {
			t.Errorf("%v: %d gone, want %d", c.states, len(v.Gone), c.gone)
		}
	}
}

// TestLostCover: a door isn't judged by a tool that gave up a file of which something is to be recognised.
func TestLostCover(t *testing.T) {
	p, door := doorOf(t, "enforce", noError)
	known := at(9, finding.Warning)
	other := known
	other.Tool = "clang"
	entry := func(f finding.Finding) *baseline.Baseline {
		return &baseline.Baseline{Entries: []baseline.Entry{baseline.EntryFor(f, "warning")}}
	}
	for _, c := range []struct {
		name     string
		lost     []string
		baseline *baseline.Baseline
		before   []finding.Finding
		want     Outcome
		gone     int
	}{
		{"nothing is lost", nil, entry(known), nil, Open, 1},
		{"a file without anything", []string{"core/other.c"}, entry(known), nil, Open, 1},
		{"a file with an entry", []string{known.Path}, entry(known), nil, Unjudged, 0},
		{"a file with an entry of another tool", []string{known.Path}, entry(other), nil, Open, 0},
		{"a file with a finding from before", []string{"core/a.c", known.Path}, nil, []finding.Finding{known}, Unjudged, 0},
	} {
		e := readIt
		e.Lost, e.Trouble = c.lost, "line 7: the compiler stopped"
		evidence := []Evidence{e}
		v := Judge(Input{Change: &change.Change{}, Policy: p, Door: door, Evidence: evidence, Baseline: c.baseline, BaseFindings: c.before, BaseCovers: readIt.Covers})
		if v.Outcome != c.want || len(v.Gone) != c.gone || evidence[0].State != Read {
			t.Errorf("%s: %s, %d gone; %+v", c.name, v.Outcome, len(v.Gone), v.Evidence)
		}
	}
}
