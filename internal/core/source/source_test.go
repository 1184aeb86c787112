package source

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestCollapse(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"", ""},
		{"  a  b\t c \r", "a b c"},
		{"plain text", "plain text"},
		{"a\u00a0b", "a\u00a0b"},
		{"a // b\r\r", "a // b\r"},
		{"a //\rb\r", "a //\rb"},
		{"a //\u2028b", "a //\u2028b"},
		{"\fa  \v b", "\fa \v b"},
		{" \t ", ""},
		{"é  ü", "é ü"},
		{"ab", "ab"},
	} {
		if got := Collapse(c.in); got != c.want {
			t.Errorf("Collapse(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}

func TestCodeAt(t *testing.T) {
	text := New([]byte("one\r\n\n\ttwo  x\n}\nthree\n}"))
	if text.Len() != 6 {
		t.Fatalf("Len() = %d, want 6", text.Len())
	}
	for _, c := range []struct {
		line int
		want Code
	}{
		{0, Code{}},
		{7, Code{}},
		{1, Code{Text: "one", After: "two x", Alike: 1}},
		{3, Code{Text: "two x", Before: "one", After: "}", Alike: 1}},
		{4, Code{Text: "}", Before: "two x", After: "three", Alike: 2}},
		{6, Code{Text: "}", Before: "three", Alike: 2}},
	} {
		if got := text.CodeAt(c.line); got != c.want {
			t.Errorf("CodeAt(%d) = %+v, want %+v", c.line, got, c.want)
		}
	}
}

// TestAlike: lines are alike that collapse to the same text, however many of them are asked for.
func TestAlike(t *testing.T) {
	text := New([]byte("low = 1;\n\tlow  =\t1;\r\nlow=1;\n low = 1; \nlow = 1; x\nlow = 10;\n\n}\n  }\nlow = 1;"))
	want := []int{4, 4, 1, 4, 1, 1, 0, 2, 2, 4}
	for round := range 3 { // the text makes an index of its lines once it was asked often enough
		for i, n := range want {
			if got := text.CodeAt(i + 1).Alike; got != n {
				t.Errorf("round %d: line %d has %d like it, want %d", round, i+1, got, n)
			}
			for _, lines := range [][]int{{i + 1}, {1, 2, 3, 4, 5, 6, 7, 8, 9, 10}} {
				if got := text.Only(lines).CodeAt(i + 1).Alike; got != n {
					t.Errorf("line %d of %d has %d like it, want %d", i+1, len(lines), got, n)
				}
			}
		}
	}
}

// TestOnly: a text that is cut down answers for its lines as the whole one does, however many they are.
func TestOnly(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	kinds := []string{"", "}", "\t}", "low();", " low( );", "low();\r", "high = low;", "high=low;", "\thigh = low;", "  ", "é", "a"}
	for round := range 50 {
		var all strings.Builder
		for range random.IntN(40) {
			all.WriteString(kinds[random.IntN(len(kinds))] + "\n")
		}
		text := New([]byte(strings.TrimSuffix(all.String(), "\n")))
		var lines []int
		for range random.IntN(30) {
			lines = append(lines, random.IntN(text.Len()+3)-1)
		}
		cut := text.Only(lines)
		if cut.Len() != text.Len() || cut.Whole() {
			t.Fatalf("round %d: %d lines of %d", round, cut.Len(), text.Len())
		}
		for n := -1; n <= text.Len()+2; n++ {
			whole := New(text.data)
			switch asked := slices.Contains(lines, n); {
			case cut.Holds(n) != (asked || n < 1 || n > text.Len()):
				t.Errorf("round %d: line %d: holds %v", round, n, cut.Holds(n))
			case asked && (cut.Line(n) != whole.Line(n) || cut.CodeAt(n) != whole.CodeAt(n)):
				t.Errorf("round %d: line %d is %q, %+v; want %q, %+v", round, n, cut.Line(n), cut.CodeAt(n), whole.Line(n), whole.CodeAt(n))
			case !asked && cut.Line(n) != "":
				t.Errorf("round %d: line %d wasn't asked for and is %q", round, n, cut.Line(n))
			}
		}
		for first := 0; first <= text.Len()+1; first++ {
			for last := first - 1; last <= text.Len()+1; last++ {
				for i, line := range text.Span(first, last) {
					if line != text.Line(first+i) {
						t.Errorf("round %d: line %d of %d to %d is %q", round, first+i, first, last, line)
					}
				}
			}
		}
	}
}

func TestOffset(t *testing.T) {
	for _, c := range []struct {
		line   string
		column int
		unit   Columns
		want   int
	}{
		{"abc", 1, Bytes, 0},
		{"abc", 9, Bytes, 3},
		{"é=1", 2, CodePoints, 2},
		{"é=1", 3, Bytes, 2},
		{"😀=1", 3, UTF16, 4},
		{"😀=1", 2, CodePoints, 4},
		{"\tx", 9, Display, 1},
		{"ab\tx", 9, Display, 3},
		{"水x", 3, Display, 3},
	} {
		if got := Offset(c.line, c.column, c.unit); got != c.want {
			t.Errorf("Offset(%q, %d, %d) = %d, want %d", c.line, c.column, c.unit, got, c.want)
		}
	}
}

// TestIsPointer: a pointer to a large file kept elsewhere names its version, its hash and its size.
func TestIsPointer(t *testing.T) {
	const version, hash, size = "version https://brackwater.example/large/1\n", "oid sha256:4d7a214614ab2935c943f9e0ff69d22eadbb8f32b1258daaa5e2ca24d17e2393\n", "size 12345\n"
	for _, c := range []struct {
		name, text string
		want       bool
	}{
		{"whole", version + hash + size, true},
		{"with more", version + "ext-0-pack sha256:1\n" + hash + size, true},
		{"no version", hash + size + "x\n", false},
		{"no hash", version + size + "x 1\n", false},
		{"no size", version + hash + "x 1\n", false},
		{"a text about one", "see:\n" + version + hash + size, false},
	} {
		if got := New([]byte(c.text)).IsPointer(); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

// TestMayQuote: a quotation speaks against a line only where its words surely would stand in it.
func TestMayQuote(t *testing.T) {
	for _, c := range []struct {
		line, snippet string
		want          bool
	}{
		{"int h = depth();", "depth()", true},
		{"\tint  h = depth();", "int h = depth();", true},
		{"int h = depth();", "", true},
		{"int h = depth();", "int width = 4;", false},
		{"int h = depth();", "int w...", true},    // shortened
		{"int h = 潮();", "int h = tide();", true}, // each tool writes such text in its own way
		{"int h = depth();", "int\x01h", true},
	} {
		if got := MayQuote(c.line, c.snippet); got != c.want {
			t.Errorf("%q of %q: %v", c.snippet, c.line, got)
		}
	}
}

func TestOtherBreak(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "a\nb\n": "", "a\r\nb\r\n": "", "a\r": "", "a\rb": "lone carriage return", "a\r\r\nb": "lone carriage return", "a\n\f\nb": "form feed", "a\vb": "vertical tab",
		"a\u0085b": "next-line sign (U+0085)", "a\u2028b": "line separator (U+2028)", "a\u2029b": "paragraph separator (U+2029)", "s\u00f6l \u2027": "",
	} {
		if got := New([]byte(text)).OtherBreak(); got != want {
			t.Errorf("%q has a %q, want %q", text, got, want)
		}
		if got := New([]byte(text)).Only([]int{1}).OtherBreak(); got != want {
			t.Errorf("%q, cut down, has a %q, want %q", text, got, want)
		}
	}
}
