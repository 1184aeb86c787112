package report

import (
	"regexp"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
)

const shadow = "core/tide.c:4:15: warning: unused variable 'x' [-Wunused-variable]\n"

func readText(t *testing.T, text string, noise *regexp.Regexp) *Report {
	t.Helper()
	r, err := Read(strings.NewReader(text), Form{Format: policy.Diagnostics, Noise: noise})
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return r
}

// TestHonestText: what compilers and builds print around findings takes nothing away from them.
func TestHonestText(t *testing.T) {
	for _, c := range []struct {
		name, text string
		findings   int
	}{
		{"nothing", "", 0},
		{"blank lines", "\n \n\r\n", 0},
		{"gcc", "core/tide.c: In function ‘low’:\n" + shadow + "    4 |     int x = 1;\n      |         ^\n", 1},
		{"gcc, several lines of source", "core/tide.c: At top level:\n" + shadow + "    4 |     int x\n      |         ^\n    5 |  = 1;\n      |  ~~~\ncore/tide.c:9:1: note: here\n    9 | }\n", 1},
		{"gcc, fatal flags", shadow + "cc1: all warnings being treated as errors\n", 1},
		{"gcc, chains", "In file included from core/berth.h:3,\n                 from core/tide.c:1:\ncore/berth.h:7:5: warning: x [-Wx]\nIn file included from core/tide.c:1:\ncore/berth.h:8:5: warning: y [-Wx]\n", 2},
		{"gcc, inlined", "In function 'low',\n    inlined from 'high' at core/tide.c:9:2:\ncore/tide.c:4:3: warning: x [-Wx]\n", 1},
		{"gcc in German", "core/tide.c: In Funktion »low«:\nIn Datei, eingebunden von core/tide.c:1:\n" + shadow, 1},
		{"gcc in French", "core/tide.c: Dans la fonction « low »:\n" + shadow, 1},
		{"clang", shadow + "    4 |         int x = 1;\n      |             ^\n1 warning generated.\n", 1},
		{"clang without a gutter", "core/tide.c:4:13: warning: unused variable 'x' [-Wunused-variable]\n        int x = 1; // see core/berth.c:3: error\n            ^~~\n            y\nint *y;\n     ^\n1 warning generated.\n", 1},
		{"clang, two files", shadow + "1 warning generated.\n" + strings.ReplaceAll(shadow, "tide", "berth") + strings.ReplaceAll(shadow, ":4:", ":5:") + "2 warnings generated.\n", 3},
		{"colours", "\x1b[1mcore/tide.c:4:15: \x1b[0m\x1b[0;1;35mwarning: \x1b[0m\x1b[1munused [-Wunused]\x1b[0m\n\x1b[0;34m    4 | \x1b[0mint x;\n      | \x1b[0;1;32m    ^\x1b[0m\n1 warning generated.\n", 1},
		{"GNU ld", "/usr/bin/ld: libtide.a(tide.o): in function `low':\ncore/tide.c:(.text+0x6ac): warning: the use of `tmpnam' is dangerous\n", 1},
		{"go vet", "# brackwater.example/fares\n# [brackwater.example/fares]\nfares/fare.go:9:2: warning: x [unreachable]\n", 1},
		{"make", "make: Entering directory '/srv/tideboard'\nmake[1]: Entering directory '/srv/tideboard/core'\ngcc -Wall -c -o tide.o tide.c\n" + shadow + "ar rcs libtide.a tide.o\nranlib libtide.a\nrm -f error.o\nmkdir -p build/failed\nmake[1]: Leaving directory '/srv/tideboard/core'\nmake: Leaving directory '/srv/tideboard'\n", 1},
		{"make, nothing found", "cc -O2 -c tide.c\nx86_64-linux-gnu-gcc-12 -DNAME=\"not found\" -c berth.c -o berth.o\n/usr/bin/c++ -std=c++17 slack.cc\nccache gcc -c lead.c\necho \"done\"\n", 0},
		{"make, short", "  CC       core/tide.o\n  CC [M]  core/berth.o\n  LD      core/built-in.a\n  CCLD     tideboard\n" + shadow, 1},
		{"make in German", "make: Verzeichnis „/srv/tideboard“ wird betreten\nmake[1] : on entre dans le répertoire « /srv »\n" + shadow + "make[1] : on quitte le répertoire « /srv »\nmake: Verzeichnis „/srv/tideboard“ wird verlassen\n", 1},
		{"make, a folder with nothing to do", "make[1]: Nothing to be done for 'docs'.\ngcc -c tide.c\n" + shadow, 1},
		{"libtool", "libtool: compile:  gcc -g -O2 -c tide.c  -fPIC -DPIC -o .libs/tide.o\n" + shadow, 1},
		{"ninja", "[1/3] Building C object core/tide.o\n[2/3] cc -c core/berth.c -o core/berth.o\n" + shadow + "[3/3] Linking C executable tideboard\n", 1},
		{"ninja, nothing found", "ninja: Entering directory `build'\n[1/2] Compiling C object tide.p/core_tide.c.o\n[2/2] Linking target tide\n", 0},
		{"CMake", "-- Configuring done\n-- Generating done\n-- Build files have been written to: /srv/build\nScanning dependencies of target tide\n[ 50%] Building C object CMakeFiles/tide.dir/tide.c.o\n" + shadow + "[100%] Linking C executable tide\n[100%] Built target tide\n", 1},
		{"CMake, warnings of configuring", "CMake Warning (dev) at CMakeLists.txt:12 (message):\n  No tide table is given, so that none is built.\n\n  See docs/tides.md.\nCall Stack (most recent call first):\n  core/CMakeLists.txt:20 (low)\nThis warning is for project developers.  Use -Wno-dev to suppress it.\n\n-- Renaming the tide table\n" + shadow, 1},
		{"a rule's own words", "compiling static library\n==> Building core/tide.o\ncreating versioned links\n" + shadow, 1},
		{"javac", "boards/Board.java:2: warning: [rawtypes] x\n        List l;\n        ^\nNote: boards/Board.java uses unchecked or unsafe operations.\nNote: Recompile with -Xlint:unchecked for details.\n1 warning\n", 1},
		{"a banner that nobody knows, beside a finding", "Brackwater gauge, edition of May\n" + shadow, 1},
	} {
		r := readText(t, c.text, nil)
		if !r.Whole() || len(r.Findings) != c.findings || r.UnreadCount > 0 && !strings.Contains(c.name, "nobody knows") {
			t.Errorf("%s: %v findings %d, want %d; %s %s", c.name, r.Unread, len(r.Findings), c.findings, r.Failure, r.Stopped)
		}
	}
}

