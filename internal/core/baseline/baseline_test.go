package baseline

import (
	"fmt"
	"slices"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

func entry(path, message string) Entry {
	return Entry{Path: path, Tool: "gcc", Rule: "-Wshadow", Message: message, Text: "a1", Why: Debt, On: "2026-10-01"}
}

func (e Entry) until(day string) Entry {
	e.Until = day
	return e
}

func (e Entry) at(line int) Entry {
	e.Line = line
	return e
}

func (e Entry) because(reason string) Entry {
	e.Reason = reason
	return e
}

// TestExpired: an acceptance holds on its last day, and no longer.
func TestExpired(t *testing.T) {
	for _, c := range []struct {
		until, today string
		want         bool
	}{{"", "2026-11-23", false}, {"2026-11-23", "2026-11-22", false}, {"2026-11-23", "2026-11-23", false}, {"2026-11-23", "2026-11-24", true}} {
		if got := entry("a", "m").until(c.until).Expired(c.today); got != c.want {
			t.Errorf("until %q, on %s: %v", c.until, c.today, got)
		}
	}
}

// TestAdditions: what a change puts in is distinguished from what it only notes anew, alters or takes out.
func TestAdditions(t *testing.T) {
	a, b := entry("core/tide.c", "hides 'a'"), entry("core/tide.c", "hides 'b' of line 3")
	renumbered := b
	renumbered.Message = "hides 'b' of line 9"
	for _, c := range []struct {
		name          string
		before, after []Entry
		want          string // added, each with whether it takes another's place for the same reasons; dropped
	}{
		{"nothing", []Entry{a}, []Entry{a}, "[] 0"},
		{"one more", []Entry{a}, []Entry{a, b}, "[new] 0"},
		{"the same twice", []Entry{a}, []Entry{a, a}, "[new] 0"},
		{"noted anew", []Entry{a.at(3)}, []Entry{a.at(9)}, "[same] 0"},
		{"for another reason", []Entry{a}, []Entry{a.because("measured")}, "[other] 0"},
		{"with another number in it", []Entry{b}, []Entry{renumbered}, "[same] 0"},
		{"taken out", []Entry{a, b}, []Entry{b}, "[] 1"},
		{"one for another", []Entry{a.because("x")}, []Entry{entry("fares/fare.go", "unused")}, "[new] 1"},
	} {
		added, dropped := Additions(c.before, c.after)
		kinds := []string{}
		for _, o := range added {
			switch {
			case o.Was == nil:
				kinds = append(kinds, "new")
			case o.SameReasons():
				kinds = append(kinds, "same")
			default:
				kinds = append(kinds, "other")
			}
		}
		if got := fmt.Sprint(kinds, " ", len(dropped)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestMerge: what either side took out is out, what either put in is in, once, and of two ends the first counts; whichever
// side is ours.
func TestMerge(t *testing.T) {
	a, b, c := entry("a.c", "m"), entry("b.c", "m"), entry("c.c", "m")
	for _, one := range []struct {
		name               string
		base, ours, theirs []Entry
		want               string
	}{
		{"each puts one in", []Entry{a}, []Entry{a, b}, []Entry{a, c}, "[a.c b.c c.c]"},
		{"each takes one out", []Entry{a, b, c}, []Entry{b, c}, []Entry{a, c}, "[c.c]"},
		{"both put the same in", nil, []Entry{a}, []Entry{a.at(4)}, "[a.c]"},
		{"two of the same against one", nil, []Entry{a, a}, []Entry{a}, "[a.c a.c]"},
		{"two ends", []Entry{a}, []Entry{a.until("2027-03-01")}, []Entry{a.until("2027-02-01")}, "[a.c 2027-02-01]"},
		{"both take the same one of two out", []Entry{a, a}, []Entry{a}, []Entry{a}, "[a.c]"},
		{"an end and none", []Entry{a.until("2027-01-01")}, []Entry{a}, []Entry{a.until("2027-02-01")}, "[a.c 2027-02-01]"},
	} {
		for range 2 {
			merged := Merge(&Baseline{Entries: one.base}, &Baseline{Entries: one.ours}, &Baseline{Entries: one.theirs})
			slices.SortFunc(merged.Entries, Order)
			got := []string{}
			for _, e := range merged.Entries {
				if got = append(got, e.Path); e.Until != "" {
					got = append(got, e.Until)
				}
			}
			if fmt.Sprint(got) != one.want {
				t.Errorf("%s: %v, want %s", one.name, got, one.want)
			}
			one.ours, one.theirs = one.theirs, one.ours
		}
	}
}

// TestRefresh: an accepted finding is noted as it is now, for the same reasons, and its number never grows that way.
func TestRefresh(t *testing.T) {
	old := entry("core/tide.c", "81 lines").because("long")
	old.Measure = "81"
	at := func(message string) finding.Finding {
		return finding.Finding{Tool: "gcc", Rule: "-Wshadow", Path: "core/gauge.c", Message: message, Region: finding.Region{Line: 7}, Code: source.Code{Text: "int h;"}}
	}
	better := old.Refresh(at("70 lines"), "70", false)
	worse := old.Refresh(at("95 lines"), "95", false)
	if better.Path != "core/gauge.c" || better.Line != 7 || better.Reason != "long" || better.Measure != "70" {
		t.Errorf("better: %+v", better)
	}
	old.Text, old.Before, old.Fingerprints = "1", "2", "p"
	away := at("81 lines")
	away.Code = source.Code{}
	if kept := old.Refresh(away, "81", false); kept.Text != "1" || kept.Before != "2" || kept.Fingerprints != "p" || kept.Line != 7 {
		t.Errorf("where the file isn't there: %+v", kept)
	}
	if worse.Measure != "81" || worse.Message != "81 lines" || worse.Line != 7 {
		t.Errorf("worse: %+v", worse)
	}
}

func TestCovers(t *testing.T) {
	b := &Baseline{Covers: []Cover{{Tool: "gcc", Paths: []string{"core/**"}}, {Tool: "vet", Paths: []string{PathGlob("fares/[a].go")}}}}
	for _, c := range []struct {
		tool, path string
		want       bool
	}{{"gcc", "core/deep/tide.c", true}, {"gcc", "fares/fare.go", false}, {"gcc", "", true}, {"clang", "core/tide.c", false}, {"vet", "fares/[a].go", true}, {"vet", "fares/a.go", false}} {
		if got := b.CoversFinding(c.tool, c.path); got != c.want {
			t.Errorf("%s %q: %v", c.tool, c.path, got)
		}
	}
}
