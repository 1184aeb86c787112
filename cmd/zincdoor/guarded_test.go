package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// clean and faulty are core/tide.c without and with what the server's linter complains of.
var clean, faulty = lines(10), strings.Replace(lines(10), "line 5;", "fresh;", 1)

// TestGuardedRefs: whatever other branches have, a guarded one lets in nothing that it doesn't have itself; with real pushes.
func TestGuardedRefs(t *testing.T) {
	const named = "zincdoor: 1\ndoors:\n  guard: {judges: push, refs: [main, 'release/*'], limits: [{count: new, severity: warning, most: 0}]}\n  push: {judges: push, limits: [{count: new, severity: warning, most: 0}]}\n"
	const onlyRelease = "zincdoor: 1\ndoors:\n  guard: {judges: push, refs: 'release/*', limits: [{count: new, severity: warning, most: 0}]}\n"
	write := func(text string) func(*sandbox) {
		return func(s *sandbox) {
			s.write("core/tide.c", text)
			s.commit("tides")
		}
	}
	run := func(args ...string) func(*sandbox) { return func(s *sandbox) { s.git(args...) } }
	push := func(ref string) func(*sandbox) {
		return func(s *sandbox) {
			if seen, ok := s.push("origin", ref); !ok {
				s.Fatalf("push %s: %s", ref, seen)
			}
		}
	}
	low := func(s *sandbox) {
		s.write("docs/low.md", "Low\n")
		s.commit("low")
	}
	reverted := []func(*sandbox){run("switch", "-q", "-c", "side"), write(faulty), run("revert", "--no-edit", "HEAD"), push("side")}
	fixed := []func(*sandbox){run("tag", "faulty"), write(clean), push("HEAD:main")} // a main that had the fault once
	for _, c := range []struct {
		name, policy string
		main         string // what it has at first
		do           []func(*sandbox)
		push         []string
		in           bool
		say          string
	}{
		{"a fault that a side branch had and reverted", pushPolicy, clean, reverted, []string{"side~1:main"}, false, "SHUT new warning: 1"},
		{"and the side branch itself", pushPolicy, clean, reverted, []string{"side:main"}, true, "OPEN"},
		{"merged while the side branch had it", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], run("switch", "-q", "--detach", "origin/main"), run("merge", "-q", "--no-ff", "--no-edit", "side~1")), []string{"HEAD:main"}, false, "SHUT new warning: 1"},
		{"merged after that", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], run("switch", "-q", "--detach", "origin/main"), run("merge", "-q", "--no-ff", "--no-edit", "side")), []string{"HEAD:main"}, true, "OPEN"},
		{"forced back to where the fault was", pushPolicy, faulty, fixed, []string{"--force", "faulty:main"}, false, "is a forced push, judged by all lines that differ from the old tip"},
		{"forced to what is well", pushPolicy, clean, []func(*sandbox){run("commit", "-q", "--amend", "--allow-empty", "-m", "again")}, []string{"--force", "HEAD:main"}, true, "OPEN"},
		{"a merge that keeps the old fault", pushPolicy, faulty, append(fixed[:len(fixed):len(fixed)], run("switch", "-q", "-c", "old", "faulty"), run("merge", "-q", "-s", "ours", "--no-edit", "origin/main")), []string{"old:main"}, false, "SHUT new warning: 1"},
		{"a merge that takes the fixed line", pushPolicy, faulty, append(fixed[:len(fixed):len(fixed)], run("switch", "-q", "-c", "old", "faulty"), low, run("merge", "-q", "--no-edit", "origin/main")), []string{"old:main"}, true, "OPEN"},
		{"a revert of what fixed it", pushPolicy, faulty, append(fixed[:len(fixed):len(fixed)], run("revert", "--no-edit", "HEAD")), []string{"HEAD:main"}, false, "SHUT new warning: 1"},
		{"a cherry-picked fault", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], run("switch", "-q", "--detach", "origin/main"), run("cherry-pick", "side~1")), []string{"HEAD:main"}, false, "SHUT new warning: 1"},
		{"a squashed branch that is well", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], low, push("side"), run("switch", "-q", "--detach", "origin/main"), run("merge", "-q", "--squash", "side"), run("commit", "-q", "-m", "squashed")), []string{"HEAD:main"}, true, "OPEN"},
		{"an evil merge of what went before, on a side branch", pushPolicy, faulty, append(fixed[:len(fixed):len(fixed)], run("switch", "-q", "-c", "side"), low, push("side"), func(s *sandbox) {
			s.git("reset", "-q", "--hard", s.git("commit-tree", "-p", "HEAD", "-p", "faulty", "-m", "evil", "faulty^{tree}"))
		}), []string{"side"}, false, "SHUT new warning: 1"},
		{"a branch that was rebased, with its fault", pushPolicy, clean, []func(*sandbox){run("switch", "-q", "-c", "side"), write(faulty), run("switch", "-q", "main"), low, push("HEAD:main"), run("switch", "-q", "side"), run("rebase", "-q", "main")}, []string{"side:main"}, false, "SHUT new warning: 1"},
		{"a branch that was rebased, and is well", pushPolicy, faulty, []func(*sandbox){run("switch", "-q", "-c", "side"), write(faulty + "int more;\n"), run("switch", "-q", "main"), low, push("HEAD:main"), run("switch", "-q", "side"), run("rebase", "-q", "main")}, []string{"side:main"}, true, "OPEN"},
		{"an octopus that brings one", pushPolicy, clean, []func(*sandbox){run("switch", "-q", "-c", "side"), write(faulty), run("switch", "-q", "-c", "other", "main"), low, run("switch", "-q", "main"), run("merge", "-q", "--no-edit", "--no-ff", "side", "other")}, []string{"HEAD:main"}, false, "SHUT new warning: 1"},
		{"the test merge of a queue", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], run("switch", "-q", "--detach", "origin/main"), run("merge", "-q", "--no-ff", "--no-edit", "side"), push("HEAD:refs/queue/1")), []string{"HEAD:main"}, true, "OPEN"},
		{"one that is worse than what was in the queue", pushPolicy, clean, append(reverted[:len(reverted):len(reverted)], run("switch", "-q", "--detach", "origin/main"), run("merge", "-q", "--no-ff", "--no-edit", "side"), push("HEAD:refs/queue/1"), write(faulty)), []string{"HEAD:main"}, false, "SHUT new warning: 1"},
		{"main merged back into a side branch", pushPolicy, faulty, []func(*sandbox){run("switch", "-q", "-c", "side", "HEAD~1"), low, push("side"), run("merge", "-q", "--no-edit", "main")}, []string{"side"}, true, "OPEN"},
		{"a submodule that goes on", pushPolicy, faulty, []func(*sandbox){func(s *sandbox) {
			s.git("update-index", "--add", "--cacheinfo", "160000,"+s.git("rev-parse", "HEAD")+",quay")
			s.git("commit", "-q", "-m", "a submodule")
		}}, []string{"HEAD:main"}, true, "OPEN"},
		{"a fault on a new side branch", pushPolicy, clean, []func(*sandbox){run("switch", "-q", "-c", "side"), write(faulty)}, []string{"side"}, false, "SHUT new warning: 1"},
		{"a merge of a side branch that has the fault, on another one", pushPolicy, faulty, append(fixed[:len(fixed):len(fixed)], run("switch", "-q", "-c", "side")), []string{"side", "faulty:refs/heads/other"}, true, "already has"},

		{"a release of what main has", named, clean, nil, []string{"main:release/1"}, true, "already has"},
		{"a release of what a side branch had", named, clean, reverted, []string{"side~1:refs/heads/release/1"}, false, "SHUT new warning: 1"},
		{"a release of what a side branch has", named, clean, reverted, []string{"side:release/1"}, true, "OPEN"},
		{"a ref at which no door stands", onlyRelease, clean, []func(*sandbox){write(faulty)}, []string{"HEAD:main"}, true, "no push door is for refs/heads/main"},
		{"a ref at which one does", onlyRelease, clean, []func(*sandbox){write(faulty)}, []string{"HEAD:release/1"}, false, "SHUT new warning: 1"},

		{"a guarded branch taken away", pushPolicy, clean, nil, []string{":main"}, false, "refs/heads/main is guarded"},
		{"another one taken away", pushPolicy, clean, reverted, []string{":side"}, true, "is deleted"},
		{"an object in the place of another", pushPolicy, faulty, nil, []string{"HEAD:refs/replace/1111111111111111111111111111111111111111"}, false, "it would make git show another object than the one judged"},
		{"a tag of a text", pushPolicy, clean, []func(*sandbox){run("tag", "-a", "-m", "a text", "text", "HEAD:core/tide.c")}, []string{"text"}, true, "names no commit"},
		{"a tag of a commit with the fault", pushPolicy, clean, []func(*sandbox){write(faulty), run("tag", "-a", "-m", "a tag", "v1")}, []string{"v1"}, false, "SHUT new warning: 1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			bare, s := guardedServer(t, c.policy, c.main)
			for _, do := range c.do {
				do(s)
			}
			before := bare.git("for-each-ref")
			seen, ok := s.push(append([]string{"origin"}, c.push...)...)
			if ok != c.in || !strings.Contains(seen, c.say) || !ok && bare.git("for-each-ref") != before {
				t.Errorf("let in: %v, want %v and %q\n%s", ok, c.in, c.say, seen)
			}
		})
	}
}

