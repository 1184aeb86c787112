package measure

import (
	"bytes"
	"unicode/utf8"
)

// kind is what a token is.
type kind int

const (
	word kind = iota
	number
	quoted
	sign
)

// token is one token: a word, a number, a text between quotes, or a sign. Comments, white space and the preprocessor's lines are none.
type token struct {
	kind      kind
	text      string
	line, end int // the lines on which it begins and ends
	indent    int // how far in its line begins, where it is the first token there; else -1
}

// branch is the text of a token that stands where the preprocessor chooses between lines: what is counted there is never compiled all
// at once.
const branch = "#if"

// signs are those of more than one character, the longest first.
var signs = []string{"<<=", ">>=", "...", "===", "!==", "&&", "||", "??", "?.", "?:", "::", "->", "=>", ":=", "==", "!=", "<=", ">=", "++", "--", "+=", "-=", "*=", "/=", "<<"}

// longSigns are the bytes that signs of more than one character begin with.
var longSigns = func() (is [256]bool) {
	for _, s := range signs {
		is[s[0]] = true
	}
	return is
}()

// lexer cuts a text into tokens.
type lexer struct {
	*language
	text   []byte
	shared string // text, which the tokens' texts are part of
	at     int
	line   int
	start  int // where the line begins
	first  bool
	tokens []token
}

// bytesPerToken is about how many bytes of code there are to each token.
const bytesPerToken = 6

// lex cuts a text into tokens, whose texts keep all of the text in memory. It takes any text: what isn't closed goes on to the end of
// its line, or of the text.
func (l *language) lex(text []byte) []token {
	x := &lexer{language: l, text: text, shared: string(text), line: 1, first: true, tokens: make([]token, 0, len(text)/bytesPerToken+8)}
	for x.at < len(text) {
		x.next()
	}
	return x.tokens
}

func (x *lexer) next() {
	c := x.text[x.at]
	switch {
	case c == '\n':
		x.at++
		x.newLine()
	case c <= ' ':
		x.at++
	case x.macros && c == '#' && x.first:
		x.macro()
	case x.comment():
	case x.primes && c == '\'':
		x.prime()
	case x.quote():
	case x.regex && c == '/' && x.mayBePattern() && x.pattern():
	case isWord(c):
		x.word()
	default:
		x.sign()
	}
}

func (x *lexer) newLine() {
	x.line++
	x.start, x.first = x.at, true
}

// mark is where a token begins.
type mark struct{ at, line, indent int }

// begin notes that a token begins here.
func (x *lexer) begin() mark {
	m := mark{x.at, x.line, -1}
	if x.first {
		m.indent = indentOf(x.text[x.start:x.at])
	}
	return m
}

// add adds the token that ends here.
func (x *lexer) add(k kind, from mark) {
	end := x.line
	if x.text[x.at-1] == '\n' { // what isn't closed goes on to the end of the text
		end--
	}
	x.tokens = append(x.tokens, token{kind: k, text: x.shared[from.at:x.at], line: from.line, end: end, indent: from.indent})
	x.first = false
}

// indentOf is how far in a line begins behind some white space: a tab goes to the next multiple of eight.
func indentOf(space []byte) (n int) {
	for _, c := range space {
		if c == '\t' {
			n += 8 - n%8
		} else {
			n++
		}
	}
	return n
}

// pass goes on to a place, and counts the lines on the way.
func (x *lexer) pass(to int) {
	for x.at < to {
		x.at++
		if x.text[x.at-1] == '\n' {
			x.newLine()
		}
	}
}

// comment passes a comment by.
func (x *lexer) comment() bool {
	rest := x.text[x.at:]
	for _, open := range x.language.line {
		if bytes.HasPrefix(rest, []byte(open)) {
			x.at += lineLength(rest)
			return true
		}
	}
	for _, b := range x.block {
		if !bytes.HasPrefix(rest, []byte(b[0])) {
			continue
		}
		first := x.first
		depth, at := 1, len(b[0])
		for depth > 0 && at < len(rest) {
			switch {
			case bytes.HasPrefix(rest[at:], []byte(b[1])):
				depth, at = depth-1, at+len(b[1])
			case x.nested && bytes.HasPrefix(rest[at:], []byte(b[0])):
				depth, at = depth+1, at+len(b[0])
			default:
				at++
			}
		}
		x.pass(x.at + at)
		x.first = x.first || first
		return true
	}
	return false
}

// lineLength is the length of what a text has of its first line, without the line feed.
func lineLength(text []byte) int {
	if n := bytes.IndexByte(text, '\n'); n >= 0 {
		return n
	}
	return len(text)
}

// macro passes a line of the preprocessor by. Of the stretches that it chooses between the first counts that may be taken.
func (x *lexer) macro() {
	line := x.line
	switch name, rest := x.directive(); name {
	case "if", "ifdef", "ifndef":
		x.tokens = append(x.tokens, token{kind: sign, text: branch, line: line, end: x.line, indent: -1})
		if name == "if" && rest == "0" {
			x.skip(true)
		}
	case "else", "elif", "elifdef", "elifndef":
		x.skip(false)
	}
}

