package report

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/policyfile"
)

// realRecipes read what compilers write in shapes of their own.
const realRecipes = `zincdoor: 1
recipes:
  vet:
    as: json
    each: "$.*.*[*]"
    noise: "^#"
    clean: "^(\\{\\}\\s*)+$"
    path: {at: $.posn, cut: "^(.+?):\\d+"}
    line: {at: $.posn, cut: ":(\\d+):\\d+$"}
    column: {at: $.posn, cut: ":(\\d+)$"}
    rule: {member: 1}
    message: $.message
  gcc-json:
    as: json
    each: "$[*]"
    path: $.locations[0].caret.file
    line: $.locations[0].caret.line
    column: $.locations[0].caret.column
    rule: $.option
    severity: $.kind
    message: $.message
    help: $.option_url
    clean: "^\\[\\]$"
doors: {d: {limits: [{count: new, most: 0}]}}
`

// TestRealReports reads what compilers wrote; testdata/real/record tells by which commands.
func TestRealReports(t *testing.T) {
	p, err := policyfile.Parse("p", []byte(realRecipes))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		file, recipe string
		merged       int // findings once equal ones are one
		findings     []string
		failure      string
	}{
		{"gcc-template.txt", "", 4, []string{
			"tide.h:2:37 -Wunused-variable unused variable 'mean'", "tide.h:3:49 -Wsign-compare comparison of", "tide.cpp:7:45 -Wunused-variable unused variable 'slack'",
			"tide.cpp:2:63 -Wconversion conversion from 'long int' to 'unsigned int' may change value",
		}, ""},
		{"gcc-macro.txt", "", 4, []string{"gauge.c:2:27 -Wsign-compare", "gauge.c:2:41 -Wsign-compare", "gauge.c:7:18 -Wformat=", "gauge.c:6:27 -Wunused-variable"}, ""},
		{"gcc-colour.txt", "", 2, []string{"gauge.c:7:18 -Wformat= format '%s' expects", "gauge.c:6:27 -Wunused-variable unused variable 'late'"}, ""},
		{"gcc-fatal.txt", "", 1, []string{"broken.c:1:10  gone.h: No such file or directory"}, "line 1: the compiler stopped"},
		{"gcc.json", "gcc-json", 4, []string{"gauge.c:7:24 -Wsign-compare", "gauge.c:7:24 -Wsign-compare operand", "gauge.c:7:18 -Wformat=", "gauge.c:6:27 -Wunused-variable"}, ""},
		{"clang.txt", "", 3, []string{"gauge.c:7:17 -Wformat", "gauge.c:6:20 -Wunused-variable", "gauge.c:7:17 -Wsign-compare"}, ""},
		{"clang.sarif", "", 7, []string{"/src/tideboard/tide.h:2:"}, ""},
		{"gcc.json", "", 4, []string{"gauge.c:7:17 -Wsign-compare", "gauge.c:7:17 -Wsign-compare operand", "gauge.c:7:11 -Wformat=", "gauge.c:6:20 -Wunused-variable"}, ""},
		{"go-vet.json", "", 2, []string{"/src/tideboard/fares/fare.go:8:14 printf fmt.Printf format %s has arg pence of wrong type int", "/src/tideboard/fares/fare.go:10:2 unreachable"}, ""},
		{"go-vet.json", "vet", 2, []string{"/src/tideboard/fares/fare.go:8:14 printf fmt.Printf format %s has arg pence of wrong type int", "/src/tideboard/fares/fare.go:10:2 unreachable"}, ""},
		{"go-build.txt", "", 1, []string{`fares/broken.go:3:26  cannot use "late"`}, "line 2: go's compiler stopped"},
		{"go-vet.txt", "", 2, []string{"fares/fare.go:8:14  fmt.Printf format %s has arg pence of wrong type int", "fares/fare.go:10:2  unreachable code"}, ""},
		{"go-vet-broken.txt", "", 1, []string{"fares/broken.go:3:26  cannot use"}, "line 2: go's compiler stopped"},
		{"rustc.txt", "", 4, []string{
			"gauge.rs:3:5 unreachable_code unreachable statement", "main.rs:4:9 unused_variables unused variable: `depth`", "main.rs:5:9 unused_variables unused variable: `slack`", "gauge.rs:6:4 dead_code function `trace` is never used",
		}, ""},
		{"rustc-error.txt", "", 2, []string{"gauge.rs:3:5 unreachable_code", "broken.rs:5:22 E0308 mismatched types"}, "line 11: an error without a flag"},
		{"javac.txt", "", 4, []string{"Board.java:3:0 rawtypes found raw type: List", "Board.java:3:0 rawtypes found raw type: ArrayList", "Board.java:4:0 unchecked unchecked call", "Board.java:5:0 fallthrough possible fall-through into case"}, ""},
		{"python.txt", "", 1, []string{"low.py:1:0 SyntaxError invalid syntax"}, "line 4: an error without a flag"},
		{"node.txt", "", 1, []string{"/src/tideboard/slack.js:1:0 SyntaxError Unexpected token ';'"}, "line 5: an error without a flag"},
		{"tsc.txt", "", 3, []string{"board.ts:1:7 TS2322 Type 'string'", "board.ts:3:23 TS2339 Property 'missing'", "board.ts:5:7 TS2345 Argument of type"}, ""},
		{"tsc-pretty.txt", "", 1, []string{"quay.ts:1:18 TS1109 Expression expected."}, "line 1: the compiler stopped"},
		{"go-vet-broken.json", "vet", 0, nil, "byte 0: it is empty"},
	} {
		t.Run(c.file, func(t *testing.T) {
			f, err := os.Open(filepath.Join("testdata", "real", c.file))
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			r, err := Read(f, Form{Recipe: p.Policy.Recipe(c.recipe)})
			if err != nil && (c.failure == "" || !errors.Is(err, ErrMalformed) || !strings.Contains(err.Error(), c.failure)) {
				t.Fatal(err)
			} else if err != nil {
				return
			}
			if why := r.Trouble(); !strings.HasPrefix(why, c.failure) || c.failure == "" && why != "" {
				t.Errorf("failure %q, want %q", why, c.failure)
			}
			if c.recipe == "vet" { // whose order is different on every run
				r.Findings = finding.Merge(r.Findings)
			}
			var got []string
			for _, f := range r.Findings {
				got = append(got, fmt.Sprintf("%s:%d:%d %s %s", f.Path, f.Region.Line, f.Region.Column, f.Rule, f.Message))
			}
			for i, want := range c.findings {
				if i >= len(got) || !strings.HasPrefix(got[i], want) {
					t.Fatalf("finding %d isn't %q of\n%s", i+1, want, strings.Join(got, "\n"))
				}
			}
			if merged := finding.Merge(r.Findings); len(merged) != c.merged {
				t.Errorf("%d findings, want %d:\n%s", len(merged), c.merged, strings.Join(got, "\n"))
			}
		})
	}
}
