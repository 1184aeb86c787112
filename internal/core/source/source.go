// Package source knows the text of one file as lines: how it is cut into lines, when two lines are alike, and where
// a column falls in a line. It doesn't know where the text came from.
package source

import (
	"slices"
	"strings"
)

// Text is a file's text as lines. Lines are 1-based. The zero value is an empty file.
type Text struct {
	lines []string
	asked int            // how often a line was looked for
	alike map[uint64]int // how many lines share a mark; made when enough lines were looked for

	only map[int]kept // where the text was cut down: all that is left of it
	size int          // and how many lines it had
}

// kept is one line of a text that was cut down.
type kept struct {
	line string
	code Code
}

// Only cuts the text down to some of its lines, which then take little memory whatever the text's size. It answers for
// these lines as before, and is empty at all others.
func (t *Text) Only(lines []int) *Text {
	cut := &Text{only: make(map[int]kept, len(lines)), size: t.Len()}
	for _, n := range lines {
		if _, done := cut.only[n]; !done && n >= 1 && n <= t.Len() {
			code := t.CodeAt(n)
			cut.only[n] = kept{strings.Clone(t.Line(n)), Code{strings.Clone(code.Text), strings.Clone(code.Before), strings.Clone(code.After), code.Sole}}
		}
	}
	return cut
}

// New cuts data at line feeds. A carriage return stays part of its line; a last line without a line feed counts as one.
func New(data []byte) *Text {
	if len(data) == 0 {
		return &Text{}
	}
	return &Text{lines: strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")}
}

// Len is the number of lines.
func (t *Text) Len() int {
	if t.only != nil {
		return t.size
	}
	return len(t.lines)
}

// Lines are all lines, from the first on; the caller leaves them as they are.
func (t *Text) Lines() []string { return t.lines }

// Line returns line n without its line feed and carriage return, or "" where there is no such line.
func (t *Text) Line(n int) string {
	if t.only != nil {
		return t.only[n].line
	}
	if n < 1 || n > len(t.lines) {
		return ""
	}
	return strings.TrimSuffix(t.lines[n-1], "\r")
}

// IsPointer reports whether the text only stands for a large file that is kept elsewhere: a few lines, the first of which
// names a version of the form, with the content's hash and size. Its lines aren't those that tools look at.
func (t *Text) IsPointer() bool {
	if t.Len() < 3 || t.Len() > 12 || !strings.HasPrefix(t.Line(1), "version https://") {
		return false
	}
	return slices.ContainsFunc(t.lines, func(line string) bool { return strings.HasPrefix(line, "oid sha256:") }) &&
		slices.ContainsFunc(t.lines, func(line string) bool { return strings.HasPrefix(line, "size ") })
}

// Code is what recognises the place a finding stands on, apart from its line number. All three texts are collapsed.
type Code struct {
	Text   string // the line itself
	Before string // the nearest line above that isn't blank
	After  string // the nearest line below that isn't blank
	Sole   bool   // no other line of the file has this text
}

// CodeAt returns the code at line n; the zero Code where there is no such line.
func (t *Text) CodeAt(n int) Code {
	if t.only != nil {
		return t.only[n].code
	}
	if n < 1 || n > len(t.lines) {
		return Code{}
	}
	text := Collapse(t.lines[n-1])
	return Code{Text: text, Before: t.neighbour(n, -1), After: t.neighbour(n, 1), Sole: t.sole(t.lines[n-1])}
}

func (t *Text) neighbour(n, step int) string {
	for i := n + step; i >= 1 && i <= len(t.lines); i += step {
		if text := Collapse(t.lines[i-1]); text != "" {
			return text
		}
	}
	return ""
}

// scans is how many lines of a text are looked for by going through it before an index of it is worth its making.
const scans = 8

// sole reports whether only one line of the text collapses as line does. Lines of one mark count as alike.
func (t *Text) sole(line string) bool {
	mark := Mark(line)
	if t.asked++; t.alike == nil && t.asked <= scans {
		n := 0
		for _, other := range t.lines {
			if Mark(other) == mark {
				n++
			}
		}
		return n == 1
	}
	if t.alike == nil {
		t.alike = make(map[uint64]int, len(t.lines))
		for _, other := range t.lines {
			t.alike[Mark(other)]++
		}
	}
	return t.alike[mark] == 1
}

// Mark is a number that lines which collapse to the same text share, and others hardly ever: a hash of all but the white
// space (64-bit FNV-1a).
func Mark[T string | []byte](line T) uint64 {
	hash := uint64(14695981039346656037)
	for i := 0; i < len(line); i++ {
		if c := line[i]; c > ' ' && c != 0x85 && c != 0xA0 && c != 0xC2 {
			hash = (hash ^ uint64(c)) * 1099511628211
		}
	}
	return hash
}

// Collapse removes the blanks at both ends of s and makes each gap inside one space. Two lines that collapse to the
// same text differ only in white space.
func Collapse(s string) string {
	if isCollapsed(s) {
		return s
	}
	return strings.Join(strings.Fields(s), " ")
}

func isCollapsed(s string) bool {
	previous := byte(' ')
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x80 || c == '\t' || c == '\r' || c == '\n' || c == '\v' || c == '\f' || c == ' ' && previous == ' ' {
			return false
		}
		previous = c
	}
	return s == "" || previous != ' '
}

// Weight counts the letters and digits of s. A line of weight 0 (a brace, a rule) says nothing about where it is.
func Weight(s string) int {
	n := 0
	for _, r := range s {
		if r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80 {
			n++
		}
	}
	return n
}
