package report

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/measure"
)

// TestReadCoverage: each form is known by how it begins, and read line by line.
func TestReadCoverage(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"profile", "mode: set\ntide/fare.go:3.20,5.2 2 1\ntide/fare.go:5.7,7.3 1 0\ntide/fare.go:3.20,5.2 2 4\ntide/none.go:9.1,9.9 0 0\n",
			"tide/fare.go 3:5 4:5 5:5 6:0 7:0; tide/none.go"},
		{"tracefile", "TN:\nSF:/work/core/tide.c\nFN:1,depth\nDA:1,4\nDA:2,0,hash\nDA:0,7\nBRDA:1,0,0,3\nBRDA:1,0,1,-\nLF:2\nend_of_record\nSF:/work/core/tide.c\nDA:2,1\nend_of_record\n",
			"/work/core/tide.c 1:4(1/2) 2:1"},
		{"Cobertura", `<?xml version="1.0"?><!DOCTYPE coverage SYSTEM "x.dtd"><coverage line-rate="1"><sources><source>core</source></sources><packages><package name="p"><classes><class name="Tide" filename="tide.c"><methods><method name="f"><lines><line number="3" hits="2"/></lines></method></methods><lines><line number="3" hits="2"/><line number="4" hits="0" branch="true" condition-coverage="50% (1/2)"/></lines></class></classes></package></packages></coverage>`,
			"core/tide.c 3:2 4:0(1/2)"},
		{"JaCoCo", `<?xml version="1.0"?><!DOCTYPE report PUBLIC "-//X" "report.dtd"><report name="r"><group name="g"><package name="org/tide"><class name="org/tide/Board"><method name="f" line="3"><counter type="LINE" missed="1" covered="1"/></method></class><sourcefile name="Board.java"><line nr="3" mi="0" ci="4" mb="1" cb="1"/><line nr="4" mi="2" ci="0" mb="0" cb="0"/></sourcefile></package></group></report>`,
			"org/tide/Board.java 3:4(1/2) 4:0"},
	} {
		got, err := ReadCoverage(strings.NewReader(c.text))
		if err != nil || shown(got) != c.want {
			t.Errorf("%s: %s, %v; want %s", c.name, shown(got), err, c.want)
		}
		for _, cut := range []int{len(c.text) / 2, len(c.text) - 12} {
			if got, err := ReadCoverage(strings.NewReader(c.text[:cut])); err == nil && c.name != "profile" {
				t.Errorf("%s cut off at %d: %s", c.name, cut, shown(got))
			}
		}
	}
	for text, want := range map[string]error{
		"": ErrNoCoverage, "{}": ErrNoCoverage, "<html></html>": ErrNoCoverage, "mode: set\nrubbish\n": ErrMalformed, "mode: set\na.go:9.1,2.1 1 1\n": ErrMalformed,
		"SF:a\nDA:x,1\nend_of_record\n": ErrMalformed, "TN:\nDA:1,1\n": ErrMalformed, "mode: set\na.go:1.1,99999999999.1 1 1\n": ErrMalformed,
		`<coverage><line number="1" hits="1"/></coverage>`: ErrMalformed, `<report><sourcefile name="a"><line nr="x"/></sourcefile></report>`: ErrMalformed,
	} {
		if _, err := ReadCoverage(strings.NewReader(text)); !errors.Is(err, want) {
			t.Errorf("%q: %v, want %v", text, err, want)
		}
	}
}

// shown is coverage as a text: of each file the lines, with counts and branches.
func shown(c measure.Coverage) string {
	var files []string
	for _, path := range c.Paths() {
		all := []string{path}
		for n := range 100 {
			if h, ok := c[path][n]; ok && h.Branches > 0 {
				all = append(all, fmt.Sprintf("%d:%d(%d/%d)", n, h.Count, h.Taken, h.Branches))
			} else if ok {
				all = append(all, fmt.Sprintf("%d:%d", n, h.Count))
			}
		}
		files = append(files, strings.Join(all, " "))
	}
	return strings.Join(files, "; ")
}

// FuzzReadCoverage: any text is read or is an error, and no line is below 1.
func FuzzReadCoverage(f *testing.F) {
	f.Add("mode: set\na.go:1.1,2.2 1 1\n")
	f.Add("SF:a\nDA:1,1\nBRDA:1,0,0,-\nend_of_record\n")
	f.Add(`<coverage><class filename="a"><line number="1" hits="1" condition-coverage="50% (1/2)"/></class></coverage>`)
	f.Add(`<report><package name="p"><sourcefile name="a"><line nr="1" ci="1"/></sourcefile></package></report>`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ReadCoverage(strings.NewReader(text))
		if err != nil {
			return
		}
		for path, lines := range c {
			for n, h := range lines {
				if n < 1 || h.Count < 0 && !strings.Contains(text, "-") {
					t.Errorf("%s:%d %+v", path, n, h)
				}
			}
		}
	})
}
