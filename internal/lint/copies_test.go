package lint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zincdoor/internal/git"
	"zincdoor/internal/gittest"
)

// listing tells what a folder holds: path, what it is, its text.
func listing(t *testing.T, dir string) string {
	t.Helper()
	var all []string
	err := filepath.WalkDir(dir, func(file string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, file)
		text, what := "", ""
		if d.Type()&os.ModeSymlink != 0 {
			text, _ = os.Readlink(file)
			what = "link "
		} else {
			data, _ := os.ReadFile(file)
			text = string(data)
			if info, _ := d.Info(); info.Mode()&0o100 != 0 {
				what = "program "
			}
		}
		all = append(all, rel+" "+what+strings.ReplaceAll(text, "\n", "/"))
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

// TestKeptCopy: whatever was done to a copy, it holds just the state's files afterwards, and those that are as they were aren't
// written again.
func TestKeptCopy(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "int a;\n")
	r.Write("core/low.c", "int l;\n")
	r.Write("bin/run", "#!/bin/sh\n")
	r.Write("docs/tides.txt", "low\nhigh\n")
	r.Write(".gitattributes", "*.txt eol=crlf\n")
	os.Chmod(filepath.Join(r.Dir, "bin/run"), 0o755)
	os.Symlink("core/tide.c", filepath.Join(r.Dir, "tide.c"))
	r.Commit("one")
	repo, err := git.Open(context.Background(), r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer repo.Close()
	store := t.TempDir()
	copy, err := borrow(store, KeyOf("a"))
	if err != nil || copy == nil {
		t.Fatal(copy, err)
	}
	if other, err := borrow(store, KeyOf("a")); other != nil || err != nil {
		t.Errorf("two calls use one copy: %v %v", other, err)
	}
	restore := func(keep ...string) string {
		t.Helper()
		entries, err := repo.Entries(git.Index)
		if err != nil {
			t.Fatal(err)
		}
		copy.saved.Wait()
		if err := copy.prepare(repo); err != nil {
			t.Fatal(err)
		}
		if err := copy.restore(repo, git.Index, entries, keep); err != nil {
			t.Fatal(err)
		}
		return listing(t, copy.dir)
	}
	const want = ".gitattributes *.txt eol=crlf/; bin/run program #!/bin/sh/; core/low.c int l;/; core/tide.c int a;/; docs/tides.txt low\r/high\r/; tide.c link core/tide.c"
	if got := restore(); got != want {
		t.Fatalf("copied: %s", got)
	}
	at := func(name string) string { return filepath.Join(copy.dir, name) }
	long := time.Now().Add(-time.Hour)
	os.Chtimes(at("core/tide.c"), long, long)
	os.Chtimes(at("docs/tides.txt"), long, long)
	outside := t.TempDir()
	os.WriteFile(filepath.Join(outside, "tide.c"), []byte("mine\n"), 0o644)
	for name, do := range map[string]func(){
		"nothing": func() {},
		"a text of equal size": func() {
			os.WriteFile(at("core/low.c"), []byte("int x;\n"), 0o644)
			os.Chtimes(at("core/low.c"), long, long)
		},
		"a converted text": func() { os.WriteFile(at("docs/tides.txt"), []byte("low\nhigh\n"), 0o644) },
		"other files": func() {
			os.MkdirAll(at("out/deep"), 0o755)
			os.WriteFile(at("out/deep/x"), nil, 0o644)
			os.WriteFile(at("core/y"), nil, 0o644)
		},
		"files that are gone":    func() { os.RemoveAll(at("core")); os.Remove(at("tide.c")) },
		"a folder for a file":    func() { os.Remove(at("core/low.c")); os.MkdirAll(at("core/low.c/x"), 0o755) },
		"a file for a folder":    func() { os.RemoveAll(at("core")); os.WriteFile(at("core"), nil, 0o644) },
		"a link for a folder":    func() { os.RemoveAll(at("core")); os.Symlink(outside, at("core")) },
		"a link elsewhere":       func() { os.Remove(at("tide.c")); os.Symlink("bin/run", at("tide.c")) },
		"a file for a link":      func() { os.Remove(at("tide.c")); os.WriteFile(at("tide.c"), []byte("core/tide.c"), 0o644) },
		"another right":          func() { os.Chmod(at("bin/run"), 0o644); os.Chmod(at("core/low.c"), 0o755) },
		"a folder made stubborn": func() { os.WriteFile(at("core/z"), nil, 0o644); os.Chmod(at("core"), 0o500) },
		"broken notes":           func() { os.WriteFile(copy.notes, []byte("{"), 0o644) },
	} {
		do()
		if got := restore(); got != want {
			t.Errorf("%s: %s", name, got)
		}
	}
	if data, err := os.ReadFile(filepath.Join(outside, "tide.c")); string(data) != "mine\n" {
		t.Errorf("what a link led to: %q %v", data, err)
	}
	os.Chtimes(at("core/tide.c"), long, long)
	r.Write("core/low.c", "int more;\n")
	r.Git("add", "-A")
	if got := restore(); got != strings.Replace(want, "int l;", "int more;", 1) {
		t.Errorf("another state: %s", got)
	}
	if info, err := os.Stat(at("core/tide.c")); err != nil || !info.ModTime().Equal(long) {
		t.Errorf("a file that is as it was is written again: %v %v", info, err)
	}
	os.MkdirAll(at("cache"), 0o755)
	os.WriteFile(at("cache/x"), []byte("known"), 0o644)
	os.WriteFile(at("other"), nil, 0o644)
	if got := restore("cache/**"); !strings.Contains(got, "cache/x known") || strings.Contains(got, "other") {
		t.Errorf("what is kept: %s", got)
	}
	r.Write(".gitattributes", "*.txt -text\n")
	r.Git("add", "-A")
	if got := restore(); !strings.Contains(got, "docs/tides.txt low/high/") || strings.Contains(got, "cache") {
		t.Errorf("other attributes: %s", got)
	}
	if err := copy.giveBack(); err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-copyDays * 25 * time.Hour)
	places, _ := os.ReadDir(store)
	os.Chtimes(filepath.Join(store, places[0].Name()), old, old)
	clearOld(store)
	if places, _ := os.ReadDir(store); len(places) != 0 {
		t.Errorf("old copies stay: %v", places)
	}
}

// FuzzUnpack: what was seen comes back as it was, and of what is broken no more than was written.
func FuzzUnpack(f *testing.F) {
	f.Add("core/tide.c", "1234", int64(7), uint64(9), 3)
	f.Fuzz(func(t *testing.T, name, content string, size int64, node uint64, cut int) {
		want := map[string]seen{name: {content, stamp{size, size + 1, node, uint32(node)}}, name + "2": {}}
		data := pack(want)
		if got := unpack(data); !maps.Equal(got, want) {
			t.Errorf("%v comes back as %v", want, got)
		}
		for _, broken := range [][]byte{data[:max(0, min(cut, len(data)))], []byte(name + content)} {
			if got := unpack(broken); len(got) > len(broken)/34 {
				t.Errorf("%q: %v", broken, got)
			}
		}
	})
}

// TestAnswersAtOnce: what several programs put into one file at the same time is all there afterwards.
func TestAnswersAtOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.answers")
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			for n := range 20 {
				a := OpenAnswers(file)
				a.Put(KeyOf(fmt.Sprint(i, n)), []byte(fmt.Sprint(n)))
				if err := a.Save(); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	all := OpenAnswers(file)
	for i := range 8 {
		for n := range 20 {
			if data, ok := all.Get(KeyOf(fmt.Sprint(i, n))); !ok || string(data) != fmt.Sprint(n) {
				t.Errorf("%d of program %d is lost: %q %v", n, i, data, ok)
			}
		}
	}
	one, other := OpenAnswers(file), OpenAnswers(file)
	one.Put(KeyOf("late"), []byte("1"))
	other.Among(KeyOf("kind"), KeyOf("a"), []byte("a"), 1)
	other.Among(KeyOf("kind"), KeyOf("b"), []byte("b"), 1)
	if err := errors.Join(one.Save(), other.Save()); err != nil {
		t.Fatal(err)
	}
	if all := OpenAnswers(file); !all.Has(KeyOf("late")) || all.Has(KeyOf("a")) || !all.Has(KeyOf("b")) {
		t.Error("what one put is lost, or what another dropped is back")
	}
}

// TestAnswersAmong: of a kind only the last answers are kept, each once.
func TestAnswersAmong(t *testing.T) {
	a := OpenAnswers(filepath.Join(t.TempDir(), "x"))
	kind := KeyOf("kind")
	a.Put(KeyOf("other"), []byte("o"))
	for _, name := range []string{"a", "b", "a", "c", "d"} {
		a.Among(kind, KeyOf(name), []byte(name), 2)
	}
	if err := a.Save(); err != nil {
		t.Fatal(err)
	}
	a = OpenAnswers(a.file)
	for name, kept := range map[string]bool{"a": false, "b": false, "c": true, "d": true, "other": true} {
		if a.Has(KeyOf(name)) != kept {
			t.Errorf("%s kept: %v", name, !kept)
		}
	}
}

// BenchmarkRestore makes a kept copy of 10,000 files exact of which none has changed, beside git's listing of them alone.
func BenchmarkRestore(b *testing.B) {
	r := gittest.New(b)
	for i := range 10_000 {
		r.Write(fmt.Sprintf("quay%d/berth%d/tide%d.c", i%100, i/100%10, i), strings.Repeat("int depth;\n", 200))
	}
	r.Commit("one")
	repo, err := git.Open(context.Background(), r.Dir)
	if err != nil {
		b.Fatal(err)
	}
	defer repo.Close()
	kept, err := borrow(b.TempDir(), KeyOf("a"))
	if err != nil {
		b.Fatal(err)
	}
	restore := func() {
		entries, err := repo.Entries(git.Index)
		if err == nil {
			err = kept.prepare(repo)
		}
		if err == nil {
			err = kept.restore(repo, git.Index, entries, nil)
		}
		if err != nil {
			b.Fatal(err)
		}
		kept.saved.Wait()
	}
	restore()
	b.Run("restore", func(b *testing.B) {
		for b.Loop() {
			restore()
		}
	})
	b.Run("list", func(b *testing.B) {
		for b.Loop() {
			if _, err := repo.Entries(git.Index); err != nil {
				b.Fatal(err)
			}
		}
	})
}
