package report

import (
	"fmt"
	"strings"
	"testing"
)

// TestBuildLog: the log of a build tells the folders it works in and what it compiles.
func TestBuildLog(t *testing.T) {
	for _, c := range []struct{ name, text, paths, compiled string }{
		{"commands", "gcc -Wall -Iinclude -c core/tide.c -o core/tide.o\n/usr/bin/c++ -MT x.c -MF y.c -MD -c \"slack.cc\"\nar rcs libtide.a core/tide.o\ncc -o tide core/tide.o\n", "", "[core/tide.c slack.cc] [] false"},
		{"folders", "make[1]: Entering directory '/srv/core'\ngcc -c tide.c\ntide.c:4:1: warning: x [-Wx]\nmake[2]: Entering directory '/srv/core/low'\n../tide.c:5:1: warning: x [-Wx]\nmake[2]: Leaving directory '/srv/core/low'\n/abs/x.c:1:1: warning: x [-Wx]\nmake[1]: Leaving directory '/srv/core'\nfares/f.c:2:1: warning: x [-Wx]\n", "/srv/core/tide.c /srv/core/tide.c /abs/x.c fares/f.c", "[/srv/core/tide.c] [] false"},
		{"folders in another language", "make[1] : on entre dans le répertoire « /srv/core »\ntide.c:4:1: warning: x [-Wx]\nmake[1] : on quitte le répertoire « /srv/core »\ntide.c:4:1: warning: x [-Wx]\n", "/srv/core/tide.c tide.c", "[] [] false"},
		{"two folders at once", "make[1]: Entering directory '/srv/core'\nmake[1]: Entering directory '/srv/fares'\nlow.c:4:1: warning: x [-Wx]\nmake[1]: Leaving directory '/srv/core'\nlow.c:4:1: warning: x [-Wx]\nmake[1]: Leaving directory '/srv/fares'\n", "/srv/core/low.c (or [/srv/fares/low.c]) /srv/fares/low.c", "[] [] false"},
		{"ninja's folder", "ninja: Entering directory `build'\n[1/3] Building C object core/CMakeFiles/tide.dir/tide.c.o\n../core/tide.c:4:1: warning: x [-Wx]\n[2/3] gcc -c ../core/low.c -o low.o\n[3/3] Linking C executable tide\n", "core/tide.c", "[core/low.c] [core/CMakeFiles/tide.dir/tide.c.o] false"},
		{"short lines", "  CC       core/tide.o\n  CC [M]  core/low.o\n  LD      tide\n[ 50%] Building CXX object a/slack.cpp.o\n[1/2] Compiling C object tide.p/core_tide.c.o\n", "", "[] [core/tide.o core/low.o a/slack.cpp.o tide.p/core_tide.c.o] false"},
		{"nobody can tell what", "gcc -c *.c\njavac @files\n[1/2] Compiling all there is\n", "", "[] [] true"},
		{"files that are compiled with others", "rustc --crate-name tide src/main.rs\njavac boards/Board.java\n", "", "[] [] true"},
		{"a link alone", "gcc -o tide tide.o low.o\n", "", "[] [] false"},
	} {
		r := readText(t, c.text, nil)
		var paths []string
		for _, f := range r.Findings {
			path := f.Path
			if rivals := r.Rivals[path]; len(rivals) > 0 && f.Region.Line == 4 && len(paths) == 0 {
				path += fmt.Sprintf(" (or %v)", rivals)
			}
			paths = append(paths, path)
		}
		if got := strings.Join(paths, " "); got != c.paths || r.Failure != "" {
			t.Errorf("%s: paths %s, want %s; %s", c.name, got, c.paths, r.Failure)
		}
		if got := fmt.Sprint(r.Compiled.Sources, r.Compiled.Objects, r.Compiled.Vague); got != c.compiled {
			t.Errorf("%s: compiled %s, want %s", c.name, got, c.compiled)
		}
	}
}

// TestMade: which objects may be made of a file, and of which kind the files are that were compiled.
func TestMade(t *testing.T) {
	made := (&Compiled{Objects: []string{"tide.p/core_tide.c.o", "core/libgauge_la-low.lo", "a/slack.cpp.o", "quay.o"}}).Made()
	for file, want := range map[string]bool{"core/tide.c": true, "core/low.c": true, "x/slack.cpp": true, "x/quay.c": true, "x/quay.h": false, "core/e.c": false, "core/ide.c": false, "core/berth.c": false, "core/c.c": false} {
		if made(file) != want {
			t.Errorf("%s made: %v", file, !want)
		}
	}
	isKind := (&Compiled{Sources: []string{"a.cc"}, Objects: []string{"b.c.o"}}).Kinds()
	for file, want := range map[string]bool{"x/y.cc": true, "x/y.c": true, "x/y.h": false, "y.go": false, "y.cpp": false} {
		if isKind(file) != want {
			t.Errorf("%s of a compiled kind: %v", file, !want)
		}
	}
}
