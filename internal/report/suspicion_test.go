package report

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// The same by regular expressions alone, which take long.
var (
	unspokenForm = regexp.MustCompile("'[^']*'|\"[^\"]*\"|`[^`]*`|«[^»]*»|(?:^|\\s)-\\S+|\\S*[/\\\\]\\S*|\\S+\\.[A-Za-z][A-Za-z0-9+]*\\b")
)

func shapedByForms(text string) bool {
	for _, form := range shapeForms {
		if form.MatchString(text) {
			return true
		}
	}
	return false
}

func compareSuspicion(t *testing.T, text string) {
	t.Helper()
	want := unspokenForm.ReplaceAllString(text, " ")
	if got := spoken(text); got != want {
		t.Errorf("of %q is spoken\n%q, want\n%q", text, got, want)
	}
	if got, want := hasShape(text), shapedByForms(text); got != want {
		t.Errorf("%q has a shape: %v, want %v", text, got, want)
	}
	if got, want := speaksOfStop(text), thrownForm.MatchString(text) || stopWords.MatchString(want) || slices.ContainsFunc(stopSigns, func(s string) bool { return strings.Contains(want, s) }); got != want {
		t.Errorf("%q speaks of a stop: %v, want %v", text, got, want)
	}
	if got, want := tellsOfCrash(text), thrownForm.MatchString(text) || crashWords.MatchString(want); got != want {
		t.Errorf("%q reports a crash: %v, want %v", text, got, want)
	}
}

// suspects are parts of lines that the forms tell apart.
var suspects = []string{"tide", "'", "\"", "`", "«", "»", "-", "-Wall", "/", "\\", ".", ".c", ".c++_", ".h9", "x.c", ":", ":4", "(", "(4)", ")", ",", " ", " ", "  ", "\t", "line ", "Line 4", "out", "of", "memory", "too", "many",
	"not", "isn't", "isn\u2019t", "timed", "time", "core", "dumped", "bus", "error", "errors", "segmentation", "fault", "caused", "by", "KeyError", "DepthException:", "-->", "é", "Ошибка", "错误", "不", "4", "_", "+", "non-zero", "read-only", "Signal9", "\v", "\u00a0", "ſkip"}

func TestSuspicion(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 30_000 {
		var text strings.Builder
		for range 1 + random.IntN(9) {
			text.WriteString(suspects[random.IntN(len(suspects))])
			if random.IntN(3) == 0 {
				text.WriteByte(' ')
			}
		}
		compareSuspicion(t, text.String())
		if t.Failed() {
			return
		}
	}
}

// FuzzSuspicion: what is found of a line in little time is what the forms find.
func FuzzSuspicion(f *testing.F) {
	for _, text := range []string{"out of memory in 'core/tide.c'", "core/tide.c (line 4): -Wall it's too  many", "a.b.c_ x.c+:4: «don't»"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) < longWord {
			compareSuspicion(t, strings.ToValidUTF8(text, "\uFFFD"))
		}
	})
}

// TestNoiseNeeds: no line of noise is missed because it was looked at in little time.
func TestNoiseNeeds(t *testing.T) {
	seen := map[int]bool{}
	look := func(line string) {
		for i, n := range noise {
			if n.form.MatchString(line) {
				seen[i] = true
				if !slices.Contains(noiseFrom()[line[0]], i) || n.needs != nil && !n.needs(line) {
					t.Errorf("%s: %q is missed", n.of, line)
				}
			}
		}
	}
	err := filepath.WalkDir("testdata", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		for line := range strings.Lines(string(data)) {
			if line = strings.TrimRight(line, " \r\n"); line != "" {
				look(line)
			}
		}
		return err
	})
	if err != nil || len(seen) < 5 {
		t.Errorf("%v; only %d of %d kinds were seen", err, len(seen), len(noise))
	}
	for _, line := range []string{"gcc -c x.c", "ccache distcc /usr/bin/x86_64-linux-gnu-gcc-12.2 -c x.c", "libtool: compile:  g++ -c x.cc", "c++ -c x", "clang++-15 'x.c'", "libtool: link: ar cr x.a y.o", "/bin/sh ./x", "rm -f x", "core/tide.c: In function 'tide':", "core/tide.c: At top level:", "/usr/bin/ld: x.o: in function `main':"} {
		look(line)
	}
	for _, i := range []int{1, 4, 9} {
		if !seen[i] {
			t.Errorf("%s was not seen", noise[i].of)
		}
	}
}
