package report

import (
	"encoding/binary"
	"math/bits"
	"strconv"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// scan reads JSON (RFC 8259) from bytes that are all there, and says whether more are needed. It checks what it passes by:
// nothing malformed goes unseen. Its methods return false once something is wrong, and fault says what.
//
// It stands beside the JSON library because it pays: a log of 100,000 results is read, findings and all, in 0.35 s of user
// time, where the library takes 1.05 s to decode the results alone (BenchmarkLarge, in one run).
type scan struct {
	b     []byte
	i     int    // the next byte
	fault string // what is wrong at i; "" where b ends before the value does
	nest  []byte // the brackets that are open, while a value is skipped
}

// deepestJSON bounds how deep values may be nested.
const deepestJSON = 10_000

// short says that the bytes ended.
func (s *scan) short() bool {
	s.fault = ""
	return false
}

func (s *scan) bad(what string) bool {
	s.fault = what
	return false
}

// next passes white space by and looks at the byte after it.
func (s *scan) next() (c byte, ok bool) {
	for s.i < len(s.b) {
		c = s.b[s.i]
		if c > ' ' || c != ' ' && c != '\n' && c != '\t' && c != '\r' {
			return c, true
		}
		s.i++
	}
	return 0, s.short()
}

// take passes white space and one byte by.
func (s *scan) take(want byte) bool {
	c, ok := s.next()
	if !ok {
		return false
	}
	if c != want {
		return s.bad("'" + string(want) + "' is wanted here")
	}
	s.i++
	return true
}

// text is a string as it stands between its quotes.
type text struct {
	raw     []byte
	escaped bool
}

// string gives the string itself.
func (t text) string() string {
	if !t.escaped && utf8.Valid(t.raw) {
		return string(t.raw)
	}
	quoted := append(append([]byte{'"'}, t.raw...), '"')
	plain, _ := jsontext.AppendUnquote(nil, quoted) // invalid UTF-8 and lone surrogates become U+FFFD
	return string(plain)
}

const (
	lows  = 0x0101010101010101
	highs = 0x8080808080808080
)

// string reads a string that begins at the next byte.
func (s *scan) string() (t text, ok bool) {
	c, ok := s.next()
	if !ok {
		return t, false
	}
	if c != '"' {
		return t, s.bad("a string is wanted here")
	}
	b, i := s.b, s.i+1
	start := i
	for {
		for i+8 <= len(b) {
			w := binary.LittleEndian.Uint64(b[i:])
			quotes := w ^ ('"' * lows)
			slashes := w ^ ('\\' * lows)
			found := (quotes-lows)&^quotes&highs | (slashes-lows)&^slashes&highs | (w-' '*lows)&^w&highs
			if found != 0 {
				i += bits.TrailingZeros64(found) / 8
				break
			}
			i += 8
		}
		if i >= len(b) {
			return t, s.short()
		}
		switch c := b[i]; {
		case c == '"':
			t.raw = b[start:i]
			s.i = i + 1
			return t, true
		case c == '\\':
			t.escaped = true
			n, ok := s.escape(i)
			if !ok {
				return t, false
			}
			i += n
		case c < ' ':
			s.i = i
			return t, s.bad("a string contains a control character")
		default:
			i++
		}
	}
}

// escape gives the length of the escape at i.
func (s *scan) escape(i int) (n int, ok bool) {
	if i+1 >= len(s.b) {
		return 0, s.short()
	}
	switch s.b[i+1] {
	case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		return 2, true
	case 'u':
		for k := i + 2; k < i+6; k++ {
			if k >= len(s.b) {
				return 0, s.short()
			}
			if c := s.b[k]; (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'f') {
				s.i = k
				return 0, s.bad("an escape has four hexadecimal digits")
			}
		}
		return 6, true
	}
	s.i = i
	return 0, s.bad("no such escape")
}

// number reads a number. Where it ends the bytes, more may follow.
func (s *scan) number() (raw []byte, ok bool) {
	b, i := s.b, s.i
	start := i
	digits := func() bool {
		from := i
		for i < len(b) && b[i] >= '0' && b[i] <= '9' {
			i++
		}
		return i > from
	}
	if i < len(b) && b[i] == '-' {
		i++
	}
	switch {
	case i < len(b) && b[i] == '0':
		i++
	case !digits():
		return nil, s.numberFault(i)
	}
	if i < len(b) && b[i] == '.' {
		i++
		if !digits() {
			return nil, s.numberFault(i)
		}
	}
	if i < len(b) && b[i]|0x20 == 'e' {
		i++
		if i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		if !digits() {
			return nil, s.numberFault(i)
		}
	}
	if i >= len(b) {
		return nil, s.short()
	}
	s.i = i
	return b[start:i], true
}

func (s *scan) numberFault(i int) bool {
	if i >= len(s.b) {
		return s.short()
	}
	s.i = i
	return s.bad("this is no number")
}

// whole reads a whole number; plain is false for another number, which is passed by.
func (s *scan) whole() (n int, plain, ok bool) {
	c, ok := s.next()
	if !ok {
		return 0, false, false
	}
	if c != '-' && (c < '0' || c > '9') {
		return 0, false, s.skip()
	}
	raw, ok := s.number()
	if !ok {
		return 0, false, false
	}
	if len(raw) > 9 {
		return 0, false, true
	}
	for i, c := range raw {
		switch {
		case c >= '0' && c <= '9':
			n = n*10 + int(c-'0')
		case i == 0 && c == '-':
		default:
			return 0, false, true
		}
	}
	if raw[0] == '-' {
		n = -n
	}
	return n, true, true
}

func (s *scan) literal(word string) bool {
	for k := 0; k < len(word); k++ {
		if s.i+k >= len(s.b) {
			return s.short()
		}
		if s.b[s.i+k] != word[k] {
			return s.bad("no JSON value begins so")
		}
	}
	s.i += len(word)
	return true
}

// scalar passes a value by that isn't an object or array.
func (s *scan) scalar(c byte) bool {
	switch {
	case c == '"':
		_, ok := s.string()
		return ok
	case c == 't':
		return s.literal("true")
	case c == 'f':
		return s.literal("false")
	case c == 'n':
		return s.literal("null")
	case c == '-' || c >= '0' && c <= '9':
		_, ok := s.number()
		return ok
	}
	return s.bad("no JSON value begins so")
}

// skip passes a value of any kind by.
func (s *scan) skip() bool {
	s.nest = s.nest[:0]
	for {
		c, ok := s.next()
		if !ok {
			return false
		}
		opened := false
		switch c {
		case '{', '[':
			if len(s.nest) >= deepestJSON {
				return s.bad("values are nested more than " + strconv.Itoa(deepestJSON) + " deep")
			}
			s.nest = append(s.nest, c+2) // the bracket that closes it, in ASCII
			s.i++
			opened = true
		default:
			if !s.scalar(c) {
				return false
			}
		}
		for { // after a value, or at the beginning of an object or array
			if len(s.nest) == 0 {
				return true
			}
			closing := s.nest[len(s.nest)-1]
			c, ok := s.next()
			switch {
			case !ok:
				return false
			case c == closing:
				s.nest = s.nest[:len(s.nest)-1]
				s.i++
				opened = false
				continue
			case opened:
			case c != ',':
				return s.bad("',' or '" + string(closing) + "' is wanted here")
			default:
				s.i++
			}
			if closing == '}' {
				if _, ok := s.string(); !ok || !s.take(':') {
					return false
				}
			}
			break
		}
	}
}

// member goes on to the next member of an object that was opened: its name. It is false at the end, with fault set to
// atEnd.
func (s *scan) member(first bool) (name text, ok bool) {
	if !s.element('}', first) {
		return name, false
	}
	if name, ok = s.string(); !ok {
		return name, false
	}
	return name, s.take(':')
}

// atEnd is the fault of an object or array that has ended.
const atEnd = "\x00"

// element goes on to the next element of an array that was opened, or with another closing bracket of an object. It is
// false at the end, with fault set to atEnd.
func (s *scan) element(closing byte, first bool) bool {
	c, ok := s.next()
	switch {
	case !ok:
		return false
	case c == closing:
		s.i++
		return s.bad(atEnd)
	case first:
		return true
	case c != ',':
		return s.bad("',' or '" + string(closing) + "' is wanted here")
	}
	s.i++
	if c, ok = s.next(); ok && c == closing {
		return s.bad("a value is wanted here")
	}
	return ok
}

// ended reports whether an object or array has ended, rather than gone wrong.
func (s *scan) ended() bool { return s.fault == atEnd }
