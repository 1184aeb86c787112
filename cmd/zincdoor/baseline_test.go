package main

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"
)

const baselineFile = ".zincdoor/baseline.jsonl"

// entries are the lines of the list, without its header.
func (s *sandbox) entries() []string {
	s.Helper()
	lines := strings.Split(strings.TrimSpace(s.read(baselineFile)), "\n")
	for i, line := range lines {
		var entry map[string]any
		if err := json.Unmarshal([]byte(line), &entry); err != nil {
			s.Fatalf("line %d of the list: %v\n%s", i+1, err, line)
		}
	}
	return lines[1:]
}

// must runs the program, which has to end with a code, and returns what it wrote.
func (s *sandbox) must(code int, args ...string) string {
	s.Helper()
	out, errs, got := s.run(args...)
	if got != code {
		s.Fatalf("zincdoor %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
	}
	return out + errs
}

func measured(path string, line, complexity int) string {
	return fmt.Sprintf("%s:%d:1: warning: complexity %d, at most 10 [-Wcomplexity]\n", path, line, complexity)
}

// TestKeepingTheList: accept, list, renew and sweep, as they follow one another.
func TestKeepingTheList(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write("fares/fare.c", lines(10))
	s.commit("one")
	s.write("r.txt", warn("core/tide.c", 4)+warn("fares/fare.c", 5)+measured("core/tide.c", 7, 81))
	report := []string{"--report", "r.txt", "--today", "2026-11-23"}
	with := func(args ...string) []string { return append(args, report...) }

	if said := s.must(3, with("baseline", "accept", "--path", "core/**")...); !strings.Contains(said, "core/tide.c:4") || !strings.Contains(said, "--yes") {
		t.Errorf("without a terminal: %s", said)
	}
	id := s.judge("--tree", "--report", "r.txt").Findings[0].ID
	s.must(0, with("baseline", "accept", id[:6], "--yes", "--why", "mistaken", "--reason", "the gauge needs it", "--until", "30d", "--link", "https://brackwater.example/7")...)
	if e := s.entries(); len(e) != 1 || !strings.Contains(e[0], `"why":"mistaken","reason":"the gauge needs it","by":"","on":"2026-11-23","until":"2026-12-23","link":"https://brackwater.example/7"`) &&
		!strings.Contains(e[0], `"why":"mistaken","reason":"the gauge needs it","on":"2026-11-23","until":"2026-12-23"`) {
		t.Errorf("accepted: %v", e)
	}
	s.must(0, with("baseline", "accept", "--rule", "-W*", "--yes")...)
	if e := s.entries(); len(e) != 3 || !strings.Contains(strings.Join(e, "\n"), `"measure":"81"`) {
		t.Errorf("accepted: %v", e)
	}

	s.write("r.txt", warn("core/tide.c", 4)+measured("core/tide.c", 7, 95))
	v := s.judge("--tree", "--report", "r.txt", "--today", "2026-12-24")
	if got := v.standings(); !strings.Contains(got, "core/tide.c:4 touched expired") || !strings.Contains(got, "core/tide.c:7 touched worsened") || v.Totals["gone"] != 1 || v.Code != 1 {
		t.Errorf("grown, expired and gone: %v\n%s", v.Totals, got)
	}
	if said := s.must(1, "gate", "--tree", "--report", "r.txt"); !strings.Contains(said, "worsened 81 → 95") {
		t.Errorf("the growth isn't shown:\n%s", said)
	}
	if said := s.must(0, "baseline", "list", "--expiring", "0d", "--today", "2026-12-24"); !strings.Contains(said, "core/tide.c") || !strings.Contains(said, "1 of 3 entries") {
		t.Errorf("what has expired: %s", said)
	}
	if said := s.must(0, "baseline", "list", "--count-by", "rule"); said != "2  -Wunused\n1  -Wcomplexity\n" {
		t.Errorf("by rule: %s", said)
	}
	s.must(3, "baseline", "renew", "--expiring", "0d", "--until", "60d", "--today", "2026-12-24")
	s.must(0, "baseline", "renew", "--expiring", "0d", "--until", "60d", "--reason", "waits for the driver", "--yes", "--today", "2026-12-24")
	if e := strings.Join(s.entries(), "\n"); !strings.Contains(e, `"reason":"waits for the driver"`) || !strings.Contains(e, `"until":"2027-02-22"`) {
		t.Errorf("renewed: %s", e)
	}

	before := s.read(baselineFile)
	if said := s.must(1, with("baseline", "sweep", "--check")...); !strings.Contains(said, "gone     fares/fare.c:5") || s.read(baselineFile) != before {
		t.Errorf("a sweep to be: %s", said)
	}
	s.write("core/tide.c", "new;\n"+lines(10))
	s.write("r.txt", warn("core/tide.c", 5)+measured("core/tide.c", 8, 60))
	s.must(0, with("baseline", "sweep")...)
	if e := strings.Join(s.entries(), "\n"); strings.Contains(e, "fares") || !strings.Contains(e, `"line":5`) || !strings.Contains(e, `"measure":"60"`) {
		t.Errorf("swept: %s", e)
	}
	s.must(0, with("baseline", "sweep", "--check")...)
	s.write("r.txt", warn("core/tide.c", 5)+measured("core/tide.c", 8, 70))
	s.must(0, with("baseline", "sweep", "--check")...) // a measure that grew is nothing to sweep
	s.must(0, with("baseline", "accept", "--rule", "-Wcomplexity", "--yes")...)
	if e := strings.Join(s.entries(), "\n"); len(s.entries()) != 2 || !strings.Contains(e, `"measure":"70"`) {
		t.Errorf("a worsened one accepted anew: %s", e)
	}
}

// TestTakeOfOneTool: a second tool comes to an old list without touching the first one's entries.
func TestTakeOfOneTool(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("r.txt", warn("core/tide.c", 4))
	s.write("r.sarif", sarifLog(sarifResult("core/tide.c", 3)[1:]))
	s.take("r.txt", "--reason", "old")
	s.take("r.sarif", "--tool", "farecheck")
	if e := strings.Join(s.entries(), "\n"); len(s.entries()) != 2 || !strings.Contains(e, `"reason":"old"`) || !strings.Contains(s.read(baselineFile), `{"tool":"farecheck","paths":["**"]}`) {
		t.Errorf("%s", e)
	}
	if said := s.must(3, "baseline", "take", "--tool", "farecheck", "--report", "r.sarif"); !strings.Contains(said, "--replace") {
		t.Errorf("overwrote the tool's entries: %s", said)
	}
	s.write("r.sarif", sarifLog(""))
	s.take("r.sarif", "--tool", "farecheck", "--replace")
	if e := s.entries(); len(e) != 1 || !strings.Contains(e[0], `"reason":"old"`) {
		t.Errorf("%v", e)
	}
	if said := s.must(3, "baseline", "take", "--tool", "clang", "--report", "r.txt"); !strings.Contains(said, "diagnostics") {
		t.Errorf("a tool without a report: %s", said)
	}
}

// TestListUnderLoad: of many runs at once none loses what another accepted, and one that is killed leaves a whole file.
func TestListUnderLoad(t *testing.T) {
	t.Parallel()
	s := repository(t)
	var report strings.Builder
	for i := range 12 {
		path := fmt.Sprintf("core/tide%02d.c", i)
		s.write(path, lines(10))
		report.WriteString(warn(path, 4))
	}
	s.write("r.txt", report.String())
	accept := func(i int) *exec.Cmd {
		cmd := exec.Command(program, "baseline", "accept", "--path", fmt.Sprintf("core/tide%02d.c", i), "--report", "r.txt", "--yes")
		cmd.Dir, cmd.Env = s.dir, s.environment()
		return cmd
	}
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			if out, err := accept(i).CombinedOutput(); err != nil {
				t.Errorf("%v: %s", err, out)
			}
		})
	}
	wait.Wait()
	if e := s.entries(); len(e) != 8 {
		t.Fatalf("%d entries of 8 runs", len(e))
	}
	for i := range 40 {
		cmd := accept(8 + i%4)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i) * time.Millisecond / 2)
		cmd.Process.Kill()
		cmd.Wait()
		if e := s.entries(); len(e) < 8 || len(e) > 12 {
			t.Fatalf("%d entries after a run was killed", len(e))
		}
	}
	s.must(0, "baseline", "accept", "--path", "core/**", "--report", "r.txt", "--yes")
	if e := s.entries(); len(e) != 12 {
		t.Errorf("%d entries in the end", len(e))
	}
}

