package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// altered is lines(10) with one line added after the fourth and the eighth changed.
var altered = strings.Replace(strings.Replace(lines(10), "line 5;", "fresh;\nline 5;", 1), "line 8;", "LINE 8;", 1)

// A report of an added, a changed and an untouched line, and of a file outside the change.
var aboutAltered = warn("core/tide.c", 5) + warn("core/tide.c", 9) + warn("core/tide.c", 2) + warn("core/gauge.c", 1)

const standAltered = `core/gauge.c:1 elsewhere existing
core/tide.c:2 file existing
core/tide.c:5 touched new
core/tide.c:9 touched new`

// TestSourcesOfChange judges one and the same change, named in every way.
func TestSourcesOfChange(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(3))
	base := s.commit("one")
	s.write("report.txt", aboutAltered)
	s.write(".gitignore", "report.txt\nthe.diff\n")
	s.git("add", ".gitignore")
	s.git("commit", "-q", "-m", "two")
	main := s.git("rev-parse", "HEAD")
	s.write("core/tide.c", altered)
	s.write("report.txt", aboutAltered) // a report is younger than what it speaks of

	check := func(name, kind, from, to string, args ...string) {
		t.Helper()
		v := s.judge(append(args, "--report", "report.txt")...)
		if v.Change.Kind != kind || v.Change.Base != from || v.Change.Head != to || v.Change.Files != 1 {
			t.Errorf("%s: the change is %+v", name, v.Change)
		}
		if v.standings() != standAltered || v.Code != 1 {
			t.Errorf("%s: exit code %d, findings\n%s", name, v.Code, v.standings())
		}
	}
	check("work tree", "worktree", main, "worktree", "--worktree")
	s.git("add", "-A")
	check("staged", "staged", main, "index", "--staged")
	s.stdin = s.git("diff", "--cached", "--no-color") + "\n"
	check("patch from standard input", "patch", "", "", "--patch", "-")
	s.git("switch", "-q", "-c", "low-water")
	head := s.commit("three")
	check("range", "range", main, head, "--range", "main..HEAD")
	s.git("switch", "-q", "main")
	s.write("docs.md", "later\n")
	s.commit("main goes on")
	s.git("switch", "-q", "low-water")
	check("branch", "branch", main, head, "--into", "main")
	s.git("checkout", "-q", "--detach")
	check("detached head", "branch", main, head, "--into", "main")

	v := s.judge("--tree", "--report", "report.txt")
	if v.Change.Kind != "tree" || v.Totals["new"] != 4 {
		t.Errorf("tree: %+v, %v", v.Change, v.Totals)
	}
	if v = s.judge("--tree", base, "--report", "report.txt"); v.Change.Head != base || v.Totals["new"] != 4 {
		t.Errorf("tree of a commit: %+v, %v", v.Change, v.Totals)
	}
}

func TestPatchWithoutRepository(t *testing.T) {
	t.Parallel()
	s := &sandbox{T: t, dir: t.TempDir(), env: []string{"GIT_CEILING_DIRECTORIES=/"}}
	s.write("core/tide.c", altered)
	s.write("report.txt", warn("core/tide.c", 5)+warn("core/tide.c", 2))
	s.write("the.diff", "--- core/tide.c\t2026-10-01\n+++ core/tide.c\t2026-10-02\n@@ -4,2 +4,3 @@\n line 4;\n+fresh;\n line 5;\n")
	want := "core/tide.c:2 file existing\ncore/tide.c:5 touched new"
	if v := s.judge("--patch", "the.diff", "--report", "report.txt"); v.standings() != want {
		t.Errorf("findings\n%s", v.standings())
	}
	if err := os.Remove(filepath.Join(s.dir, "core/tide.c")); err != nil {
		t.Fatal(err)
	}
	v := s.judge("--patch", "the.diff", "--report", "report.txt")
	if v.standings() != want || !strings.Contains(v.about(), "recognised by rule, path and message only") {
		t.Errorf("without the file: %s\n%s", v.standings(), v.about())
	}
	s.write("the.diff", "--- a/.zincdoor/policy.yaml\n+++ b/.zincdoor/policy.yaml\n@@ -1 +1 @@\n-a\n+b\n")
	if _, errs, code := s.run("gate", "--patch", "the.diff", "--report", "report.txt"); code != 2 || !strings.Contains(errs, "--policy") {
		t.Errorf("a patch of the policy: exit code %d, %s", code, errs)
	}
}

