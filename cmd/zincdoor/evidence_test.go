package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// sarifResult is a result at a place, with the comma that goes before it in a list.
func sarifResult(path string, line int) string {
	uri, _ := json.Marshal(strings.NewReplacer(" ", "%20", "\n", "%0A", "\t", "%09").Replace(path))
	return fmt.Sprintf(`,{"ruleId":"late","message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":%s},"region":{"startLine":%d}}}]}`, uri, line)
}

func sarifLog(results string, more ...string) string {
	return `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"farecheck"}},` + strings.Join(more, "") + `"results":[` + results + `]}]}`
}

// TestNoEvidence: whatever is wrong with a report, the door doesn't open, and the verdict says what to do.
func TestNoEvidence(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(3))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	for _, c := range []struct{ name, report, state, say string }{
		{"no such file", "", "missing", "there is no such file"},
		{"empty", " \n", "failed", "--empty-is-clean"},
		{"cut-off JSON", sarifLog("{")[:70], "failed", "cut off"},
		{"JSON that isn't SARIF", `{"a":1}`, "failed", "not a SARIF 2.1.0 log"},
		{"a failed run", sarifLog("", `"invocations":[{"executionSuccessful":false}],`), "failed", "executionSuccessful is false"},
		{"text of another form", "\"core/gauge.c\", line 2: warning: unused\n", "failed", "line 1 looks like a finding and isn't understood"},
		{"text that says nothing known", "2 tides, 1 ferry\n", "failed", `it has no findings, and line 1 isn't understood: "2 tides, 1 ferry"; if it says nothing, write noise: "^2 tides, 1 ferry$" in the report`},
		{"a crash between findings", warn("core/gauge.c", 1) + "Segmentation fault\n", "failed", "says that something went wrong"},
		{"a line of a changed file beside findings", warn("core/gauge.c", 1) + "tide.c looks odd\n", "failed", "line 2 names the changed core/tide.c and isn't understood"},
		{"a build with nothing to do", "make: 'all' is up to date.\n", "failed", ", so not everything was looked at; compile everything again"},
		{"a count without its warnings", warn("core/gauge.c", 1) + "3 warnings generated.\n", "failed", "were read; keep all of the compiler's output"},
		{"a fatal error in a changed file", "core/tide.c:1:1: fatal error: tide.h: No such file\ncompilation terminated.\n", "failed", "so not all of the changed core/tide.c was looked at"},
		{"a fatal error in what a changed file includes", "In file included from core/tide.c:1:\ncore/gauge.c:1:1: fatal error: tide.h: No such file\ncompilation terminated.\n", "failed", "so not all of the changed core/tide.c was looked at"},
		{"a fatal error in files that nobody knows", "x/y.c:1:1: fatal error: tide.h: No such file\ncompilation terminated.\n" + warn("core/gauge.c", 1), "failed", "the compiler stopped"},
		{"a build that gave up", "core/gauge.c:1:1: fatal error: tide.h: No such file\ncompilation terminated.\nmake: *** [Makefile:2: gauge.o] Error 1\n", "failed", "the build stopped"},
		{"no word for the weight, and no file", warn("core/gauge.c", 1) + "x/y.c:7: undefined\n", "failed", "; run the linter in this checkout, or add noise: to the report for such lines"},
		{"another tree's paths", warn("/builds/9/other/x.c", 1), "foreign", "none of the files it names is in the repository"},
		{"a changed file's name elsewhere", warn("core/gauge.c", 1) + warn("/builds/9/tide.c", 1), "foreign", "may be the changed core/tide.c"},
		{"past the end", warn("core/gauge.c", 5), "foreign", "core/gauge.c:5, and the file has 3 lines"},
		{"code that isn't there", warn("core/gauge.c", 1) + "    1 | other code;\n", "foreign", "it quotes"},
		{"a commit nobody knows", sarifLog("", `"versionControlProvenance":[{"revisionId":"0123456789012345678901234567890123456789"}],`), "foreign", "no commit of this repository"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s.T = t
			path := filepath.Join(t.TempDir(), "report")
			if c.report != "" {
				if err := os.WriteFile(path, []byte(c.report), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			v := s.judge("--range", "HEAD~..HEAD", "--report", path)
			if v.Code != 2 || v.Evidence[0].State != c.state || !strings.Contains(v.Evidence[0].Problem, c.say) {
				t.Errorf("%s", v.about())
			}
		})
	}
	s.T = t
	for _, name := range []string{" lead.c", "a: b.c", "5 | x.c", "a\nb.c", "core/a:3:b.c"} {
		s.write(name, lines(3))
		s.commit("a name")
		s.stdin = warn("core/gauge.c", 1)
		if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); v.Code != 2 || !strings.Contains(v.about(), "; make the tool write SARIF, or rename the file") {
			t.Errorf("%q, where text loses it: %s", name, v.about())
		}
		s.stdin = strings.ReplaceAll(warn("core/gauge.go", 1), "gauge.go", "gauge.md")
		if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); strings.Contains(v.about(), "text can't carry") {
			t.Errorf("%q, of a kind that the tool doesn't look at: %s", name, v.about())
		}
		s.git("reset", "-q", "--hard", "HEAD~")
	}
	if v := s.judge("--range", "HEAD~..HEAD"); v.Code != 2 || !strings.Contains(v.about(), "there is no report to judge by, e.g. --report FILE, or reports: in the policy") {
		t.Errorf("no report at all: %s", v.about())
	}
	if v := s.judge("--range", "HEAD..HEAD"); v.Code != 2 {
		t.Errorf("an empty range asks for no evidence: %s", v.about())
	}
	s.stdin = sarifResultless
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); v.Code != 0 {
		t.Errorf("a clean report: %s", v.about())
	}
	s.stdin = ""
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "diagnostics=-", "--empty-is-clean"); v.Code != 0 || v.Evidence[0].State != "empty" {
		t.Errorf("a clean compiler: %s", v.about())
	}
	s.stdin = "gcc -c core/tide.c\n[2/2] Linking tideboard\n"
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "diagnostics=-", "--empty-is-clean"); v.Code != 0 || v.Evidence[0].State != "empty" {
		t.Errorf("a build in which nothing was found: %s", v.about())
	}
	s.stdin = strings.Repeat("\"core/gauge.c\", line 2: error: unused\n", 41)
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "diagnostics=-", "--empty-is-clean"); v.Code != 2 || strings.Contains(v.about(), "--empty-is-clean") {
		t.Errorf("text that can't be read isn't empty: %s", v.about())
	}
	s.stdin = ""
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "-", "--empty-is-clean"); v.Code != 2 {
		t.Errorf("an empty report of no known format: %s", v.about())
	}
	s.stdin = "core/gauge.c:1:1: fatal error: tide.h: No such file\ncompilation terminated.\n"
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); v.Code != 0 || !strings.Contains(v.about(), "not all of core/gauge.c was looked at") {
		t.Errorf("a fatal error in another file: %s", v.about())
	}
	s.stdin += warn("core/tide.c", 2)
	if out := s.must(0, "baseline", "take", "--report", "-"); !strings.Contains(out, "1 finding accepted; .zincdoor/baseline.jsonl covers diagnostics (except core/gauge.c)") || !strings.Contains(s.read(baselineFile), `"except":["core/gauge.c"]`) {
		t.Errorf("taken of half a report: %s\n%s", out, s.read(baselineFile))
	}
	if v := s.judge("--worktree", "--report", "-"); v.Code != 0 || v.Totals["accepted"] != 1 || v.Totals["existing"] != 1 {
		t.Errorf("what was given up isn't covered: %s\n%s", v.standings(), v.about())
	}
	os.RemoveAll(filepath.Join(s.dir, ".zincdoor"))
	s.stdin = "core/tide.c:5:1: fatal error: tide.h: No such file\n"
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); v.Code != 1 {
		t.Errorf("findings of a failed run don't shut the door: %s", v.about())
	}
	s.stdin = warn("core/tide.c", 2) + warn("/usr/include/math.h", 9) + warn("/builds/9/other.c", 9)
	if v := s.judge("--range", "HEAD~..HEAD", "--report", "-"); v.Code != 0 || !strings.Contains(v.about(), "1 finding in files outside of the repository, placed elsewhere (/builds/9/other.c)") {
		t.Errorf("findings outside: %s", v.about())
	}
}

