package git

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zincdoor/internal/core/change"
)

// TestFinishedValues: a comparison may be asked by several at once, and what it gave stays as it was.
func TestFinishedValues(t *testing.T) {
	r, run := scratchRepository(t)
	run("commit", "-q", "-m", "two")
	run("mv", "core/new.c", "core/moved.c")
	run("commit", "-q", "-m", "three")
	c := r.Compare(Side(run("rev-parse", "HEAD~2")), Side(run("rev-parse", "HEAD")))
	t.Cleanup(func() { c.CloseOld() })
	all := func(string) bool { return true }
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			first, err := c.Lines(Known{}, func(f change.File) bool { return f.Status == change.Modified })
			if err != nil {
				t.Error(err)
				return
			}
			lines, err := c.Lines(Known{Lines: first}, func(change.File) bool { return true })
			if err != nil {
				t.Error(err)
				return
			}
			made := change.New(lines.Files, change.Rules{})
			made.DropTexts(false)
			if data, found, err := c.ReadOld("core/tide.c"); string(data) != "one\n" || !found || err != nil {
				t.Errorf("the old text is %q, %v, %v", data, found, err)
			}
		})
		wait.Go(func() {
			if left, err := c.NewTexts(10, all, func(string, []byte) {}); left != 0 || err != nil {
				t.Errorf("%d, %v", left, err)
			}
			if altered, err := c.Alters("core/tide.c"); !altered || err != nil {
				t.Errorf("%v, %v", altered, err)
			}
		})
	}
	wait.Wait()
	lines, err := c.Lines(Known{}, func(change.File) bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(lines.Files, func(f change.File) bool { return f.Path == "core/tide.c" })
	if f := lines.Files[i]; len(f.Hunks) != 1 || fmt.Sprint(f.Hunks[0].Added) != "[staged]" {
		t.Errorf("the lines are %+v", f.Hunks)
	}
	if files, err := c.Files(); err != nil || slices.ContainsFunc(files, func(f change.File) bool { return f.Hunks != nil }) {
		t.Errorf("the list was written to: %+v, %v", files, err)
	}
}

