package git

import (
	"fmt"
	"slices"
	"sync"
	"testing"

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
			early, err := c.EarlyLines(all)
			if err != nil {
				t.Error(err)
				return
			}
			lines, err := c.Lines(Known{Early: early}, func(change.File) bool { return true })
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