// guardedServer is a server that judges each push, whose main has a policy and a text, and a clone of it.
func guardedServer(t *testing.T, policy, main string) (bare, s *sandbox) {
	bare, s = server(t, "")
	bare.git("config", "receive.denyDeleteCurrent", "ignore")
	s.write(".zincdoor/policy.yaml", policy)
	s.write("core/tide.c", main)
	s.commit("as it was")
	s.git("push", "-q", "origin", "HEAD:main")
	s.git("switch", "-q", "-C", "main")
	bare.hook("pre-receive", serverHook)
	return bare, s
}

// TestIntoLines: of a branch those lines count that its target doesn't have, and that differ from where it left it, also where
// histories cross.
func TestIntoLines(t *testing.T) {
	git := func(args ...string) func(*sandbox) { return func(s *sandbox) { s.git(args...) } }
	write := func(text string) func(*sandbox) {
		return func(s *sandbox) {
			s.write("core/tide.c", text)
			s.commit("tides")
		}
	}
	other := func(s *sandbox) {
		s.write("docs/low.md", s.git("rev-parse", "HEAD")+"\n")
		s.commit("low")
	}
	for _, c := range []struct {
		name  string
		first string // of core/tide.c
		do    []func(*sandbox)
		code  int
		place string
	}{
		{"a fault of its own", clean, []func(*sandbox){git("switch", "-q", "-c", "side"), write(faulty)}, 1, "touched"},
		{"one that the target has too", clean, []func(*sandbox){git("switch", "-q", "-c", "side"), write(faulty), git("switch", "-q", "main"), git("cherry-pick", "side"), other, git("switch", "-q", "side"), other}, 0, "elsewhere"},
		{"one that it left with, and that the target has fixed since", faulty, []func(*sandbox){git("switch", "-q", "-c", "side"), other, git("switch", "-q", "main"), write(clean), git("switch", "-q", "side")}, 0, "elsewhere"},
		{"the same in a file that it alters", faulty, []func(*sandbox){git("switch", "-q", "-c", "side"), write(faulty + "low;\n"), git("switch", "-q", "main"), write(clean), git("switch", "-q", "side")}, 0, "file"},
		{"one that it keeps though it merged what fixes it", faulty, []func(*sandbox){git("switch", "-q", "-c", "side"), other, git("switch", "-q", "main"), write(clean), git("switch", "-q", "side"), git("merge", "-q", "-s", "ours", "--no-edit", "main")}, 1, "touched"},
		{"one of several merge bases, kept", faulty, []func(*sandbox){
			git("switch", "-q", "-c", "side"), other, git("switch", "-q", "main"), write(clean),
			func(s *sandbox) { // each merges the other as it was: main keeps what is fixed, the side branch what isn't
				main, side := s.git("rev-parse", "main"), s.git("rev-parse", "side")
				s.git("merge", "-q", "--no-edit", side)
				s.git("switch", "-q", "side")
				s.git("merge", "-q", "-s", "ours", "--no-edit", main)
			},
		}, 1, "touched"},
		{"histories that cross, with what is fixed", faulty, []func(*sandbox){
			git("switch", "-q", "-c", "side"), other, git("switch", "-q", "main"), write(clean),
			func(s *sandbox) {
				main, side := s.git("rev-parse", "main"), s.git("rev-parse", "side")
				s.git("merge", "-q", "--no-edit", side)
				s.git("switch", "-q", "side")
				s.git("merge", "-q", "--no-edit", main)
			}, other,
		}, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := repository(t)
			s.write(".git/info/exclude", "r.txt\n")
			s.write("docs/low.md", "Low\n")
			s.write("core/tide.c", c.first)
			s.commit("one")
			for _, do := range c.do {
				do(s)
			}
			report := warn("docs/low.md", 1)
			for i, line := range strings.Split(s.read("core/tide.c"), "\n") {
				if line == "fresh;" {
					report += warn("core/tide.c", i+1)
				}
			}
			s.write("r.txt", strings.Replace(report, "warning", "note", 1))
			v := s.judge("--into", "main", "--report", "r.txt")
			place := ""
			for _, f := range v.Findings {
				if f.Path == "core/tide.c" {
					place = f.Place
				}
			}
			if v.Code != c.code || place != c.place {
				t.Errorf("exit code %d, want %d; %s, want %s\n%s\n%s", v.Code, c.code, place, c.place, v.standings(), v.about())
			}
		})
	}
}

