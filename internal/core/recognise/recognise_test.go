package recognise

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// found places a finding on each line of text that ends in a mark: "!" for the rule shadow, "?" for format. The marks
// aren't part of the code.
func found(path, text string) []finding.Finding {
	marked := strings.Split(text, "\n")
	plain := make([]string, len(marked))
	for i, line := range marked {
		plain[i] = strings.TrimRight(line, "!?")
	}
	code := source.New([]byte(strings.Join(plain, "\n")))
	var all []finding.Finding
	for i, line := range marked {
		for _, mark := range line[len(plain[i]):] {
			rule := map[rune]string{'!': "shadow", '?': "format"}[mark]
			all = append(all, finding.Finding{
				Tool: "gcc", Rule: rule, Path: path, Message: rule + " at 'x'", Region: finding.Region{Line: i + 1}, Code: code.CodeAt(i + 1),
			})
		}
	}
	slices.SortStableFunc(all, finding.Order)
	return all
}

func taken(findings []finding.Finding) []baseline.Entry {
	var entries []baseline.Entry
	for _, f := range findings {
		entries = append(entries, baseline.EntryFor(f, "warning"))
	}
	return entries
}

// lines tells which entry, by the line it was taken on, recognises each finding: "4<2" for line 4 from line 2, "4<-"
// for a finding that no entry knows.
func lines(findings []finding.Finding, entries []baseline.Entry, recognised Matches) string {
	var out []string
	for i, m := range recognised.EntryOf {
		from := "-"
		if m != None {
			from = fmt.Sprint(entries[m].Line)
		}
		out = append(out, fmt.Sprintf("%d<%s", findings[i].Region.Line, from))
	}
	return strings.Join(out, " ")
}

func TestRecognise(t *testing.T) {
	for _, c := range []struct{ name, then, now, want string }{
		{"nothing changed", "a;\nint x;!\nb;", "a;\nint x;!\nb;", "2<2"},
		{"lines inserted above", "a;\nint x;!\nb;", "new;\nnewer;\na;\nint x;!\nb;", "4<2"},
		{"re-indented", "a;\nint x;!\nb;", "if {\n  a;\n\n\tint  x;!\n  b;\n}", "4<2"},
		{"one neighbour edited", "a;\nint x;!\nb;", "a;\nint x;!\nc;", "2<2"},
		{"both edited, the line stands alone", "a;\nint x;!\nb;", "d;\nint x;!\nc;", "2<2"},
		{"both edited, the line has a twin, and stands where it stood", "a;\nint x;!\nb;\nint x;\n", "d;\nint x;!\nc;\nint x;\n", "2<2"},
		{"both edited, a twin far from where it stood", "a;\nint x;!\nb;\nint x;\n", "d;\nint x;\nc;\n1;\n2;\n3;\nint x;!\n", "7<-"},
		{"a brace with other neighbours, far off", "a;\n}!\nb;", "d;\n1;\n2;\n3;\n}!\nb;", "5<-"},
		{"a brace with its neighbours", "a;\n}!\nb;", "z;\na;\n}!\nb;", "3<2"},
		{"another rule on the line", "int x;!", "int x;?", "1<-"},
		{"three against two leave one", "a;\nx;!\nb;\nx;!\nc;", "a;\nx;!\nb;\nx;!\nc;\nx;!", "2<2 4<4 6<-"},
		{"the surest pair goes first", "p;\nx;!\nq;", "a;\nx;!\nb;\np;\nx;!\nq;", "2<- 5<2"},
		{"two on one line", "x;!!", "y;\nx;!!", "2<1 2<1"},
		{"fixed, and another of the kind elsewhere", "a;\none;!\nb;\ntwo;\nc;", "a;\none;\nb;\ntwo;!\nc;", "4<-"},
		{"swapped lines", "a;\none;!\ntwo;!\nb;", "a;\ntwo;!\none;!\nb;", "2<3 3<2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			now, entries := found("core/tide.c", c.now), taken(found("core/tide.c", c.then))
			if got := lines(now, entries, Recognise(now, entries, View{})); got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
			slices.Reverse(entries)
			if got := lines(now, entries, Recognise(now, entries, View{})); got != c.want {
				t.Errorf("with the entries reversed: %s, want %s", got, c.want)
			}
		})
	}
}

