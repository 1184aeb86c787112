package report

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
)

// pieces are the lines of real outputs and of builds, and what they are made of.
func pieces(t testing.TB) (lines, words []string) {
	files, err := filepath.Glob("testdata/real/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("no real outputs", err)
	}
	cut := regexp.MustCompile(`[A-Za-z0-9_./+-]+|[^A-Za-z0-9_./+-]+`)
	seen := map[string]bool{}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")...)
	}
	lines = append(lines,
		"make[1]: Entering directory '/srv/tideboard/core'", "make[1]: Leaving directory '/srv/tideboard/core'", "make: 'all' is up to date.", "gcc -Wall -c -o low.o low.c", "[1/2] Building C object core/CMakeFiles/tide.dir/tide.c.o", "ninja: Entering directory `build'",
		"1 warning generated.", "2 warnings and 1 error generated.", "   41 |     int depth;", "      |         ^~~~~", "      ^~~~", "In file included from core/low.h:3,", "                 from core/tide.c:1:", "core/tide.c: In function 'low':", "core/tide.c:5:1: note: declared here", "fix-it:\"core/tide.c\":{5:1-5:2}:\"\"",
		"# brackwater.example/fares", "# [brackwater.example/fares]", "compilation terminated.", "cc1: all warnings being treated as errors", "Segmentation fault", "\x1b[01m\x1b[Kcore/tide.c:5:1:\x1b[m\x1b[K", "", " ", "\t", "\r")
	for _, line := range lines {
		for _, word := range cut.FindAllString(line, -1) {
			if !seen[word] {
				seen[word] = true
				words = append(words, word)
			}
		}
	}
	return lines, words
}

// insert puts lines made of pieces between those of a text: each byte of the recipe picks what comes next.
func insert(text string, recipe []byte, lines, words []string) string {
	var out strings.Builder
	next := func(n int) int {
		if len(recipe) == 0 {
			return 0
		}
		b := int(recipe[0])
		if recipe = recipe[1:]; n > 256 && len(recipe) > 0 {
			b = b<<8 | int(recipe[0])
			recipe = recipe[1:]
		}
		return b % n
	}
	for _, line := range append(strings.SplitAfter(text, "\n"), "") {
		for more := next(3); more > 0; more-- {
			if next(2) == 0 {
				out.WriteString(lines[next(len(lines))])
			} else {
				for n := next(9); n >= 0; n-- {
					out.WriteString(words[next(len(words))])
				}
			}
			out.WriteByte('\n')
		}
		out.WriteString(line)
	}
	return out.String()
}

// FuzzInsertedLines: whole lines between those of a report take no finding away and make no failed one sound.
func FuzzInsertedLines(f *testing.F) {
	lines, words := pieces(f)
	f.Add([]byte{1, 0, 3, 1, 1, 4, 7, 9, 200, 13}, false)
	f.Add([]byte{2, 1, 5, 3, 2, 1, 0, 77, 2, 0, 41, 0, 9}, true)
	f.Add([]byte("entering and leaving between all of these lines, and once more for good measure"), false)
	f.Add([]byte("20h1ri CYd l0z7y2CYd leavin10bx0000000000000000000000000000000000000000000000000000"), false)
	f.Fuzz(func(t *testing.T, recipe []byte, broken bool) {
		base := "core/tide.c: In function 'low':\ncore/tide.c:5:9: warning: unused variable 'depth' [-Wunused-variable]\n    5 |     int depth;\n      |         ^~~~~\ncore/gauge.c:1:1: warning: x [-Wx]\n"
		if broken {
			base += "core/tide.c:9:1: fatal error: low.h: No such file or directory\ncompilation terminated.\n"
		}
		text := insert(base, recipe, lines, words)
		r, err := Read(strings.NewReader(text), Form{Format: policy.Diagnostics})
		if err != nil || r.Failure != "" || r.Stopped != "" {
			return
		}
		found := false
		for i := range r.Findings {
			f := &r.Findings[i]
			printed := r.Printed[f.Path]
			found = found || (f.Path == "core/tide.c" || printed == "core/tide.c") && f.Region.Line == 5 && f.Rule == "-Wunused-variable"
		}
		stopped := false
		for _, s := range r.Stops {
			for _, file := range s.Files {
				stopped = stopped || file == "core/tide.c" || r.Printed[file] == "core/tide.c"
			}
		}
		if !found || broken && !stopped {
			t.Errorf("found %v, stopped %v in\n%s", found, stopped, text)
		}
	})
}