// directive reads a line of the preprocessor, with those that it goes on in: its name, and what follows that.
func (x *lexer) directive() (name, rest string) {
	from := x.at + 1
	for {
		n := lineLength(x.text[x.at:])
		whole := x.text[x.at : x.at+n]
		x.at += n
		if !bytes.HasSuffix(bytes.TrimSuffix(whole, []byte("\r")), []byte(`\`)) || x.at >= len(x.text) {
			break
		}
		x.at++
		x.newLine()
	}
	words := bytes.TrimSpace(x.text[from:x.at])
	n := 0
	for n < len(words) && words[n] >= 'a' && words[n] <= 'z' {
		n++
	}
	return string(words[:n]), string(bytes.TrimSpace(words[n:]))
}

// skip passes by all lines up to the end of a choice, or, where others may be taken, up to these.
func (x *lexer) skip(others bool) {
	depth := 0
	for x.at < len(x.text) {
		if x.text[x.at] == '\n' {
			x.at++
			x.newLine()
			continue
		}
		if line := bytes.TrimLeft(x.text[x.at:x.at+lineLength(x.text[x.at:])], " \t"); len(line) == 0 || line[0] != '#' {
			x.at += lineLength(x.text[x.at:])
			continue
		}
		for x.text[x.at] != '#' {
			x.at++
		}
		switch name, _ := x.directive(); name {
		case "if", "ifdef", "ifndef":
			depth++
		case "else", "elif", "elifdef", "elifndef":
			if depth == 0 && others {
				return
			}
		case "endif":
			if depth--; depth < 0 {
				return
			}
		}
	}
}

// quote reads a text between quotes.
func (x *lexer) quote() bool {
	rest := x.text[x.at:]
	for _, q := range x.quotes {
		if !bytes.HasPrefix(rest, []byte(q.open)) {
			continue
		}
		x.read(q)
		return true
	}
	return false
}

func (x *lexer) read(q quote) {
	from := x.begin()
	at := x.at + len(q.open)
	for at < len(x.text) {
		rest := x.text[at:]
		switch {
		case q.escape && rest[0] == '\\' && len(rest) > 1:
			at += 2
		case q.doubled && bytes.HasPrefix(rest, []byte(q.shut+q.shut)):
			at += 2 * len(q.shut)
		case bytes.HasPrefix(rest, []byte(q.shut)):
			x.pass(at + len(q.shut))
			x.add(quoted, from)
			return
		case rest[0] == '\n' && !q.long:
			x.pass(at)
			x.add(quoted, from)
			return
		default:
			at++
		}
	}
	x.pass(len(x.text))
	x.add(quoted, from)
}

// prime reads a character, or the name of a lifetime.
func (x *lexer) prime() {
	from := x.begin()
	rest := x.text[x.at+1:]
	switch {
	case len(rest) > 1 && rest[0] == '\\':
		if n := bytes.IndexByte(rest[2:], '\''); n >= 0 && n < 10 {
			x.at += 1 + 2 + n + 1
			x.add(quoted, from)
			return
		}
	case len(rest) > 0:
		if _, size := utf8.DecodeRune(rest); size < len(rest) && rest[size] == '\'' && rest[0] != '\n' {
			x.at += 1 + size + 1
			x.add(quoted, from)
			return
		}
	}
	x.at++
	x.add(sign, from)
}

// mayBePattern reports whether a value may begin here, rather than go on: a / then opens a pattern.
func (x *lexer) mayBePattern() bool {
	if len(x.tokens) == 0 {
		return true
	}
	switch last := x.tokens[len(x.tokens)-1]; last.kind {
	case word:
		return last.text == "return" || last.text == "typeof" || last.text == "case" || last.text == "in" || last.text == "of"
	case sign:
		return last.text != ")" && last.text != "]" && last.text != "}"
	}
	return false
}

// longestPattern bounds how far the end of a pattern is looked for, in bytes.
const longestPattern = 1000

// pattern reads a pattern between slashes, if one ends in this line.
func (x *lexer) pattern() bool {
	inClass := false
	for at := x.at + 1; at < min(len(x.text), x.at+longestPattern) && x.text[at] != '\n'; at++ {
		switch c := x.text[at]; {
		case c == '\\':
			at++
		case c == '[':
			inClass = true
		case c == ']':
			inClass = false
		case c == '/' && !inClass:
			from := x.begin()
			x.at = at + 1
			x.add(quoted, from)
			return true
		}
	}
	return false
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= utf8.RuneSelf
}

func (x *lexer) word() {
	from := x.begin()
	k := word
	if c := x.text[x.at]; c >= '0' && c <= '9' {
		k = number
	}
	for x.at < len(x.text) {
		c := x.text[x.at]
		inside := isWord(c)
		if k == number && !inside && x.at+1 < len(x.text) { // 1.5, 0x1p-3, 1'000
			after := x.text[x.at+1]
			before := x.text[x.at-1] | 0x20
			inside = (c == '.' || c == '\'') && after >= '0' && after <= '9' || (c == '-' || c == '+') && before == 'e' && after >= '0' && after <= '9'
		}
		if !inside {
			break
		}
		x.at++
	}
	x.add(k, from)
}

func (x *lexer) sign() {
	from := x.begin()
	for _, s := range signs {
		if !longSigns[x.text[x.at]] {
			break
		}
		if bytes.HasPrefix(x.text[x.at:], []byte(s)) {
			x.at += len(s)
			x.add(sign, from)
			return
		}
	}
	x.at++
	x.add(sign, from)
}
