// Package fix knows how what tools suggest becomes a new text: which suggestions can be taken together, on which lines,
// and what the text is then. It reads and writes no file.
package fix

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Piece puts a text in the place of the bytes from From to To.
type Piece struct {
	From, To int
	With     string
}

// Suggestion is a suggestion of how to mend something.
type Suggestion struct {
	Index   int    // of what it mends, as its caller counts
	Tool    string // who suggests it
	Edits   []finding.Edit
	Columns source.Columns
}

// Text is a file as it may be mended.
type Text struct {
	Data    []byte
	Binary  bool   // it isn't text: only edits by bytes can be made
	Refused string // why it can't be, "" where it can
}

// Left is an offer that wasn't taken, and why.
type Left struct {
	Index int
	Why   string
}

// Plan is what is done to files.
type Plan struct {
	Pieces map[string][]Piece // by path, in order
	Taken  []int              // the offers' indices
	Left   []Left
}

// Choose takes the offers that go together, in their order: the surest first. An offer is taken whole or not at all, and
// only where all of it lies on lines that may be altered.
func Choose(offers []Suggestion, text func(path string) Text, may func(path string, line int) bool) *Plan {
	p := &Plan{Pieces: map[string][]Piece{}}
	for _, o := range offers {
		if why := p.take(o, text, may); why != "" {
			p.Left = append(p.Left, Left{o.Index, why})
			continue
		}
		p.Taken = append(p.Taken, o.Index)
	}
	for _, pieces := range p.Pieces {
		slices.SortFunc(pieces, order)
	}
	return p
}

func order(a, b Piece) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) }

// take adds an offer's pieces, or says why it can't.
func (p *Plan) take(o Suggestion, text func(path string) Text, may func(path string, line int) bool) string {
	if len(o.Edits) == 0 {
		return "nothing is suggested"
	}
	fresh := map[string][]Piece{}
	for _, e := range o.Edits {
		t := text(e.Path)
		if t.Refused != "" {
			return fmt.Sprintf("%s: %s", e.Path, t.Refused)
		}
		if t.Binary && (e.Offset == nil || !e.Offset.Bytes) {
			return fmt.Sprintf("%s isn't text", e.Path)
		}
		piece, err := Resolve(t.Data, e, o.Columns)
		if err != nil {
			return fmt.Sprintf("%s: %v", e.Path, err)
		}
		if sum := sha256.Sum256(t.Data); e.Hash != "" && !strings.EqualFold(e.Hash, hex.EncodeToString(sum[:])) {
			return fmt.Sprintf("%s isn't the text that it was made for", e.Path)
		}
		if e.Was != "" && string(t.Data[piece.From:piece.To]) != e.Was {
			return fmt.Sprintf("it is about %q, and at that place of %s stands another text", e.Was, e.Path)
		}
		first, last := Lines(t.Data, piece)
		between := piece.From == piece.To && strings.HasSuffix(piece.With, "\n") && (piece.From == 0 || t.Data[piece.From-1] == '\n') // new lines before a line, after another one
		for line := first; line <= last; line++ {
			if !may(e.Path, line) && !(between && line > 1 && may(e.Path, line-1)) {
				return fmt.Sprintf("it would alter line %d of %s, which the change doesn't touch", line, e.Path)
			}
		}
		for _, other := range slices.Concat(p.Pieces[e.Path], fresh[e.Path]) {
			if other != piece && piece.From <= other.To && other.From <= piece.To && (piece.From < other.To && other.From < piece.To || piece.From == piece.To || other.From == other.To) {
				return fmt.Sprintf("it overlaps another one at line %d of %s", first, e.Path)
			}
		}
		fresh[e.Path] = append(fresh[e.Path], piece)
	}
	for path, pieces := range fresh {
		for _, piece := range pieces {
			if !slices.Contains(p.Pieces[path], piece) {
				p.Pieces[path] = append(p.Pieces[path], piece)
			}
		}
	}
	return ""
}

