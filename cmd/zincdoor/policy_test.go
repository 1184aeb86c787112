package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const strict = `zincdoor: 1
doors:
  commit: {judges: staged, limits: [{count: new, severity: warning, most: 0}]}
  merge: {judges: branch, into: main, limits: [{count: new, severity: warning, most: 0}]}
  nightly: {judges: tree, limits: [{count: all, severity: warning, most: 0}]}
`

// lax has no limit that a warning could break.
var lax = strings.ReplaceAll(strict, "severity: warning", "severity: error")

// branch makes a repository whose branch adds a line with a finding, under the policy of main.
func branch(t *testing.T, policy string) *sandbox {
	s := repository(t)
	s.write("core/tide.c", lines(10))
	if policy != "" {
		s.write(".zincdoor/policy.yaml", policy)
	}
	s.commit("one")
	s.git("switch", "-q", "-c", "low-water")
	s.write("core/tide.c", altered)
	s.stdin = warn("core/tide.c", 5)
	return s
}

func TestWhosePolicy(t *testing.T) {
	t.Parallel()
	against := []string{"--into", "main", "--report", "-"}

	s := branch(t, strict)
	s.write(".zincdoor/policy.yaml", lax)
	s.commit("a change that loosens its own policy")
	if v := s.judge(against...); v.Code != 1 || v.Policy.From != "main" {
		t.Errorf("judged by its own policy: %s %s", v.Policy.From, v.about())
	}
	if v := s.judge(against...); strings.Join(v.Policy.Altered, "|") != "commit: new warning removed|commit: new error added, at most 0|"+
		"merge: new warning removed|merge: new error added, at most 0|nightly: all warning removed|nightly: all error added, at most 0" {
		t.Errorf("what it makes of the policy: %v", v.Policy.Altered)
	}
	if v := s.judge(append(against, "--policy", "HEAD:.zincdoor/policy.yaml")...); v.Code != 0 {
		t.Errorf("--policy REV:PATH doesn't count: %s", v.about())
	}

	s = branch(t, lax)
	s.commit("two")
	s.git("switch", "-q", "main")
	s.write(".zincdoor/policy.yaml", strict)
	s.commit("main grows stricter")
	s.git("switch", "-q", "low-water")
	if v := s.judge(against...); v.Code != 1 {
		t.Errorf("an old branch brings an old policy back: %s", v.about())
	}

	s = branch(t, "")
	s.write(".zincdoor/policy.yaml", lax)
	s.commit("the first policy")
	if v := s.judge(against...); v.Code != 0 || !strings.Contains(v.about(), "main has no policy") {
		t.Errorf("a first policy: %s", v.about())
	}

	s = branch(t, "")
	s.commit("no policy anywhere")
	if v := s.judge(against...); v.Code != 1 || v.Policy.From != "built-in" {
		t.Errorf("built-in: %s %s", v.Policy.From, v.about())
	}

	s = branch(t, strict)
	s.write(".zincdoor/policy.yaml", lax)
	s.git("add", "-A")
	if v := s.judge("--staged", "--report", "-"); v.Code != 0 || v.Policy.From != "the index" {
		t.Errorf("staged: %s %s", v.Policy.From, v.about())
	}
}

// TestBaselineOfTheBranch: what a branch itself accepts isn't accepted, and what slipped in earlier can be accepted by
// a change of its own.
func TestBaselineOfTheBranch(t *testing.T) {
	t.Parallel()
	s := branch(t, strict)
	s.stdin = ""
	s.write("r.txt", warn("core/tide.c", 2))
	s.git("stash", "-q", "-u")
	s.git("switch", "-q", "main")
	s.write("r.txt", warn("core/tide.c", 2))
	s.take("r.txt")
	s.write(".gitignore", "r*.txt\n")
	s.commit("baseline")
	s.git("switch", "-q", "-C", "low-water")
	s.write("core/tide.c", altered)
	s.write("r.txt", warn("core/tide.c", 2)+warn("core/tide.c", 5))
	s.take("r.txt", "--replace")
	s.commit("accepts its own finding")
	v := s.judge("--into", "main", "--report", "r.txt")
	if v.Code != 1 || v.standings() != "core/tide.c:2 file accepted\ncore/tide.c:5 touched new" {
		t.Errorf("the branch's own acceptance counts: %s\n%s", v.standings(), v.about())
	}
	s.git("switch", "-q", "main")
	s.git("merge", "-q", "--no-edit", "low-water")
	s.git("checkout", "-q", "HEAD~", "--", ".zincdoor")
	s.commit("the finding slipped in")
	s.write("docs.md", "x\n")
	s.write("r.txt", s.read("r.txt"))
	s.git("add", "-A")
	if v := s.judge("--staged", "--report", "r.txt"); v.Code != 1 || !strings.Contains(v.about(), "To accept it, commit a change that edits only .zincdoor/: zincdoor baseline accept ") {
		t.Errorf("an untouched new finding: %s", v.about())
	}
	s.git("reset", "-q", "--hard")
	s.git("switch", "-q", "-C", "accept")
	s.take("r.txt", "--replace")
	s.commit("accept what slipped in")
	if v := s.judge("--into", "main", "--report", "r.txt"); v.Code != 0 {
		t.Errorf("a change that only accepts: %s", v.about())
	}
}