// TestMergeOfWhatWas: what HEAD went on from is no other side of a merge.
func TestMergeOfWhatWas(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".git/info/exclude", "r.txt\n")
	s.write("core/tide.c", faulty)
	old := s.commit("one")
	s.write("core/tide.c", clean)
	s.commit("two")
	s.write("core/tide.c", faulty)
	s.git("add", "-A")
	s.write(".git/MERGE_HEAD", old+"\n")
	s.write("r.txt", warn("core/tide.c", 5))
	if v := s.judge("--staged", "--report", "r.txt"); v.Code != 1 {
		t.Errorf("exit code %d: %s\n%s", v.Code, v.standings(), v.about())
	}
}

// TestMisleadingNames: a tag called like a branch, and a remote whose name begins like another's, lead nowhere else.
func TestMisleadingNames(t *testing.T) {
	t.Parallel()
	_, s := server(t, "")
	s.write(".git/info/exclude", "r.txt\n")
	s.write("core/tide.c", faulty)
	bad := s.commit("with the fault")
	s.write("r.txt", warn("core/tide.c", 5))
	s.git("tag", "origin/main")
	for _, args := range [][]string{{"--into", "origin/main"}, {"--range", "origin/main..HEAD"}, {"--into", "origin/main~0"}} {
		v := s.judge(append(args, "--door", "push", "--report", "r.txt")...)
		if v.Code != 1 || !strings.Contains(args[1], "~") && !strings.Contains(v.about(), "origin/main is both a branch and a tag; the branch is taken (refs/remotes/origin/main, not refs/tags/origin/main)") {
			t.Errorf("%v: exit code %d\n%s", args, v.Code, v.about())
		}
	}
	s.git("tag", "-d", "origin/main")
	s.git("update-ref", "refs/remotes/origin/fork/side", bad)
	s.git("config", "remote.origin/fork.url", "nowhere")
	s.git("config", "remote.origin/fork.fetch", "+refs/heads/*:refs/remotes/origin/fork/*")
	s.stdin = "refs/heads/side " + bad + " refs/heads/side " + strings.Repeat("0", 40) + "\n"
	if v := s.judge("--push", "--remote", "origin", "--report", "r.txt"); v.Code != 1 {
		t.Errorf("what a fork of its name has: exit code %d\n%s", v.Code, v.about())
	}

	replacing := s.git("commit-tree", "-m", "another", "HEAD^{tree}")
	s.git("replace", "origin/main", replacing)
	if v := s.judge("--into", "origin/main", "--door", "push", "--report", "r.txt"); v.Code != 1 {
		t.Errorf("a replaced commit is followed: exit code %d\n%s", v.Code, v.about())
	}
	s.git("replace", "-d", s.git("rev-parse", "origin/main"))
	s.write(".git/info/grafts", bad+"\n")
	if v := s.judge("--into", "origin/main", "--door", "push", "--report", "r.txt"); v.Code != 1 {
		t.Errorf("a graft is followed: exit code %d\n%s", v.Code, v.about())
	}
}

