package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// serverHook lints the pushed commit, complaining of every line with the word fresh in it, and asks the door.
const serverHook = `#!/bin/sh
lines=$(cat)
new=$(printf '%%s\n' "$lines" | cut -d' ' -f2)
report=$(mktemp)
git grep -n fresh "$new" -- '*.c' | sed "s/^$new:\([^:]*\):\([0-9]*\):.*/\1:\2:1: warning: unused [-Wunused]/" >"$report"
printf '%%s\n' "$lines" | %s gate --push --report "diagnostics=$report" --empty-is-clean --report-commit "$new"
status=$?
rm -f "$report"
exit $status
`

const pushPolicy = `zincdoor: 1
doors:
  push: {judges: push, limits: [{count: new, severity: warning, most: 0}]}
`

// server makes a bare repository with the hook, and a clone of it that has pushed a first commit with the policy.
func server(t *testing.T, hook string) (bare, clone *sandbox) {
	bare = &sandbox{T: t, dir: filepath.Join(t.TempDir(), "server.git")}
	clone = &sandbox{T: t, dir: t.TempDir()}
	clone.git("init", "-q", "--bare", "-b", "main", bare.dir)
	clone.git("clone", "-q", bare.dir, ".")
	clone.write("core/tide.c", lines(10))
	clone.write(".zincdoor/policy.yaml", pushPolicy)
	clone.commit("one")
	clone.git("push", "-q", "origin", "HEAD:main")
	clone.git("remote", "set-head", "origin", "main")
	if hook != "" {
		bare.hook("pre-receive", hook)
	}
	return bare, clone
}

// hook writes a hook of a bare repository, in which %s is the program.
func (s *sandbox) hook(name, text string) {
	s.Helper()
	if err := os.WriteFile(filepath.Join(s.dir, "hooks", name), []byte(fmt.Sprintf(text, program)), 0o755); err != nil {
		s.Fatal(err)
	}
}

// push pushes and returns what the author sees, and whether it was let in.
func (s *sandbox) push(args ...string) (seen string, ok bool) {
	s.Helper()
	cmd := exec.Command("git", append([]string{"-C", s.dir, "push"}, args...)...)
	cmd.Env = s.environment()
	out, err := cmd.CombinedOutput()
	return string(out), err == nil
}

func TestServerHook(t *testing.T) {
	t.Parallel()
	bare, clone := server(t, serverHook)
	before := bare.git("rev-parse", "main")
	clone.write("core/tide.c", altered)
	clone.write(".zincdoor/policy.yaml", strings.Replace(pushPolicy, "severity: warning", "severity: error", 1))
	clone.commit("two: a finding, and a policy that would let it pass")
	seen, ok := clone.push("origin", "HEAD:main")
	if ok || bare.git("rev-parse", "main") != before {
		t.Errorf("the shut door let the push in:\n%s", seen)
	}
	for _, want := range []string{"core/tide.c", "-Wunused", "SHUT new warning: 1, at most 0", "policy of the old tip of main"} {
		if !strings.Contains(seen, want) {
			t.Errorf("the author doesn't see %q in\n%s", want, seen)
		}
	}
	if seen, ok := clone.push("origin", "HEAD:refs/heads/low-water"); ok || !strings.Contains(seen, "policy of main") {
		t.Errorf("a new branch is judged by its own policy:\n%s", seen)
	}
	clone.write("core/tide.c", strings.Replace(altered, "fresh", "stale", 1))
	clone.commit("three: fixed")
	if seen, ok := clone.push("origin", "HEAD:main"); !ok {
		t.Errorf("the fixed push is refused:\n%s", seen)
	}
	if seen, ok := clone.push("origin", "HEAD:refs/heads/again", "HEAD:refs/tags/v1"); !ok || strings.Count(seen, "already has") != 2 {
		t.Errorf("known commits are refused:\n%s", seen)
	}
	if seen, ok := clone.push("origin", ":refs/heads/again"); !ok || !strings.Contains(seen, "is deleted") {
		t.Errorf("a deletion is refused:\n%s", seen)
	}
}