func TestRecogniseAcrossFiles(t *testing.T) {
	entries := taken(found("core/old.c", "a;\nint x;!\nb;"))
	now := found("core/new.c", "c;\na;\nint x;!\nb;")
	renamed := View{Change: change.New([]change.File{{Path: "core/new.c", Old: "core/old.c", Status: change.Renamed}}, change.Rules{})}
	gone := View{Missing: func(path string) bool { return path == "core/old.c" }}
	for name, c := range map[string]struct {
		view View
		want string
	}{
		"renamed in the change":    {renamed, "3<2"},
		"the old file is no more":  {gone, "3<2"},
		"the old file still there": {View{}, "3<-"},
	} {
		if got := lines(now, entries, Recognise(now, entries, c.view)); got != c.want {
			t.Errorf("%s: got %s, want %s", name, got, c.want)
		}
	}
}

func TestRecogniseWithoutCode(t *testing.T) {
	f := finding.Finding{Tool: "t", Rule: "r", Path: "p", Message: "12 files, at most 10"}
	e := baseline.EntryFor(f, "note")
	f.Message = "13 files, at most 10"
	if got := Recognise([]finding.Finding{f, f}, []baseline.Entry{e}, View{}); !slices.Equal(got.EntryOf, []int{0, None}) {
		t.Errorf("got %v, want the first only", got)
	}
}

// Where a line's text isn't known, rule, path and message must do, nearest lines first, never for more findings than there are entries.
func TestRecogniseBlindly(t *testing.T) {
	entries := taken(found("core/tide.c", "a;\nint x;!\nb;\nint y;!\nc;?"))
	now := found("core/tide.c", "q;!\nw;!\ne;!")
	for i := range now {
		now[i].Code = source.Code{}
	}
	if got := lines(now, entries, Recognise(now, entries, View{})); got != "1<- 2<2 3<4" {
		t.Errorf("got %s", got)
	}
}

// BenchmarkRecognise runs over files whose lines moved, with as many findings as entries: in many files, and all alike
// in one file.
func BenchmarkRecognise(b *testing.B) {
	for _, n := range []int{10_000, 100_000, 1_000_000} {
		then, now := make([]finding.Finding, n), make([]finding.Finding, n)
		for i := range then {
			path := fmt.Sprintf("core/area%03d/file%04d.c", i%5000/100, i%5000)
			code := source.Code{Text: fmt.Sprintf("depth_%d = sound(%d);", i/5000%7, i), Before: fmt.Sprint("before ", i/7), After: fmt.Sprint("after ", i/3), Alike: 1}
			then[i] = finding.Finding{
				Tool: "gcc", Rule: fmt.Sprintf("-Wrule-%d", i%30), Path: path, Message: fmt.Sprintf("conversion of 'depth_%d' may lose %d bits", i%900, i%64),
				Region: finding.Region{Line: 1 + i/5000*9}, Code: code,
			}
			now[i] = then[i]
			now[i].Region.Line += 1 + i%3
			switch i % 20 {
			case 0: // its neighbour was edited
				now[i].Code.Before = "edited"
			case 1: // its message counts anew
				now[i].Message = strings.Replace(now[i].Message, "lose ", "lose 1", 1)
			case 2: // it is another
				now[i].Code, now[i].Rule = source.Code{Text: fmt.Sprint("other ", i), Alike: 1}, "-Wother"
			}
		}
		slices.SortFunc(now, finding.Order)
		b.Run(fmt.Sprint(n, " in 5000 files"), func(b *testing.B) { recogniseAll(b, now, taken(then)) })
		for i := range then {
			then[i] = finding.Finding{Tool: "gcc", Rule: "-Wsame", Path: "core/tide.c", Message: "same", Region: finding.Region{Line: i + 1},
				Code: source.Code{Text: "same;", Before: "same;", After: "same;", Alike: n}}
			now[i] = then[i]
			now[i].Region.Line += 7
		}
		b.Run(fmt.Sprint(n, " equal ones in one file"), func(b *testing.B) { recogniseAll(b, now, taken(then)) })
	}
}

func recogniseAll(b *testing.B, now []finding.Finding, entries []baseline.Entry) {
	b.ReportAllocs()
	for b.Loop() {
		if n := len(Recognise(now, entries, View{}).EntryOf); n != len(now) {
			b.Fatal(n)
		}
	}
}

