// Package spelling knows misspelt words: which words of a text are to be looked at, which of them no dictionary has, and what was
// probably meant. It doesn't know where dictionaries come from.
package spelling

import (
	"bytes"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"zincdoor/internal/core/comment"
)

// Word is a word of a file: bytes from From up to To of the text.
type Word struct {
	Text     string // as it is written; of a name its part
	From, To int
	Name     bool // it is part of a name in code
}

// Of how many letters a word is that is looked at, at least, and of how many bytes at most.
const (
	shortest = 4
	longest  = 40
)

// File is a file whose words are looked at.
type File struct {
	path  string
	text  []byte
	parts []comment.Part
}

// NewFile cuts a file into what is for people and what isn't. The text is kept, and must stay as it is.
func NewFile(path string, text []byte) *File { return &File{path, text, comment.Parts(path, text)} }

// Words hands over the words of a file that are looked at, in order: those of comments, of what is between quotes and reads like a
// sentence, and of files that are all prose; with names also those that names in code are made of. Addresses, paths, numbers, code
// between backquotes and words shorter than four letters are passed by.
func (f *File) Words(names bool, see func(w Word)) {
	r := &reader{text: f.text, names: names, see: see, markdown: isMarkdown(f.path), markup: isMarkup(f.path)}
	for _, p := range f.parts {
		switch p.Kind {
		case comment.Prose:
			r.prose(p.From, p.To)
		case comment.Comment:
			r.comment(p.From, p.To)
		case comment.Quoted:
			if sentence(f.text[p.From:p.To]) {
				r.escapes = true
				r.lines(p.From, p.To, r.line)
				r.escapes = false
			}
		case comment.Code:
			if names {
				r.lines(p.From, p.To, r.code)
			}
		}
	}
}

func isMarkdown(file string) bool {
	switch strings.ToLower(path.Ext(file)) {
	case ".html", ".htm", ".xhtml", ".txt":
		return false
	}
	return comment.IsProse(file)
}

func isMarkup(file string) bool {
	switch strings.ToLower(path.Ext(file)) {
	case ".html", ".htm", ".xhtml", ".md", ".markdown":
		return true
	}
	return false
}

// reader reads the words of a text.
type reader struct {
	text             []byte
	names            bool
	markdown, markup bool
	escapes          bool // \ and the character behind it are no letters
	see              func(w Word)

	element  string         // of markup, whose text is no prose and that is open, as it is written
	closings map[string]int // where an element is closed for the last time
}

// sentence reports whether a text between quotes is for people: three words or more.
func sentence(text []byte) bool {
	words := 0
	for word := range bytes.FieldsSeq(text) {
		plain := len(word) > 1
		for _, c := range bytes.TrimRight(word, ".,:;!?") {
			plain = plain && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '\'' || c == '-' || c >= utf8.RuneSelf)
		}
		if plain {
			if words++; words == 3 {
				return true
			}
		}
	}
	return false
}

// lines hands over the lines of a stretch.
func (r *reader) lines(from, to int, see func(from, to int)) {
	for from < to {
		end := from + bytes.IndexByte(r.text[from:to], '\n')
		if end < from {
			end = to
		}
		see(from, end)
		from = end + 1
	}
}

// prose reads a file that is for people. Of Markdown and its like, code that is fenced or indented is passed by, in quotations too.
func (r *reader) prose(from, to int) {
	fence, blank := "", true
	front := r.markdown && bytes.HasPrefix(r.text, []byte("---\n"))
	first := true
	r.lines(from, to, func(from, to int) {
		line := string(r.text[from:to])
		trimmed := strings.TrimSpace(line)
		quoted := strings.TrimLeft(trimmed, "> ")
		switch {
		case front:
			front = first || trimmed != "---"
		case !r.markdown:
			r.line(from, to)
		case fence != "":
			if strings.HasPrefix(quoted, fence) {
				fence = ""
			}
		case strings.HasPrefix(quoted, "```"), strings.HasPrefix(quoted, "~~~"):
			fence = quoted[:run(quoted, quoted[0])]
		case blank && (strings.HasPrefix(line, "    ") || strings.HasPrefix(line, "\t")) && !listed(trimmed):
			return // still blank: the code goes on
		default:
			r.line(from, to)
		}
		blank, first = trimmed == "", false
	})
}

// listed reports whether a line begins an item of a list.
func listed(line string) bool {
	return strings.HasPrefix(line, "- ") || strings.HasPrefix(line, "* ") || strings.HasPrefix(line, "+ ")
}