// TestHeadOfNothing: a server whose HEAD names no branch says how to set it, and lets in nothing that it can't judge; an empty one
// takes its first push by the policy that comes with it.
func TestHeadOfNothing(t *testing.T) {
	t.Parallel()
	bare, s := guardedServer(t, pushPolicy, clean)
	bare.git("symbolic-ref", "HEAD", "refs/heads/trunk")
	s.write("core/tide.c", faulty)
	s.write(".zincdoor/policy.yaml", strings.Replace(pushPolicy, "warning", "error", 1))
	s.commit("with a policy of its own")
	for _, ref := range []string{"HEAD:refs/heads/side", "HEAD:main"} {
		if seen, ok := s.push("origin", ref); ok || !strings.Contains(strings.Join(strings.Fields(strings.ReplaceAll(seen, "remote:", "")), " "), "git symbolic-ref HEAD refs/heads/NAME") {
			t.Errorf("%s: %s", ref, seen)
		}
	}
	empty := &sandbox{T: t, dir: t.TempDir()}
	empty.git("init", "-q", "--bare", "-b", "main", ".")
	empty.hook("pre-receive", serverHook)
	s.write(".zincdoor/policy.yaml", pushPolicy)
	s.commit("the first")
	if seen, ok := s.push(empty.dir, "HEAD:main"); ok || !strings.Contains(seen, "SHUT new warning: 1") || !strings.Contains(seen, "no branch yet") {
		t.Errorf("all of the first push is judged: %s", seen)
	}
	s.write("core/tide.c", clean)
	s.commit("fixed")
	if seen, ok := s.push(empty.dir, "HEAD:main"); !ok {
		t.Errorf("a first push that is well: %s", seen)
	}
}