// TestMergeOfLists: git merges what two branches accepted, by the driver that fit sets up.
func TestMergeOfLists(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.withProgram()
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write("r.txt", warn("core/tide.c", 2)+warn("core/tide.c", 3)+warn("core/tide.c", 4)+warn("core/tide.c", 5))
	s.must(0, "fit", "--hook", "none", "--for", "none")
	accept := func(line int, more ...string) {
		id := ""
		for _, f := range s.judge("--tree", "--door", "commit", "--report", "r.txt").Findings {
			if f.Line == line {
				id = f.ID
			}
		}
		s.must(0, append([]string{"baseline", "accept", id, "--report", "r.txt", "--yes", "--today", "2026-11-23"}, more...)...)
	}
	accept(4, "--until", "2027-05-01")
	s.commit("one")
	s.git("checkout", "-q", "-b", "other")
	accept(3, "--until", "2027-03-01")
	accept(5)
	s.must(0, "baseline", "renew", "--path", "core/**", "--expiring", "2027-05-01", "--until", "2027-09-01", "--reason", "theirs", "--yes", "--today", "2026-11-23")
	s.commit("theirs")
	s.git("checkout", "-q", "main")
	accept(3)
	s.commit("ours")
	s.git("merge", "-q", "other", "-m", "both")
	got := strings.Join(s.entries(), "\n")
	if len(s.entries()) != 3 || strings.Count(got, `"line":3`) != 1 || !strings.Contains(got, `"until":"2027-09-01"`) || strings.Contains(got, "<<<") {
		t.Errorf("merged:\n%s", got)
	}
	if v := s.judge("--tree", "--door", "commit", "--report", "r.txt"); v.Totals["accepted"] != 3 || v.Totals["new"] != 1 {
		t.Errorf("after the merge: %v", v.Totals)
	}
	s.write("broken", "{")
	if said := s.must(2, "baseline", "merge", baselineFile, baselineFile, "broken"); !strings.Contains(said, "line 1") || len(s.entries()) != 3 {
		t.Errorf("a broken side: %s", said)
	}
	s.must(0, "fit", "--remove")
	if out, _, code := s.command("git", "config", "--local", "--get", "merge.zincdoor.driver"); code == 0 {
		t.Errorf("the driver stays: %s", out)
	}
}

