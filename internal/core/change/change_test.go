package change

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
)

// diff makes the hunks between two texts the plain way, from a longest common subsequence of their lines.
func diff(old, new string) []Hunk {
	olds, news := strings.Split(old, "\n"), strings.Split(new, "\n")
	c := cutter{file: &File{}, old: 1, new: 1}
	i, j := 0, 0
	for _, p := range append(common(olds, news), pair{len(olds), len(news)}) {
		for ; i < p.old; i++ {
			c.remove(olds[i])
		}
		for ; j < p.new; j++ {
			c.add(news[j])
		}
		c.keep()
		i, j = p.old+1, p.new+1
	}
	return c.file.Hunks
}

func TestTouched(t *testing.T) {
	block := "int depth_at(int hour)\n{\n  return soundings[hour];\n}"
	for _, c := range []struct {
		name     string
		old, new string
		rules    Rules
		want     string
	}{
		{"a line added, one changed", "a\nb\nc", "a\nx\nb\nC", Rules{}, "[{2 2} {4 4}]"},
		{"only white space", "if x:\n  a  b\n  c\r", "if x:\n    a b  \n  c", Rules{}, "[]"},
		{"a gap where there was none counts", "f(a,b)", "f(a, b)", Rules{}, "[{1 1}]"},
		{"white space where it counts", "  a", "    a", Rules{CountSpace: true}, "[{1 1}]"},
		{"re-indented within an added block", "a();\nb();\nc();", "if (x) {\n  a();\n  b();\n  c();\n}", Rules{}, "[{1 1} {5 5}]"},
		{"a moved block", block + "\nrest one\nrest two\nrest three\nrest four\nrest five", "rest one\nrest two\nrest three\nrest four\nrest five\n" + block, Rules{}, "[]"},
		{"a moved block where it counts", block + "\nrest one\nrest two\nrest three\nrest four\nrest five", "rest one\nrest two\nrest three\nrest four\nrest five\n" + block, Rules{CountMoved: true}, "[{6 9}]"},
		{"two lines are no block", "alpha beta gamma delta\nepsilon zeta eta\nr1\nr2\nr3", "r1\nr2\nr3\nalpha beta gamma delta\nepsilon zeta eta", Rules{}, "[{4 5}]"},
		{"too few letters", "a\nb\nc\nr1 r1 r1 r1 r1\nr2\nr3\nr4", "r1 r1 r1 r1 r1\nr2\nr3\nr4\na\nb\nc", Rules{}, "[{5 7}]"},
		{"moved and doubled: one is moved", block + "\nr1\nr2\nr3\nr4\nr5\nr6", "r1\nr2\nr3\nr4\nr5\nr6\n" + block + "\n\n" + block, Rules{}, "[{11 15}]"},
		{"a deletion leaves no trace", "a\nb\nc", "a\nc", Rules{}, "[]"},
		{"a deletion's seam", "a\nb\nc", "a\nc", Rules{Seams: true}, "[{1 2}]"},
	} {
		t.Run(c.name, func(t *testing.T) {
			files := []File{{Path: "x", Old: "x", Status: Modified, Hunks: diff(c.old, c.new)}}
			if got := fmt.Sprint(New(files, c.rules).Files[0].Touched); got != c.want {
				t.Errorf("touched %s, want %s", got, c.want)
			}
		})
	}
}

func TestMovedToAnotherFile(t *testing.T) {
	lines := []string{"static int sill(int gauge)", "\treturn gauge - ramp_datum;", "\t/* in centimetres */"}
	indented := []string{"    static int sill(int gauge)", "        return gauge - ramp_datum;", "        /* in centimetres */", "fresh"}
	c := New([]File{
		{Path: "b.c", Status: Added, Hunks: []Hunk{{NewStart: 1, NewCount: 4, Added: indented}}},
		{Path: "a.c", Old: "a.c", Status: Modified, Hunks: []Hunk{{OldStart: 3, OldCount: 3, NewStart: 2, Removed: lines}}},
	}, Rules{})
	if got := fmt.Sprint(c.File("b.c").Touched); got != "[{4 4}]" {
		t.Errorf("touched %s, want only the fresh line", got)
	}
}