// TestKindsOfFiles judges additions, deletions, renames, binaries, hostile names and the first commit of a repository.
func TestKindsOfFiles(t *testing.T) {
	t.Parallel()
	names := []string{"with blank.c", `"quoted".c`, "søl.c", "-dash.c", "tab\there.c", "line\nfeed.c", "core/a b/*.c"}
	s := repository(t)
	s.write(".gitignore", "r.sarif\n")
	s.write("moved.c", lines(20))
	s.write("gone.c", "x\n")
	s.write("map.bin", "a\x00b\n")
	s.write("nofeed.c", "a\nb")
	results := ""
	for _, name := range names {
		s.write(name, lines(3))
		results += sarifResult(name, 2)
	}
	s.write("r.sarif", sarifLog(strings.TrimPrefix(results, ",")))
	s.git("add", "-A")
	v := s.judge("--staged", "--report", "r.sarif")
	if v.Totals["new"] != len(names)+1 || v.Change.Base != "" {
		t.Errorf("first commit: %v of %d new, base %q\n%s", v.Totals, len(names)+1, v.Change.Base, v.about())
	}
	s.commit("one")

	for _, name := range names {
		s.write(name, "fresh;\n"+lines(3))
	}
	s.git("mv", "moved.c", "core/renamed.c")
	s.write("core/renamed.c", strings.Replace(lines(20), "line 9;", "LINE 9;", 1))
	s.git("rm", "-q", "gone.c")
	s.write("map.bin", "a\x00c\n")
	s.write("nofeed.c", "a\nb\nc")
	s.write("new.c", "new\n")
	results = ""
	for _, name := range names {
		results += sarifResult(name, 1) + sarifResult(name, 2)
	}
	for _, at := range []struct {
		name string
		line int
	}{{"core/renamed.c", 9}, {"core/renamed.c", 10}, {"map.bin", 1}, {"nofeed.c", 1}, {"nofeed.c", 3}, {"new.c", 1}} {
		results += sarifResult(at.name, at.line)
	}
	s.write("r.sarif", sarifLog(strings.TrimPrefix(results, ",")))
	want := []string{"core/renamed.c:9 touched new", "core/renamed.c:10 file existing", "map.bin:1 touched new",
		"nofeed.c:1 file existing", "nofeed.c:3 touched new", "new.c:1 touched new"}
	for _, name := range names {
		want = append(want, name+":1 touched new", name+":2 file existing")
	}
	for _, change := range []string{"--worktree", "--staged"} {
		got := s.judge(change, "--report", "r.sarif").standings()
		for _, line := range want {
			if !strings.Contains("\n"+got+"\n", "\n"+line+"\n") {
				t.Errorf("%s: no %q in\n%s", change, line, got)
			}
		}
		s.git("add", "-A")
	}
}