// TestPolicyElsewhere: a policy under a near name, or not where it counts, is reported; a hook of a policy that is gone says so.
func TestPolicyElsewhere(t *testing.T) {
	t.Parallel()
	const text = "zincdoor: 1\ndoors: {d: {limits: [{count: new, severity: warning, most: 0}]}}\n"
	for _, c := range []struct{ name, file, say string }{
		{"another ending", ".zincdoor/policy.yml", "mv .zincdoor/policy.yml .zincdoor/policy.yaml"}, {"another name", ".zincdoor/door.yaml", "mv .zincdoor/door.yaml"}, {"at the root", "policy.yaml", "mv policy.yaml"}, {"called by the program", ".zincdoor.yml", "mv .zincdoor.yml"},
		{"not staged", ".zincdoor/policy.yaml", ".zincdoor/policy.yaml isn't staged"}, {"none", "docs/policy.yaml", ""},
	} {
		s := repository(t)
		s.write("core/tide.c", clean)
		s.commit("one")
		s.write("core/tide.c", clean+"int late;\n")
		s.git("add", "-A")
		s.write(c.file, text)
		s.write(".git/r.txt", warn("core/tide.c", 3))
		v := s.judge("--staged", "--report", ".git/r.txt")
		if said := v.about(); v.Code != 0 || !strings.Contains(said, c.say) || c.say == "" && strings.Contains(said, "built-in policy judges") {
			t.Errorf("%s: exit code %d\n%s", c.name, v.Code, said)
		}
	}
	_, s := server(t, "")
	s.git("rm", "-q", "-r", ".zincdoor")
	gone := s.commit("without a policy")
	s.git("push", "-q", "origin", "HEAD:main")
	s.write("docs/low.md", "Low\n")
	next := s.commit("next")
	s.stdin = "refs/heads/main " + next + " refs/heads/main " + gone + "\n"
	if _, errs, code := s.run("gate", "--push", "--remote", "origin", "--door", "push"); code != 3 || !strings.Contains(errs, ". Bring the policy back, leave out --door, or remove the hooks: zincdoor fit --remove") {
		t.Errorf("exit code %d, %s", code, errs)
	}
}

// TestFittedGuards: where push doors name refs, the fitted hook leaves it to the ref which of them is asked.
func TestFittedGuards(t *testing.T) {
	t.Parallel()
	_, s := server(t, "")
	s.env = append(s.env, "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\nhouse: {conflict-marks: on}\ndoors:\n  commit: {judges: staged, needs: [house], limits: [{count: new, severity: error, most: 0}]}\n  guard: {judges: push, refs: main, needs: [house], limits: [{count: new, severity: error, most: 0}]}\n  push: {judges: push, needs: [house], limits: [{count: new, severity: error, most: 9}]}\n")
	s.commit("guards")
	s.git("push", "-q", "origin", "HEAD:main")
	if out, errs, code := s.run("fit", "--hook", "push"); code != 0 {
		t.Fatal(code, out, errs)
	}
	s.write("core/tide.c", "<<<<<<< ours\nint a;\n=======\nint b;\n>>>>>>> theirs\n")
	s.commit("conflict marks")
	if seen, ok := s.push("origin", "HEAD:main"); ok || !strings.Contains(seen, "door guard") {
		t.Errorf("to the guarded branch: %s", seen)
	}
	if seen, ok := s.push("origin", "HEAD:refs/heads/side"); !ok || !strings.Contains(seen, "door push") {
		t.Errorf("to another: %s", seen)
	}
}
