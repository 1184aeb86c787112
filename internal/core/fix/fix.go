// Package fix knows how what tools suggest becomes a new text: which suggestions can be taken together, on which lines,
// and what the text is then. It reads and writes no file.
package fix

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Piece puts a text in the place of the bytes from From to To.
type Piece struct {
	From, To int
	With     string
}

// Suggestion is a suggestion of how to fix something.
type Suggestion struct {
	Index    int    // of what it fixes, as its caller counts
	Tool     string // who suggests it
	Edits    []finding.Edit
	Columns  source.Columns
	Declined string // why its caller doesn't want it, "" where it does
}

// Text is a file as it may be fixed.
type Text struct {
	Data    []byte
	Binary  bool   // it isn't text: only edits by bytes can be made
	Refused string // why it can't be, "" where it can
}

// Left is a suggestion that wasn't taken, by its position among those that were given, and why.
type Left struct {
	Position int
	Why      string
}

// Plan is what is done to files.
type Plan struct {
	Pieces map[string][]Piece // by path, in order
	Taken  []int              // the suggestions taken, by their positions
	Left   []Left
}

// Choose takes the suggestions that go together, in their order: the surest first. One is taken whole or not at all, and only where
// all of it lies on lines that may be altered. It takes time in proportion to the texts and the suggestions.
func Choose(suggestions []Suggestion, text func(path string) Text, may func(path string, line int) bool) *Plan {
	c := &chooser{text: text, may: may, files: map[string]*file{}}
	p := &Plan{Pieces: map[string][]Piece{}}
	for i, s := range suggestions {
		if why := c.take(s); why != "" {
			p.Left = append(p.Left, Left{i, why})
			continue
		}
		p.Taken = append(p.Taken, i)
	}
	for path, f := range c.files {
		if len(f.pieces) > 0 {
			p.Pieces[path] = f.pieces
		}
	}
	return p
}

// chooser takes one suggestion after the other.
type chooser struct {
	text  func(path string) Text
	may   func(path string, line int) bool
	files map[string]*file
}

// file is a file with the pieces that are taken of it, in order.
type file struct {
	Text
	index  *Index
	digest string // SHA-256 in hexadecimal digits, "" until it is needed
	pieces []Piece
}

func (c *chooser) file(path string) *file {
	f, known := c.files[path]
	if !known {
		text := c.text(path)
		f = &file{Text: text, index: NewIndex(text.Data)}
		c.files[path] = f
	}
	return f
}

// take takes the pieces of a suggestion, or says why it doesn't.
func (c *chooser) take(s Suggestion) (why string) {
	switch {
	case s.Declined != "":
		return s.Declined
	case len(s.Edits) == 0:
		return "nothing is suggested"
	}
	type put struct {
		file  *file
		piece Piece
	}
	var fresh []put
	for _, e := range s.Edits {
		f := c.file(e.Path)
		var piece Piece
		var at int
		piece, why = f.resolve(e, s.Columns)
		if why == "" {
			at, why = f.place(e.Path, piece)
		}
		if why == "" {
			why = c.forbids(f, e.Path, piece)
		}
		if why != "" {
			break
		}
		if at == len(f.pieces) || f.pieces[at] != piece {
			f.pieces = slices.Insert(f.pieces, at, piece)
			fresh = append(fresh, put{f, piece})
		}
	}
	for _, p := range fresh {
		if why != "" {
			at, _ := slices.BinarySearchFunc(p.file.pieces, p.piece, order)
			p.file.pieces = slices.Delete(p.file.pieces, at, at+1)
		}
	}
	return why
}

func order(a, b Piece) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) }

// resolve finds the piece that an edit means, or says why there is none.
func (f *file) resolve(e finding.Edit, unit source.Columns) (piece Piece, why string) {
	if f.Refused != "" {
		return Piece{}, fmt.Sprintf("%s: %s", e.Path, f.Refused)
	}
	if f.Binary && (e.Offset == nil || !e.Offset.Bytes) {
		return Piece{}, fmt.Sprintf("%s isn't text", e.Path)
	}
	piece, err := f.index.Resolve(e, unit)
	if err != nil {
		return Piece{}, fmt.Sprintf("%s: %v", e.Path, err)
	}
	if e.Hash != "" && f.digest == "" {
		sum := sha256.Sum256(f.Data)
		f.digest = hex.EncodeToString(sum[:])
	}
	if e.Hash != "" && !strings.EqualFold(e.Hash, f.digest) {
		return Piece{}, fmt.Sprintf("%s isn't the text it was made for", e.Path)
	}
	if e.Was != "" && string(f.Data[piece.From:piece.To]) != e.Was {
		return Piece{}, fmt.Sprintf("it is for %q, and the text there in %s is another", e.Was, e.Path)
	}
	return piece, ""
}

// place finds where a piece goes among those that are taken, or says that it overlaps one of them. A piece that is there already
// goes where that is.
func (f *file) place(path string, piece Piece) (at int, why string) {
	at, _ = slices.BinarySearchFunc(f.pieces, piece, order)
	first, _ := slices.BinarySearchFunc(f.pieces, piece.From, func(p Piece, from int) int { return cmp.Compare(p.To, from) })
	for i := first; i < len(f.pieces) && f.pieces[i].From <= piece.To; i++ {
		switch other := f.pieces[i]; {
		case other == piece:
			return i, ""
		case piece.From < other.To && other.From < piece.To, piece.From == piece.To, other.From == other.To:
			line, _ := f.index.Lines(piece)
			return 0, fmt.Sprintf("it overlaps another fix at line %d of %s", line, path)
		}
	}
	return at, ""
}

// forbids says which line of a piece may not be altered, if one mayn't.
func (c *chooser) forbids(f *file, path string, piece Piece) string {
	first, last := f.index.Lines(piece)
	between := piece.From == piece.To && strings.HasSuffix(piece.With, "\n") && (piece.From == 0 || f.Data[piece.From-1] == '\n') // new lines before a line, after another one
	for line := first; line <= last; line++ {
		if !c.may(path, line) && !(between && line > 1 && c.may(path, line-1)) {
			return fmt.Sprintf("it would alter line %d of %s, which the change doesn't touch", line, path)
		}
	}
	return ""
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
