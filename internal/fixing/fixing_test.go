package fixing

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/gittest"
)

func open(t *testing.T, r *gittest.Repo, kind policy.Kind) *Files {
	t.Helper()
	f, err := Open(context.Background(), r.Dir, kind)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

// replace is a plan that puts a text in the place of another one, once.
func replace(t *testing.T, f *Files, path, old, with string) *fix.Plan {
	t.Helper()
	at := strings.Index(string(f.Text(path).Data), old)
	if at < 0 {
		t.Fatalf("%s doesn't hold %q", path, old)
	}
	return &fix.Plan{Pieces: map[string][]fix.Piece{path: {{From: at, To: at + len(old), With: with}}}}
}

// TestStaged: of a file that is staged in part the index is fixed, the rest stays unstaged, and all is as before once it is
// taken back.
func TestStaged(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "one\ntwo\nthree\nfour\nfive\n")
	r.Commit("one")
	r.Write("core/tide.c", "one\nTWO\nthree\nfour\nfive\n")
	r.Git("add", "-A")
	const disk = "one\nTWO\nthree\nfour\nfive\nsix\n"
	r.Write("core/tide.c", disk)
	index := r.Git("ls-files", "--stage")
	f := open(t, r, policy.Staged)
	files, aside, err := f.Ready(replace(t, f, "core/tide.c", "TWO", "two again"))
	if err != nil || len(files) != 1 || len(aside) != 0 {
		t.Fatalf("%+v, %v, %v", files, aside, err)
	}
	if err := f.Write(files); err != nil {
		t.Fatal(err)
	}
	if got := r.Git("show", ":core/tide.c"); got != "one\ntwo again\nthree\nfour\nfive" {
		t.Errorf("the index has %q", got)
	}
	if got := r.Read("core/tide.c"); got != "one\ntwo again\nthree\nfour\nfive\nsix\n" {
		t.Errorf("the work tree has %q", got)
	}
	if _, err := open(t, r, policy.Worktree).Undo(); err != nil || r.Read("core/tide.c") != disk || r.Git("ls-files", "--stage") != index {
		t.Errorf("taken back: %v, %q, %s", err, r.Read("core/tide.c"), r.Git("ls-files", "--stage"))
	}
}

// TestSetAside: where the work tree has altered the same lines nothing of the file is fixed.
func TestSetAside(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "one\n")
	r.Commit("one")
	r.Write("core/tide.c", "two\n")
	r.Git("add", "-A")
	r.Write("core/tide.c", "three\n")
	f := open(t, r, policy.Staged)
	files, aside, err := f.Ready(replace(t, f, "core/tide.c", "two", "2"))
	if err != nil || len(files) != 0 || !strings.Contains(aside["core/tide.c"], "its unstaged part changes the same lines; stage the rest or put it away first") {
		t.Errorf("%+v, %v, %v", files, aside, err)
	}
}

// TestMeanwhile: a file that was altered since it was read is left, and all others with it; so is one that was altered since
// it was fixed.
func TestMeanwhile(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/a.c", "one\n")
	r.Write("core/b.c", "one\n")
	r.Commit("one")
	f := open(t, r, policy.Worktree)
	plan := replace(t, f, "core/a.c", "one", "two")
	plan.Pieces["core/b.c"] = plan.Pieces["core/a.c"]
	files, _, err := f.Ready(plan)
	if err != nil || len(files) != 2 {
		t.Fatalf("%+v, %v", files, err)
	}
	r.Write("core/b.c", "another\n")
	if err := f.Write(files); err == nil || r.Read("core/a.c") != "one\n" || r.Read("core/b.c") != "another\n" {
		t.Errorf("%v, %q, %q", err, r.Read("core/a.c"), r.Read("core/b.c"))
	}
	r.Write("core/b.c", "one\n")
	if err := f.Write(files); err != nil {
		t.Fatal(err)
	}
	r.Write("core/b.c", "another\n")
	if _, err := f.Undo(); err == nil || r.Read("core/a.c") != "two\n" {
		t.Errorf("half of it is taken back: %v, %q", err, r.Read("core/a.c"))
	}
}

// TestRefused: nothing is fixed outside the repository, behind a link, or where there is no file.
func TestRefused(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "one\n")
	if err := os.Symlink("tide.c", filepath.Join(r.Dir, "core", "link.c")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("core", filepath.Join(r.Dir, "folder")); err != nil {
		t.Fatal(err)
	}
	r.Commit("one")
	f := open(t, r, policy.Worktree)
	for _, path := range []string{"../outside.c", "/etc/passwd", ".", "core/link.c", "folder/tide.c", "core/gone.c"} {
		if f.Text(path).Refused == "" {
			t.Errorf("%s isn't refused", path)
		}
	}
	if f.Text("core/tide.c").Refused != "" {
		t.Error("a plain file is refused")
	}
}
