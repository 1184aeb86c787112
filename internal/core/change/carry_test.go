package change

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// inserted is a file that got two lines after its line 2, and whose line 5 was altered; it was called old.c.
var inserted = File{Path: "new.c", Old: "old.c", Status: Renamed, Hunks: []Hunk{
	{OldStart: 2, NewStart: 3, NewCount: 2, Added: []string{"x", "y"}},
	{OldStart: 5, OldCount: 1, NewStart: 7, NewCount: 1, Removed: []string{"a"}, Added: []string{"b"}},
}}

func TestCarry(t *testing.T) {
	between := New([]File{inserted, {Path: "gone.c", Old: "gone.c", Status: Deleted, Hunks: []Hunk{{OldStart: 1, OldCount: 3, Removed: []string{"a", "b", "c"}}}}}, Rules{CountSpace: true, CountMoved: true})
	for _, c := range []struct {
		name string
		back bool
		path string
		line int
		want string
	}{
		{"before the insertion", false, "old.c", 2, "new.c:2"},
		{"after it", false, "old.c", 4, "new.c:6"},
		{"an altered line", false, "old.c", 5, "lost"},
		{"a file without a line", false, "old.c", 0, "new.c:0"},
		{"a file that is gone", false, "gone.c", 2, "lost"},
		{"another file", false, "core/tide.c", 9, "core/tide.c:9"},
		{"back", true, "new.c", 6, "old.c:4"},
		{"back from an added line", true, "new.c", 3, "lost"},
	} {
		f := finding.Finding{Path: c.path, Region: finding.Region{Line: c.line, EndLine: c.line}}
		got := "lost"
		if (Carrier{Between: between, Back: c.back}).Carry(&f) {
			got = fmt.Sprintf("%s:%d", f.Path, f.Region.Line)
			if f.Region.EndLine != f.Region.Line {
				got += fmt.Sprint(" to ", f.Region.EndLine)
			}
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestCarryDetails: a fix whose place is gone goes alone, one by offset with the file that differs, and a step of a flow
// loses its line.
func TestCarryDetails(t *testing.T) {
	between := New([]File{inserted}, Rules{CountSpace: true, CountMoved: true})
	edit := func(path string, line int, offset *finding.Offset) finding.Fix {
		return finding.Fix{Edits: []finding.Edit{{Path: path, Region: finding.Region{Line: line}, Offset: offset}}}
	}
	fixes := []finding.Fix{edit("old.c", 4, nil), edit("old.c", 5, nil), edit("old.c", 1, &finding.Offset{At: 3}), edit("other.c", 1, &finding.Offset{At: 3})}
	f := finding.Finding{Path: "old.c", Region: finding.Region{Line: 1}, Extra: &finding.Details{
		Fixes: fixes, Flows: [][]finding.Remark{{{Path: "old.c", Region: finding.Region{Line: 5}}, {Path: "old.c", Region: finding.Region{Line: 4}}}},
	}}
	if !(Carrier{Between: between}).Carry(&f) {
		t.Fatal("the finding is lost")
	}
	if n := len(f.Extra.Fixes); n != 2 || f.Extra.Fixes[0].Edits[0].Region.Line != 6 || f.Extra.Fixes[1].Edits[0].Path != "other.c" {
		t.Errorf("%d fixes are left: %+v", n, f.Extra.Fixes)
	}
	if flow := f.Extra.Flows[0]; flow[0].Region.Line != 0 || flow[1].Region.Line != 6 {
		t.Errorf("the flow is %+v", flow)
	}
}

// TestConflict: a report of another state speaks for the judged one where all files of the change are the same there.
func TestConflict(t *testing.T) {
	file := func(path, old string, status Status, removed, added string) *Change {
		lines := func(text string) []string { return strings.FieldsFunc(text, func(r rune) bool { return r == '/' }) }
		return New([]File{{Path: path, Old: old, Status: status, Hunks: []Hunk{{OldStart: 3, OldCount: len(lines(removed)), NewStart: 3, NewCount: len(lines(added)), Removed: lines(removed), Added: lines(added)}}}}, Rules{CountSpace: true})
	}
	const tide = "core/tide.c"
	touched := file(tide, tide, Modified, "a", "b")
	for _, c := range []struct {
		name            string
		judged, between *Change
		want            string
	}{
		{"another file", touched, file("fares/fare.go", "fares/fare.go", Modified, "a", "b"), ""},
		{"the same file", touched, file(tide, tide, Modified, "x", "y"), tide},
		{"lines that are gone", touched, file(tide, tide, Modified, "x", ""), tide},
		{"white space", touched, file(tide, tide, Modified, "x  y/z", " x y//  z"), ""},
		{"words apart", touched, file(tide, tide, Modified, "x y", "xy"), tide},
		{"lines that can't be known", touched, &Change{Files: []File{{Path: tide, Old: tide, Status: Modified, Opaque: "binary"}}}, tide},
		{"a file that wasn't there", touched, file(tide, "", Added, "", "b"), tide},
		{"one that was called otherwise", touched, file(tide, "core/old.c", Renamed, "", ""), tide},
		{"a file taken away that is still there", file(tide, tide, Deleted, "a", ""), file(tide, tide, Deleted, "a", ""), tide},
		{"a renamed one under its old name", file(tide, "core/old.c", Renamed, "", ""), file("core/old.c", "core/old.c", Deleted, "a", ""), "core/old.c"},
		{"everything is judged", &Change{Everything: true}, touched, tide},
	} {
		if got := c.judged.Conflict(c.between); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	if got := touched.HalfStaged(file(tide, tide, Modified, "x", "y")); got != "core/tide.c" {
		t.Errorf("half staged: %q", got)
	}
}

// TestDropTexts: forgetting the lines of a change leaves those it was made of as they are, and where files are to be followed the lines
// that this needs.
func TestDropTexts(t *testing.T) {
	file := inserted
	c := New([]File{file}, Rules{})
	c.DropTexts(false)
	if c.Files[0].Hunks[0].Added != nil || file.Hunks[0].Added == nil {
		t.Error("lines are kept, or lost to others")
	}
	old := source.New([]byte("int tide;\nint ebb(void) {\n  return 1;\n}\n"))
	edited := Between("core/tide.c", old, source.New([]byte("int tide;\nint more;\nint ebb(void) {\r\n    return 1;\n}\n")))
	c = New([]File{edited}, Rules{})
	for _, follow := range []bool{true, false} {
		c.DropTexts(follow)
		track := Follow(&c.Files[0], old)
		if (track != nil) != follow {
			t.Errorf("kept %v: the file is followed by %v", follow, track)
		}
		if track != nil && track.NewLine(3) != 4 {
			t.Errorf("the line that was indented is followed to %d", track.NewLine(3))
		}
	}
}