func (s *sandbox) take(report string, more ...string) {
	s.Helper()
	args := append([]string{"baseline", "take", "--report", report, "--today", "2026-11-23"}, more...)
	if out, errs, code := s.run(args...); code != 0 {
		s.Fatalf("take: exit code %d\n%s%s", code, out, errs)
	}
}

// TestRecognised: accepted findings stay accepted when lines are inserted above, re-indented, and the file is renamed.
func TestRecognised(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "r.txt\n")
	s.write("core/tide.c", lines(10)+"same;\nother;\nsame;\n")
	s.write("r.txt", warn("core/tide.c", 4)+warn("core/tide.c", 11)+warn("core/tide.c", 13))
	s.take("r.txt")
	first := s.read(".zincdoor/baseline.jsonl")
	s.write("r.txt", warn("core/tide.c", 13)+warn("core/tide.c", 4)+warn("core/tide.c", 11)+warn("core/tide.c", 4))
	s.take("r.txt", "--replace")
	if again := s.read(".zincdoor/baseline.jsonl"); again != first {
		t.Errorf("the same findings in another order gave other bytes:\n%s\n%s", first, again)
	}
	if _, errs, code := s.run("baseline", "take", "--report", "r.txt"); code != 3 || !strings.Contains(errs, "--replace") {
		t.Errorf("overwrote a list: exit code %d, %s", code, errs)
	}
	s.commit("one")
	s.git("mv", "core/tide.c", "core/tides.c")
	s.write("core/tides.c", "new one;\n"+strings.Replace(lines(10), "line 4;", "\t\tline  4;", 1)+"same;\nother;\nsame;\nsame;\n")
	s.git("add", "-A")
	s.write("r.txt", warn("core/tides.c", 5)+warn("core/tides.c", 12)+warn("core/tides.c", 14)+warn("core/tides.c", 15))
	v := s.judge("--staged", "--report", "r.txt")
	if v.Totals["accepted"] != 3 || v.Totals["new"] != 1 || v.Totals["gone"] != 0 {
		t.Errorf("%v\n%s", v.Totals, v.standings())
	}
	if v.Findings[0].Standing != "accepted" || v.Findings[0].Place != "file" {
		t.Errorf("the re-indented line: %s", v.standings())
	}
	s.commit("two")
	if v := s.judge("--tree", "--report", "r.txt"); v.Totals["accepted"] != 3 || v.Totals["new"] != 1 {
		t.Errorf("without a change: %v\n%s", v.Totals, v.standings())
	}
	if v := s.judge("--tree", "--report", "r.txt", "--baseline", "HEAD~:.zincdoor/baseline.jsonl"); v.Totals["accepted"] != 3 {
		t.Errorf("--baseline REV:PATH: %v", v.Totals)
	}
}