var sarifResultless = sarifLog("")

// TestTreeOfReport: a report made at another commit is carried to the head where the change's lines are the same.
func TestTreeOfReport(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(5))
	base := s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	s.write("core/gauge.c", "more;\n"+strings.Replace(lines(5), "line 5;\n", "", 1))
	s.commit("three")
	report := func(commit string, path string, line int) {
		s.stdin = sarifLog(sarifResult(path, line)[1:], `"versionControlProvenance":[{"revisionId":"`+commit+`"}],`)
	}
	two := s.git("rev-parse", "HEAD~")

	report(two, "core/gauge.c", 2)
	if v := s.judge("--range", base+"..HEAD", "--report", "-"); v.Code != 2 || !strings.Contains(v.about(), "the changed core/gauge.c differs from the judged state") {
		t.Errorf("the change's own lines differ: %s", v.about())
	}
	s.git("switch", "-q", "-c", "deletes", base)
	s.write("core/tide.c", strings.Replace(lines(10), "line 5;\n", "", 1))
	s.commit("a line less")
	for _, more := range [][]string{nil, {"--report-commit", base}} {
		if report(base, "core/gauge.c", 2); more != nil {
			s.stdin = warn("core/gauge.c", 2)
		}
		if v := s.judge(append([]string{"--range", base + "..HEAD", "--report", "-"}, more...)...); v.Code != 2 || !strings.Contains(v.about(), "the changed core/tide.c differs") {
			t.Errorf("a change that only deletes, judged by a report of the base: %s", v.about())
		}
	}
	s.git("rm", "-q", "core/tide.c")
	s.git("commit", "-q", "--amend", "-m", "a file less")
	if report(base, "core/gauge.c", 2); s.judge("--range", base+"..HEAD", "--report", "-").Code != 2 {
		t.Error("a change that only takes a file away, judged by a report of the base")
	}
	s.git("switch", "-q", "main")
	s.git("switch", "-q", "-c", "build", "HEAD~")
	s.write("core/gauge.c", "more;\n"+strings.Replace(lines(5), "line 5;\n", "", 1))
	s.commit("as a build would merge it")
	merged := s.git("rev-parse", "HEAD")
	s.git("switch", "-q", "--detach", two)
	report(merged, "core/gauge.c", 3)
	if v := s.judge("--range", base+"..HEAD", "--report", "-"); v.standings() != "core/gauge.c:2 elsewhere existing" {
		t.Errorf("carried to %s: %s", v.standings(), v.about())
	}
	s.stdin = sarifLog(sarifResult("core/gauge.c", 1)[1:])
	if v := s.judge("--range", base+"..HEAD", "--report", "-", "--report-commit", merged); v.Totals["findings"] != 0 || !strings.Contains(v.about(), "left out") {
		t.Errorf("a lost line: %s", v.about())
	}
}