// TestUnreadText: text that isn't understood is no evidence, by itself where nothing in it is a finding, and beside findings
// where it may mean that some are missing.
func TestUnreadText(t *testing.T) {
	for _, line := range []string{
		"core/tide.c(3): warning X: unused", "\"core/tide.c\", line 3: warning: x", "  File \"boards/board.py\", line 3", "at core/tide.c line 7", "core/tide.c: line 7, col 2, Error", "core/tide.c: 12: unused", "W core/tide.c:12 unused",
		" --> core/tide.rs:3:1", "vet: ./fares/fare.go:9:2: undefined: y", "compilation terminated due to -fmax-errors=1.", "only showing the first 100 warnings, of 230 total", "too many errors", "fatal error: too many errors emitted, stopping now [-ferror-limit=]",
		"Segmentation fault", "Segmentation fault (core dumped)", "Killed", "Terminated", "Aborted (core dumped)", "Bus error", "make: *** [Makefile:3: tide.o] Error 1", "make[2]: *** [tide.o] Killed", "FAILED: core/tide.o", "ninja: build stopped: subcommand failed.", "ninja: error: loading 'build.ninja': No such file or directory",
		"cc1: not found", "sh: 1: gcc: not found", "/bin/sh: line 1: clang: command not found", "bash: gcc: command not found", "env: 'gauge': No such file or directory", "Traceback (most recent call last):", "MemoryError: out of memory", "java.lang.OutOfMemoryError: heap", "panic: runtime error: index out of range", "gauge: cannot open core/tide.c",
		"Exception in thread \"main\"", "*** stack smashing detected ***: terminated", "gcc: fatal error: no input files", "collect2: error: ld returned 1 exit status", "PLEASE submit a bug report to the harbour", "compiling core/tide.c failed", "Building stopped: no licence", "the licence couldn't be checked out", "usage: gauge [-x] FILE", "skipping the folder core", "timed out after 5 minutes",
		"/usr/bin/python3: No module named gauge", "make failed core/tide.o", "ar rejected ./libtide.a", "git: 'gauge' does not exist", "write: no space left on device", "gauge: licence expired", "sh failed -c",
		"CMake Error at CMakeLists.txt:150 (add_library):\n  The tide is late.", "CMake Warning:\n  The tide is late.\n\ncc1: tide table not found", "CMake Warning:\n  core/tide.c(5) : late", "CMake Warning:\n  Killed", "-- The tide table can't be found", "2026-11-28T10:00:00Z Killed", "[12:30:45] core/tide.c(5) : late",
		"Speicherzugriffsfehler", "Getötet", "gcc: Befehl nicht gefunden", "Erreur de segmentation", "gauge: commande introuvable", "Abandon", "ошибка сегментирования", "Ucciso", "中止", "make: 'all' is up to date.", "make: Nothing to be done for 'all'.", "ninja: no work to do.", "[100%] Built target tide", "make: Nothing to be done for '/srv/all'.", "make: « all » est à jour.", "make: Für das Ziel „all“ ist nichts zu tun.", "make[1]: 'tide.o' is up to date.", "make[2]: Nothing to be done for 'all'.", "make: Für das Ziel „/srv/all“ ist nichts zu tun.", "make: Entering directory '/srv/tideboard'", "make[3]: Entering directory '/srv'\nmake[3]: Leaving directory '/opt'", "2 warnings generated.", "1 warning and 1 error generated.", "3 errors", "99999999999999999999 warnings generated.\n99999999999999999999 warnings generated.",
	} {
		if r := readText(t, shadow+"\n"+line+"\n", nil); r.Whole() {
			t.Errorf("%q passes beside a finding", line)
		}
		if r := readText(t, line+"\n", nil); r.Whole() {
			t.Errorf("%q passes alone", line)
		}
	}
	if r := readText(t, "[1/2] Building C object a.o\rcore/tide.c:4:1: warning: x [-Wx]\r[2/2] Linking a\r\r\n", nil); len(r.Findings) != 1 || r.Failure != "" {
		t.Errorf("a finding between lines that write over one another: %+v", r)
	}
	if r := readText(t, "\"a.c\", line 3: x\nKilled\n\"a.c\", line 4: x\n", nil); !strings.HasPrefix(r.Failure, "2 lines look like findings: line 1 looks like a finding") {
		t.Errorf("several lines of a form that isn't read: %s", r.Failure)
	}
	if r := readText(t, "Killed\n\"a.c\", line 3: x\n\"a.c\", line 4: x\n", nil); !strings.HasPrefix(r.Failure, "line 1 says that something") {
		t.Errorf("a crash before them: %s", r.Failure)
	}
	crash := readText(t, shadow+"Segmentation fault\n     ^\n", nil)
	if crash.Failure == "" && crash.Findings[0].Snippet != "Segmentation fault" {
		t.Errorf("marks under a crash make it source that nobody checks: %+v", crash)
	}
	if r := readText(t, shadow+"core/tide.c:2:1: note: here\nSegmentation fault\n     ^\n", nil); r.Failure == "" {
		t.Errorf("marks under a crash make it the source of a note: %+v", r)
	}
	for _, text := range []string{"   12 | a tide too late\n      | ^\n", "all is well here\n", strings.Repeat("x y z\n", 3000), "Brackwater gauge\n\n0 tides\n"} {
		r := readText(t, text, nil)
		if r.Failure == "" || r.UnreadCount == 0 {
			t.Errorf("%.40q passes: %+v", text, r)
		}
	}
	if r := readText(t, "all is well here, no error\n"+shadow, regexp.MustCompile("^all is well")); r.Failure != "" || r.UnreadCount != 0 {
		t.Errorf("what the policy calls noise: %+v", r)
	}
	if r := readText(t, "all is well here\n"+shadow, nil); r.Failure != "" || len(r.Notices) != 1 || !strings.Contains(r.Notices[0], `noise: "^all is well here$"`) {
		t.Errorf("a notice says how a line is passed by: %+v", r)
	}
}

// TestTextCarries: which names of files a line of text can carry.
func TestTextCarries(t *testing.T) {
	for path, carries := range map[string]bool{
		"core/tide.c": true, "core/tide board.c": true, "core/söl.c": true, "-x.c": true, "core/a,b.c": true,
		" lead.c": false, "5 | x.c": false, "a: b.c": false, "In file included from x.c": true, "a\nb.c": false, "a\rb.c": false, "a:3:b.c": false, "core/‘x’.c": false, "a\\b.c": false, "\xff.c": false, "a\x1b[0mb.c": false, "\tx.c": false, "12:30": false, "make: x.c": false,
	} {
		if TextCarries(path) != carries {
			t.Errorf("%q: carried %v", path, !carries)
		}
	}
}