// comment reads a comment. What programs are told in comments, lines of code, and whose the text is are passed by.
func (r *reader) comment(from, to int) {
	r.lines(from, to, func(from, to int) {
		line := r.text[from:to]
		if isDirective(line) || isCode(line) || isOwned(line) {
			return
		}
		r.line(from, to)
	})
}

// isDirective reports whether a comment is for a program, like //go:generate or #!/bin/sh.
func isDirective(line []byte) bool {
	if len(line) > 0 && line[0] == '!' || bytes.Contains(line, []byte("SPDX-")) {
		return true
	}
	word, _, _ := bytes.Cut(line, []byte(":"))
	if len(word) == len(line) || len(word) == 0 {
		return false
	}
	for _, c := range word {
		if !(c >= 'a' && c <= 'z' || c == '-' || c == '_') {
			return false
		}
	}
	return true
}

// isCode reports whether a line of a comment is indented as code is.
func isCode(line []byte) bool {
	line = bytes.TrimLeft(line, "*/#;!")
	return bytes.HasPrefix(line, []byte("\t")) && len(bytes.TrimSpace(line)) > 0 || bytes.HasPrefix(line, []byte("     "))
}

// isOwned reports whether a line says whose the text is: it is full of names.
func isOwned(line []byte) bool {
	return bytes.Contains(line, []byte("opyright")) || bytes.Contains(line, []byte("Author"))
}

// line reads a line of words for people, chunk by chunk.
func (r *reader) line(from, to int) {
	ticks := 0 // of the code that goes on
	passed := false
	tags := bytes.LastIndexByte(r.text[from:to], '>') + from // the last place where one may end
	for at := from; at < to; {
		if r.element != "" {
			n := bytes.Index(r.text[at:to], []byte("</"+r.element))
			if n < 0 {
				return
			}
			at, r.element = at+n, ""
		}
		if r.text[at] <= ' ' {
			at++
			continue
		}
		if r.text[at] == '`' {
			n := run(r.text[at:to], '`')
			switch ticks {
			case 0:
				if bytes.Contains(r.text[at+n:to], bytes.Repeat([]byte("`"), n)) {
					ticks = n
				}
			case n:
				ticks = 0
			}
			at += n
			continue
		}
		if r.escapes && r.text[at] == '\\' {
			at += 2
			continue
		}
		end := at
		for end < to && r.text[end] > ' ' && r.text[end] != '`' && !(r.escapes && r.text[end] == '\\') && !(r.markup && r.text[end] == '<' && end > at) {
			end++
		}
		switch {
		case ticks > 0:
		case r.markup && bytes.HasPrefix(r.text[at:to], []byte("<!--")):
			end = at + len("<!--")
		case r.markup && at < tags && isTag(r.text[at:to]):
			end = at + bytes.IndexByte(r.text[at:to], '>') + 1
			r.open(at, end)
		case passed:
			passed = false
		default:
			chunk := r.text[at:end]
			passed = names[string(chunk)]
			if n := bytes.Index(chunk, []byte("](")); r.markdown && n > 0 {
				r.chunk(at, at+n)
			} else {
				r.chunk(at, end)
			}
		}
		at = end
	}
}

func run[T string | []byte](text T, c byte) (n int) {
	for n < len(text) && text[n] == c {
		n++
	}
	return n
}

// isTag reports whether a text begins with a tag of markup.
func isTag(text []byte) bool {
	return len(text) > 1 && text[0] == '<' && (isLetter(text[1]) || text[1] == '/' || text[1] == '!' || text[1] == '?')
}

// open notes that a tag opens an element whose text is no prose, where that is closed further on.
func (r *reader) open(from, to int) {
	name := r.text[from+1 : to-1]
	if n := bytes.IndexFunc(name, func(c rune) bool { return c > unicode.MaxASCII || !isLetter(byte(c)) }); n >= 0 {
		name = name[:n]
	}
	switch strings.ToLower(string(name)) {
	case "code", "kbd", "pre", "samp", "script", "style", "var":
	default:
		return
	}
	last, asked := r.closings[string(name)]
	if !asked {
		if r.closings == nil {
			r.closings = map[string]int{}
		}
		last = bytes.LastIndex(r.text, append([]byte("</"), name...))
		r.closings[string(name)] = last
	}
	if last >= to && !bytes.HasSuffix(r.text[:to], []byte("/>")) {
		r.element = string(name)
	}
}

