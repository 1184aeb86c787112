package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// files lists the files below a folder with their contents, to see what a command changed.
func (s *sandbox) files(dirs ...string) string {
	s.Helper()
	var all strings.Builder
	for _, dir := range dirs {
		filepath.WalkDir(filepath.Join(s.dir, dir), func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() && !strings.HasSuffix(path, ".sample") {
				data, _ := os.ReadFile(path)
				info, _ := d.Info()
				all.WriteString(path + " " + info.Mode().String() + "\n" + string(data) + "\n")
			}
			return nil
		})
	}
	return all.String()
}

// withProgram puts the built program on the PATH of everything the sandbox runs.
func (s *sandbox) withProgram() {
	s.env = append(s.env, "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
}

// tryCommit commits what is staged, with the hooks, and returns what the author sees.
func (s *sandbox) tryCommit(args ...string) (seen string, ok bool) {
	s.Helper()
	out, errs, code := s.command("git", append([]string{"commit", "-m", "try"}, args...)...)
	return out + errs, code == 0
}

func TestFit(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.withProgram()
	s.write("core/tide.c", lines(10))
	s.write(".gitignore", "build/\n")
	s.commit("one")
	s.write("build/warnings.txt", "core/tide.c:2:1: error: old [-Wold]\n")
	s.write(".git/hooks/pre-commit", "#!/bin/sh\necho theirs ran\ntest ! -e veto\n")
	if err := os.Chmod(filepath.Join(s.dir, ".git/hooks/pre-commit"), 0o755); err != nil {
		t.Fatal(err)
	}
	before := s.files(".git/hooks", ".zincdoor")

	if out, _, code := s.run("fit", "--for", "none", "--dry-run"); code != 0 || strings.Count(out, "needs: [house]") != 6 || !strings.Contains(out, "only house checks") {
		t.Fatalf("without a linter: exit code %d\n%s", code, out)
	}
	fit := []string{"fit", "--report", "build/warnings.txt"}
	out, _, code := s.run(append(fit, "--dry-run")...)
	if code != 0 || !strings.Contains(out, "would be written") || !strings.Contains(out, "warnings: {file: build/warnings.txt, as: diagnostics, clean: empty}") || s.files(".git/hooks", ".zincdoor") != before {
		t.Errorf("dry run: exit code %d\n%s", code, out)
	}
	if out, errs, code := s.run(append(fit, "--take-baseline")...); code != 0 || !strings.Contains(out, "1 finding accepted") {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	fitted := s.files(".git/hooks", ".zincdoor", ".git/zincdoor/fitted.json")
	if out, _, code := s.run(fit...); code != 0 || strings.Contains(out, "written") || s.files(".git/hooks", ".zincdoor", ".git/zincdoor/fitted.json") != fitted {
		t.Errorf("the second time: exit code %d\n%s", code, out)
	}
	s.git("add", "-A")
	if seen, ok := s.tryCommit(); !ok || !strings.Contains(seen, "theirs ran") || !strings.Contains(seen, "OPEN") {
		t.Errorf("a clean commit:\n%s", seen)
	}
	s.write("core/tide.c", altered)
	s.write("build/warnings.txt", "core/tide.c:2:1: error: old [-Wold]\ncore/tide.c:5:1: error: fresh [-Wnew]\n")
	s.git("add", "-A")
	if seen, ok := s.tryCommit(); ok || !strings.Contains(seen, "SHUT new error: 1, at most 0") {
		t.Errorf("a commit with a new error:\n%s", seen)
	}
	s.write("veto", "")
	if seen, ok := s.tryCommit(); ok || strings.Contains(seen, "SHUT") {
		t.Errorf("their hook doesn't decide first:\n%s", seen)
	}
	os.Remove(filepath.Join(s.dir, "veto"))
	s.env = []string{"PATH=/usr/bin:/bin"}
	if seen, ok := s.tryCommit(); ok || !strings.Contains(seen, "--no-verify") {
		t.Errorf("without the program:\n%s", seen)
	}

	linked := &sandbox{T: t, dir: filepath.Join(t.TempDir(), "linked")}
	s.git("worktree", "add", "-q", linked.dir)
	if out, errs, code := linked.run(fit...); code != 0 || strings.Contains(out, "hook: written") {
		t.Errorf("in a linked work tree: exit code %d\n%s%s", code, out, errs)
	}

	s.write(".git/hooks/pre-push", s.read(".git/hooks/pre-push")+"# mine\n")
	if _, errs, code := s.run("fit", "--report", "other.txt"); code != 3 || !strings.Contains(errs, "was changed since it was fitted") {
		t.Errorf("over an altered hook: exit code %d, %s", code, errs)
	}
	s.git("config", "zincdoor.run", "true")
	for key, value := range map[string]string{"zincdoor.note": "theirs", "merge.zincdoor.name": "theirs"} {
		s.git("config", key, value)
	}
	out, _, code = s.run("fit", "--remove")
	if got := s.git("config", "--local", "--get-regexp", "zincdoor"); len(strings.Fields(got)) != 6 || !strings.Contains(out, "zincdoor.run was set by hand in this repository's configuration, and stays") {
		t.Errorf("removal left of the configuration\n%s", got)
	}
	if code != 0 || !strings.Contains(out, "pre-push was altered since, and stays") || !strings.Contains(out, "put back") {
		t.Errorf("removal: exit code %d\n%s", code, out)
	}
	os.Remove(filepath.Join(s.dir, ".git/hooks/pre-push"))
	if got := s.files(".git/hooks"); got != before {
		t.Errorf("removal left\n%s\nwhere stood\n%s", got, before)
	}
}

// TestFitRuns: linters are started by hooks only where that is allowed, on a server by its own configuration.
func TestFitRuns(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'")
	h.withProgram()
	h.git("config", "--unset", "zincdoor.run")
	h.write(".zincdoor/policy.yaml", h.read(".zincdoor/policy.yaml")+"  push: {judges: push, limits: [{count: new, severity: warning, most: 0}]}\n")
	h.commit("a door for pushes")
	out, errs, code := h.run("fit", "--hook", "commit")
	if code != 0 || !strings.Contains(out, "gauge: sh tools/shoal.sh\n") || !strings.Contains(out, "To allow them: git config zincdoor.run true") {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	h.write("core/tide.c", shoal)
	h.git("add", "-A")
	if seen, ok := h.tryCommit(); ok || !strings.Contains(seen, "aren't allowed to run here") {
		t.Errorf("not allowed: %s", seen)
	}
	h.run("fit", "--hook", "commit", "--run")
	if seen, ok := h.tryCommit(); ok || !strings.Contains(seen, "a shoal") {
		t.Errorf("with leave: %s", seen)
	}
	server := &sandbox{T: t, dir: t.TempDir(), env: h.env}
	server.git("clone", "-q", "--bare", h.dir, ".")
	if _, errs, code := server.run("fit", "--server"); code != 3 || !strings.Contains(errs, "git config zincdoor.run true, or fit --server --run") {
		t.Errorf("the server doesn't refuse: exit code %d\n%s", code, errs)
	}
	if out, errs, code := server.run("fit", "--server", "--run"); code != 0 {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	h.git("commit", "-q", "--no-verify", "-m", "a shoal")
	if out, errs, code := h.command("git", "push", server.dir, "main"); code == 0 || !strings.Contains(out+errs, "a shoal") {
		t.Errorf("the push isn't refused: %s%s", out, errs)
	}
	h.write("core/tide.c", "int depth;\n")
	h.git("commit", "-q", "--no-verify", "--amend", "-a", "-m", "no shoal")
	if out, errs, code := h.command("git", "push", server.dir, "main"); code != 0 {
		t.Errorf("the push is refused: %s%s", out, errs)
	}
	h.run("fit", "--remove")
	if _, _, code := h.command("git", "config", "--local", "zincdoor.run"); code == 0 {
		t.Error("the leave stays")
	}
}

// TestFitAway: whatever stood in a hook's place, and wherever hooks are kept, a removal puts all back as it was.
func TestFitAway(t *testing.T) {
	t.Parallel()
	const hook = "#!/bin/sh\necho theirs ran\n"
	link := func(s *sandbox, to, name string) {
		if err := os.Symlink(to, filepath.Join(s.dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name string
		do   func(s *sandbox)
		args []string
		says string // the fitting; it is refused where this begins with !
	}{
		{"nothing", func(*sandbox) {}, nil, ".git/hooks/pre-commit written"},
		{"no folder for hooks", func(s *sandbox) { os.RemoveAll(filepath.Join(s.dir, ".git/hooks")) }, nil, ".git/hooks/pre-commit written"},
		{"a hook", func(s *sandbox) { s.write(".git/hooks/pre-commit", hook) }, nil, "the hook that was there still runs first, as .git/hooks/pre-commit.theirs"},
		{"a link", func(s *sandbox) {
			s.write("tools/check", hook)
			link(s, "../../tools/check", ".git/hooks/pre-commit")
		}, nil, "as .git/hooks/pre-commit.theirs"},
		{"a link that leads nowhere", func(s *sandbox) { link(s, "../../tools/gone", ".git/hooks/pre-commit") }, nil, "is a link that leads nowhere; it is kept as .git/hooks/pre-commit.theirs"},
		{"a folder of the repository's own", func(s *sandbox) { s.git("config", "core.hooksPath", "tools/hooks") }, nil, "tools/hooks/pre-commit written"},
		{"a tracked hook", func(s *sandbox) {
			s.git("config", "core.hooksPath", "tools/hooks")
			s.write("tools/hooks/pre-commit", hook)
			s.commit("hooks")
		}, nil, "!git tracks tools/hooks/pre-commit, so everyone who gets this repository gets what replaces it; nothing is written. To replace it: zincdoor fit --tracked-hooks. To keep it as it is, let it call zincdoor gate --staged --door commit,"},
		{"a tracked hook, agreed", func(s *sandbox) {
			s.git("config", "core.hooksPath", "tools/hooks")
			s.write("tools/hooks/pre-commit", hook)
			s.commit("hooks")
		}, []string{"--tracked-hooks"}, "Commit tools/hooks/pre-commit and tools/hooks/pre-commit.theirs together"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := repository(t)
			s.write("core/tide.c", lines(3))
			s.write(".gitignore", "r.txt\n")
			s.commit("one")
			s.write("r.txt", "core/tide.c:2:1: error: old [-Wold]\n")
			c.do(s)
			state := func() string {
				link, _ := os.Readlink(filepath.Join(s.dir, ".git/hooks/pre-commit"))
				return s.files(".git/hooks", ".git/zincdoor", ".zincdoor", "tools") + link + s.git("config", "--local", "--list") + s.git("status", "--porcelain", "--ignored")
			}
			before := state()
			out, errs, code := s.run(append([]string{"fit", "--hook", "commit", "--report", "r.txt", "--take-baseline"}, c.args...)...)
			says, refused := strings.CutPrefix(c.says, "!")
			if (code == 3) != refused || !strings.Contains(out+errs, says) || refused && state() != before {
				t.Errorf("exit code %d\n%s%s\nwant %q", code, out, errs, says)
			}
			if out, errs, code := s.run("fit", "--remove", "--dry-run"); code != 0 || !refused && !strings.Contains(out, "would be taken away") {
				t.Errorf("exit code %d\n%s%s", code, out, errs)
			}
			if out, errs, code := s.run("fit", "--remove"); code != 0 {
				t.Errorf("exit code %d\n%s%s", code, out, errs)
			}
			if now := state(); now != before {
				t.Errorf("left is\n%s\nwhere stood\n%s", now, before)
			}
		})
	}
}

func TestFitPlaces(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(3))
	s.commit("one")
	s.git("config", "core.hooksPath", "tools/hooks")
	if out, errs, code := s.run("fit", "--report", "r.txt", "--hook", "commit"); code != 0 || !strings.Contains(s.read("tools/hooks/pre-commit"), "gate --staged --door commit") {
		t.Errorf("hooks of the repository's own: exit code %d\n%s%s", code, out, errs)
	}
	elsewhere := t.TempDir()
	s.git("config", "core.hooksPath", elsewhere)
	if _, errs, code := s.run("fit", "--report", "r.txt"); code != 3 || !strings.Contains(errs, "(core.hooksPath), which other repositories use too; add this line to the hook there by hand:") {
		t.Errorf("shared hooks: exit code %d, %s", code, errs)
	}

	bare := &sandbox{T: t, dir: filepath.Join(t.TempDir(), "server.git")}
	s.git("clone", "-q", "--bare", s.dir, bare.dir)
	if _, errs, code := bare.run("fit", "--report", "/srv/lint/report.sarif"); code != 3 || !strings.Contains(errs, "--server") {
		t.Errorf("a bare repository: exit code %d, %s", code, errs)
	}
	if out, errs, code := bare.run("fit", "--server", "--report", "sarif=/srv/lint's/report.sarif"); code != 0 || !strings.Contains(bare.read("hooks/pre-receive"), `zincdoor gate --push --door push --report 'sarif=/srv/lint'\''s/report.sarif'`) {
		t.Errorf("a server: exit code %d\n%s%s", code, out, errs)
	}
	if _, _, code := bare.run("fit", "--remove"); code != 0 {
		t.Errorf("removal on a server: exit code %d", code)
	}
	if left := bare.files("hooks", "zincdoor"); left != "" {
		t.Errorf("left on the server:\n%s", left)
	}
}

// TestCommitForms: git sets another index for commits of named files and of all files; the hook judges that one.
func TestCommitForms(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.withProgram()
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(3))
	s.write(".gitignore", "r.txt\n")
	s.commit("one")
	s.write("r.txt", "core/tide.c:5:1: error: fresh [-Wnew]\n")
	if out, errs, code := s.run("fit", "--report", "r.txt", "--hook", "commit"); code != 0 {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	s.git("add", "-A")
	s.git("commit", "-q", "--no-verify", "-m", "fitted")
	s.write("core/tide.c", altered)
	s.git("add", "-A")
	s.write("core/gauge.c", "more;\n"+lines(3))
	s.write("r.txt", s.read("r.txt"))
	for _, c := range []struct {
		name string
		args []string
		ok   bool
	}{
		{"of another file than the one staged", []string{"core/gauge.c"}, true},
		{"amended, nothing staged but the finding", []string{"--amend", "--no-edit", "core/gauge.c"}, true},
		{"of the file by name", []string{"core/tide.c"}, false},
		{"of all files", []string{"-a"}, false},
		{"amended with it", []string{"--amend", "--no-edit"}, false},
	} {
		out, errs, code := s.command("git", append([]string{"commit", "-m", "try"}, c.args...)...)
		if c.args[0] == "--amend" {
			out, errs, code = s.command("git", append([]string{"commit"}, c.args...)...)
		}
		if (code == 0) != c.ok {
			t.Errorf("a commit %s: exit code %d\n%s%s", c.name, code, out, errs)
		}
	}
}

// TestHookOutput: as a hook, an open door takes a line and each notice one, and one that only advises holds nothing up where it
// can't judge.
func TestHookOutput(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ndoors:\n  firm: {judges: staged, limits: [{count: new, severity: warning, most: 0}]}\n  mild: {judges: staged, mode: advise, limits: [{count: new, severity: warning, most: 0}]}\n")
	s.commit("one")
	s.write("core/tide.c", altered)
	s.git("add", "-A")
	s.write("r.txt", warn("core/tide.c", 2))
	s.write("bad.txt", "Segmentation fault\n")
	for _, c := range []struct {
		door, report string
		code, lines  int
		say          string
	}{
		{"firm", "r.txt", 0, 2, "OPEN door firm: staged, 1 file"},
		{"mild", "r.txt", 0, 2, "OPEN door mild: staged, 1 file"},
		{"firm", "bad.txt", 2, 0, "went wrong"},
		{"mild", "bad.txt", 0, 0, "the door mild only advises, so nothing is held up though it can't judge"},
	} {
		out, errs, code := s.run("gate", "--staged", "--door", c.door, "--hook", "--report", c.report)
		if code != c.code || !strings.Contains(out+errs, c.say) || c.lines > 0 && strings.Count(out, "\n") != c.lines {
			t.Errorf("%s, %s: exit code %d\n%s%s", c.door, c.report, code, out, errs)
		}
	}
	s.write("r.txt", warn("core/tide.c", 5))
	if out, _, code := s.run("gate", "--staged", "--door", "firm", "--hook", "--report", "r.txt"); code != 1 || !strings.Contains(out, "-Wunused") {
		t.Errorf("shut: %d\n%s", code, out)
	}
	if out, _, code := s.run("gate", "--staged", "--door", "mild", "--hook", "--report", "r.txt"); code != 0 || !strings.Contains(out, "enforced, it would be shut") || strings.Count(out, "\n") != 2 {
		t.Errorf("shut, and only advising: %d\n%s", code, out)
	}
	if out, _, code := s.run("gate", "--staged", "--door", "firm", "--quiet", "--report", "bad.txt"); code != 2 || !strings.Contains(out, "noise:") {
		t.Errorf("quiet, and nobody knows what to do: %d\n%s", code, out)
	}
	if out, _, _ := s.run("gate", "--staged", "--door", "mild", "--hook", "--verbose", "--report", "r.txt"); !strings.Contains(out, "-Wunused") {
		t.Errorf("all of it: %s", out)
	}
}