// TestRenames: files are renamed that git says are, where it lists lines itself and where only the files that differ are asked for.
func TestRenames(t *testing.T) {
	r, run := scratchRepository(t)
	random := rand.New(rand.NewPCG(3, 29))
	line := func() string {
		words := []string{"tide", "ebb", "flood", "gauge", "quay", "pier", "}", "return depth;", strings.Repeat("datum ", 20)}
		return strings.Repeat(" ", random.IntN(3)*2) + words[random.IntN(len(words))] + fmt.Sprint(random.IntN(40))
	}
	text := func() []string {
		lines := make([]string, random.IntN(40))
		for i := range lines {
			lines[i] = line()
		}
		return lines
	}
	ends := []string{"\n", "\n", "\r\n"}
	type file struct {
		lines     []string
		end       string
		binary    bool
		link, run bool
	}
	put := func(files map[string]file) string {
		run("rm", "-q", "-r", "-f", "--cached", "--ignore-unmatch", ".")
		for _, dir := range []string{"core", "port", "sea"} {
			if err := os.RemoveAll(filepath.Join(r.Root, dir)); err != nil {
				t.Fatal(err)
			}
		}
		for name, f := range files {
			all := strings.Join(append(slices.Clone(f.lines), ""), f.end)
			if f.binary {
				all = "\x00" + all
			}
			if err := os.MkdirAll(filepath.Join(r.Root, filepath.Dir(name)), 0o755); err != nil {
				t.Fatal(err)
			}
			if !f.link {
				write(t, r, name, all)
				if err := os.Chmod(filepath.Join(r.Root, name), map[bool]os.FileMode{false: 0o644, true: 0o755}[f.run]); err != nil {
					t.Fatal(err)
				}
				continue
			}
			if err := os.Symlink("nowhere"+fmt.Sprint(len(f.lines)%3), filepath.Join(r.Root, name)); err != nil {
				t.Fatal(err)
			}
		}
		run("add", "-A")
		return run("write-tree")
	}
	list := func(c *Comparison) (all []string) {
		files, err := c.Files()
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			all = append(all, fmt.Sprintf("%c %s %s %s", f.Status, f.Old, f.Path, f.Opaque))
		}
		return all
	}
	renamed := 0
	for round := range 40 {
		before, after := map[string]file{}, map[string]file{}
		var some [][]string // texts that several files have
		for range 2 {
			some = append(some, text())
		}
		for range 4 + random.IntN(20) {
			f := file{lines: text(), end: ends[random.IntN(len(ends))], binary: random.IntN(12) == 0, link: random.IntN(12) == 0, run: random.IntN(6) == 0}
			if random.IntN(5) == 0 {
				f.lines = slices.Concat(some[random.IntN(2)], f.lines[:min(len(f.lines), random.IntN(3))])
			}
			name := fmt.Sprintf("%s/f%d.c", []string{"core", "port", "sea"}[random.IntN(3)], random.IntN(12))
			before[name] = f
			switch random.IntN(6) {
			case 0: // taken away
				continue
			case 1:
				name = "sea/" + filepath.Base(name)
			case 2, 3:
				name = fmt.Sprintf("port/g%d.c", random.IntN(30))
			}
			f.lines = slices.Clone(f.lines)
			for n := random.IntN(3) * len(f.lines) * random.IntN(10) / 20; n > 0; n-- {
				f.lines[random.IntN(len(f.lines))] = line()
			}
			if random.IntN(8) == 0 {
				f.end = "\n"
			}
			after[name] = f
		}
		old, new := Side(put(before)), Side(put(after))
		want, got := list(r.CompareLines(old, new)), list(r.Compare(old, new))
		for i := range want {
			want[i] = strings.Replace(want[i], " binary", " ", 1) // which only lines tell
			if want[i][0] == 'R' {
				renamed++
			}
		}
		if !slices.Equal(got, want) {
			t.Fatalf("round %d:\n%s\nwant\n%s", round, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	if renamed < 100 {
		t.Errorf("only %d files were renamed", renamed)
	}
}

// TestPartial: where contents are missing that another side has, those that tell renames are fetched all at once.
func TestPartial(t *testing.T) {
	r, run := scratchRepository(t)
	run("config", "uploadpack.allowFilter", "true")
	const files = 12
	for n, dir := range []string{"before", "after"} {
		if err := os.Mkdir(filepath.Join(r.Root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
		for i := range files {
			write(t, r, fmt.Sprintf("%s/%d.c", dir, n*100+i), strings.Repeat(fmt.Sprintf("tide %d\n", i), 20)+strings.Repeat("slack\n", n))
		}
		if run("add", "-A", dir); n > 0 {
			run("rm", "-q", "-r", "before")
		}
		run("commit", "-q", "-m", dir)
	}
	old, new := Side(run("rev-parse", "HEAD~1")), Side(run("rev-parse", "HEAD"))
	clone := filepath.Join(t.TempDir(), "clone")
	run("clone", "-q", "--filter=blob:none", "--no-checkout", "file://"+r.Root, clone)
	there, err := Open(context.Background(), clone)
	if err != nil {
		t.Fatal(err)
	}
	defer there.Close()
	listed, err := there.Compare(old, new).Files()
	renamed := 0
	for _, f := range listed {
		if f.Status == change.Renamed {
			renamed++
		}
	}
	packs, _ := filepath.Glob(filepath.Join(clone, ".git", "objects", "pack", "*.pack"))
	if err != nil || renamed != files || len(packs) > 3 {
		t.Errorf("%d of %d files are renamed, %d packs were fetched: %v", renamed, len(listed), len(packs), err)
	}
}

// TestLargeRenamed: what is too large to be compared here is left to git.
func TestLargeRenamed(t *testing.T) {
	r, run := scratchRepository(t)
	text := strings.Repeat("the tide is low\n", mostCompared/16+1)
	write(t, r, "before.c", text)
	run("add", "before.c")
	old := Side(run("write-tree"))
	write(t, r, "after.c", text+"slack\n")
	run("add", "after.c")
	run("rm", "-q", "-f", "before.c")
	files, err := r.Compare(old, Side(run("write-tree"))).Files()
	if err != nil || len(files) != 1 || files[0].Status != change.Renamed || files[0].Old != "before.c" {
		t.Errorf("%+v, %v", files, err)
	}
}

// BenchmarkRenames lists what differs where a thousand files were renamed and edited, beside git's own list.
func BenchmarkRenames(b *testing.B) {
	r, run := scratchRepository(b)
	random := rand.New(rand.NewPCG(1, 2))
	var sides [2]Side
	texts := make([][]string, 1000)
	for i := range texts {
		for range 80 {
			texts[i] = append(texts[i], fmt.Sprintf("depth = gauge(%d) - datum(%d);", random.IntN(9000), random.IntN(50)))
		}
	}
	for n, dir := range []string{"before", "after"} {
		if err := os.Mkdir(filepath.Join(r.Root, dir), 0o755); err != nil {
			b.Fatal(err)
		}
		for i, text := range texts {
			write(b, r, fmt.Sprintf("%s/%c%d.c", dir, "ft"[n], i*7919%1000), strings.Join(text, "\n")+"\n")
			text[random.IntN(len(text))] = "slack();"
		}
		run("add", "-A", dir)
		sides[n] = Side(run("write-tree", "--prefix="+dir))
	}
	run("gc", "-q")
	var took, theirs time.Duration
	for b.Loop() {
		began := time.Now()
		files, err := r.Compare(sides[0], sides[1]).Files()
		if err != nil || slices.ContainsFunc(files, func(f change.File) bool { return f.Status != change.Renamed }) || len(files) != len(texts) {
			b.Fatal(len(files), err)
		}
		took += time.Since(began)
		began = time.Now()
		if n := strings.Count(run("diff-tree", "-r", "--raw", "-M", string(sides[0]), string(sides[1])), "\n") + 1; n != len(texts) {
			b.Fatal(n)
		}
		theirs += time.Since(began)
	}
	b.ReportMetric(took.Seconds()*1000/float64(b.N), "ms/list")
	b.ReportMetric(theirs.Seconds()*1000/float64(b.N), "ms/reference")
}

// TestNoLines: a file with NUL bytes has no lines, whatever an attribute says of it; a text that an attribute calls binary
// has.
func TestNoLines(t *testing.T) {
	for _, c := range []struct {
		name, attribute, text, opaque string
	}{
		{"a text", "", "one\ntwo\n", ""},
		{"a text that is called binary", "*.x binary", "one\ntwo\n", ""},
		{"NUL bytes", "", "one\x00\n", "binary"},
		{"NUL bytes that are called a text", "*.x diff", "one\x00\n", "binary"},
		{"NUL bytes far from the beginning", "", string(make([]byte, 9000)) + "\n", "binary"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, run := scratchRepository(t)
			write(t, r, ".gitattributes", c.attribute+"\n")
			write(t, r, "a.x", "zero\n")
			run("add", "-A")
			run("commit", "-q", "-m", "two")
			write(t, r, "a.x", c.text)
			run("add", "-A")
			run("commit", "-q", "-m", "three")
			for _, whole := range []bool{false, true} {
				compare := r.Compare
				if whole {
					compare = func(old, new Side) *Comparison { return r.CompareLines(old, new) }
				}
				lines, err := compare(Side(run("rev-parse", "HEAD~1")), Side(run("rev-parse", "HEAD"))).Lines(Known{}, func(change.File) bool { return true })
				if err != nil || len(lines.Files) != 1 {
					t.Fatalf("%+v, %v", lines, err)
				}
				if f := lines.Files[0]; f.Opaque != c.opaque || (len(f.Hunks) > 0) != (c.opaque == "") {
					t.Errorf("whole %v: opaque %q, hunks %v", whole, f.Opaque, f.Hunks)
				}
			}
		})
	}
}

// TestSettingsOfOne: a value is taken back alone, and what else its section has stays.
func TestSettingsOfOne(t *testing.T) {
	r, run := scratchRepository(t)
	run("config", "merge.zincdoor.name", "ours")
	w := r.Writer()
	if err := w.SetLocal("merge.zincdoor.driver", "one"); err != nil {
		t.Fatal(err)
	}
	if got := r.Local("merge.zincdoor.driver"); got != "one" || r.Local("merge.zincdoor.name") != "ours" || r.Local("merge.zincdoor.none") != "" {
		t.Errorf("the value is %q", got)
	}
	if err := w.UnsetLocal("merge.zincdoor.driver", "another"); err != nil || run("config", "merge.zincdoor.driver") != "one" {
		t.Errorf("another's value was taken: %v", err)
	}
	if err := w.UnsetLocal("merge.zincdoor.driver", "one"); err != nil || run("config", "--get-regexp", "^merge") != "merge.zincdoor.name ours" {
		t.Errorf("left: %s, %v", run("config", "--get-regexp", "^merge"), err)
	}
}