// names are the words of comments that a name follows.
var names = map[string]bool{"@param": true, "@throws": true, "@exception": true, "@see": true, "\\param": true, ":param": true, "\\see": true, "@type": true}

// Signs around a word, and within what is no word.
var (
	around = signs("()[]{}<>\"'.,;:!?*_~|#+-=&^\\/")
	within = signs("/\\@_=<>{}()[]$%&|#*+:;^~\".0123456789")
)

func signs(all string) (is [256]bool) {
	for i := range len(all) {
		is[all[i]] = true
	}
	return is
}

// chunk reads what is between two blanks.
func (r *reader) chunk(from, to int) {
	for from < to && around[r.text[from]] {
		from++
	}
	for to > from && around[r.text[to-1]] {
		to--
	}
	chunk := r.text[from:to]
	switch {
	case len(chunk) < shortest, bytes.Contains(chunk, []byte("://")), bytes.HasPrefix(chunk, []byte("www.")), bytes.IndexByte(chunk, '@') >= 0:
	case codeLike(chunk):
		if r.names && bytes.IndexAny(chunk, "/\\.") < 0 {
			r.code(from, to)
		}
	default:
		r.word(from, to)
	}
}

// codeLike reports whether a chunk is a path, a number or a name: with signs or digits in it, capitals within, or nothing but capitals.
func codeLike(chunk []byte) bool {
	lower, upperWithin := false, false
	for i := 0; i < len(chunk); i++ {
		switch c := chunk[i]; {
		case within[c]:
			return true
		case c >= 'A' && c <= 'Z':
			upperWithin = upperWithin || i > 0 && chunk[i-1] != '-' && chunk[i-1] != '\''
		case c >= 'a' && c <= 'z':
			lower = true
		}
	}
	return upperWithin || !lower && chunk[0] < utf8.RuneSelf
}

// word hands over the words of a chunk of letters, hyphens and apostrophes.
func (r *reader) word(from, to int) {
	start := from
	end := func(at int) {
		text := r.text[start:at]
		text = bytes.Trim(text, "'")
		if len(text) <= longest && utf8.RuneCount(text) >= shortest {
			offset := start + bytes.Index(r.text[start:at], text)
			r.see(Word{Text: string(text), From: offset, To: offset + len(text)})
		}
	}
	for at := from; at < to; {
		c, size := utf8.DecodeRune(r.text[at:to])
		switch {
		case c == '\'', c == '\u2019', unicode.IsLetter(c), unicode.IsMark(c):
		default:
			end(at)
			start = at + size
		}
		at += size
	}
	end(to)
}

// code reads the names of a line of code: they come apart at capitals, digits and underscores. Lines that import something are passed
// by.
func (r *reader) code(from, to int) {
	line := bytes.TrimSpace(r.text[from:to])
	for _, word := range imports {
		if bytes.HasPrefix(line, []byte(word)) {
			return
		}
	}
	for at := from; at < to; {
		c := r.text[at]
		if !isLetter(c) {
			at++
			continue
		}
		end := at
		for end < to && (isLetter(r.text[end]) || r.text[end] == '_' || r.text[end] == '$' || r.text[end] >= '0' && r.text[end] <= '9' || r.text[end] >= utf8.RuneSelf) {
			end++
		}
		if !bytes.HasPrefix(r.text[at:end], []byte("0x")) {
			r.parts(at, end)
		}
		at = end
	}
}

var imports = []string{"import ", "from ", "using ", "use ", "package ", "#include", "require"}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func isUpper(c byte) bool { return c >= 'A' && c <= 'Z' }

// parts hands over the parts of a name.
func (r *reader) parts(from, to int) {
	at, loud := from, !bytes.ContainsFunc(r.text[from:to], unicode.IsLower)
	for at < to {
		if !isLetter(r.text[at]) {
			at++
			continue
		}
		end := at + 1
		if upper := isUpper(r.text[at]); upper && end < to && isUpper(r.text[end]) {
			for end < to && isUpper(r.text[end]) {
				end++
			}
			if end < to && isLetter(r.text[end]) { // HTTPServer
				end--
			}
		} else {
			for end < to && isLetter(r.text[end]) && !isUpper(r.text[end]) {
				end++
			}
		}
		short := !loud && end-at > 1 && isUpper(r.text[at+1]) // HTTP in a name that isn't all capitals
		if end-at >= shortest && end-at <= longest && !short && (end >= to || r.text[end] < utf8.RuneSelf) {
			r.see(Word{Text: string(r.text[at:end]), From: at, To: end, Name: true})
		}
		at = end
	}
}