// TestCalls: wrong calls, policies and repositories each have their exit code and their advice.
func TestCalls(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(3))
	s.write("r.txt", warn("core/tide.c", 1))
	s.write(".zincdoor/policy.yaml", strict)
	s.commit("one")
	for _, c := range []struct {
		call string
		code int
		say  string
	}{
		{"gate --staged --tree", 3, "name one change"},
		{"gate", 3, "name the change to judge"},
		{"gate main", 3, "A change is named by a flag"},
		{"gate --door merge --report r.txt", 3, "--into main"},
		{"gate --door night --tree --report r.txt", 3, `did you mean "nightly"?`},
		{"gate --worktree --report r.txt", 3, "the policy has no door that judges a worktree; name one of its doors: --door commit, merge, nightly"},
		{"gate --range main --report r.txt", 3, "A..B"},
		{"gate --range main...x --report r.txt", 3, "A..B"},
		{"gate --tree --report sarf=r.txt", 3, "no format and no report of the policy is called"},
		{"gate --tree --format yaml", 3, "no output format"},
		{"gate --tree --write r.json", 3, "FORMAT=FILE"},
		{"gate --tree --today soon", 3, "--today takes a date"},
		{"gate --patch - --report -", 3, "only once"},
		{"gate --nonsense", 3, "--help"},
		{"baseline take --report r.txt --why so", 3, "debt, mistaken, meant"},
		{"gate --into nowhere --report r.txt", 2, `"nowhere" names no commit`},
		{"gate --range HEAD..--all --report r.txt", 2, "names no commit"},
		{"gate --patch nowhere.diff --report r.txt", 2, "nowhere.diff"},
		{"gate --patch r.txt --report r.txt", 2, "not a unified diff"},
		{"baseline take", 2, "there is no report to judge by, e.g. --report FILE, or reports: in the policy"},
		{"gate --door nightly --report r.txt", 1, ""},
	} {
		out, errs, code := s.run(strings.Fields(c.call)...)
		if code != c.code || !strings.Contains(errs, c.say) || c.code > 1 && out != "" {
			t.Errorf("%s: exit code %d, want %d; said %q, want %q", c.call, code, c.code, errs, c.say)
		}
	}
	s.write(".zincdoor/policy.yaml", strings.Replace(strict, "most: 0", "mots: 0", 1))
	if _, errs, code := s.run("gate", "--tree", "--report", "r.txt"); code != 3 || !strings.Contains(errs, `.zincdoor/policy.yaml:3:69: unknown key "mots"`) {
		t.Errorf("a broken policy: exit code %d, %s", code, errs)
	}
	s.write(".zincdoor/policy.yaml", strict+"baseline: lint/list.jsonl\n")
	if v := s.judge("--tree", "--report", "r.txt"); !strings.Contains(v.about(), "lint/list.jsonl missing the policy names this baseline") {
		t.Errorf("a baseline that isn't there: %s", v.about())
	}
	if err := os.Rename(filepath.Join(s.dir, ".zincdoor"), filepath.Join(s.dir, "elsewhere")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("elsewhere", filepath.Join(s.dir, ".zincdoor")); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := s.run("gate", "--tree", "--report", "r.txt"); code != 3 || !strings.Contains(errs, "a symbolic link") {
		t.Errorf("a link in the policy's place: exit code %d, %s", code, errs)
	}
	bare := &sandbox{T: t, dir: t.TempDir(), env: []string{"GIT_CEILING_DIRECTORIES=/"}}
	if _, errs, code := bare.run("gate", "--staged", "--report", "r.txt"); code != 2 || !strings.Contains(errs, "no git repository") {
		t.Errorf("no repository: exit code %d, %s", code, errs)
	}
}

