//go:build unix

package fixing

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"unicode/utf16"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/gittest"
)

// about is everything that should be as before once a fix is taken back: the index with its flags, and of each file its text, mode,
// owner and names.
func about(t *testing.T, r *gittest.Repo) string {
	t.Helper()
	var all strings.Builder
	all.WriteString(r.Git("ls-files", "--stage", "-v") + "\n")
	err := filepath.WalkDir(r.Dir, func(path string, d os.DirEntry, err error) error {
		if d.Name() == ".git" {
			return filepath.SkipDir
		}
		info, wrong := os.Lstat(path)
		if err != nil || wrong != nil || d.IsDir() {
			return err
		}
		text, _ := os.ReadFile(path)
		names := info.Sys().(*syscall.Stat_t)
		fmt.Fprintf(&all, "%s %v %d:%d %d %q\n", strings.TrimPrefix(path, r.Dir), info.Mode(), names.Uid, names.Gid, names.Nlink, text)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all.String()
}

// inUTF16 is a text in UTF-16, least byte first, with its mark.
func inUTF16(text string) string {
	data := []byte{0xFF, 0xFE}
	for _, unit := range utf16.Encode([]rune(text)) {
		data = append(data, byte(unit), byte(unit>>8))
	}
	return string(data)
}

// TestRoundTrip: over work trees of all kinds of files, staged as a whole, in part or not at all, a fix alters its lines alone and
// keeps everything else of a file; taken back, all is as it was.
func TestRoundTrip(t *testing.T) {
	lines := func(second, last string) string { return "one\n" + second + "\nthree\nfour\nfive\n" + last + "\n" }
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 3))
		r := gittest.New(t)
		r.Write(".gitattributes", "*.wide text working-tree-encoding=UTF-16LE-BOM\n*.crlf text eol=crlf\n")
		kinds := []string{"plain.c", "mode.c", "bits.c", "read.c", "other.c", "owned.c", "linked.c", "skipped.c", "unverified.c", "text.wide", "text.crlf"}
		write := func(path, text string) {
			switch filepath.Ext(path) {
			case ".wide":
				text = inUTF16(text)
			case ".crlf":
				text = strings.ReplaceAll(text, "\n", "\r\n")
			}
			file := filepath.Join(r.Dir, path)
			os.Chmod(file, 0o644)
			os.Remove(file)
			r.Write(path, text)
			switch path {
			case "mode.c":
				os.Chmod(file, 0o755)
			case "bits.c":
				os.Chmod(file, 0o750|os.ModeSetgid|os.ModeSetuid)
			case "read.c":
				os.Chmod(file, 0o444)
			case "owned.c":
				os.Chown(file, 1234, 4321) // as root alone
			case "linked.c":
				second := filepath.Join(r.Dir, ".git", "second")
				os.Remove(second)
				if err := os.Link(file, second); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, path := range kinds {
			write(path, lines("two", "six"))
		}
		r.Commit("one")
		half := map[string]bool{}
		for _, path := range kinds {
			write(path, lines("TWO", "six"))
			if half[path] = random.IntN(2) == 0; path == "skipped.c" || path == "unverified.c" {
				r.Git("add", path)
			} else if half[path] {
				r.Git("add", path)
				write(path, lines("TWO", "and six"))
			} else {
				r.Git("add", path)
			}
		}
		r.Git("update-index", "--skip-worktree", "skipped.c")
		r.Git("update-index", "--assume-unchanged", "unverified.c")
		was := about(t, r)

		kind := []policy.Kind{policy.Staged, policy.Worktree}[seed%2]
		f := open(t, r, kind)
		plan := replace(t, f, "plain.c", "TWO", "2")
		for _, path := range kinds {
			if ext := filepath.Ext(path); ext == ".c" || ext == ".crlf" || kind == policy.Staged {
				plan.Pieces[path] = plan.Pieces["plain.c"]
			}
			if filepath.Ext(path) == ".crlf" && kind == policy.Worktree {
				plan.Pieces[path] = slices.Clone(plan.Pieces[path])
				plan.Pieces[path][0].From++
				plan.Pieces[path][0].To++
			}
		}
		files, aside, err := f.Ready(plan)
		if err != nil || len(aside) > 0 || len(files) != len(plan.Pieces) {
			t.Fatalf("seed %d: %v, %v, %d of %d files", seed, err, aside, len(files), len(plan.Pieces))
		}
		if err := f.Write(files); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		want := strings.NewReplacer("TWO", "2", `T\x00W\x00O\x00`, `2\x00`)
		_, wantFiles, _ := strings.Cut(want.Replace(was), "\n/")
		if kind == policy.Worktree {
			wantFiles = strings.Replace(wantFiles, `2\x00`, `T\x00W\x00O\x00`, 1)
		}
		if _, now, _ := strings.Cut(about(t, r), "\n/"); now != wantFiles {
			t.Errorf("seed %d, %s: the fix leaves\n%s\nwant\n%s", seed, kind, now, wantFiles)
		}
		if second, err := os.ReadFile(filepath.Join(r.Dir, ".git", "second")); err != nil || string(second) != r.Read("linked.c") {
			t.Errorf("seed %d: the other name of linked.c has %q, %v", seed, second, err)
		}
		if kind == policy.Staged {
			for _, path := range kinds {
				if got := r.Git("show", ":"+path); !strings.Contains(got, "one\n2\nthree") {
					t.Errorf("seed %d: %s is staged as %q", seed, path, got)
				}
			}
		}
		if _, err := open(t, r, policy.Worktree).Undo(); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if now := about(t, r); now != was {
			t.Errorf("seed %d, %s: taken back, it is\n%s\nbefore it was\n%s", seed, kind, now, was)
		}
	}
}

// TestAttributes: extended attributes of a file stay.
func TestAttributes(t *testing.T) {
	set, err := exec.LookPath("setfattr")
	if err != nil {
		t.Skip(err)
	}
	r := gittest.New(t)
	r.Write("core/tide.c", "one\n")
	r.Commit("one")
	if out, err := exec.Command(set, "-n", "user.depth", "-v", "9", filepath.Join(r.Dir, "core/tide.c")).CombinedOutput(); err != nil {
		t.Skipf("%s", out)
	}
	f := open(t, r, policy.Worktree)
	files, _, err := f.Ready(replace(t, f, "core/tide.c", "one", "two"))
	if err != nil || f.Write(files) != nil || r.Read("core/tide.c") != "two\n" || !hasAttributes(filepath.Join(r.Dir, "core/tide.c")) {
		t.Errorf("%v, %q", err, r.Read("core/tide.c"))
	}
}

// TestInterrupted: what a fix that was killed had written is taken back by a later one, whatever part of it that was; what was altered
// since stays.
func TestInterrupted(t *testing.T) {
	r := gittest.New(t)
	paths := []string{"core/a.c", "core/b.c", "core/c.c", "core/d.c"}
	for _, path := range paths {
		r.Write(path, "one\n")
	}
	r.Commit("one")
	was := about(t, r)
	f := open(t, r, policy.Staged)
	plan := replace(t, f, "core/a.c", "one", "two\ntwo")
	for _, path := range paths {
		plan.Pieces[path] = plan.Pieces["core/a.c"]
	}
	files, _, err := f.Ready(plan)
	if err != nil || f.Write(files) != nil {
		t.Fatal(err)
	}
	name, err := f.traceFile()
	if err != nil {
		t.Fatal(err)
	}
	tr, err := readTrace(name)
	if err != nil {
		t.Fatal(err)
	}
	tr.Whole = false
	if err := tr.save(name); err != nil {
		t.Fatal(err)
	}
	r.Write("core/b.c", "one\n")     // not written yet
	r.Write("core/c.c", "two\n")     // cut off while it was written over
	r.Write("core/d.c", "another\n") // altered since
	back, altered, err := f.Recover()
	if err != nil || !slices.Equal(back, paths[:3]) || !slices.Equal(altered, paths[3:]) {
		t.Errorf("back %v, altered %v, %v", back, altered, err)
	}
	r.Write("core/d.c", "one\n")
	r.Git("add", "core/d.c")
	if now := about(t, r); now != was {
		t.Errorf("it is\n%s\nbefore it was\n%s", now, was)
	}
	if back, altered, err := f.Recover(); len(back)+len(altered) > 0 || err != nil {
		t.Errorf("twice: %v, %v, %v", back, altered, err)
	}
}
