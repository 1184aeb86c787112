package waiver

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

func equal(glob, rule string) bool { return glob == rule || glob == "*" }

func TestFind(t *testing.T) {
	text := source.New([]byte(strings.Join([]string{
		`int a; // door waiver(-Wshadow): the driver needs it`,
		`/* door waiver(-Wunused, W*) until 2027-02-01: spring timetable */`,
		``,
		`	/// door waiver(E1): stacked`,
		`x = 1`,
		`/** door waiver(E2) */`,
		`f();`,
		`/* door waiver(E3): here */ g();`,
		`// a door waiver(): nothing`,
		`// backdoor waivers are no waivers`,
	}, "\n")))
	var got []string
	for _, w := range Find("a.c", text) {
		got = append(got, fmt.Sprintf("%d>%d %v %s|%s", w.Line, w.Target, w.Rules, w.Until, w.Reason))
	}
	want := []string{
		"1>1 [-Wshadow] |the driver needs it",
		"2>5 [-Wunused W*] 2027-02-01|spring timetable",
		"4>5 [E1] |stacked",
		"6>7 [E2] |",
		"8>8 [E3] |here",
	}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestComments: a waiver counts only as the first words of a comment of the file's kind, outside of texts.
// TestIn: a text holds the sign or it doesn't, wherever it stands.
func TestIn(t *testing.T) {
	for text, want := range map[string]bool{
		"": false, "v": false, "waiver(": false, "door waiver": false, "oor waiver(": false, "door  waiver(": false,
		Sign: true, "vv " + Sign: true, "a\n// " + Sign + "x)": true, "door waivdoor waiver(": true, "over a river, " + Sign: true,
	} {
		if got := In([]byte(text)); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestComments(t *testing.T) {
	const sign = "door waiver(E1): why"
	for _, c := range []struct {
		file, line string
		target     int // 0 where it is no waiver
	}{
		{"a.c", "int x; // " + sign, 1}, {"a.c", "int x; //! " + sign, 1}, {"a.c", "int x; // see door waiver(E1): why", 0}, {"a.c", "int x; // xdoor waiver(E1): why", 0}, {"a.c", "x" + sign, 0}, {"a.c", sign, 0},
		{"a.c", `char *s = "// ` + sign + `";`, 0}, {"a.c", `char *s = "\" // ` + sign + `";`, 0}, {"a.c", `char *s = "a"; // ` + sign, 1}, {"a.c", `char c = '"'; // ` + sign, 1}, {"a.c", "int n = 1'000; // " + sign, 1},
		{"a.c", "# " + sign, 0}, {"a.c", "/* a */ f(); // " + sign, 1}, {"a.c", "/* a // " + sign + " */", 0}, {"a.c", "// a // " + sign, 0}, {"a.c", "  /* " + sign + " */", 2}, {"a.c", "url = x; /* " + sign + " */", 1}, {"a.rs", "fn f<'a>(x: &'a str, y: &'a u8) {} // " + sign, 1},
		{"a.py", "x = 1 # " + sign, 1}, {"a.py", "# " + sign, 2}, {"a.py", `x = "# ` + sign + `"`, 0}, {"a.py", "x = 1 // " + sign, 0}, {"a.sh", "echo ${x#door} # " + sign, 1}, {"a.sh", "echo x#" + sign, 0}, {"Makefile", "all: # " + sign, 1},
		{"a.html", "<!-- " + sign + " -->", 2}, {"a.html", "<p>// " + sign + "</p>", 0}, {"a.md", "    // " + sign, 0}, {"a.sql", "select 1 -- " + sign, 1}, {"a.sql", "select '-- " + sign + "'", 0}, {"a.lua", "--[[ " + sign + " ]]", 2}, {"a.hs", "{- " + sign + " -}", 2},
		{"a.el", ";; " + sign, 2}, {"a.tex", "x % " + sign, 1}, {"a.css", "a {} /* " + sign + " */", 1}, {"a.css", "a {} // " + sign, 0}, {"a.vb", "' " + sign, 2}, {"a.ml", "(* " + sign + " *)", 2}, {"a.s", "nop # " + sign, 1}, {"a.ini", "; " + sign, 2},
		{"tides.xyz", "# " + sign, 2}, {"tides.xyz", "x # " + sign, 0}, {"tides.xyz", "REM " + sign, 2}, {"tides.xyz", "-- " + sign, 2}, {"tides.xyz", sign, 0},
	} {
		got := 0
		for _, w := range Find(c.file, source.New([]byte(c.line+"\nnext\n"))) {
			got = w.Target
		}
		if got != c.target {
			t.Errorf("%s: %q speaks of line %d, want %d", c.file, c.line, got, c.target)
		}
	}
}

func TestMatch(t *testing.T) {
	at := func(line int, rule string) finding.Finding {
		return finding.Finding{Path: "a.c", Rule: rule, Region: finding.Region{Line: line}}
	}
	waivers := []Waiver{
		{Path: "a.c", Line: 2, Target: 3, Rules: []string{"E1"}, Reason: "r"},
		{Path: "a.c", Line: 5, Target: 5, Rules: []string{"E1"}, Reason: "r"},
		{Path: "a.c", Line: 6, Target: 6, Rules: []string{"E9"}, Reason: "r"},
		{Path: "a.c", Line: 7, Target: 7, Rules: []string{"*"}, Reason: ""},
		{Path: "a.c", Line: 8, Target: 8, Rules: []string{"*"}, Reason: "r", Until: "2026-11-22"},
		{Path: "b.c", Line: 3, Target: 3, Rules: []string{"*"}, Reason: "r", Until: "soon"},
	}
	got := Match([]finding.Finding{at(2, "E1"), at(3, "E1"), at(3, "E2"), at(8, "E2"), at(0, "E1")}, waivers, equal)
	if fmt.Sprint(got) != "[-1 0 -1 4 -1]" {
		t.Errorf("matched %v", got)
	}
	var said []string
	for _, f := range Problems(waivers, []string{"E1", "E2"}, func(string) bool { return false }, "2026-11-23", equal) {
		said = append(said, fmt.Sprintf("%s:%d %s", f.Path, f.Region.Line, f.Message))
	}
	want := []string{
		"a.c:5 the waiver of E1 waives nothing: there is no such finding here; remove it",
		"a.c:7 the waiver of * gives no reason; write it after a colon",
		"a.c:8 the waiver of * ended on 2026-11-22",
		`b.c:3 the waiver of * ends on "soon", which is no date like 2027-02-01`,
	}
	if fmt.Sprint(said) != fmt.Sprint(want) {
		t.Errorf("said\n%s\nwant\n%s", strings.Join(said, "\n"), strings.Join(want, "\n"))
	}
	if some := Problems(waivers[2:3], nil, func(path string) bool { return path == "a.c" }, "2026-11-23", equal); len(some) != 1 {
		t.Errorf("where every tool looked: %v", some)
	}
}