// TestHalfStaged: a report of the work tree says nothing of a file staged in part, but all of the others.
func TestHalfStaged(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(5))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.git("add", "-A")
	s.write("core/gauge.c", "unstaged;\n"+lines(5))
	s.stdin = warn("core/tide.c", 5) + warn("core/gauge.c", 3) + warn("core/gauge.c", 1)
	v := s.judge("--staged", "--report", "-")
	if v.standings() != "core/gauge.c:2 elsewhere existing\ncore/tide.c:5 touched new" || !strings.Contains(v.about(), "aren't in the judged state: 1 finding") {
		t.Errorf("findings carried to the index:\n%s\n%s", v.standings(), v.about())
	}
	s.write("core/tide.c", altered+"more;\n")
	s.stdin = warn("core/tide.c", 2) + warn("core/gauge.c", 3)
	if v := s.judge("--staged", "--report", "-"); v.Code != 2 || v.Totals["findings"] != 2 || !strings.Contains(v.about(), "core/tide.c is staged in part") {
		t.Errorf("staged in part: %s", v.about())
	}
	s.stdin = warn("core/tide.c", 5)
	if v := s.judge("--staged", "--report", "-"); v.Code != 1 || v.standings() != "core/tide.c:5 touched new" {
		t.Errorf("staged in part, with a finding on a line that is staged: %s\n%s", v.standings(), v.about())
	}
	for _, c := range []struct{ mark, disk string }{
		{"--assume-unchanged", altered + "more;\n"}, {"--skip-worktree", altered + "more;\n"}, {"--skip-worktree", ""}, {"--assume-unchanged", ""}, {"--no-assume-unchanged", strings.Replace(altered, "fresh;", "frash;", 1)},
	} {
		s.git("reset", "-q", "--hard")
		s.write("core/tide.c", altered)
		s.git("add", "-A")
		s.git("update-index", c.mark, "core/tide.c")
		before, _ := os.Stat(filepath.Join(s.dir, "core/tide.c"))
		s.write("core/tide.c", c.disk)
		os.Chtimes(filepath.Join(s.dir, "core/tide.c"), before.ModTime(), before.ModTime())
		if c.disk == "" {
			os.Remove(filepath.Join(s.dir, "core/tide.c"))
		}
		s.stdin = warn("core/gauge.c", 3)
		if v := s.judge("--staged", "--report", "-"); v.Code != 2 || !strings.Contains(v.about(), "core/tide.c is staged in part") {
			t.Errorf("marked %s, other text on disk (%d bytes): %s", c.mark, len(c.disk), v.about())
		}
		s.write("core/tide.c", altered)
		if v := s.judge("--staged", "--report", "-"); v.Code != 0 {
			t.Errorf("marked %s, the same on disk: %s", c.mark, v.about())
		}
		s.git("update-index", "--no-assume-unchanged", "core/tide.c")
		s.git("update-index", "--no-skip-worktree", "core/tide.c")
	}
	s.git("config", "core.autocrlf", "true")
	s.write("core/tide.c", strings.ReplaceAll(altered, "\n", "\r\n"))
	s.git("add", "-A")
	if v := s.judge("--staged", "--report", "-"); v.Code != 0 {
		t.Errorf("what git's conversions make of it: %s", v.about())
	}
	s.git("config", "--unset", "core.autocrlf")
	s.git("reset", "-q", "--hard")
	if v := s.judge("--staged"); v.Code != 0 || !strings.Contains(v.about(), "nothing is staged") {
		t.Errorf("nothing staged: %s", v.about())
	}
}

