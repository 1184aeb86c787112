package comment

import (
	"bytes"
	"path"
	"strings"
)

// Kind is what a stretch of a text is.
type Kind int

// The kinds of stretches.
const (
	Code    Kind = iota
	Prose        // for people to read, as all of a guide is
	Comment      // without what opens and closes it
	Quoted       // between quotes, without these
)

// Part is a stretch of a text: bytes from From up to To.
type Part struct {
	Kind     Kind
	From, To int
}

// IsProse reports whether all of a file is for people to read, by its name.
func IsProse(file string) bool {
	name := strings.ToLower(path.Base(file))
	for _, kind := range []string{name, path.Ext(name)} {
		switch kind {
		case ".md", ".markdown", ".txt", ".rst", ".adoc", ".asciidoc", ".org", ".html", ".htm", ".xhtml", "readme", "changes", "changelog", "contributing", "news", "todo":
			return true
		}
	}
	return false
}

// Knows reports whether it is known how the comments of a file are written, or that all of it is for people.
func Knows(file string) bool {
	_, known := syntaxOf(file)
	return known || IsProse(file)
}

// Parts cuts a text into what is for people and what isn't, in order; nil where that isn't known of the file's kind.
func Parts(file string, text []byte) []Part {
	if IsProse(file) {
		return []Part{{Prose, 0, len(text)}}
	}
	s, known := syntaxOf(file)
	if !known {
		return nil
	}
	p := parting{syntax: s, text: text}
	var begins [256]bool // what a stretch may begin with
	for _, o := range s.line {
		begins[o[0]] = true
	}
	for _, b := range s.block {
		begins[b[0][0]] = true
	}
	for i := range len(s.quotes) {
		begins[s.quotes[i]] = true
	}
	for p.at < len(text) {
		if begins[text[p.at]] {
			p.next()
		} else {
			p.at++
		}
	}
	p.add(Code, p.code, len(text))
	return p.parts
}

// parting cuts a text.
type parting struct {
	syntax
	text  []byte
	at    int
	code  int // where the code began that goes on
	parts []Part
}

func (p *parting) add(k Kind, from, to int) {
	if to > from {
		p.parts = append(p.parts, Part{k, from, to})
	}
}

// found ends the code before a stretch, and goes on behind it.
func (p *parting) found(k Kind, start, from, to, end int) {
	p.add(Code, p.code, start)
	p.add(k, from, to)
	p.at, p.code = end, end
}

func (p *parting) next() {
	rest := p.text[p.at:]
	for _, b := range p.block {
		if !bytes.HasPrefix(rest, []byte(b[0])) {
			continue
		}
		from, to := p.at+len(b[0]), len(p.text)
		end := to
		if n := bytes.Index(p.text[from:], []byte(b[1])); n >= 0 {
			to = from + n
			end = to + len(b[1])
		}
		p.found(Comment, p.at, from, to, end)
		return
	}
	if !p.apart || p.at == 0 || p.text[p.at-1] <= ' ' {
		for _, o := range p.line {
			if bytes.HasPrefix(rest, []byte(o)) {
				end := p.at + lineEnd(rest)
				p.found(Comment, p.at, p.at+len(o), end, end)
				return
			}
		}
	}
	if c := rest[0]; strings.IndexByte(p.quotes, c) >= 0 && p.quoted(c) {
		return
	}
	p.at++
}

func lineEnd(text []byte) int {
	if n := bytes.IndexByte(text, '\n'); n >= 0 {
		return n
	}
	return len(text)
}

// quoted passes a text between quotes by, which ends in its line, or, of three quotes and of backquotes, anywhere.
func (p *parting) quoted(c byte) bool {
	open := []byte{c}
	long := c == '`'
	if triple := bytes.Repeat(open, 3); c != '`' && bytes.HasPrefix(p.text[p.at:], triple) {
		open, long = triple, true
	}
	from := p.at + len(open)
	for i := from; i < len(p.text); i++ {
		switch {
		case p.text[i] == '\\' && c != '`':
			i++
		case bytes.HasPrefix(p.text[i:], open):
			p.found(Quoted, p.at, from, i, i+len(open))
			return true
		case p.text[i] == '\n' && !long:
			return false
		}
	}
	return false
}