// TestRecogniseWithTheChange: an entry whose line the change kept is known on that line, in other words too, or beside it
// by the same message; one whose line is still there is no other.
func TestRecogniseWithTheChange(t *testing.T) {
	old := source.New([]byte("a;\nint x;\nb;\nint y;\nc;\n"))
	now := source.New([]byte("new;\na;\nint x;\nb;\nint y;\nc;\nint x;\n"))
	way := change.New([]change.File{{Path: "tide.c", Old: "tide.c", Status: change.Modified, Hunks: []change.Hunk{
		{OldStart: 0, NewStart: 1, NewCount: 1, Added: []string{"new;"}}, {OldStart: 5, NewStart: 7, NewCount: 1, Added: []string{"int x;"}},
	}}}, change.Rules{})
	view := View{
		Change: way, OldText: func(string) *source.Text { return old }, NewText: func(string) *source.Text { return now },
		Missing: func(string) bool { return false },
	}
	at := func(text *source.Text, line int, message string) finding.Finding {
		return finding.Finding{Tool: "gcc", Rule: "-Wunused", Path: "tide.c", Message: message, Region: finding.Region{Line: line}, Code: text.CodeAt(line)}
	}
	entry := baseline.EntryFor(at(old, 2, "variable 'x' is never used here"), "warning")
	for _, c := range []struct {
		name  string
		found finding.Finding
		want  int
	}{
		{"the line", at(now, 3, "variable 'x' is never used here"), 0},
		{"another name and number", at(now, 3, "variable 'z9' is never used here"), 0},
		{"other words", at(now, 3, "the variable 'x' is never used"), 0},
		{"another fault of the rule", at(now, 3, "result of call is thrown away"), None},
		{"a copy of the line", at(now, 7, "variable 'x' is never used here"), None},
		{"the line above, the same", at(now, 2, "variable 'x' is never used here"), 0},
		{"the line below, of another name", at(now, 4, "variable 'b' is never used here"), None},
		{"a line far off", at(now, 5, "variable 'x' is never used here"), None},
	} {
		if got := Recognise([]finding.Finding{c.found}, []baseline.Entry{entry}, view).EntryOf[0]; got != c.want {
			t.Errorf("%s: %d, want %d", c.name, got, c.want)
		}
	}
}

// TestCopiedFingerprint: a fingerprint that a tool gave to a copy in another file takes no accepted entry, as long as the
// entry's own line is there; nor does one on another line of the change.
func TestCopiedFingerprint(t *testing.T) {
	print := finding.OneFingerprint("tool/v1", "4f1a")
	at := func(path string, line int, text string) finding.Finding {
		return finding.Finding{Tool: "gauge", Rule: "deep", Path: path, Message: "too deep", Region: finding.Region{Line: line}, Code: source.Code{Text: text, Alike: 1}, Fingerprints: print}
	}
	entry := baseline.EntryFor(at("core/tide.c", 1, "deep(h);"), "warning")
	old := source.New([]byte("deep(h);\n"))
	texts := func(path string) *source.Text { return old }
	for _, c := range []struct {
		name  string
		files []change.File
		found finding.Finding
		want  int
	}{
		{"the line itself", nil, at("core/tide.c", 1, "deep(h);"), 0},
		{"a copy in a new file", []change.File{{Path: "core/copy.c", Status: change.Added, Hunks: []change.Hunk{{NewStart: 1, NewCount: 1, Added: []string{"deep(h);"}}}}}, at("core/copy.c", 1, "deep(h);"), None},
		{"a copy in a file that was there", []change.File{{Path: "fares/a.c", Old: "fares/a.c", Status: change.Modified, Hunks: []change.Hunk{{OldStart: 3, NewStart: 4, NewCount: 1, Added: []string{"deep(h);"}}}}}, at("fares/a.c", 4, "deep(h);"), None},
		{"moved to another file", []change.File{
			{Path: "core/tide.c", Old: "core/tide.c", Status: change.Deleted, Hunks: []change.Hunk{{OldStart: 1, OldCount: 1, Removed: []string{"deep(h);"}}}},
			{Path: "fares/a.c", Old: "fares/a.c", Status: change.Modified, Hunks: []change.Hunk{{OldStart: 3, NewStart: 4, NewCount: 1, Added: []string{"deep(h);"}}}},
		}, at("fares/a.c", 4, "deep(h);"), 0},
	} {
		view := View{Change: change.New(c.files, change.Rules{}), OldText: texts, NewText: texts, Missing: func(path string) bool { return false }}
		if got := Recognise([]finding.Finding{c.found}, []baseline.Entry{entry}, view).EntryOf[0]; got != c.want {
			t.Errorf("%s: %d, want %d", c.name, got, c.want)
		}
	}
}
