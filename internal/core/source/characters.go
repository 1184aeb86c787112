package source

import (
	"unicode"
	"unicode/utf8"
)

// InName reports whether a character may stand within a name: a letter, a digit or an underscore.
func InName(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

// InvalidUTF8 is the first byte, from 0, that isn't part of a character in UTF-8; -1 where there is none.
func InvalidUTF8(data []byte) int {
	if utf8.Valid(data) {
		return -1
	}
	at := 0
	for {
		r, size := utf8.DecodeRune(data[at:])
		if r == utf8.RuneError && size < 2 {
			return at
		}
		at += size
	}
}