// Lines are the lines that a piece alters, 1-based and inclusive. One that ends at the beginning of a line doesn't alter
// that.
func Lines(data []byte, p Piece) (first, last int) {
	first = 1 + bytes.Count(data[:p.From], []byte{'\n'})
	last = first + bytes.Count(data[p.From:p.To], []byte{'\n'})
	if last > first && p.To > 0 && data[p.To-1] == '\n' {
		last--
	}
	return first, last
}

// ErrPlace is the error of an edit whose place the text doesn't have.
var ErrPlace = errors.New("the text has no such place")

// Resolve finds the bytes that an edit is about. A region without columns is its lines without the last line's end; one
// without an end column goes to the end of its last line (SARIF 2.1.0, 3.30).
func Resolve(data []byte, e finding.Edit, unit source.Columns) (Piece, error) {
	if o := e.Offset; o != nil {
		return resolveOffset(data, e, unit)
	}
	if e.Bytes {
		unit = source.Bytes
	}
	r := e.Region
	if r.Line < 1 {
		return Piece{}, fmt.Errorf("a suggestion without a line: %w", ErrPlace)
	}
	last := r.Last()
	from, fromEnd, ok := lineAt(data, r.Line)
	to, toEnd, too := lineAt(data, last)
	switch {
	case ok && !too && last == r.Line+1 && r.EndColumn == 1: // the whole of the last line
		to, toEnd = len(data), len(data)
	case !ok || !too:
		return Piece{}, fmt.Errorf("line %d: %w", last, ErrPlace)
	}
	p := Piece{From: from, To: toEnd, With: e.Text}
	if r.Column > 0 {
		if p.From, ok = columnAt(data, from, fromEnd, r.Column, unit); !ok {
			return Piece{}, fmt.Errorf("line %d, column %d: %w", r.Line, r.Column, ErrPlace)
		}
	}
	if r.EndColumn > 0 {
		if p.To, ok = columnAt(data, to, toEnd, r.EndColumn, unit); !ok {
			return Piece{}, fmt.Errorf("line %d, column %d: %w", last, r.EndColumn, ErrPlace)
		}
	}
	if p.To < p.From {
		return Piece{}, fmt.Errorf("it ends before it begins: %w", ErrPlace)
	}
	return p, nil
}

// lineAt is where a line begins and ends, its line feed excluded. The line after the last line feed counts.
func lineAt(data []byte, line int) (from, end int, ok bool) {
	for ; line > 1; line-- {
		i := bytes.IndexByte(data[from:], '\n')
		if i < 0 {
			return 0, 0, false
		}
		from += i + 1
	}
	if end = bytes.IndexByte(data[from:], '\n'); end < 0 {
		return from, len(data), true
	}
	return from, from + end, true
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

func resolveOffset(data []byte, e finding.Edit, unit source.Columns) (Piece, error) {
	o := e.Offset
	if o.Bytes {
		if o.At < 0 || o.Length < 0 || o.At > len(data) || o.Length > len(data)-o.At { // a sum might overflow
			return Piece{}, fmt.Errorf("byte %d: %w", o.At, ErrPlace)
		}
		return Piece{o.At, o.At + o.Length, e.Text}, nil
	}
	from, ok := skip(data, 0, o.At, unit)
	to, too := skip(data, from, o.Length, unit)
	if !ok || !too {
		return Piece{}, fmt.Errorf("character %d: %w", o.At, ErrPlace)
	}
	return Piece{from, to, e.Text}, nil
}

// skip passes so many characters by, in UTF-16 code units or in code points.
func skip(data []byte, at, characters int, unit source.Columns) (int, bool) {
	for characters > 0 && at < len(data) {
		r, size := utf8.DecodeRune(data[at:])
		characters--
		if unit == source.UTF16 && r > 0xFFFF {
			characters--
		}
		at += size
	}
	return at, characters == 0
}

// Apply gives the text with the pieces, which are in order and apart.
func Apply(data []byte, pieces []Piece) []byte {
	var out []byte
	at := 0
	for _, p := range pieces {
		out = append(append(out, data[at:p.From]...), p.With...)
		at = p.To
	}
	return append(out, data[at:]...)
}
