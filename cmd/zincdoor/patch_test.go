package main

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestPatchPaths: whatever a patch calls its files, they are those of the folder whose text it has; where it has none of them,
// nothing is judged.
func TestPatchPaths(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/low.c", lines(10))
	s.commit("one")
	old := filepath.Join(t.TempDir(), "before")
	s.git("worktree", "add", "-q", old, "HEAD")
	s.write("core/tide.c", strings.Replace(lines(10), "line 5;", "fresh;", 1))
	s.write("core/new.c", "int late;\n")
	s.git("add", "-A")
	diff := func(from, to string) string {
		out, _ := exec.Command("diff", "-ruN", "-x", ".git", from, to).Output()
		return string(out)
	}
	git := func(args ...string) string { return s.git(append([]string{"diff", "--cached"}, args...)...) + "\n" }
	relative, err := filepath.Rel(filepath.Dir(s.dir), old)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("diff", "-ruN", "-x", ".git", relative, filepath.Base(s.dir))
	cmd.Dir = filepath.Dir(s.dir)
	beside, _ := cmd.Output()
	in := func(folder string) string {
		cmd := exec.Command("git", "-C", filepath.Join(s.dir, folder), "diff", "--cached", "--relative")
		out, _ := cmd.Output()
		return string(out)
	}
	foreign := strings.NewReplacer("core/tide.c", "harbour/quay.c", "core/new.c", "harbour/sea.c").Replace(git())
	for _, c := range []struct {
		name, patch string
		path        string // of the finding
		code        int    // where it stands on a line of the patch
		say         string
	}{
		{"git's", git(), "core/tide.c", 1, ""}, {"git's without prefixes", git("--no-prefix"), "core/tide.c", 1, ""}, {"prefixes of its own", git("--src-prefix=old/", "--dst-prefix=now/"), "core/tide.c", 1, "without their first folder"},
		{"two prefixes of its own", git("--src-prefix=x/old/", "--dst-prefix=x/now/"), "core/tide.c", 1, "without their first 2 folders"}, {"from a folder below", in("core"), "core/tide.c", 1, "are taken from core"},
		{"of two folders, absolute", diff(old, s.dir), "core/tide.c", 1, "without their first"}, {"of two folders beside each other", string(beside), "core/tide.c", 1, "without their first"}, {"a new file", git("--src-prefix=old/", "--dst-prefix=now/"), "core/new.c", 1, ""},
		{"of another project", foreign, "core/tide.c", 2, "), even without leading folders; run zincdoor in the folder that its paths start from"}, {"empty", "", "core/tide.c", 2, "the patch is empty"}, {"of other kinds", strings.ReplaceAll(foreign, ".c", ".rs"), "harbour/quay.rs", 1, "the patch's own text is judged"},
	} {
		line := 5
		if c.path == "core/new.c" {
			line = 1
		}
		s.stdin = c.patch
		for at, code := range map[int]int{line: c.code, 9: map[bool]int{true: 2, false: 0}[c.code == 2]} {
			if c.path == "core/new.c" && at == 9 {
				continue
			}
			s.write(".git/r.txt", warn(c.path, at))
			out, errs, got := s.run("gate", "--patch", "-", "--report", ".git/r.txt", "--plain")
			if said := strings.Join(strings.Fields(out+errs), " "); got != code || !strings.Contains(said, c.say) {
				t.Errorf("%s, line %d: exit code %d, want %d and %q\n%s%s", c.name, at, got, code, c.say, out, errs)
			}
		}
	}
}