// TestLinesCarried checks the line maps against the texts themselves, on random edits.
func TestLinesCarried(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	for round := range 300 {
		old := make([]string, 1+random.IntN(30))
		for i := range old {
			old[i] = fmt.Sprint("line ", random.IntN(12))
		}
		now := slices.Clone(old)
		for range random.IntN(6) {
			at := random.IntN(len(now) + 1)
			if random.IntN(2) == 0 && at < len(now) && len(now) > 1 {
				now = slices.Delete(now, at, at+1)
			} else {
				now = slices.Insert(now, at, fmt.Sprint("line ", random.IntN(12)))
			}
		}
		f := File{Hunks: diff(strings.Join(old, "\n"), strings.Join(now, "\n"))}
		kept := 0
		for n := range now {
			from := f.OldLine(n + 1)
			if from == 0 {
				continue
			}
			kept++
			if old[from-1] != now[n] || f.NewLine(from) != n+1 {
				t.Fatalf("round %d: new line %d comes from %d: %q and %q, which goes to %d", round, n+1, from, now[n], old[from-1], f.NewLine(from))
			}
		}
		if want := len(common(old, now)); kept != want {
			t.Fatalf("round %d: %d lines carried, want %d", round, kept, want)
		}
	}
}

// TestAlign checks the anchored alignment against a longest common subsequence: it pairs equal lines in order, and all
// of them where nothing repeats.
func TestAlign(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for range 300 {
		var old, now []string
		for i := range 40 {
			if random.IntN(3) > 0 {
				old = append(old, fmt.Sprint(i))
			}
			if random.IntN(3) > 0 {
				now = append(now, fmt.Sprint(i))
			}
		}
		pairs := align(old, now)
		if len(pairs) != len(common(old, now)) {
			t.Fatalf("align paired %d of %d lines of %v and %v", len(pairs), len(common(old, now)), old, now)
		}
		for i, p := range pairs {
			if old[p.old] != now[p.new] || i > 0 && (p.old <= pairs[i-1].old || p.new <= pairs[i-1].new) {
				t.Fatalf("pair %d of %v is out of order or unequal", i, pairs)
			}
		}
	}
}

func TestPlace(t *testing.T) {
	c := New([]File{
		{Path: "mod.c", Old: "mod.c", Status: Modified, Hunks: []Hunk{{OldStart: 9, NewStart: 10, NewCount: 3, Added: []string{"a", "b", "c"}}}},
		{Path: "new.c", Status: Added, Hunks: []Hunk{{NewStart: 1, NewCount: 1, Added: []string{"a"}}}},
		{Path: "pic", Old: "pic", Status: Modified, Opaque: "binary"},
		{Path: "copy.c", Old: "mod.c", Status: Copied},
	}, Rules{})
	for _, p := range []struct {
		path      string
		from, to  int
		compared  bool
		want      Place
		condition string
	}{
		{"mod.c", 11, 0, false, OnTouched, "on an added line"},
		{"mod.c", 9, 0, false, InFile, "above it"},
		{"mod.c", 5, 10, false, OnTouched, "a region that reaches it"},
		{"mod.c", 1, 12, false, InFile, "a long region counts by its first line"},
		{"mod.c", 1, 12, true, OnTouched, "unless it can be compared"},
		{"mod.c", 0, 0, false, InFile, "no line in a modified file"},
		{"new.c", 0, 0, false, OnTouched, "no line in an added file"},
		{"pic", 7, 0, false, OnTouched, "an opaque file"},
		{"copy.c", 70, 0, false, OnTouched, "a copied file"},
		{"other.c", 11, 0, false, Elsewhere, "a file outside the change"},
		{"", 0, 0, false, Elsewhere, "no file"},
	} {
		if got := c.Place(p.path, finding.Region{Line: p.from, EndLine: p.to}, p.compared); got != p.want {
			t.Errorf("%s: %s:%d-%d is %s, want %s", p.condition, p.path, p.from, p.to, got, p.want)
		}
	}
}