// A user's settings don't change which lines are touched.
func TestSettingsChangeNothing(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(3))
	s.commit("one")
	s.write(".git/info/attributes", "*.c diff=odd\n")
	s.write("core/tide.c", altered)
	s.write("report.txt", aboutAltered)
	for key, value := range map[string]string{
		"diff.noprefix": "true", "diff.mnemonicPrefix": "true", "diff.external": "false", "diff.odd.command": "false", "diff.odd.textconv": "false",
		"diff.algorithm": "patience", "diff.context": "9", "diff.interHunkContext": "9", "diff.renames": "false", "core.quotePath": "false",
		"color.ui": "always", "core.pager": "false", "core.fsmonitor": "false", "diff.orderFile": "nowhere", "diff.relative": "true",
	} {
		s.git("config", key, value)
	}
	s.env = []string{"GIT_EXTERNAL_DIFF=false", "GIT_DIFF_OPTS=-u9", "GIT_PAGER=false", "GIT_GLOB_PATHSPECS=1"}
	if got := s.judge("--worktree", "--report", "report.txt").standings(); got != standAltered {
		t.Errorf("findings\n%s", got)
	}
}

// TestMonitorNeverRuns: a program that the repository names to watch its files is started at no door.
func TestMonitorNeverRuns(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	first := s.commit("one")
	s.git("branch", "base")
	s.write("core/tide.c", altered)
	second := s.commit("two")
	s.write("core/tide.c", altered+"more;\n")
	s.git("add", "-A")
	s.write("core/gauge.c", "new\n")
	s.write(".git/report.txt", aboutAltered)
	s.write(".git/monitor", "#!/bin/sh\ntouch \""+filepath.Join(s.dir, ".git", "it-ran")+"\"\n")
	if err := os.Chmod(filepath.Join(s.dir, ".git/monitor"), 0o755); err != nil {
		t.Fatal(err)
	}
	s.git("config", "core.fsmonitor", filepath.Join(s.dir, ".git", "monitor"))
	s.stdin = fmt.Sprintf("refs/heads/main %s refs/heads/main %s\n", second, first)
	for _, args := range [][]string{
		{"gate", "--staged"}, {"gate", "--worktree"}, {"gate", "--into", "base"}, {"gate", "--range", "base..main"}, {"gate", "--push"}, {"gate", "--tree"}, {"gate", "--tree", "base"},
		{"findings"}, {"baseline", "take"}, {"baseline", "sweep"}, {"fix"}, {"explain", "-Wodd"},
	} {
		s.run(append(args, "--report", ".git/report.txt")...)
		if _, err := os.Stat(filepath.Join(s.dir, ".git", "it-ran")); err == nil {
			t.Fatalf("zincdoor %s started it", strings.Join(args, " "))
		}
	}
}

