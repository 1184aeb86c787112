package fix

import (
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

const height = "int a;\nint 潮 = 1;\r\nint c;"

func TestResolve(t *testing.T) {
	region := func(line, column, endLine, endColumn int) finding.Edit {
		return finding.Edit{Region: finding.Region{Line: line, Column: column, EndLine: endLine, EndColumn: endColumn}, Text: "X"}
	}
	offset := func(at, length int, bytes bool) finding.Edit {
		return finding.Edit{Offset: &finding.Offset{At: at, Length: length, Bytes: bytes}, Text: "X"}
	}
	for _, c := range []struct {
		name string
		edit finding.Edit
		unit source.Columns
		want string // the text after it, "" for an error
	}{
		{"some columns", region(1, 5, 1, 6), source.UTF16, "int X;\nint 潮 = 1;\r\nint c;"},
		{"nothing is taken out", region(1, 5, 1, 5), source.UTF16, "int Xa;\nint 潮 = 1;\r\nint c;"},
		{"to the end of the line", region(1, 5, 1, 0), source.UTF16, "int X\nint 潮 = 1;\r\nint c;"},
		{"a line", region(3, 0, 3, 0), source.UTF16, "int a;\nint 潮 = 1;\r\nX"},
		{"over lines", region(1, 5, 2, 5), source.UTF16, "int X潮 = 1;\r\nint c;"},
		{"at the end of the text", region(3, 7, 3, 7), source.UTF16, "int a;\nint 潮 = 1;\r\nint c;X"},
		{"beyond the end of the line", region(1, 9, 1, 9), source.UTF16, ""},
		{"beyond the last line", region(5, 1, 5, 2), source.UTF16, ""},
		{"backwards", region(1, 5, 1, 3), source.UTF16, ""},
		{"without a line", finding.Edit{Text: "X"}, source.UTF16, ""},
		{"columns in bytes", region(2, 9, 2, 10), source.Bytes, "int a;\nint 潮 X 1;\r\nint c;"},
		{"columns in code points", region(2, 7, 2, 8), source.CodePoints, "int a;\nint 潮 X 1;\r\nint c;"},
		{"bytes whatever the finding's unit", finding.Edit{Region: finding.Region{Line: 2, Column: 9, EndLine: 2, EndColumn: 10}, Bytes: true, Text: "X"}, source.Display, "int a;\nint 潮 X 1;\r\nint c;"},
		{"an offset in bytes", offset(14, 1, true), source.UTF16, "int a;\nint 潮X= 1;\r\nint c;"},
		{"an offset in characters", offset(12, 1, false), source.UTF16, "int a;\nint 潮X= 1;\r\nint c;"},
		{"an offset beyond the end", offset(40, 1, false), source.UTF16, ""},
	} {
		piece, err := NewIndex([]byte(height)).Resolve(c.edit, c.unit)
		got := ""
		if err == nil {
			got = string(Apply([]byte(height), []Piece{piece}))
		}
		if got != c.want {
			t.Errorf("%s: %q (%v), want %q", c.name, got, err, c.want)
		}
	}
}

// TestChoose: the first of those that overlap is taken, and none that alters a line it may not.
func TestChoose(t *testing.T) {
	text := func(path string) Text {
		if path == "link.c" {
			return Text{Refused: "it is a symbolic link"}
		}
		if path == "map.bin" {
			return Text{Data: []byte("a\x00b\n"), Binary: true}
		}
		return Text{Data: []byte("one two\nthree\nfour\n")}
	}
	at := func(path string, line, from, to int, with string) finding.Edit {
		return finding.Edit{Path: path, Region: finding.Region{Line: line, Column: from, EndLine: line, EndColumn: to}, Text: with}
	}
	may := func(_ string, line int) bool { return line != 3 }
	plan := Choose([]Suggestion{
		{Index: 0, Edits: []finding.Edit{at("a.c", 1, 1, 4, "ONE")}},
		{Index: 1, Edits: []finding.Edit{at("a.c", 1, 3, 6, "x")}},
		{Index: 2, Edits: []finding.Edit{at("a.c", 1, 1, 4, "ONE")}},
		{Index: 3, Edits: []finding.Edit{at("a.c", 2, 1, 1, "2"), at("a.c", 3, 1, 1, "3")}},
		{Index: 4, Edits: []finding.Edit{at("a.c", 1, 5, 8, "TWO"), at("b.c", 2, 1, 6, "THREE")}},
		{Index: 5, Edits: []finding.Edit{at("a.c", 1, 4, 5, "-")}},
		{Index: 6, Edits: []finding.Edit{at("link.c", 1, 1, 2, "x")}},
		{Index: 7},
		{Index: 8, Edits: []finding.Edit{{Path: "b.c", Region: finding.Region{Line: 1, Column: 1, EndLine: 1, EndColumn: 4}, Text: "1", Was: "eno"}}},
		{Index: 9, Edits: []finding.Edit{{Path: "b.c", Region: finding.Region{Line: 1, Column: 1, EndLine: 1, EndColumn: 4}, Text: "1", Hash: "00"}}},
		{Index: 10, Edits: []finding.Edit{at("map.bin", 1, 1, 2, "x")}},
		{Index: 11, Edits: []finding.Edit{{Path: "map.bin", Offset: &finding.Offset{At: 2, Length: 1, Bytes: true}, Text: "c"}}},
		{Index: 12, Edits: []finding.Edit{at("b.c", 2, 6, 6, "!")}, Declined: "no"},
		{Index: 13, Edits: []finding.Edit{at("b.c", 1, 4, 5, "-"), at("a.c", 1, 4, 5, "+")}},
	}, text, may)
	var left []string
	for _, l := range plan.Left {
		left = append(left, fmt.Sprintf("%d: %s", l.Position, l.Why))
	}
	want := "1: it overlaps another fix at line 1 of a.c\n3: it would alter line 3 of a.c, which the change doesn't touch\n6: link.c: it is a symbolic link\n7: nothing is suggested\n8: it is for \"eno\", and the text there in b.c is another\n9: b.c isn't the text it was made for\n10: map.bin isn't text\n12: no\n13: it overlaps another fix at line 1 of a.c"
	if fmt.Sprint(plan.Taken) != "[0 2 4 5 11]" || strings.Join(left, "\n") != want {
		t.Errorf("taken %v, left\n%s", plan.Taken, strings.Join(left, "\n"))
	}
	if got := string(Apply(text("a.c").Data, plan.Pieces["a.c"])); got != "ONE-TWO\nthree\nfour\n" {
		t.Errorf("%q", got)
	}
	if got := string(Apply(text("b.c").Data, plan.Pieces["b.c"])); got != "one two\nTHREE\nfour\n" {
		t.Errorf("a suggestion is taken in part: %q", got)
	}
}

// FuzzResolve: whatever an edit says, it is an error or a stretch of the text.
func FuzzResolve(f *testing.F) {
	f.Add([]byte(height), 1, 2, 3, 4, 0, 0)
	f.Add([]byte("\n\n"), 3, 1, 4, 1, 1, 1)
	f.Fuzz(func(t *testing.T, data []byte, line, column, endLine, endColumn, at, length int) {
		for unit := source.UTF16; unit <= source.Display; unit++ {
			for _, e := range []finding.Edit{
				{Region: finding.Region{Line: line, Column: column, EndLine: endLine, EndColumn: endColumn}},
				{Offset: &finding.Offset{At: at, Length: length}}, {Offset: &finding.Offset{At: at, Length: length, Bytes: true}},
			} {
				if p, err := NewIndex(data).Resolve(e, unit); err == nil && (p.From < 0 || p.To < p.From || p.To > len(data)) {
					t.Errorf("%+v of %q: %+v", e, data, p)
				}
			}
		}
	})
}