// TestAhead: what was worked out ahead of a change makes no difference to it.
func TestAhead(t *testing.T) {
	files := func() []File {
		return []File{
			{Path: "b.c", Old: "b.c", Status: Modified, Hunks: diff("one\ntwo\nthree\nlow(depth);\nhigh(depth);\nshut(gate);\n", "one\n two\nfour\n")},
			{Path: "a.c", Old: "a.c", Status: Modified, Hunks: diff("x\n", "x\nlow(depth);\nhigh(depth);\nshut(gate);\n")},
			{Path: "c.c", Old: "c.c", Status: Modified},
		}
	}
	for _, rules := range []Rules{{}, {CountSpace: true}, {CountMoved: true, Seams: true}} {
		for _, ahead := range []Rules{{}, {CountSpace: true}, {CountMoved: true, Seams: true}} {
			some := files()
			worked := WorkAhead(some[:2], ahead)
			suspects := NewSuspects(worked)
			suspects.Add(some[1], []int{2, 3, 4})
			got, want := NewFrom(some, rules, worked), New(files(), rules)
			for i := range want.Files {
				if g, w := got.Files[i], want.Files[i]; !slices.Equal(g.Touched, w.Touched) || !slices.Equal(g.Worded, w.Worded) {
					t.Errorf("%+v after %+v: %s has %v and %v, want %v and %v", rules, ahead, w.Path, g.Touched, g.Worded, w.Touched, w.Worded)
				}
			}
		}
	}
}

func TestNarrow(t *testing.T) {
	hunk := func(at, lines int) []Hunk {
		return []Hunk{{OldStart: at - 1, NewStart: at, NewCount: lines, Added: slices.Repeat([]string{"x"}, lines)}}
	}
	make := func(paths map[string][]Hunk) *Change {
		var files []File
		for path, hunks := range paths {
			files = append(files, File{Path: path, Old: path, Status: Modified, Hunks: hunks})
		}
		return New(files, Rules{})
	}
	c := make(map[string][]Hunk{"both.c": hunk(3, 4), "ours.c": hunk(1, 1), ".zincdoor/policy.yaml": hunk(1, 1)})
	c.Narrow(make(map[string][]Hunk{"both.c": hunk(5, 9), ".zincdoor/policy.yaml": hunk(1, 1)}))
	if c.File("ours.c") != nil || fmt.Sprint(c.File("both.c").Touched) != "[{5 6}]" {
		t.Errorf("narrowed to %+v", c.Files)
	}
	wide := make(map[string][]Hunk{"both.c": hunk(3, 4), "ours.c": hunk(1, 1)})
	wide.Widen(make(map[string][]Hunk{"both.c": hunk(5, 9), "a.c": hunk(2, 1)}))
	if fmt.Sprint(wide.File("both.c").Touched, wide.File("ours.c").Touched, wide.File("a.c").Touched, len(wide.File("a.c").Hunks)) != "[{3 13}] [{1 1}] [{2 2}] 0" {
		t.Errorf("widened to %+v", wide.Files)
	}
	own := make(map[string][]Hunk{".zincdoor/policy.yaml": hunk(1, 1), "a.c": hunk(1, 1)})
	own.Narrow(make(map[string][]Hunk{".zincdoor/policy.yaml": hunk(1, 1)}))
	if in := func(path string) bool { return path == ".zincdoor/policy.yaml" }; own.Only(in) || !make(nil).Only(in) {
		t.Error("a merge of known lines is taken as no change, or no change for one")
	}
}

// TestTouchedLines: only lines that say something count, in files that are looked at.
func TestTouchedLines(t *testing.T) {
	added := []string{"int a;", "", "}", "  ", "int b;"}
	files := []File{{Path: "a.c", Status: Added, Hunks: []Hunk{{NewStart: 1, NewCount: 5, Added: added}}}, {Path: "b.md", Status: Added, Hunks: []Hunk{{NewStart: 1, NewCount: 5, Added: added}}}}
	c := New(files, Rules{})
	if n := c.TouchedLines(func(path string) bool { return path == "a.c" }); n != 2 {
		t.Errorf("%d lines, want 2", n)
	}
}

func TestIntersect(t *testing.T) {
	got := Lines{{1, 5}, {8, 9}, {20, 30}}.Intersect(Lines{{3, 8}, {25, 25}})
	if fmt.Sprint(got) != "[{3 5} {8 8} {25 25}]" || got.Count() != 5 {
		t.Errorf("intersection %v of %d lines", got, got.Count())
	}
	if got := (Lines{{1, 5}, {8, 9}, {20, 30}}).Union(Lines{{3, 7}, {25, 25}, {40, 41}}); fmt.Sprint(got) != "[{1 9} {20 30} {40 41}]" {
		t.Errorf("union %v", got)
	}
}