// TestKnownByMore: renamed rules, measures the policy names, and fingerprints, believed or not.
func TestKnownByMore(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "r.*\n")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
aliases: {unused: "-Wunused"}
numbers:
  - {rule: score, number: 1, worse: less}
  - {rule: "-Wcomplexity", number: none}
doors: {default: {limits: [{count: new, most: 0}]}}
`)
	s.write("core/tide.c", lines(10))
	text := func(score, complexity int, rule string) string {
		return fmt.Sprintf("core/tide.c:3:1: warning: scores %d [score]\ncore/tide.c:5:1: warning: unused [%s]\n", score, rule) + measured("core/tide.c", 7, complexity)
	}
	s.write("r.txt", text(70, 81, "unused"))
	s.take("r.txt")
	s.commit("one")
	s.write("r.txt", text(71, 95, "-Wunused"))
	if v := s.judge("--tree", "--report", "r.txt"); v.Code != 0 || v.Totals["accepted"] != 3 {
		t.Errorf("renamed, and no measure: %v\n%s", v.Totals, v.standings())
	}
	s.write("r.txt", text(69, 95, "-Wunused"))
	if v := s.judge("--tree", "--report", "r.txt"); v.Totals["worsened"] != 1 || v.Totals["accepted"] != 2 {
		t.Errorf("a score that fell: %v\n%s", v.Totals, v.standings())
	}

	printed := func(line int, print string) string {
		return strings.Replace(sarifResult("core/tide.c", line), `"ruleId"`, `"partialFingerprints":{"self/1":"`+print+`"},"ruleId"`, 1)
	}
	s.write("r.sarif", sarifLog((printed(2, "a") + printed(4, "b") + printed(6, "c"))[1:]))
	s.take("r.sarif", "--tool", "farecheck")
	s.write("core/tide.c", strings.Replace(lines(10), "line 4;", "quite another text", 1))
	s.write("r.sarif", sarifLog((printed(2, "a") + printed(4, "b") + printed(6, "c"))[1:]))
	if v := s.judge("--tree", "--report", "r.sarif"); v.Totals["accepted"] != 3 || strings.Contains(v.about(), "believed") {
		t.Errorf("known by its fingerprint: %v\n%s", v.Totals, v.about())
	}
	for why, results := range map[string]string{
		"they are the same for different findings": printed(2, "a") + printed(4, "a") + printed(6, "c"),
		"they differ from run to run":              printed(2, "x") + printed(4, "y") + printed(6, "z"),
	} {
		s.write("r.sarif", sarifLog(results[1:]))
		if v := s.judge("--tree", "--report", "r.sarif"); !strings.Contains(v.about(), `"self/1" of farecheck aren't used: `+why) {
			t.Errorf("want %s:\n%s", why, v.about())
		}
	}
}