// TestPolicyCommands: a policy is checked whole, and tells what it makes of a rule in a file.
func TestPolicyCommands(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(3))
	if said := s.must(3, "policy", "check"); !strings.Contains(said, "zincdoor fit") {
		t.Errorf("without a policy: %s", said)
	}
	if said := s.must(0, "policy", "show"); !strings.Contains(said, "default:") || said != s.must(0, "policy", "show", "--built-in") {
		t.Errorf("the built-in one: %s", said)
	}
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
groups: {unused: ["-Wunused*"]}
severities:
  - {rule: unused, path: core/**, is: note}
  - {team: tides, floor: warning}
teams: {tides: {path: core/**}, fares: {path: fares/**}}
doors:
  quay: {limits: [{count: new, severity: warning, most: 0}, {count: all, most: 9, rule: unused, mode: advise}]}
  slip: {limits: [{count: new, severity: error, most: 0}]}
`)
	if said := s.must(0, "policy", "check"); said != ".zincdoor/policy.yaml is valid; limits: 3, at the doors quay, slip\nzincdoor: .zincdoor/policy.yaml:6:33: team fares has no file\n" {
		t.Errorf("checked: %s", said)
	}
	said := s.must(0, "policy", "show", "--rule", "-Wunused-value", "--path", "core/tide.c")
	want := "team tides answers for core/tide.c\nlevel error, warning, note, none: is note (line 4), then floor warning (line 5): warning\n  door quay counts it in new warning; all of unused\n"
	if !strings.HasPrefix(said, want) {
		t.Errorf("what becomes of a rule:\n%s", said)
	}
	if said := s.must(0, "policy", "show", "--door", "quay"); said != "new warning: at most 0\nall of unused: at most 9, only advises\n" {
		t.Errorf("a door: %s", said)
	}
	s.must(3, "policy", "show", "--door", "ramp")
	if said := s.must(0, "schema", "policy"); !json.Valid([]byte(said)) {
		t.Errorf("the schema is no JSON: %s", said)
	}
	s.write("bad.yaml", "zincdoor: 1\nlader: [a]\ndoors: {d: {limits: [{count: nw, most: 0}]}}\n")
	if said := s.must(3, "policy", "check", "bad.yaml"); !strings.Contains(said, "bad.yaml:2:1") || !strings.Contains(said, "bad.yaml:3:30") {
		t.Errorf("all at once: %s", said)
	}
	v := s.judge("--tree", "--door", "quay", "--report", "-")
	if v.Code != 2 {
		t.Errorf("%s", v.about())
	}
	s.stdin = "core/tide.c:2:1: error: unused [-Wunused]\n"
	if v := s.judge("--tree", "--door", "slip", "--report", "-"); v.Code != 0 {
		t.Errorf("an error that is a warning here: %s", v.about())
	}
}

func TestOutput(t *testing.T) {
	t.Parallel()
	s := branch(t, strict)
	s.write("core/tide.c", strings.Replace(altered, "fresh;", "fresh(\"\x1b[31m\u202e\");", 1))
	s.commit("two")
	s.stdin = "core/tide.c:5:2: warning: unused \x1b]0;title\x07 thing [-Wunused]\n    5 | fresh\n      |  ^~~~\n"
	out, _, code := s.run("gate", "--into", "main", "--report", "-", "--write", "json=v.json", "--output", "v.txt")
	if code != 1 || out != "" || !strings.HasPrefix(s.read("v.json"), `{"zincdoor":"verdict/1"`) {
		t.Fatalf("exit code %d, %q", code, out)
	}
	want := `core/tide.c
      5  ┃ fresh("<1B>[31m<202E>");
         ┃  ^~~~
         ┃ warning -Wunused  new, changed line, diagnostics`
	text := s.read("v.txt")
	if !strings.HasPrefix(text, want) || !strings.HasSuffix(text, "SHUT new warning: 1, at most 0\n") || strings.Contains(text, "\x1b") {
		t.Errorf("the verdict reads\n%s", text)
	}
	if _, errs, code := s.run("gate", "--into", "main", "--report", "-", "--output", "nowhere/v.txt"); code != 2 || !strings.Contains(errs, "nowhere/v.txt") {
		t.Errorf("an output that can't be written: exit code %d, %s", code, errs)
	}
}

// TestGenerated: a marker line makes a file generated, where it stood there before the change.
func TestGenerated(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "r.txt\n")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
paths: {marker: "^// made by gauge$"}
severities: [{path: generated, is: ignored}]
doors: {d: {limits: [{count: new, severity: warning, most: 0}]}}
`)
	const marker = "// made by gauge\n"
	s.write("core/before.c", marker+lines(5))
	s.write("core/moved.c", marker+lines(9))
	s.write("core/plain.c", lines(5))
	s.write("core/still.c", marker+lines(5))
	s.commit("one")
	s.write("core/before.c", lines(6)+"more;\n") // which takes the marker away
	s.write("core/plain.c", marker+lines(5)+"more;\n")
	s.write("core/fresh.c", marker)
	s.git("mv", "core/moved.c", "core/elsewhere.c")
	s.write("core/elsewhere.c", marker+lines(9)+"more;\n")
	s.git("add", "-A")
	s.write("r.txt", warn("core/before.c", 7)+warn("core/plain.c", 7)+warn("core/fresh.c", 1)+warn("core/still.c", 2)+warn("core/elsewhere.c", 11))
	shut := func(v verdict) (all []string) {
		for _, f := range v.Findings {
			if f.Severity != "ignored" {
				all = append(all, f.Path)
			}
		}
		return all
	}
	check := func(want string, change ...string) {
		t.Helper()
		if v := s.judge(append(change, "--report", "r.txt")...); strings.Join(shut(v), " ") != want {
			t.Errorf("%v: not ignored are %v\n%s", change, shut(v), v.about())
		}
	}
	check("core/elsewhere.c core/fresh.c core/plain.c", "--staged")
	check("core/elsewhere.c core/fresh.c core/plain.c", "--worktree")
	s.commit("two")
	check("core/elsewhere.c core/fresh.c core/plain.c", "--range", "HEAD~..HEAD")
	check("core/before.c", "--tree")
}

// TestRehearse: a new policy is tried on past changes, beside the present one.
func TestRehearse(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\nreports/\n")
	s.write(".zincdoor/policy.yaml", lax)
	s.write("core/tide.c", lines(10))
	var commits []string
	commit := func(text string, line int) {
		s.write("core/tide.c", text)
		commits = append(commits, s.commit("to "+text[:8]))
		if line > 0 {
			s.write("reports/"+commits[len(commits)-1][:9]+"/gauge.txt", warn("core/tide.c", line))
		}
	}
	commit("line 0;\n"+lines(10), 5)
	commit("line 00;\n"+lines(10), 1)
	commit("line 000;\n"+lines(10), 1)
	commit("line 0000;\n"+lines(10), 0)
	s.write("reports/"+commits[2]+".broken.txt", "gauge: nothing to see\n")
	s.write(".zincdoor/policy.yaml", strict+"reports: {gauge: {file: gauge.txt, as: diagnostics}}\n")

	said := s.must(0, "policy", "rehearse", "--policy", ".zincdoor/policy.yaml", "--door", "merge", "--reports", "reports")
	var got []string
	for line := range strings.Lines(said) {
		got = append(got, strings.Join(strings.Fields(line), " "))
	}
	want := []string{
		"commit now new change, and what makes the difference",
		commits[0][:10] + " - - to line 0;", "it has no parent to compare with",
		commits[1][:10] + " open shut to line 00;", "new: new warning: 1, at most 0",
		commits[2][:10] + " unjudged shut to line 000", "now: " + commits[2][:12], "", "", "", "new: new warning: 1, at most 0",
		commits[3][:10] + " - - to line 000", "no reports of it", "", "2 of 4 changes judged: 0 alike, 2 newly shut",
	}
	for i, line := range want {
		if i >= len(got) || !strings.Contains(got[i], line) {
			t.Fatalf("line %d isn't %q in\n%s", i+1, line, said)
		}
	}
	said = s.must(0, "policy", "rehearse", "--policy", ".zincdoor/policy.yaml", "--door", "merge", "--reports", "reports", "--commits", commits[0]+".."+commits[1], "--format", "json")
	var rows []struct {
		Now, New    string
		Differences []string
	}
	if err := json.Unmarshal([]byte(said), &rows); err != nil || len(rows) != 1 || rows[0].Now != "open" || rows[0].New != "shut" || len(rows[0].Differences) != 1 {
		t.Errorf("as JSON: %v\n%s", err, said)
	}
	for _, call := range []string{"--door merge --reports reports", "--policy p.yaml --door merge --reports reports", "--policy .zincdoor/policy.yaml --door merge --reports gone",
		"--policy .zincdoor/policy.yaml --door none --reports reports", "--policy .zincdoor/policy.yaml --door merge --reports reports --commits x"} {
		s.must(3, append([]string{"policy", "rehearse"}, strings.Fields(call)...)...)
	}
}

func TestDemo(t *testing.T) {
	t.Parallel()
	s := &sandbox{T: t, dir: t.TempDir()}
	out, errs, code := s.run("demo", "--keep", "tideboard")
	if code != 0 || errs != "" {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	for _, want := range []string{"36 findings accepted", "aside   36 accepted", "total   3 new\n  aside   36 accepted", "SHUT new error: 1, at most 0; new warning: 2, at most 0"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in the demo's output", want)
		}
	}
	if strings.Count(out, "OPEN") != 2 {
		t.Errorf("the door opened %d times", strings.Count(out, "OPEN"))
	}
	if _, errs, code := s.run("demo", "--keep", "tideboard"); code != 3 || !strings.Contains(errs, "isn't empty") {
		t.Errorf("over an old folder: exit code %d, %s", code, errs)
	}
	if out, _, code := s.run("version"); code != 0 || !strings.Contains(out, "go1.") {
		t.Errorf("version: %q, exit code %d", out, code)
	}
}
