package syntax

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// TestParsers: what is well-formed passes, and what isn't is named with its line.
func TestParsers(t *testing.T) {
	for _, c := range []struct {
		parser, text string
		line         int // of the flaw, 0 for none
	}{
		{"json-syntax", "{\"a\": [1, 2]}\n", 0},
		{"json-syntax", "{\n  // a comment\n  \"a\": [1, 2,],\n}\n", 0},
		{"json-syntax", "{\n\"a\": 1,, \"b\": 2}\n", 2},
		{"yaml-syntax", "a: 1\nb: [1, 2]\n---\nc: x\n", 0},
		{"yaml-syntax", "%YAML 1.2\n---\na: 1\n", 0},
		{"yaml-syntax", "a: {{ .Value }}\n", 0},
		{"yaml-syntax", "a: 1 # a\u2028[\n", 0},
		{"yaml-syntax", "\xff\xfea\x00:\x00 \x001\x00\n\x00", 0},
		{"yaml-syntax", "a: 1\nb: caf\xe9\n", 2},
		{"yaml-syntax", "a: 1\n\nb: \x07\n", 3},
		{"yaml-syntax", "a: 1\nb: [2\nc: 3\n", 2},
		{"yaml-syntax", "a: 1\n b: 2\n", 2},
		{"toml-syntax", "a = 1\n", 0},
		{"toml-syntax", "a = 1\nb = \n", 2},
		{"xml-syntax", "<a><b/></a>\n", 0},
		{"xml-syntax", "<a>\n<b>\n</a>", 3},
		{"xml-syntax", "<a/>\n<b/>\n", 2},
	} {
		line := 0
		if flaw := Parsers[c.parser]([]byte(c.text)); flaw != nil {
			line = flaw.Line
		}
		if line != c.line {
			t.Errorf("%s of %q: line %d, want %d", c.parser, c.text, line, c.line)
		}
	}
}

// TestBounds: what is nested too deep, or too large, is refused at little cost.
func TestBounds(t *testing.T) {
	for _, text := range []string{strings.Repeat("[", 200_000), strings.Repeat("{a: ", 100_000), strings.Repeat("- ", 200_000), strings.Repeat("a: b\n", longestYAML()/5+1)} {
		if _, err := YAML([]byte(text)); err == nil {
			t.Errorf("%q… of %d bytes is read", text[:20], len(text))
		}
	}
}

// TestDeepTOML: what is nested too deep is a flaw, found soon; brackets and dots in strings and comments don't count.
func TestDeepTOML(t *testing.T) {
	for _, c := range []struct {
		text string
		deep bool
	}{
		{"a = " + strings.Repeat("[", 100_000), true},
		{"a = " + strings.Repeat("{a = ", 100_000), true},
		{"a" + strings.Repeat(".a", 100_000) + " = 1", true},
		{"[a" + strings.Repeat(".a", 100_000) + "]", true},
		{"a = " + strings.Repeat("[", 150) + strings.Repeat("]", 150) + "\n", false},
		{"a = \"" + strings.Repeat("[", 1000) + "\\\"" + strings.Repeat(".", 1000) + "\"\n", false},
		{"a = ''' \n" + strings.Repeat("[", 1000) + "''' # " + strings.Repeat(".", 1000) + "\n", false},
		{"a = [" + strings.Repeat("1.5, ", 1000) + "]\n", false},
	} {
		flaw := readTOML([]byte(c.text))
		if deep := flaw != nil && strings.Contains(flaw.Text, "more than 200 deep"); deep != c.deep || flaw != nil && !c.deep {
			t.Errorf("%.30q…: %+v", c.text, flaw)
		}
	}
}

// TestOddBreaks: what is a comment for one reader of YAML never counts for another.
func TestOddBreaks(t *testing.T) {
	for _, c := range []string{"\u0085", "\u2028", "\u2029"} {
		var fault *Fault
		if _, err := YAML([]byte("a: 1\nb: é # " + c + "c: d\n")); !errors.As(err, &fault) || fault.Line != 2 || fault.Column != 8 {
			t.Errorf("%q: %+v", c, err)
		}
		if _, err := YAML([]byte(fmt.Sprintf(`a: "\u%04x"`, []rune(c)[0]))); err != nil {
			t.Errorf("%q as an escape: %v", c, err)
		}
	}
}

func FuzzYAML(f *testing.F) {
	for _, seed := range []string{"a: 1\nb: [1, {c: d}]\n", "&a [*a]\n", "? [x]\n: y\n", "--- |\n  text\n...\n", "%YAML 1.2\n---\na: !!int 3\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if flaw := readYAML(data); flaw != nil && (flaw.Text == "" || flaw.Line > strings.Count(string(data), "\n")+1) {
			t.Errorf("%q: %+v", data, flaw)
		}
	})
}

// FuzzReaders: whatever a text is, each reader finds a flaw on one of its lines, or none; what is nested too deep for one costs little.
func FuzzReaders(f *testing.F) {
	for _, seed := range []string{"{\"a\": [1, 2,], // c\n}", "a.b = [1, {c = \"d\"}]\n[t.u]\n", "<a b='c'>&amp;<d/></a>", "'''\n'''", "a = \"\\\"[\" # ]", "<!DOCTYPE a []><a/>"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for name, read := range Parsers {
			if flaw := read(data); flaw != nil && (flaw.Text == "" || !flaw.Unread && (flaw.Line < 0 || flaw.Line > strings.Count(string(data), "\n")+1)) {
				t.Errorf("%s of %q: %+v", name, data, flaw)
			}
		}
	})
}