// TestBaseReport: what was found before the change counts as existing, and what isn't any more is gone.
func TestBaseReport(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	s.write("old.txt", warn("core/tide.c", 2)+warn("core/tide.c", 10)+measured("core/tide.c", 7, 12))
	s.write("new.txt", warn("core/tide.c", 2)+warn("core/tide.c", 4)+warn("core/tide.c", 5)+measured("core/tide.c", 8, 15))
	span := []string{"--range", "HEAD~..HEAD", "--report", "new.txt", "--base-report", "old.txt"}
	v := s.judge(span...)
	want := `core/tide.c:2 file existing
core/tide.c:4 file new
core/tide.c:5 touched new
core/tide.c:8 file worsened`
	if v.standings() != want || v.Totals["gone"] != 1 || len(v.Evidence) != 3 {
		t.Errorf("%v\n%s\n%s", v.Totals, v.standings(), v.about())
	}
	s.write("old.txt", warn("core/tide.c", 30))
	if v := s.judge(span...); v.Code != 1 || !strings.Contains(v.about(), "before the change: old.txt foreign") {
		t.Errorf("a foreign one: %s", v.about())
	}
	s.must(3, "gate", "--tree", "--report", "new.txt", "--base-report", "old.txt")
}

// TestSweepOfMuch: a sweep that would drop most of a tool's entries is refused unless that many are allowed, and what it dropped
// can be put back by the command it prints.
func TestSweepOfMuch(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(20))
	report := ""
	for n := 1; n <= 12; n++ {
		report += warn("core/tide.c", n)
	}
	s.write("r.txt", report)
	s.take("r.txt")
	s.commit("one")
	before := s.read(baselineFile)
	s.write("r.txt", warn("core/tide.c", 1)+warn("core/tide.c", 2))
	for _, allowed := range []string{"0", "9"} {
		_, errs, code := s.run("baseline", "sweep", "--report", "r.txt", "--allow-removed", allowed)
		if code != 3 || !strings.Contains(errs, "10 of the 12 entries of diagnostics") || !strings.Contains(errs, "--allow-removed 10") || s.read(baselineFile) != before {
			t.Errorf("allowed %s: exit code %d, %s", allowed, code, errs)
		}
	}
	if out, errs, code := s.run("baseline", "sweep", "--report", "r.txt", "--check"); code != 1 || !strings.Contains(out, "10 to drop") || !strings.Contains(errs, "--allow-removed 10") {
		t.Errorf("only told: exit code %d, %s%s", code, out, errs)
	}
	out := s.must(0, "baseline", "sweep", "--report", "r.txt", "--allow-removed", "10")
	_, command, told := strings.Cut(out, "The list as it was: ")
	if !told || strings.Count(s.read(baselineFile), "\n") != 3 {
		t.Fatalf("%s\n%s", out, s.read(baselineFile))
	}
	if _, errs, code := s.command("sh", "-c", command); code != 0 || s.read(baselineFile) != before {
		t.Errorf("put back: %s\n%s", errs, s.read(baselineFile))
	}
	s.write("r.txt", strings.Join(strings.SplitAfter(report, "\n")[6:], ""))
	s.must(0, "baseline", "sweep", "--report", "r.txt") // half of them are not more than half
	s.write("r.txt", warn("core/tide.c", 12))
	s.must(0, "baseline", "sweep", "--report", "r.txt") // few may always go
}

// TestSweepOfSparse: what was left out of the work tree isn't gone, whatever a report of the rest says.
func TestSweepOfSparse(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(5))
	s.write("fares/fare.c", lines(5))
	s.write("r.txt", warn("core/tide.c", 1)+warn("fares/fare.c", 2))
	s.take("r.txt")
	s.commit("one")
	s.git("sparse-checkout", "set", "core", ".zincdoor")
	s.write("r.txt", warn("core/tide.c", 1))
	if out := s.must(0, "baseline", "sweep", "--report", "r.txt"); !strings.Contains(out, "nothing to sweep") {
		t.Errorf("left out: %s", out)
	}
	s.git("sparse-checkout", "disable")
	if out := s.must(0, "baseline", "sweep", "--report", "r.txt"); !strings.Contains(out, "1 dropped") {
		t.Errorf("there again, and fixed: %s", out)
	}
}
