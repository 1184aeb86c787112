package main

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestFirstHour: from nothing to a hook that stops a bad commit, in repositories of several languages, with the commands that fit
// itself says.
func TestFirstHour(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	for _, c := range []struct {
		name, compiler string
		files          map[string]string
		args           []string
		bad            map[string]string
		policy, shut   string
	}{
		{
			"C, with headers elsewhere", "gcc",
			map[string]string{"core/tide.c": "#include \"tide.h\"\nint height(int h) { int old; return h; }\n", "include/tide.h": "int height(int h);\n"},
			[]string{"--for", "c", "--take-baseline"},
			map[string]string{"core/slack.c": "#include \"tide.h\"\nint slack(void) { int idle; return height(0); }\n"},
			`"-Iinclude"`, "unused variable 'idle'",
		},
		{
			"C, by the commands of a build", "gcc",
			map[string]string{"tide.c": "int height(int h) { return h + LOW; }\n", "compile_commands.json": `[{"directory": "/x", "command": "cc -O2 -DLOW=3 -c tide.c", "file": "tide.c"}]`},
			[]string{"--for", "c", "--take-baseline"},
			map[string]string{"tide.c": "int height(int h) { int idle; return h + LOW; }\n"},
			`"-DLOW=3"`, "unused variable 'idle'",
		},
		{
			"Go", "go",
			map[string]string{"go.mod": "module fares\n\ngo 1.21\n", "fare.go": "package fares\n"},
			[]string{"--for", "go"},
			map[string]string{"fare.go": "package fares\n\nimport \"fmt\"\n\nfunc Print() { fmt.Printf(\"%d\\n\", \"x\") }\n"},
			"vet: {run: [go, vet, ./...]", "wrong type string",
		},
		{
			"no compiler", "git",
			map[string]string{"README.md": "Tides\n"}, nil,
			map[string]string{"README.md": "Tides\n<<<<<<< ours\n=======\n>>>>>>> theirs\n"},
			"needs: [house]", "conflict-marks",
		},
		{
			"an empty report", "git",
			map[string]string{"build/lint.txt": "", ".gitignore": "build/\n"},
			[]string{"--report", "build/lint.txt"},
			map[string]string{"tide.c": "int a;\n", "build/lint.txt": "tide.c:1:5: warning: a shoal [-Wshoal]\n"},
			"lint: {file: build/lint.txt, as: diagnostics, clean: empty}", "a shoal",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := exec.LookPath(c.compiler); err != nil {
				t.Skip(c.compiler, "isn't here")
			}
			s := repository(t)
			s.withProgram()
			s.env = append(s.env, "HOME="+os.Getenv("HOME"), "GOFLAGS=-mod=mod")
			for name, text := range c.files {
				s.write(name, text)
			}
			s.commit("what was there")
			said := s.must(0, append([]string{"fit", "--run"}, c.args...)...)
			if !strings.HasSuffix(said, "\nNow commit it: git add .zincdoor && git commit -m \"Fit the door\"\n") || !strings.Contains(s.read(".zincdoor/policy.yaml"), c.policy) {
				t.Fatalf("%s\n%s", said, s.read(".zincdoor/policy.yaml"))
			}
			s.must(0, "policy", "check")
			s.git("add", ".zincdoor")
			if seen, ok := s.tryCommit(); !ok {
				t.Fatalf("the policy can't be committed:\n%s", seen)
			}
			for _, change := range [][]string{{"--worktree"}, {"--tree"}, {"--range", "HEAD~1..HEAD"}, {"--into", "main"}} {
				if out, errs, code := s.run(append([]string{"gate"}, change...)...); code != 0 {
					t.Errorf("%v: exit code %d\n%s%s", change, code, out, errs)
				}
			}
			other := t.TempDir()
			s.git("init", "-q", "--bare", other)
			if out, errs, code := s.command("git", "push", other, "HEAD:main"); code != 0 {
				t.Errorf("the first push: %s%s", out, errs)
			}
			for _, name := range slices.Backward(slices.Sorted(maps.Keys(c.bad))) { // the report, in build, after what it is of
				s.write(name, c.bad[name])
			}
			s.git("add", "-A")
			if seen, ok := s.tryCommit(); ok || !strings.Contains(seen, c.shut) {
				t.Errorf("a bad commit: %s", seen)
			}
		})
	}
}

// TestFitChoices: without a terminal, what could judge is shown, and nothing is written before it is chosen.
func TestFitChoices(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.withProgram()
	s.write("core/tide.c", lines(3))
	s.write("build/warnings.txt", "core/tide.c:2:1: warning: old [-Wold]\n")
	s.write("build/notes.txt", "nothing of a report\n")
	s.write(".gitignore", "build/\n")
	s.commit("one")
	said := s.must(0, "fit")
	if _, err := os.Stat(filepath.Join(s.dir, ".zincdoor")); err == nil || !strings.Contains(said, "reports     build/warnings.txt") || strings.Contains(said, "notes.txt") || !strings.Contains(said, "zincdoor fit --for") {
		t.Errorf("%v: %s", err, said)
	}
	if said := s.must(3, "fit", "--for", "java"); !strings.Contains(said, "nothing here is for it; there is c, reports") {
		t.Error(said)
	}
	s.write("build/empty.sarif", "")
	if said := s.must(3, "fit", "--report", "build/empty.sarif"); !strings.Contains(said, "isn't a complete SARIF log") {
		t.Error(said)
	}
	s.must(0, "fit", "--for", "reports", "--advise")
	if policy := s.read(".zincdoor/policy.yaml"); !strings.Contains(policy, "warnings: {file: build/warnings.txt, as: diagnostics, clean: empty}") || strings.Count(policy, "    mode: advise\n") != 6 {
		t.Error(policy)
	}
	s.write(".zincdoor/policy.yaml", s.read(".zincdoor/policy.yaml")+"# ours\n") // as people do
	// Something else is committed and pushed before the policy is: it judges all the same.
	s.write("core/tide.c", altered)
	s.write("build/warnings.txt", "core/tide.c:2:1: warning: old [-Wold]\n")
	s.git("add", "core")
	if seen, ok := s.tryCommit(); !ok || !strings.Contains(seen, "isn't committed yet") || !strings.Contains(seen, "door commit") {
		t.Errorf("a commit before the policy's: %s", seen)
	}
	other := t.TempDir()
	s.git("init", "-q", "--bare", other)
	if out, errs, code := s.command("git", "push", other, "HEAD:main"); code != 0 || !strings.Contains(out+errs, "door push") {
		t.Errorf("a push before it: %s%s", out, errs)
	}
}