// TestPushLines judges, before a push is sent, every way a ref can move.
func TestPushLines(t *testing.T) {
	t.Parallel()
	_, s := server(t, "")
	zero := strings.Repeat("0", 40)
	base := s.git("rev-parse", "HEAD")
	s.write("core/tide.c", altered)
	two := s.commit("two")
	s.write("core/gauge.c", lines(3))
	three := s.commit("three")
	s.write("r.txt", warn("core/tide.c", 5)+warn("core/tide.c", 2)+warn("core/gauge.c", 1))
	s.write(".git/info/exclude", "r.txt\n")

	check := func(name, lines, want string, code int) {
		t.Helper()
		s.stdin = lines
		v := s.judge("--push", "--report", "r.txt")
		if v.Code != code || v.standings() != want {
			t.Errorf("%s: exit code %d\n%s\n%s", name, v.Code, v.standings(), v.about())
		}
	}
	const both = "core/gauge.c:1 touched new\ncore/tide.c:2 file existing\ncore/tide.c:5 touched new"
	check("fast forward", "refs/heads/main "+three+" refs/heads/main "+base+"\n", both, 1)
	check("new branch", "refs/heads/main "+three+" refs/heads/low-water "+zero+"\n", both, 1)
	check("new annotated tag", "refs/tags/v1 "+three+" refs/tags/v1 "+zero+"\n", both, 1)
	check("known commit", "refs/heads/main "+base+" refs/heads/other "+zero+"\n", "", 0)
	check("deletion of a guarded branch", "(delete) "+zero+" refs/heads/main "+base+"\n", "", 2)
	check("deletion", "(delete) "+zero+" refs/heads/low-water "+base+"\n", "", 0)
	check("nothing", "", "", 0)
	check("another tree than the one checked out", "refs/heads/main "+two+" refs/heads/main "+base+"\n", "", 2)

	s.git("push", "-q", "origin", two+":refs/heads/low-water")
	check("a line that another branch over there has, in a guarded one", "refs/heads/main "+three+" refs/heads/main "+base+"\n", both, 1)
	check("a line that another branch over there has", "refs/heads/main "+three+" refs/heads/again "+base+"\n",
		"core/gauge.c:1 touched new\ncore/tide.c:2 elsewhere existing\ncore/tide.c:5 elsewhere existing", 1)

	s.git("checkout", "-q", "--detach", base)
	s.write("core/tide.c", "forced;\n"+altered)
	forced := s.commit("is a forced push, judged by all lines that differ from the old tip")
	s.write("r.txt", warn("core/tide.c", 1)+warn("core/tide.c", 6))
	check("forced", "HEAD "+forced+" refs/heads/low-water "+two+"\n", "core/tide.c:1 touched new\ncore/tide.c:6 touched new", 1)

	s.stdin = "HEAD " + forced + " refs/heads/a " + zero + "\nHEAD " + two + " refs/heads/low-water " + base + "\nHEAD " + three + " refs/heads/b " + zero + "\n"
	out, _, code := s.run("gate", "--push", "--report", "r.txt", "--format", "json")
	var outcomes []string
	for line := range strings.Lines(out) {
		_, rest, _ := strings.Cut(line, `"outcome":"`)
		outcome, _, _ := strings.Cut(rest, `"`)
		outcomes = append(outcomes, outcome)
	}
	if got := strings.Join(outcomes, " "); got != "shut open unjudged" || code != 1 {
		t.Errorf("several refs: %s, exit code %d", got, code)
	}
	for lines, want := range map[string]string{
		"refs/heads/main " + three + "\n": "line 1",
		three + " " + base + " refs/heads/x\nrefs/heads/x " + three + " refs/heads/x " + base + "\n": "line 2",
		"refs/heads/main " + strings.Repeat("1", 40) + " refs/heads/main " + base + "\n":             "",
		"refs/heads/main " + forced + " refs/heads/main " + strings.Repeat("1", 40) + "\n":           "",
	} {
		s.stdin = lines
		out, errs, code := s.run("gate", "--push", "--report", "r.txt")
		if want != "" && (code != 3 || !strings.Contains(errs, want)) || want == "" && code != 2 {
			t.Errorf("%q: exit code %d, %s%s", lines, code, out, errs)
		}
	}
}