// TestManyFiles: however many other files a report names, the findings of one file are the same: also where it was made from the
// work tree, and the next commit is judged, or a link led there.
func TestManyFiles(t *testing.T) {
	t.Parallel()
	s := repository(t)
	others := ""
	for i := range 600 {
		path := fmt.Sprintf("core/quay%d.c", i)
		s.write(path, lines(3))
		others += warn(path, 2)
	}
	s.write("core/tide.c", lines(20))
	if err := os.Symlink("tide.c", filepath.Join(s.dir, "core/ebb.c")); err != nil {
		t.Fatal(err)
	}
	s.commit("one")
	s.write("core/tide.c", strings.Replace(lines(20), "line 5;", "line five;", 1))
	s.git("add", "-A")
	s.write("core/tide.c", "above;\nand more;\n"+s.read("core/tide.c"))
	of := warn("core/tide.c", 7) + warn("core/tide.c", 12) + warn("core/ebb.c", 15)
	for _, kind := range []string{"--staged", "--worktree", "--tree"} {
		var seen [2]string
		for i, report := range []string{of, others + of} {
			s.stdin = report
			for _, f := range s.judge(kind, "--report", "diagnostics=-").Findings {
				if f.Path == "core/tide.c" {
					seen[i] += fmt.Sprintln(f)
				}
			}
		}
		if strings.Count(seen[0], "\n") != 3 || seen[0] != seen[1] {
			t.Errorf("%s: alone\n%samong many\n%s", kind, seen[0], seen[1])
		}
	}
}
