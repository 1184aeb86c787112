package editor

import (
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"zincdoor/internal/core/source"
)

// document is a file as an editor has it open. What is handed out of one isn't written to afterwards.
type document struct {
	file    string // on this machine; "" for what isn't a file
	version int
	text    []byte
}

// fileOf is the file that an address of the editor's names; "" where it names none.
func fileOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" || u.Host != "" && u.Host != "localhost" {
		return ""
	}
	path := u.Path
	if len(path) > 2 && path[0] == '/' && path[2] == ':' { // a drive
		path = path[1:]
	}
	if strings.ContainsRune(path, 0) {
		return ""
	}
	return filepath.Clean(filepath.FromSlash(path))
}

// uriOf is the address of a file.
func uriOf(file string) string {
	path := filepath.ToSlash(file)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	return (&url.URL{Scheme: "file", Path: path}).String()
}

// lineStarts are where the lines of a text begin. They end with \n, \r\n or \r (Language Server Protocol 3.17, Text Documents).
func lineStarts(text []byte) []int {
	starts := []int{0}
	for i, c := range text {
		if c == '\n' || c == '\r' && (i+1 == len(text) || text[i+1] != '\n') {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// index is a text with where its lines begin for the editor, and how that counts characters.
type index struct {
	text   []byte
	starts []int
	unit   source.Columns
}

func newIndex(text []byte, unit source.Columns) *index { return &index{text, lineStarts(text), unit} }

// offset is the byte that a position means. One behind the end of its line means that end; one behind the last line the end of the text.
func (x *index) offset(p position) int {
	if p.Line < 0 {
		return 0
	}
	if p.Line >= len(x.starts) {
		return len(x.text)
	}
	at, end := x.starts[p.Line], x.lineEnd(p.Line)
	for n := p.Character; n > 0 && at < end; {
		r, size := utf8.DecodeRune(x.text[at:end])
		if n -= width(r, size, x.unit); n < 0 && x.unit == source.Bytes {
			break // within a character
		}
		at += size
	}
	return at
}

// lineEnd is where a line ends, what ends it excluded.
func (x *index) lineEnd(line int) int {
	if line+1 == len(x.starts) {
		return len(x.text)
	}
	end := x.starts[line+1] - 1
	if end > x.starts[line] && x.text[end] == '\n' && x.text[end-1] == '\r' {
		end--
	}
	return end
}

// width is how much a character counts.
func width(r rune, size int, unit source.Columns) int {
	switch {
	case unit == source.Bytes:
		return size
	case unit == source.UTF16 && r > 0xFFFF:
		return 2
	}
	return 1
}

// position is where a byte stands.
func (x *index) position(at int) position {
	line, found := slices.BinarySearch(x.starts, at)
	if !found {
		line--
	}
	p := position{Line: line}
	for from, to := x.starts[line], min(at, len(x.text)); from < to; {
		r, size := utf8.DecodeRune(x.text[from:to])
		p.Character += width(r, size, x.unit)
		from += size
	}
	return p
}

// span is from one byte to another.
func (x *index) span(from, to int) span { return span{x.position(from), x.position(to)} }

// apply makes the changes of an edit, one after the other.
func (d *document) apply(changes []contentChange, unit source.Columns) {
	for _, c := range changes {
		if c.Range == nil {
			d.text = []byte(c.Text)
			continue
		}
		x := newIndex(d.text, unit)
		from, to := x.offset(c.Range.Start), x.offset(c.Range.End)
		to = max(from, to)
		d.text = slices.Concat(d.text[:from], []byte(c.Text), d.text[to:])
	}
}
