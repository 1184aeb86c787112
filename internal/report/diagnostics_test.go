package report

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"strings"
	"testing"
	"unicode/utf16"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// show writes findings in a line each: path:line:column-end level rule message xN, notes and snippet after it.
func show(r *Report) string {
	var out []string
	for _, f := range r.Findings {
		line := fmt.Sprintf("%s:%d:%d-%d %s %s| %s", f.Path, f.Region.Line, f.Region.Column, f.Region.EndColumn, f.Level, f.Rule, f.Message)
		for _, n := range f.Details().Notes {
			line += fmt.Sprintf(" + %s:%d %s", n.Path, n.Region.Line, n.Message)
		}
		if f.Snippet != "" {
			line += " <" + f.Snippet + ">"
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func TestDiagnostics(t *testing.T) {
	for _, c := range []struct{ name, text, want, failure string }{
		{"gcc with source and notes", `In file included from core/main.c:3,
                 from core/all.c:1:
core/tide.h: In function ‘f’:
core/tide.h:41:9: warning: unused variable ‘h’ [-Wunused-variable]
   41 |     int h;
      |         ^~~
core/tide.c:9:1: note: declared here
    9 | struct h
      | ^
2 warnings generated.
`, "core/tide.h:41:9-12 warning -Wunused-variable| unused variable 'h' + core/tide.c:9 declared here <    int h;>", ""},
		{"flags", `a.c:1:2: error: x [-Werror=format=]
a.c:1:2: error: y [-Werror,-Wshadow]
a.c:1:2: warning: z [CWE-457] [-Wanalyzer-use-of-uninitialized-value]
a.c:1:2: warning: array 'int[4]' [tide-table]
a.c:1:2: warning: bounds [0, 3]
cc1: all warnings being treated as errors
`, `a.c:1:2-0 error -Wformat=| x
a.c:1:2-0 error -Wshadow| y
a.c:1:2-0 warning -Wanalyzer-use-of-uninitialized-value| z
a.c:1:2-0 warning tide-table| array 'int[4]'
a.c:1:2-0 warning | bounds [0, 3]`, ""},
		{"colours and links", "\x1b[01m\x1b[Ka.c:4:15:\x1b[m\x1b[K \x1b[01;35m\x1b[Kwarning: \x1b[m\x1b[Kx [\x1b]8;;https://e.example/f\x1b\\-Wshadow\x1b]8;;\x1b\\]\r\n",
			"a.c:4:15-0 warning -Wshadow| x", ""},
		{"a code after the weight", "fares/a.rs:4:5: warning[W7]: dear fare\nfares/a.rs:4:9: error[E0308]: mismatched fares\n", "fares/a.rs:4:5-0 warning W7| dear fare\nfares/a.rs:4:9-0 error E0308| mismatched fares", "line 2: an error without a flag"},
		{"a note with a rule of its own", "a.c:4:2: warning: x [-Wx]\na.c:5:2: note: shallow here [tide-depth]\na.c:6:2: note: of that\n", "a.c:4:2-0 warning -Wx| x\na.c:5:2-0 note tide-depth| shallow here + a.c:6 of that", ""},
		{"fatal error", "a.c:1:10: fatal error: tide.h: No such file\ncompilation terminated.\n", "a.c:1:10-0 error | tide.h: No such file", "line 1: the compiler stopped"},
		{"error without a flag", "a.c:1:10: error: expected ';'\n", "a.c:1:10-0 error | expected ';'", "line 1: an error without a flag"},
		{"no word for the weight", "./fares/a.go:3:4: undefined: fare\n", "./fares/a.go:3:4-0 warning | undefined: fare", ""},
		{"what go vet says of a package", "# brackwater.example/fares\n# [brackwater.example/fares]\nfares/a.go:3:4: unreachable code\n", "fares/a.go:3:4-0 warning | unreachable code", ""},
		{"what go says that it can't compile", "# brackwater.example/fares\nfares/a.go:3:4: undefined: fare\n", "fares/a.go:3:4-0 error | undefined: fare", "line 2: go's compiler stopped"},
		{"what go vet says below a package as its compiler does", "# brackwater.example/fares\nfares/a.go:3:4: fmt.Printf format %d has arg fare of wrong type string\nfares/a.go:3:4: fmt.Printf format %[3]d reads arg #3, but call has 1 arg\n", "fares/a.go:3:4-0 warning | fmt.Printf format %d has arg fare of wrong type string\nfares/a.go:3:4-0 warning | fmt.Printf format %[3]d reads arg #3, but call has 1 arg", ""},
		{"times before each line", "2026-11-28T10:00:00.1234567Z core/tide.c:5:1: warning: x [-Wx]\n2026-11-28T10:00:00.1234568Z     5 | int late;\n2026-11-28T10:00:00.1234568Z \n[12:30:45] core/tide.c:6:1: warning: y [-Wy]\n", "core/tide.c:5:1-0 warning -Wx| x <int late;>\ncore/tide.c:6:1-0 warning -Wy| y", ""},
		{"what go can't load", "fares/a.go:3:8: no required module provides package brackwater.example/low; to add it:\n\tgo get brackwater.example/low\n", "fares/a.go:3:8-0 error | no required module provides package brackwater.example/low; to add it:", "line 1: go can't tell what the packages are"},
		{"and what its compiler says in words that are near", "# brackwater.example/fares\nfares/a.go:3:4: type parameters requires go1.18 or later (-lang was set to go1.17; check go.mod)\n", "fares/a.go:3:4-0 error | type parameters requires go1.18 or later (-lang was set to go1.17; check go.mod)", "line 2: go's compiler stopped"},
		{"a driver refuses", "clang: error: unknown argument '-x' [-Wx]\n", ":0:0-0 error -Wx| unknown argument '-x'", "the tool refused its call"},
		{"a program warns", "clang: warning: argument unused [-Wunused-command-line-argument]\n", ":0:0-0 warning -Wunused-command-line-argument| argument unused", ""},
		{"the build stopped", "a.c:1:1: error: x [-Werror=shadow]\nmake[1]: *** [Makefile:3: a.o] Error 1\n", "a.c:1:1-0 error -Wshadow| x", "line 2: the build stopped"},
		{"a crash", "Stack dump:\n0. Program arguments: clang\n", "", "line 1: the compiler crashed"},
		{"template backtrace", "a.cc: In instantiation of 'f':\na.cc:9:3:   required from here\na.cc:2:1: warning: x [-Wy]\n", "a.cc:2:1-0 warning -Wy| x + a.cc:9 required from here", ""},
		{"drive letter, spaces, column range", "C:\\tide board\\a.c:3:4-6: warning: x\nb c.c:7: warning: y\n", "C:/tide board/a.c:3:4-7 warning | x\nb c.c:7:0-0 warning | y", ""},
		{"no positions", "12:30:45: starting\nhttp://quay.example:80: up\nhello\n", "", ""},
		{"a file without a line", "core/tide.c: warning: too long\n", "core/tide.c:0:0-0 warning | too long", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Read(strings.NewReader(c.text), Form{Format: policy.Diagnostics})
			if err != nil {
				t.Fatal(err)
			}
			if got := show(r); got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
			r.Failure = "" // which other tests look at
			if !strings.Contains(r.Trouble(), c.failure) || (c.failure == "") != r.Whole() {
				t.Errorf("failure %q, want %q", r.Trouble(), c.failure)
			}
		})
	}
}

// TestForms: a report tells the forms of its text, and one can be demanded.
func TestForms(t *testing.T) {
	text := map[string]string{
		policy.GNU: "core/tide.c:4:1: warning: x [-Wx]\n", policy.Brackets: "core/tide.cs(4,1): warning CS1: x [/srv/tide.csproj]\n", policy.Arrows: "warning: x\n --> core/tide.rs:4:1\n  |\n4 | low\n  | ^^^\n",
		policy.SyntaxErrors: "  File \"boards/board.py\", line 4\n    low(\n       ^\nSyntaxError: '(' was never closed\n", policy.CompilerJSON: `[{"kind": "warning", "message": "x", "option": "-Wx", "locations": [{"caret": {"file": "core/tide.c", "line": 4, "byte-column": 1}}], "children": []}]` + "\n",
	}
	for _, form := range policy.Forms {
		if r := readText(t, text[form], nil); fmt.Sprint(r.Forms) != "["+form+"]" || r.Failure != "" || r.Findings[0].Region.Line != 4 {
			t.Errorf("%s is read as %v: %+v %s", form, r.Forms, r.Findings, r.Failure)
		}
		for _, asked := range policy.Forms {
			r, err := Read(strings.NewReader(text[form]), Form{Format: asked})
			if err != nil || r.Format != policy.Diagnostics || (r.Failure == "") != (form == asked) {
				t.Errorf("%s where %s is asked for: %s %v", form, asked, r.Failure, err)
			}
		}
	}
	for name, c := range map[string]struct{ text, want string }{
		"several in one":               {text[policy.GNU] + text[policy.Brackets], "core/tide.c:4:1-0 warning -Wx| x\ncore/tide.cs:4:1-0 warning CS1| x"},
		"a note of the form":           {"a.cpp(4): warning C4244: x\na.cpp(9): note: see 'y'\n", "a.cpp:4:0-0 warning C4244| x + a.cpp:9 see 'y'"},
		"a dash in its place":          {"src/a.ts:3:5 - error TS2322: x\n\n3   let y\n      ~~~\n\nFound 1 error in src/a.ts:3\n", "src/a.ts:3:5-0 error TS2322| x <let y>"},
		"names in brackets":            {"core/(low) tide.c(4,1): error C1: x\n", "core/(low) tide.c:4:1-0 error C1| x"},
		"an arrow's own notes":         {text[policy.Arrows] + "  |\n  = note: `#[warn(deep)]` on by default\n\nwarning: x\n  --> core/low.rs:5:2\n\nwarning: `tide` (lib) generated 2 warnings\n", "core/tide.rs:4:1-4 warning deep| x <low>\ncore/low.rs:5:2-0 warning deep| x"},
		"a denied lint":                {"error: x\n --> a.rs:1:1\n  |\n  = note: `#[deny(deep)]` on by default\n\n", "a.rs:1:1-0 error deep| x"},
		"a head without an arrow":      {"warning: no tides today\n" + text[policy.GNU], ":0:0-0 warning | no tides today\ncore/tide.c:4:1-0 warning -Wx| x"},
		"marks that count otherwise":   {"a.c:4:2: warning: x [-Wx]\n    4 | \tlow\n      |         ^~~\n", "a.c:4:2-5 warning -Wx| x <\tlow>"},
		"an object's finding, as JSON": {"# a\n{\n\t\"a\": {\n\t\t\"printf\": [\n\t\t\t{\"posn\": \"/srv/a.go:8:14\", \"message\": \"x: y\"}\n\t\t]\n\t}\n}\n", "/srv/a.go:8:14-0 warning printf| x: y"},
	} {
		if r := readText(t, c.text, nil); show(r) != c.want || !r.Whole() {
			t.Errorf("%s: got\n%s\nwant\n%s\n%s", name, show(r), c.want, r.Trouble())
		}
	}
	for name, text := range map[string]string{
		"an error that isn't a lint's": "error: x\n --> a.rs:1:1\n\n", "what cargo says at last": "error: could not compile `tide` (bin) due to 1 previous error\n", "a place of which nothing is said": "  File \"a.py\", line 4\n    low(\n",
		"an object without an end": "{\n\t\"a\": {\n", "an object of another kind": "{\n\t\"a\": 1\n}\n", "an analyzer that failed": "{\n\t\"a\": {\"printf\": {\"error\": \"x\"}}\n}\n", "an array of another kind": `[{"kind": "late", "message": "x"}]`, "an array without an end": `[{"kind": "warning", "message": "x"}`, "more counted than told": "warning: 2 warnings emitted\n",
	} {
		if r := readText(t, text, nil); r.Whole() {
			t.Errorf("%s passes: %s", name, show(r))
		}
	}
}

// TestColumns: in which unit a compiler counts columns is known by the file, by the mark below its source, or by how it counts
// at its end.
func TestColumns(t *testing.T) {
	const one = "core/tide.c:3:7: warning: x [-Wx]\n"
	for _, c := range []struct {
		name, text string
		want       []source.Columns
	}{
		{"gcc", one + "    3 |         int late;\n      |       ^\n", []source.Columns{source.Display}},
		{"another by its mark", one + "    3 | \t\tint late;\n      |                     ^\n", []source.Columns{source.Bytes}},
		{"gcc without marks", one, []source.Columns{source.Display}},
		{"clang without marks", one + "core/tide.c:4:1: note: here\n1 warning generated.\n", []source.Columns{source.Bytes}},
		{"gcc, then clang", one + one + "1 warning generated.\n", []source.Columns{source.Display, source.Bytes}},
		{"go", "fares/fare.go:3:7: x\n", []source.Columns{source.Bytes}},
		{"tsc", "boards/board.ts(3,7): error TS2322: x\n", []source.Columns{source.UTF16}},
	} {
		r := readText(t, c.text, nil)
		for i, f := range r.Findings {
			if f.Columns != c.want[i] {
				t.Errorf("%s: finding %d counts by %d, want %d", c.name, i, f.Columns, c.want[i])
			}
		}
	}
}

// TestStops: a message that a compiler gave up takes the cover of its file and of those that include it; what isn't known to be
// of a file, of everything.
func TestStops(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a file", "core/a.c:1:10: fatal error: tide.h: No such file\n    1 | #include \"tide.h\"\n      |          ^\ncompilation terminated.\nb.c:1:1: warning: x [-Wx]\n", "[core/a.c]"},
		{"a header", "In file included from core/low.h:3,\n                 from core/a.c:1:\ncore/berth.h:7:5: error: x\ncore/berth.h:8:5: error: y\n", "[core/berth.h core/low.h core/a.c] [core/berth.h core/low.h core/a.c]"},
		{"a header in a function", "In file included from core/a.c:1:\ncore/berth.h: In function 'low':\ncore/berth.h:7:5: error: x\n", "[core/berth.h core/a.c]"},
		{"a header, translated", "In Datei, eingebunden von core/low.h:3,\n                    von core/a.c:1:\ncore/berth.h:7:5: error: x\n", "[core/berth.h core/low.h core/a.c]"},
		{"a header that nobody knows who includes", "core/berth.h:7:5: error: x\n", "everything"},
		{"another header than the chain's", "In file included from core/a.c:1:\ncore/low.h:1:1: warning: x [-Wx]\ncore/berth.h:7:5: error: x\n", "everything"},
		{"a package", "# brackwater.example/fares\nfares/a.go:3:4: undefined: fare\n", "[fares/a.go with its folder]"},
		{"a file that is compiled with others", "boards/Board.java:3: error: ';' expected\n", "everything"},
		{"a compiler by itself", "a.c:1:1: warning: x [-Wx]\ncompilation terminated.\n", "everything"},
		{"a compiler by itself, after a file", "a.c:1:1: fatal error: x\nb.c:1:1: warning: x [-Wx]\ncompilation terminated.\n", "everything"},
		{"a file without a line", "core/a.c: error: x\n", "everything"},
		{"in a folder", "make[1]: Entering directory '/srv/core'\nIn file included from low.c:1:\nlow.h:1:1: error: x\nmake[1]: Leaving directory '/srv/core'\n", "[/srv/core/low.h /srv/core/low.c]"},
	} {
		r := readText(t, c.text, nil)
		var got []string
		for _, stop := range r.Stops {
			text := fmt.Sprint(stop.Files)
			if stop.Package {
				text = strings.TrimSuffix(text, "]") + " with its folder]"
			}
			got = append(got, text)
		}
		if r.Stopped != "" {
			got = append(got[:0], "everything")
		}
		if strings.Join(got, " ") != c.want || r.Failure != "" {
			t.Errorf("%s: %v, want %s; %s", c.name, got, c.want, r.Failure)
		}
	}
}

// wide is a text in UTF-16 with its mark.
func wide(text string, little bool) string {
	var out strings.Builder
	for _, unit := range append([]uint16{0xFEFF}, utf16.Encode([]rune(text))...) {
		high, low := byte(unit>>8), byte(unit)
		if little {
			high, low = low, high
		}
		out.Write([]byte{high, low})
	}
	return out.String()
}

func packed(text string) string {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Write([]byte(text))
	w.Close()
	return out.String()
}

func TestDetect(t *testing.T) {
	const log = `{"version":"2.1.0","runs":[]}`
	for _, c := range []struct{ name, text, want string }{
		{"text", "a.c:1: warning: x\n", policy.Diagnostics},
		{"nothing", "", policy.Diagnostics},
		{"a log", "\n  " + log, ""},
		{"a log at once", log, policy.SARIF},
		{"a log with a byte-order mark", "\xEF\xBB\xBF" + log, policy.SARIF},
		{"a log between lines", "clang: warning: unstable\n\n" + log + "\n3 warnings generated.\n", policy.SARIF},
		{"other JSON", `{"Imports":[]}`, ""},
		{"a JSON array", `[{"a":"warning"}]`, ""},
		{"gcc's JSON", `[{"kind":"warning"}]`, policy.Diagnostics},
		{"go vet's JSON", "# brackwater.example/fares\n{\n\t\"brackwater.example/fares\": {\n\t\t\"printf\": [", policy.Diagnostics},
		{"JSON of nothing", "{}", ""},
		{"UTF-16", wide(log, true), policy.SARIF},
		{"UTF-16, the greater byte first", wide(log, false), policy.SARIF},
		{"packed", packed(log), policy.SARIF},
		{"packed UTF-16", packed(wide("a.c:1: warning: x\n", true)), policy.Diagnostics},
		{"packed and cut off", packed(strings.Repeat(log, 90))[:60], ""},
		{"packed and cut off at once", "\x1F\x8B\x08\x00", ""},
		{"binary", "ELF\x00\x01", ""},
	} {
		r, err := Read(strings.NewReader(c.text), Form{Format: ""})
		switch {
		case c.want == "" && !errors.Is(err, ErrMalformed):
			t.Errorf("%s: error %v, want a malformed report", c.name, err)
		case c.want != "" && (err != nil || r.Format != c.want):
			t.Errorf("%s: %+v, error %v, want %s", c.name, r, err, c.want)
		}
	}
}

func FuzzDiagnostics(f *testing.F) {
	f.Add("a.c:4:15: warning: x [-Wshadow]\n    4 | int x;\n      |     ^\n")
	f.Add("C:\\a.c:1:2-3: note: x\n: : :\n1:1:1\n\x1b]8;;x\x1b\\")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Read(strings.NewReader(text), Form{Format: policy.Diagnostics})
		if err != nil {
			return
		}
		for _, f := range r.Findings {
			if f.Region.Line < 0 || f.Region.Column < 0 || f.Level == "" {
				t.Fatalf("impossible finding %+v", f)
			}
		}
	})
}