// TestUnknownLines: where lines can't be known, the whole file counts as touched, and the verdict says why.
func TestUnknownLines(t *testing.T) {
	t.Parallel()
	pointer := func(n int) string {
		return fmt.Sprintf("version https://brackwater.example/spec/v1\noid sha256:%064d\nsize %d\n", n, n)
	}
	other := repository(t)
	other.write("tide.c", lines(3))
	other.commit("one")
	s := repository(t)
	s.write("r.sarif", "")
	s.write(".git/info/exclude", "r.sarif\n")
	s.write("marked.c", lines(30))
	s.write(".gitattributes", "marked.c -diff\n")
	s.write("chart.bin", pointer(1))
	s.write("core/tide.c", lines(30))
	s.write("kept.c", lines(30))
	link := func(to, name string) {
		os.Remove(filepath.Join(s.dir, name))
		if err := os.Symlink(to, filepath.Join(s.dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	link("core/tide.c", "link.c")
	link("core/tide.c", "old.c")
	s.git("-c", "protocol.file.allow=always", "submodule", "add", "-q", other.dir, "gauges")
	s.commit("one")

	s.write("marked.c", strings.Replace(lines(30), "line 9;", "LINE 9;", 1))
	s.write("chart.bin", pointer(2))
	link("kept.c", "link.c")
	link("core/tide.c", "kept.c")
	other.write("tide.c", "fresh;\n"+lines(3))
	commit := other.commit("two")
	sub := &sandbox{T: t, dir: filepath.Join(s.dir, "gauges")}
	sub.git("fetch", "-q")
	sub.git("checkout", "-q", commit)
	s.commit("two")
	results := ""
	for _, at := range []struct {
		path string
		line int
	}{{"marked.c", 9}, {"marked.c", 20}, {"chart.bin", 500}, {"link.c", 7}, {"old.c", 7}, {"kept.c", 7}, {"gauges/tide.c", 4}} {
		results += sarifResult(at.path, at.line)
	}
	s.write("r.sarif", sarifLog(results[1:]))
	v := s.judge("--range", "HEAD~..HEAD", "--report", "r.sarif")
	want := `chart.bin:500 touched new
core/tide.c:7 elsewhere existing
gauges/tide.c:4 touched new
kept.c:7 touched new
link.c:7 touched new
marked.c:9 touched new
marked.c:20 file existing`
	if v.standings() != want {
		t.Errorf("got\n%s\nwant\n%s\n%s", v.standings(), want, v.about())
	}
	for _, why := range []string{"kept elsewhere for its size", "a submodule", "a symbolic link", "of another type than before"} {
		if !strings.Contains(v.about(), why) {
			t.Errorf("no notice that something is %s:\n%s", why, v.about())
		}
	}
}

// TestSpellingsOfOnePath: two reports name one file in two ways, and each finding keeps its code.
func TestSpellingsOfOnePath(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	s.write("a.txt", warn("core/tide.c", 5))
	s.write("b.txt", warn(filepath.Join(s.dir, "core/tide.c"), 9)+"    9 | LINE 8;\n")
	v := s.judge("--range", "HEAD~..HEAD", "--report", "a.txt", "--report", "b.txt")
	if v.standings() != "core/tide.c:5 touched new\ncore/tide.c:9 touched new" || v.Evidence[1].State != "read" {
		t.Errorf("%s\n%s", v.standings(), v.about())
	}
}

// TestPathsOfReports: paths of another machine, another folder or another writing lead to the repository's files.
func TestPathsOfReports(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("fares/zone.go", lines(5))
	s.write("boards/zone.go", lines(5))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.write("fares/zone.go", "fresh;\n"+lines(5))
	for _, c := range []struct {
		name, path string
		more       []string
		want       string
	}{
		{"another machine", "/builds/7/tideboard/core/tide.c", nil, "core/tide.c:5 touched new"},
		{"another system", `C:\builds\tideboard\core\tide.c`, nil, "core/tide.c:5 touched new"},
		{"the folder the linter ran in", "tide.c", nil, "core/tide.c:5 touched new"},
		{"another case", "Core/Tide.c", nil, "core/tide.c:5 touched new"},
		{"not plain", "zone.go", nil, "zone.go:5 elsewhere existing"},
		{"the call says where", "zone.go", []string{"--report-root", "fares"}, "fares/zone.go:5 file existing"},
		{"the call says where elsewhere", "/b/x/core/tide.c", []string{"--report-root", "/b/x"}, "core/tide.c:5 touched new"},
	} {
		s.stdin = warn(c.path, 5)
		v := s.judge(append([]string{"--worktree", "--report", "-"}, c.more...)...)
		if c.name == "not plain" {
			if v.Code != 2 || !strings.Contains(v.about(), "--report-root") {
				t.Errorf("%s: %s", c.name, v.about())
			}
		} else if v.standings() != c.want {
			t.Errorf("%s: %s\n%s", c.name, v.standings(), v.about())
		}
	}
}

// TestNothingIsWritten: judging files that git doesn't track yet leaves the repository as it is.
func TestNothingIsWritten(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(3))
	s.commit("one")
	s.write("core/gauge.c", lines(3))
	s.stdin = warn("core/gauge.c", 2)
	before := s.files(".git")
	if v := s.judge("--worktree", "--report", "-"); v.standings() != "core/gauge.c:2 touched new" {
		t.Errorf("%s", v.standings())
	}
	if after := s.files(".git"); after != before {
		t.Errorf("it wrote to the repository:\n%s\nwas\n%s", after, before)
	}
}
