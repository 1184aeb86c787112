package fix

import (
	"errors"
	"fmt"
	"slices"
	"unicode/utf8"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Index is a text with where its lines begin, in which places are found.
type Index struct {
	data   []byte
	starts []int          // of the lines, by bytes; a text that ends with a line feed has an empty last one
	before map[bool][]int // how many characters stand before each line: UTF-16 code units, or code points; made when they are needed
}

// NewIndex makes the index of a text, which must not change afterwards.
func NewIndex(data []byte) *Index {
	x := &Index{data: data, starts: []int{0}, before: map[bool][]int{}}
	for i, c := range data {
		if c == '\n' {
			x.starts = append(x.starts, i+1)
		}
	}
	return x
}

// lineOf is the line, 1-based, that a byte stands on.
func (x *Index) lineOf(at int) int {
	line, found := slices.BinarySearch(x.starts, at)
	if found {
		line++
	}
	return line
}

// Region is where the bytes of a line from one up to another are, its columns in bytes.
func (x *Index) Region(from, to int) finding.Region {
	line := x.lineOf(from)
	start := x.starts[line-1]
	return finding.Region{Line: line, Column: from - start + 1, EndLine: line, EndColumn: to - start + 1}
}

// Lines are the lines that a piece alters, 1-based and inclusive. One that ends at the beginning of a line doesn't alter
// that.
func (x *Index) Lines(p Piece) (first, last int) {
	first, last = x.lineOf(p.From), x.lineOf(p.To)
	if last > first && x.data[p.To-1] == '\n' {
		last--
	}
	return first, last
}

// ErrPlace is the error of an edit whose place the text doesn't have.
var ErrPlace = errors.New("the text has no such place")

// Resolve finds the bytes that an edit is about. A region without columns is its lines without the last line's end; one
// without an end column goes to the end of its last line (SARIF 2.1.0, 3.30).
func (x *Index) Resolve(e finding.Edit, unit source.Columns) (Piece, error) {
	if e.Offset != nil {
		return x.resolveOffset(e, unit)
	}
	if e.Bytes {
		unit = source.Bytes
	}
	r := e.Region
	if r.Line < 1 {
		return Piece{}, fmt.Errorf("a suggestion without a line: %w", ErrPlace)
	}
	last := r.Last()
	from, fromEnd, ok := x.line(r.Line)
	to, toEnd, too := x.line(last)
	switch {
	case ok && !too && last == r.Line+1 && r.EndColumn == 1: // the whole of the last line
		to, toEnd = len(x.data), len(x.data)
	case !ok || !too:
		return Piece{}, fmt.Errorf("line %d: %w", last, ErrPlace)
	}
	p := Piece{From: from, To: toEnd, With: e.Text}
	if r.Column > 0 {
		if p.From, ok = columnAt(x.data, from, fromEnd, r.Column, unit); !ok {
			return Piece{}, fmt.Errorf("line %d, column %d: %w", r.Line, r.Column, ErrPlace)
		}
	}
	if r.EndColumn > 0 {
		if p.To, ok = columnAt(x.data, to, toEnd, r.EndColumn, unit); !ok {
			return Piece{}, fmt.Errorf("line %d, column %d: %w", last, r.EndColumn, ErrPlace)
		}
	}
	if p.To < p.From {
		return Piece{}, fmt.Errorf("it ends before it begins: %w", ErrPlace)
	}
	return p, nil
}

// line is where a line begins and ends, its line feed excluded. The line after the last line feed counts.
func (x *Index) line(line int) (from, end int, ok bool) {
	switch {
	case line < 1 || line > len(x.starts):
		return 0, 0, false
	case line == len(x.starts):
		return x.starts[line-1], len(x.data), true
	}
	return x.starts[line-1], x.starts[line] - 1, true
}

// columnAt is the byte at which a column stands, up to the one after the line's last.
func columnAt(data []byte, from, end, column int, unit source.Columns) (int, bool) {
	line := string(data[from:end])
	at := source.Offset(line, column, unit)
	if at < len(line) {
		return from + at, true
	}
	// The end of the line, if that is what the column means.
	return end, column == 1 || source.Offset(line, column-1, unit) < len(line) || unit == source.Display
}

func (x *Index) resolveOffset(e finding.Edit, unit source.Columns) (Piece, error) {
	o := e.Offset
	if o.At < 0 || o.Length < 0 || o.At > len(x.data) || o.Length > len(x.data)-o.At { // a sum might overflow
		return Piece{}, fmt.Errorf("offset %d: %w", o.At, ErrPlace)
	}
	if o.Bytes {
		return Piece{o.At, o.At + o.Length, e.Text}, nil
	}
	from, ok := x.character(o.At, unit)
	to, too := x.character(o.At+o.Length, unit)
	if !ok || !too {
		return Piece{}, fmt.Errorf("offset %d: %w", o.At, ErrPlace)
	}
	return Piece{from, to, e.Text}, nil
}

// character is the byte at which a character begins, 0-based and counted in UTF-16 code units or in code points.
func (x *Index) character(n int, unit source.Columns) (at int, ok bool) {
	wide := unit == source.UTF16
	before, made := x.before[wide]
	if !made {
		count := 0
		for i, from := range x.starts {
			before = append(before, count)
			to := len(x.data)
			if i+1 < len(x.starts) {
				to = x.starts[i+1]
			}
			for from < to {
				r, size := utf8.DecodeRune(x.data[from:to])
				from, count = from+size, count+width(r, wide)
			}
		}
		x.before[wide] = before
	}
	line, found := slices.BinarySearch(before, n)
	if !found {
		line--
	}
	for at, n = x.starts[line], n-before[line]; n > 0 && at < len(x.data); {
		r, size := utf8.DecodeRune(x.data[at:])
		at, n = at+size, n-width(r, wide)
	}
	return at, n == 0
}

// width is how many characters a rune counts as.
func width(r rune, wide bool) int {
	if wide && r > 0xFFFF {
		return 2
	}
	return 1
}
