package git

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// scratchRepository makes a repository with two commits, something staged and something that isn't.
func scratchRepository(t testing.TB) (r *Repo, run func(args ...string) string) {
	t.Helper()
	for _, name := range bound {
		t.Setenv(name, "")
		os.Unsetenv(name)
	}
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	dir := t.TempDir()
	run = func(args ...string) string {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Tide Desk", "-c", "user.email=desk@brackwater.example"}, args...)...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %s: %v\n%s", strings.Join(args, " "), err, out)
		}
		return strings.TrimSpace(string(out))
	}
	write := func(name, text string, mode os.FileMode) {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	run("init", "-q", "-b", "main", ".")
	write(".gitattributes", "*.crlf text eol=crlf\n", 0o644)
	write("core/tide.c", "one\n", 0o644)
	write("tools/run.sh", "#!/bin/sh\n", 0o755)
	write("a b\nc.txt", "odd\n", 0o644)
	write("ends.crlf", "a\nb\n", 0o644)
	if err := os.Symlink("core/tide.c", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	run("add", "-A")
	run("commit", "-q", "-m", "one")
	write("core/tide.c", "staged\n", 0o644)
	write("core/new.c", "new\n", 0o644)
	run("add", "-A")
	write("core/tide.c", "on disk\n", 0o644)
	write("core/untracked.c", "untracked\n", 0o644)
	r, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r, run
}

// TestCheckOut: a copy holds just what the side does, as git writes it, and the repository stays as it is.
func TestCheckOut(t *testing.T) {
	r, run := scratchRepository(t)
	head := Side(run("rev-parse", "HEAD"))
	before := run("status", "--porcelain") + run("ls-files", "--stage")
	for _, c := range []struct {
		name  string
		side  Side
		paths []string
		want  string
	}{
		{"the index", Index, nil, `.gitattributes, a b
c.txt, core/new.c, core/tide.c, ends.crlf, link, tools/run.sh | "staged\n" "a\r\nb\r\n"`},
		{"a commit", head, nil, `.gitattributes, a b
c.txt, core/tide.c, ends.crlf, link, tools/run.sh | "one\n" "a\r\nb\r\n"`},
		{"some of it", Index, []string{"core/tide.c", "a b\nc.txt"}, "a b\nc.txt, core/tide.c | \"staged\\n\" \"\""},
	} {
		dir := filepath.Join(t.TempDir(), "copy")
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := r.CheckOut(c.side, dir, c.paths); err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var files []string
		filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if !d.IsDir() {
				rel, _ := filepath.Rel(dir, path)
				files = append(files, rel)
			}
			return err
		})
		tide, _ := os.ReadFile(filepath.Join(dir, "core/tide.c"))
		ends, _ := os.ReadFile(filepath.Join(dir, "ends.crlf"))
		if got := fmt.Sprintf("%s | %q %q", strings.Join(files, ", "), tide, ends); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	if after := run("status", "--porcelain") + run("ls-files", "--stage"); after != before {
		t.Errorf("the repository has changed:\n%s\nwas\n%s", after, before)
	}
}

// TestEntries: files of one content have one name for it, on whatever side.
func TestEntries(t *testing.T) {
	r, run := scratchRepository(t)
	head := Side(run("rev-parse", "HEAD"))
	about := func(side Side) string {
		entries, err := r.Entries(side)
		if err != nil {
			t.Fatal(err)
		}
		var all []string
		for _, path := range slices.Sorted(maps.Keys(entries)) {
			e := entries[path]
			text := strings.ReplaceAll(path, "\n", "_")
			if e.Executable {
				text += "*"
			}
			if e.Link {
				text += "@"
			}
			all = append(all, text)
		}
		return strings.Join(all, " ")
	}
	for side, want := range map[Side]string{
		head:     ".gitattributes a b_c.txt core/tide.c ends.crlf link@ tools/run.sh*",
		Index:    ".gitattributes a b_c.txt core/new.c core/tide.c ends.crlf link@ tools/run.sh*",
		Worktree: ".gitattributes a b_c.txt core/new.c core/tide.c ends.crlf link@ tools/run.sh*",
	} {
		if got := about(side); got != want {
			t.Errorf("%s: %s, want %s", side, got, want)
		}
	}
	committed, _ := r.Contents(head)
	staged, _ := r.Contents(Index)
	disk, _ := r.Contents(Worktree)
	if committed["tools/run.sh"] != staged["tools/run.sh"] || staged["core/tide.c"] == committed["core/tide.c"] || disk["core/tide.c"] == staged["core/tide.c"] || disk["core/new.c"] != staged["core/new.c"] {
		t.Errorf("%v\n%v\n%v", committed, staged, disk)
	}
	if clean, err := r.Clean(); clean || err != nil {
		t.Errorf("clean: %v, %v", clean, err)
	}
	run("stash", "-q", "--include-untracked")
	if clean, err := r.Clean(); !clean || err != nil {
		t.Errorf("clean: %v, %v", clean, err)
	}
}

// TestStage: new contents keep their modes and flags, and what isn't in the index is refused.
func TestStage(t *testing.T) {
	r, run := scratchRepository(t)
	stage := func(texts map[string]string) error {
		objects := map[string]string{}
		for path, text := range texts {
			object, err := r.Writer().Store([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			objects[path] = object
		}
		return r.Writer().Stage(objects)
	}
	run("update-index", "--skip-worktree", "tools/run.sh", "core/tide.c")
	run("update-index", "--assume-unchanged", "core/tide.c", "a b\nc.txt")
	if err := stage(map[string]string{"tools/run.sh": "#!/bin/sh\nexit\n", "a b\nc.txt": "even\n", "core/tide.c": "deep\n"}); err != nil {
		t.Fatal(err)
	}
	if got := run("ls-files", "-v", "-z", "tools/run.sh", "core/tide.c", "a b\nc.txt"); got != "h a b\nc.txt\x00s core/tide.c\x00S tools/run.sh\x00" {
		t.Errorf("the flags are %q", got)
	}
	if got := run("ls-files", "--stage", "tools/run.sh") + run("show", ":tools/run.sh") + run("show", ":a b\nc.txt"); !strings.HasPrefix(got, "100755 ") || !strings.HasSuffix(got, "#!/bin/sh\nexiteven") {
		t.Error(got)
	}
	if err := stage(map[string]string{"core/untracked.c": ""}); err == nil {
		t.Error("a file that isn't in the index is staged")
	}
	for _, c := range []struct {
		mine, base, theirs, want string
		clean                    bool
	}{
		{"1\n2\n3\n4\nmine\n", "1\n2\n3\n4\n5\n", "theirs\n2\n3\n4\n5\n", "theirs\n2\n3\n4\nmine\n", true},
		{"1\nmine\n", "1\n2\n", "1\ntheirs\n", "", false},
		{"1\n2\n", "1\n2\n", "", "", true},
		{"1\x002\n", "1\n2\n", "", "", false},
	} {
		merged, clean, err := r.Merge([]byte(c.mine), []byte(c.base), []byte(c.theirs))
		if err != nil || clean != c.clean || string(merged) != c.want {
			t.Errorf("%q, %v, %v; want %q, %v", merged, clean, err, c.want, c.clean)
		}
	}
}

// write writes a file of a repository's work tree.
func write(t testing.TB, r *Repo, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(r.Root, filepath.FromSlash(name)), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}