// TestMerges: what a merge brings along isn't the author's, neither before the commit nor in the push.
func TestMerges(t *testing.T) {
	t.Parallel()
	_, s := server(t, "")
	s.write(".git/info/exclude", "r.txt\n")
	base := s.git("rev-parse", "HEAD")
	s.git("switch", "-q", "-c", "theirs")
	s.write("core/tide.c", altered)
	s.write("core/theirs.c", lines(3))
	s.commit("theirs")
	s.git("push", "-q", "origin", "theirs")
	s.git("switch", "-q", "-C", "ours", base)
	s.write("core/tide.c", strings.Replace(lines(10), "line 2;", "ours;", 1))
	s.commit("ours")
	s.git("merge", "-q", "--no-commit", "--no-ff", "theirs")
	s.write("core/tide.c", strings.Replace(s.read("core/tide.c"), "line 10;", "by hand;", 1))
	s.git("add", "-A")
	s.write("r.txt", warn("core/tide.c", 2)+warn("core/tide.c", 5)+warn("core/tide.c", 11)+warn("core/theirs.c", 1))
	report := []string{"--report", "r.txt"}
	policy := []string{"--policy", "origin/main:.zincdoor/policy.yaml", "--door", "push"}
	want := "core/theirs.c:1 elsewhere existing\ncore/tide.c:2 file existing\ncore/tide.c:5 file existing\ncore/tide.c:11 touched new"
	for _, change := range []string{"--staged", "--worktree"} {
		if v := s.judge(append(append([]string{change}, policy...), report...)...); v.standings() != want {
			t.Errorf("%s\n%s", change, v.standings())
		}
	}
	merge := s.commit("merge theirs")
	s.stdin = "refs/heads/ours " + merge + " refs/heads/again " + base + "\n"
	want = strings.Replace(want, "core/tide.c:2 file existing", "core/tide.c:2 touched new", 1)
	if v := s.judge("--push", "--report", "r.txt"); v.standings() != want {
		t.Errorf("push\n%s", v.standings())
	}
	s.stdin = "refs/heads/ours " + merge + " refs/heads/main " + base + "\n"
	want = "core/theirs.c:1 touched new\ncore/tide.c:2 touched new\ncore/tide.c:5 touched new\ncore/tide.c:11 touched new"
	if v := s.judge("--push", "--report", "r.txt"); v.standings() != want {
		t.Errorf("push to the guarded branch, which has none of it\n%s", v.standings())
	}
}

// TestMergeBases: several, none, and those that a shallow clone hides.
func TestMergeBases(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".git/info/exclude", "r.txt\n")
	s.write("core/tide.c", lines(10))
	s.commit("one")
	s.git("branch", "side")
	s.write("core/tide.c", "main;\n"+lines(10))
	s.commit("main")
	s.git("switch", "-q", "side")
	s.write("core/tide.c", lines(10)+"side;\n")
	s.commit("side")
	one, two := s.git("rev-parse", "main"), s.git("rev-parse", "side")
	s.git("merge", "-q", "--no-edit", one)
	s.write("core/gauge.c", "mine;\n")
	s.commit("mine")
	s.git("switch", "-q", "main")
	s.git("merge", "-q", "--no-edit", two)
	s.git("switch", "-q", "side")
	s.write("r.txt", warn("core/tide.c", 1)+warn("core/tide.c", 12)+warn("core/gauge.c", 1))
	v := s.judge("--into", "main", "--report", "r.txt")
	if v.standings() != "core/gauge.c:1 touched new\ncore/tide.c:1 elsewhere existing\ncore/tide.c:12 elsewhere existing" {
		t.Errorf("two merge bases:\n%s", v.standings())
	}

	s.git("switch", "-q", "--orphan", "apart")
	s.write("core/tide.c", lines(3))
	s.commit("apart")
	if _, errs, code := s.run("gate", "--into", "main", "--report", "r.txt"); code != 2 || !strings.Contains(errs, "no common ancestor") {
		t.Errorf("no merge base: exit code %d, %s", code, errs)
	}

	shallow := &sandbox{T: t, dir: t.TempDir()}
	shallow.git("clone", "-q", "--depth", "2", "--no-single-branch", "file://"+s.dir, ".")
	shallow.git("switch", "-q", "-c", "mine", "origin/side")
	if _, errs, code := shallow.run("gate", "--into", "origin/main", "--report", filepath.Join(s.dir, "r.txt")); code != 2 || !strings.Contains(errs, "git fetch --unshallow") {
		t.Errorf("shallow clone: exit code %d, %s", code, errs)
	}
	shallow.git("fetch", "-q", "--unshallow", "origin", "+refs/heads/*:refs/remotes/origin/*")
	if v := shallow.judge("--into", "origin/main", "--report", filepath.Join(s.dir, "r.txt")); v.Code != 1 {
		t.Errorf("deepened: %s", v.about())
	}
}
