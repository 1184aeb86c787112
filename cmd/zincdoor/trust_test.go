package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// estuary is a repository whose last commit touches line 5 of core/tide.c, core/low.h, core/söl.c and core/twin.h, which has a
// twin in all but case. Links lead to files and folders of it.
func estuary(t *testing.T) *sandbox {
	s := repository(t)
	for _, name := range touchedFiles {
		s.write(name, lines(10))
	}
	for _, name := range []string{"core/gauge.c", "core/Twin.h", "boards/zone.c", "fares/zone.c", "zone.h"} {
		s.write(name, lines(10))
	}
	for link, to := range map[string]string{"include/low.h": "../core/low.h", "inc": "core", "loop": ".", "boards/up": "..", "quay.c": "inc/tide.c"} {
		os.MkdirAll(filepath.Dir(filepath.Join(s.dir, link)), 0o755)
		if err := os.Symlink(to, filepath.Join(s.dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	s.write(".gitignore", "/build/\n")
	s.commit("one")
	for _, name := range touchedFiles {
		s.write(name, altered)
	}
	s.commit("two")
	s.write("build/core/copy.c", lines(10))
	return s
}

var touchedFiles = []string{"core/tide.c", "core/low.h", "core/s\u00f6l.c", "core/twin.h", "boards/zone.h"}

// trusted is what a report says, and how it is judged where that isn't the last commit.
type trusted struct {
	name, report string
	args         []string
}

func (s *sandbox) judgeReport(c trusted) verdict {
	s.Helper()
	s.stdin = c.report
	if c.args == nil {
		c.args = []string{"--range", "HEAD~..HEAD", "--report", "-"}
	}
	return s.judge(c.args...)
}

// raceSample is how many of the long tables' rows go for one where the program is built with the race detector: it is slower
// then, and the rows take the same way through it.
var raceSample = map[bool]int{true: 8, false: 1}[raceBuild()]

// elsewhere is a finding that stops nobody.
var elsewhere = warn("core/gauge.c", 1)

// TestPathsOpenNothing: a finding on a touched line doesn't leave the door open, however its path is written.
func TestPathsOpenNothing(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	s := estuary(t)
	for i, path := range []string{
		"/usr/src/app/core/tide.c", "/usr/src/app/core/low.h", "/app/node_modules/app/core/tide.c", "/opt/site-packages/tideboard/core/tide.c", "/root/go/pkg/mod/tideboard/core/tide.c", "/usr/tide.c", "node_modules/x/core/tide.c", "/usr/local/lib/python3/dist-packages/core/tide.c",
		"include/low.h", "inc/tide.c", "loop/core/tide.c", "loop/loop/loop/core/tide.c", "boards/up/core/tide.c", "inc/../core/tide.c", "quay.c", "loop/inc/tide.c", "/usr/src/app/inc/tide.c", "./loop/./core//tide.c", "/builds/7/loop/core/tide.c",
		"core/so\u0308l.c", "/usr/src/app/core/so\u0308l.c", "CORE/TIDE.C", "/Users/x/Core/Tide.c", "core/TWIN.h", "TWIN.H", "core/twiN.h", `C:\tideboard\core\tide.c`, `core\tide.c`, `\\server\share\core\tide.c`,
		"build/core/copy.c", "build/core/tide.c", "<stdin>", "core", "core/", ".", "-", "/dev/stdin", "stdin", "<unknown>", "(standard input)", "loop", "inc", "build", "/somewhere/zone.h",
		"file:///usr/src/app/core/tide.c", "../core/tide.c", "../../core/tide.c", "/core/tide.c", "core/../../core/tide.c", "tide.c", "./tide.c", "core/./tide.c", "core//tide.c", "/tmp/copy-81/tide.c",
	} {
		if i%raceSample > 0 {
			continue
		}
		for form, report := range map[string]string{"text": warn(path, 5), "SARIF": sarifLog(sarifResult(path, 5)[1:])} {
			if v := s.judgeReport(trusted{report: report}); v.Code == 0 {
				t.Errorf("%s, %s alone: %s", path, form, v.about())
			}
		}
		if !strings.ContainsAny(path, "/.") || path == "." || strings.HasPrefix(path, "/dev/") || strings.HasPrefix(path, "build/core/copy") || path == "core/" {
			continue // another file, beside which nothing can be said of the change's
		}
		if v := s.judgeReport(trusted{report: elsewhere + warn(path, 5)}); v.Code == 0 {
			t.Errorf("%s beside another: %s", path, v.about())
		}
	}
}

// TestTextOpensNothing: lines that say that something is missing, or in which it may be, don't leave the door open: between
// findings, at their end, and alone where an empty report is said to be clean.
func TestTextOpensNothing(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	s := estuary(t)
	for i, line := range []string{
		"/bin/sh: 1: cc: not found", "clang: command not found", "make: cc: No such file or directory", "make: gcc: Command not found", "gcc: error: core/tide.c: No such file or directory", "cc1: fatal error: core/tide.c: No such file or directory", "gcc: fatal error: Killed signal terminated program cc1", "cc1: out of memory allocating 65536 bytes",
		"Traceback (most recent call last):", "  File \"gauge.py\", line 3, in <module>", "KeyError: 'depth'", "Exception in thread \"main\" java.lang.NullPointerException", "thread 'main' panicked at gauge.rs:3:5:", "panic: runtime error: invalid memory address or nil pointer dereference", "goroutine 1 [running]:\npanic(0x1)", "fatal error: all goroutines are asleep - deadlock!", "Error: Cannot find module 'gauge'", "    at Module._compile (node:internal/modules/cjs/loader:1105:14)", "UnhandledPromiseRejection: gauge",
		"Segmentation fault", "    Segmentation fault", "  Killed", "warning: low\n --> core/gauge.c:1:1\n  |\n     Segmentation fault", "core/gauge.c(1,1): warning T1: x\n  Killed", "./run.sh: line 3: 81 Aborted   gauge core", "Illegal instruction (core dumped)", "Floating point exception", "double free or corruption (out)", "AddressSanitizer:DEADLYSIGNAL", "ERROR: AddressSanitizer: heap-use-after-free", "Killed: 9", "Terminated: 15", "signal 11 (core dumped)", "exit status 2", "Command exited with non-zero status 1", "gauge: timeout: sending signal TERM to command 'gauge'", "gauge exited with code 137: out of memory",
		"core/tide.c(5): warning X1: unused", "core/tide.c(5,1): error C21: unused", "core/tide.c(5:1) warning unused", "\"core/tide.c\", line 5: warning: unused", "core/tide.c, line 5: unused", "[core/tide.c:5]: (style) unused", "core/tide.c 5 unused", "5:1 warning unused core/tide.c", "core/tide.c: line 5, col 1, Warning - unused", "--> core/tide.c:5:1", "at core/tide.c:5", "core/tide.c:5", "WARN core/tide.c:5:1 unused", "::warning file=core/tide.c,line=5::unused", "tide.c: unused on line five", "core/tide.c|5 col 1 warning| unused", "<file name=\"core/tide.c\"><finding line=\"5\"/></file>", "{\"path\":\"core/tide.c\",\"line\":5}",
		"fatal error: too many errors emitted, stopping now [-ferror-limit=]", "compilation terminated due to -fmax-errors=3.", "only showing the first 100 warnings, of 230 total; use -fmax-errors to show them", "too many errors", "... and 41 more warnings not shown", "output truncated after 100 lines", "suppressed 12 further messages", "30 warnings generated.", "7 errors generated.", "12 warnings and 3 errors generated.",
		"make: *** [Makefile:3: tide.o] Error 1", "make[2]: *** [core/tide.o] Segmentation fault (core dumped)", "make: *** No rule to make target 'tide.c', needed by 'tide.o'.  Stop.", "make: *** Waiting for unfinished jobs....", "make: Target 'all' not remade because of errors.", "ninja: build stopped: subcommand failed.", "FAILED: core/tide.o", "ninja: fatal: ninja version (1.5) incompatible", "collect2: error: ld returned 1 exit status", "/usr/bin/ld: cannot find -ltide", "make: 'all' is up to date.", "make: Nothing to be done for 'all'.", "make[3]: 'tide.o' is up to date.", "ninja: no work to do.", "make: « tout » est à jour.", "make: \"all\" ist bereits aktuell.", "[100%] Built target tide", "make: Entering directory '/srv/tideboard'", "gcc -c core/gauge.c", "  CC    core/gauge.o", "gcc -c other/y.c", "In file included from other/y.c:1:\ncore/gauge.c:2:1: error: x", "[1/2] Building C object core/CMakeFiles/g.dir/gauge.c.o",
		"gcc: schwerwiegender Fehler: keine Eingabedateien", "Speicherzugriffsfehler (Speicherabzug geschrieben)", "gcc : erreur fatale : pas de fichier à l'entrée", "Erreur de segmentation", "gauge: commande introuvable", "gcc: error fatal: no hay ficheros de entrada", "Violación de segmento", "gcc: фатальная ошибка: не заданы входные файлы", "Ошибка сегментирования", "gcc: 致命的エラー: 入力ファイルがありません", "段错误", "gcc: 致命错误：没有输入文件", "gcc: fatalt fel: inga indatafiler", "gcc: 치명적 오류: 입력 파일이 없습니다", "Błąd segmentacji", "Erro de segmentação", "compilação abortada", "gauge: komut bulunamadı",
		"vet: core/tide.go:5:1: undefined: depth", "go: cannot find main module", "# brackwater.example/fares\nfares/x.go:3:1: undefined: y", "package brackwater.example/fares is not in std", "pattern ./...: directory prefix . does not contain main module", "error[E0308]: mismatched types", "error: could not compile `tide` (lib) due to 1 previous error", "usage: gauge [-h] FILE", "gauge: unrecognized option '--fast'", "Permission denied", "fork: retry: Resource temporarily unavailable", "No space left on device", "licence server doesn't answer", "gauge: skipping core (no access)",
		"core/tide.c:1:1: fatal error: low.h: No such file\ncompilation terminated.", "core/tide.c:2:1: error: expected ';'", "In file included from core/tide.c:1:\ncore/gauge.c:2:1: error: expected ';'", "core/nothing.c:3:1: unused", "x/y.c:1:1: error: z",
		"core/gauge.c:99:1: warning: past the end [-Wx]", elsewhere + "    1 | other code", "core/gauge.c:2:1: warning: x [-Wx]\nother code\n^",
	} {
		if i%raceSample > 0 {
			continue
		}
		for place, c := range map[string]trusted{
			"beside findings": {report: elsewhere + line + strings.Repeat("\n"+warn("core/gauge.c", 3), i%2)}, "alone": {report: line + "\r\n", args: []string{"--range", "HEAD~..HEAD", "--report", "diagnostics=-", "--empty-is-clean"}},
		} {
			if v := s.judgeReport(c); v.Code == 0 {
				t.Errorf("%q %s: %s", line, place, v.about())
			}
		}
	}
}

// TestLogsOpenNothing: SARIF that says by itself, or by what is around it, that something is missing.
func TestLogsOpenNothing(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	s := estuary(t)
	clean := sarifLog("")
	touched := sarifLog(sarifResult("core/tide.c", 5)[1:])
	run := func(members string) string {
		return `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"farecheck"}}` + members + `}]}`
	}
	for _, report := range []string{
		"", " ", "{}", "[]", "null", "{\"version\":\"2.1.0\"}", `{"version":"2.1.0","runs":[]}`, `{"version":"2.1.0","runs":null}`, run(""), run(`,"results":null`), run(`,"results":{}`), touched[:len(touched)-4], clean[:len(clean)-1], "[" + clean + "]",
		clean + touched, clean + " " + touched, clean + "," + touched, clean + "\t" + touched, clean + "\n " + touched, clean + "\n[" + touched + "]", "\x1e" + clean + "\x1e" + touched, clean + "\r" + touched, clean + "}" + touched, clean + "\x00" + touched, clean + "\n" + touched, clean + "\u00a0" + touched, clean + "\n{" + touched[:9],
		clean + "\nSegmentation fault (core dumped)\n", clean + "\ncore/tide.c:5:1: warning: x [-Wx]\n", "core/tide.c:5: x\n" + clean, clean + "\ncore/tide.c(5): warning X: y\n", "Traceback (most recent call last):\n" + clean, clean + "\nclang: error: gave up\n", clean + "\nmake: *** [x] Error 1\n", "PLEASE submit a bug report to the harbour\n" + clean, clean + "\ncore/tide.c:5:1: fatal error: x\n",
		run(`,"results":[],"invocations":[{"executionSuccessful":false}]`), run(`,"results":[],"invocations":[{"executionSuccessful":true,"exitSignalName":"SIGSEGV"}]`), run(`,"results":[],"invocations":[{"executionSuccessful":true,"exitSignalNumber":9}]`), run(`,"results":[],"invocations":[{"exitCode":2}]`), run(`,"results":[],"invocations":[{"executionSuccessful":true,"processStartFailureMessage":"x"}]`), run(`,"results":[],"invocations":[{"executionSuccessful":true,"toolExecutionNotifications":[{"level":"error","message":{"text":"x"}}]}]`),
		`{"version":"2.1.0","inlineExternalProperties":[{"results":[` + sarifResult("core/tide.c", 5)[1:] + `]}],"runs":[{"tool":{"driver":{"name":"farecheck"}},"results":[]}]}`,
		sarifLog("", `"versionControlProvenance":[{"revisionId":"`+s.git("rev-parse", "HEAD~")+`"}],`), sarifLog("", `"artifacts":[{"location":{"uri":"other/x.c"},"roles":["analysisTarget"]}],`),
	} {
		if v := s.judgeReport(trusted{report: report}); v.Code == 0 {
			t.Errorf("%q: %s", report, v.about())
		}
	}
}

// TestLinesOpenNothing: a compiler that numbers lines otherwise than git doesn't lead its findings away from touched lines.
func TestLinesOpenNothing(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.commit("one")
	for _, sign := range []string{"\r", "\f", "\v", "\u0085", "\u2028", "\u2029"} {
		s.write("core/tide.c", strings.Replace(strings.Replace(lines(10), "line 2;", "/* low"+sign+"water */", 1), "line 5;", "fresh;", 1))
		s.commit("two")
		for form, report := range map[string]string{"text": warn("core/tide.c", 6), "SARIF": sarifLog(sarifResult("core/tide.c", 6)[1:]), "text with its line": warn("core/tide.c", 6) + "    6 | fresh;\n"} {
			if v := s.judgeReport(trusted{report: report}); v.Code == 0 || !strings.Contains(v.about(), ", which tools and git count differently") {
				t.Errorf("%q, %s: %s", sign, form, v.about())
			}
		}
		if v := s.judgeReport(trusted{report: warn("core/tide.c", 7) + "    7 | line 7;\n"}); v.Code != 0 {
			t.Errorf("%q, where the report shows the line: %s", sign, v.about())
		}
		s.git("reset", "-q", "--hard", "HEAD~")
	}
}

// TestHonest: what honest tools say of what is well doesn't stop anybody.
func TestHonest(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	s := estuary(t)
	folder := s.dir
	var cases []trusted
	for _, path := range []string{
		"/usr/src/app/core/tide.c", "/app/node_modules/app/core/tide.c", "include/low.h", "inc/tide.c", "loop/core/tide.c", "core/so\u0308l.c", "/usr/src/app/core/so\u0308l.c", "CORE/TIDE.C", "quay.c", "./core/tide.c", `C:\tideboard\core\tide.c`, "../core/tide.c",
	} {
		cases = append(cases,
			trusted{path + " alone", warn(path, 2), nil},
			trusted{path + " beside a system's header", warn(path, 2) + warn("/usr/include/math.h", 9), nil},
			trusted{path + " beside another", warn(path, 2) + elsewhere, nil})
	}
	empty := []string{"--range", "HEAD~..HEAD", "--report", "diagnostics=-", "--empty-is-clean"}
	gcc := "core/tide.c: In function ‘low’:\ncore/tide.c:2:6: warning: unused variable ‘depth’ [-Wunused-variable]\n    2 | line 2;\n      |      ^\nIn file included from core/low.h:1,\n                 from core/tide.c:1:\ncore/low.h: At top level:\ncore/low.h:3:1: warning: ‘late’ defined but not used [-Wunused-function]\n    3 | line 3;\n      | ^~~~\ncore/low.h:1:1: note: declared here\n    1 | line 1;\n      | ^~~~\n"
	clang := "core/tide.c:2:6: warning: unused variable 'depth' [-Wunused-variable]\n    2 | line 2;\n      |      ^\ncore/gauge.c:3:1: warning: late [-Wlate]\nline 3;\n^~~~\n2 warnings generated.\n"
	all := strings.Join(touchedFiles, " ") + " core/gauge.c boards/zone.c fares/zone.c"
	make := func(folder, inside string) string {
		return "make: Entering directory '" + folder + "'\nmake[1]: Entering directory '" + folder + "/core'\n" + inside + "make[1]: Leaving directory '" + folder + "/core'\nmake: Leaving directory '" + folder + "'\n"
	}
	compile := "gcc -Wall -c tide.c söl.c -o tide.o\ngcc -Wall -c gauge.c\n"
	ninja := func(found string) string {
		return "ninja: Entering directory `build'\n[1/4] Building C object core/CMakeFiles/tide.dir/tide.c.o\n" + found + "[2/4] Building C object core/CMakeFiles/tide.dir/söl.c.o\n[3/4] Building C object core/CMakeFiles/tide.dir/gauge.c.o\n[4/4] Linking C executable tide\n"
	}
	coloured := "\x1b[01m\x1b[Kcore/tide.c:2:6:\x1b[m\x1b[K \x1b[01;35m\x1b[Kwarning: \x1b[m\x1b[Kunused [\x1b[01;35m\x1b[K\x1b]8;;https://gauge.example/f\a-Wunused\x1b]8;;\a\x1b[m\x1b[K]\n    2 | \x1b[01;35m\x1b[Kline\x1b[m\x1b[K 2;\n      | \x1b[01;35m\x1b[K^~~~\x1b[m\x1b[K\n"
	many := strings.Repeat(warn("core/gauge.c", 1)+warn("core/gauge.c", 2)+warn("core/tide.c", 3), 50)
	cases = append(cases,
		trusted{"gcc", gcc, nil}, trusted{"gcc, errors that are asked for", strings.ReplaceAll(gcc, "[-W", "[-Werror=") + "cc1: some warnings being treated as errors\n", nil}, trusted{"clang", clang, nil}, trusted{"coloured", coloured, nil}, trusted{"many", many, nil},
		trusted{"gcc in German", strings.NewReplacer("In function ‘low’", "In Funktion »low«", "At top level", "Auf höchster Ebene", "In file included from", "In Datei, eingebunden von", "                 from", "                  von").Replace(gcc), nil},
		trusted{"gcc in French", strings.NewReplacer("In function ‘low’", "Dans la fonction « low »", "At top level", "Hors de toute fonction", "In file included from", "Dans le fichier inclus depuis", "                 from", "                    depuis").Replace(gcc), nil},
		trusted{"go vet", "# brackwater.example/fares\n# [brackwater.example/fares]\ncore/tide.c:2:1: unreachable code\n", nil}, trusted{"go vet without a package", "core/gauge.c:2:1: unreachable code\ncore/tide.c:3:1: self-assignment of x to x\n", nil}, trusted{"go vet, nothing", "", empty}, trusted{"go vet, packages alone", "# brackwater.example/fares\n", empty},
		trusted{"go build, nothing but downloads", "go: downloading golang.org/x/text v0.43.0\n", empty},
		trusted{"make, nothing found", make(folder, compile+"ar rcs libtide.a tide.o\nranlib libtide.a\n"), empty}, trusted{"make, one", make(folder, compile+warn("tide.c", 2)), nil}, trusted{"make, many", make(folder, compile+strings.ReplaceAll(many, "core/", "")), nil}, trusted{"make in a container", make("/usr/src/app", compile+warn("tide.c", 2)), nil}, trusted{"make, without folders", "cc -c " + all + "\n" + warn("core/tide.c", 2), nil},
		trusted{"make in German", strings.NewReplacer("Entering directory '", "Verzeichnis „", "Leaving directory '", "Verzeichnis „", "'\n", "“ wird gewechselt\n").Replace(make(folder, compile+warn("tide.c", 2))), nil},
		trusted{"make, short", "  CC       core/tide.o\n  CC       core/söl.o\n  CC       core/gauge.o\n  AR       libtide.a\n" + warn("core/tide.c", 2), nil}, trusted{"make, with chatter of its rules", "==> Building the tide table\nCompiling core\n" + warn("core/tide.c", 2) + "mkdir -p out\nrm -f error.log\n", nil},
		trusted{"ninja, nothing found", ninja(""), empty}, trusted{"ninja, one", ninja(warn("../core/tide.c", 2)), nil}, trusted{"ninja, many", ninja(strings.ReplaceAll(many, "core/", "../core/")), nil},
		trusted{"CMake", "-- Configuring done\n-- Generating done\n[ 25%] Building C object core/CMakeFiles/tide.dir/tide.c.o\n" + warn("/usr/src/app/core/tide.c", 2) + "[ 50%] Building C object core/CMakeFiles/tide.dir/söl.c.o\n[ 75%] Linking C static library libtide.a\n[100%] Built target tide\n", nil},
		trusted{"CMake, warning", "CMake Deprecation Warning at CMakeLists.txt:1 (cmake_minimum_required):\n  Compatibility with CMake < 2.8.12 will be removed from a future version of\n  CMake.\n\n  Update the VERSION argument <min> value.\n\n\n-- The C compiler identification is GNU 12.2.0\n-- Renaming the tide table\n" + compile + warn("core/tide.c", 2), nil},
		trusted{"with the time before each line", strings.ReplaceAll("\n"+strings.TrimSuffix(clang, "\n"), "\n", "\n2026-11-28T10:00:00.1234567Z ")[1:] + "\n", nil},
		trusted{"Windows line ends", strings.ReplaceAll(clang, "\n", "\r\n"), nil}, trusted{"a banner", "Brackwater gauge, edition of May\n" + elsewhere, nil},
		trusted{"SARIF", sarifLog(sarifResult("core/tide.c", 2)[1:]), nil}, trusted{"SARIF, nothing", sarifLog(""), nil}, trusted{"SARIF of the head", sarifLog(sarifResult("core/tide.c", 2)[1:], `"versionControlProvenance":[{"revisionId":"`+s.git("rev-parse", "HEAD")+`"}],`), nil}, trusted{"two logs", sarifLog("") + "\n" + sarifLog(sarifResult("core/tide.c", 2)[1:]) + "\n", nil}, trusted{"a log between lines", "gauge 1.2\n" + sarifLog("") + "\ndone\n", nil},
	)
	for i, c := range cases {
		if i%raceSample > 0 {
			continue
		}
		if v := s.judgeReport(c); v.Code != 0 {
			t.Errorf("%s: %s %s", c.name, v.standings(), v.about())
		}
	}
	s.dir = filepath.Join(folder, "core")
	for _, c := range []trusted{{"in a folder", warn("tide.c", 2), nil}, {"in a folder, from above", warn("core/tide.c", 2), nil}, {"in a folder, its own", warn("../core/tide.c", 2), nil}} {
		if v := s.judgeReport(c); v.Code != 0 || v.Findings[0].Path != "core/tide.c" {
			t.Errorf("%s: %s %s", c.name, v.standings(), v.about())
		}
	}
}
