package spelling

import (
	"bytes"
	"unicode/utf8"

	"zincdoor/internal/core/comment"
)

// Names notes which of some words, in lower case, are names in the code of a file or parts of them, or are between quotes there where that
// isn't for people, or between backquotes in a comment: who writes such a word in a comment speaks of that name.
func (f *File) Names(words map[string]bool) {
	n := namer{words: words}
	for _, p := range f.parts {
		switch {
		case p.Kind == comment.Code, p.Kind == comment.Quoted && !sentence(f.text[p.From:p.To]):
			n.add(f.text[p.From:p.To])
		case p.Kind != comment.Quoted:
			rest := f.text[p.From:p.To]
			for {
				open := bytes.IndexByte(rest, '`')
				if open < 0 {
					break
				}
				inside, after, closed := bytes.Cut(rest[open+1:], []byte("`"))
				if !closed {
					break
				}
				n.add(inside)
				rest = after
			}
		}
	}
}

// namer notes which words are names.
type namer struct {
	words map[string]bool
	lower []byte // a name in lower case
}

// note notes a name, if it is asked for.
func (n *namer) note(name []byte) {
	n.lower = n.lower[:0]
	for _, c := range name {
		if isUpper(c) {
			c |= 0x20
		}
		n.lower = append(n.lower, c)
	}
	if named, asked := n.words[string(n.lower)]; asked && !named {
		n.words[string(n.lower)] = true
	}
}

// add notes the runs of letters of a stretch, and the parts that these have by their capitals.
func (n *namer) add(text []byte) {
	letter := func(c byte) bool { return isLetter(c) || c >= utf8.RuneSelf }
	for at := 0; at < len(text); {
		if !letter(text[at]) {
			at++
			continue
		}
		end := at
		for end < len(text) && letter(text[end]) {
			end++
		}
		run := text[at:end]
		if len(run) >= shortest {
			n.note(run)
		}
		for from, i := 0, 1; i <= len(run); i++ {
			if i == len(run) || isUpper(run[i]) && !isUpper(run[i-1]) || i+1 < len(run) && isUpper(run[i]) && !isUpper(run[i+1]) {
				if i-from >= shortest && i-from < len(run) {
					n.note(run[from:i])
				}
				from = i
			}
		}
		at = end
	}
}

// IsForeign reports whether so many of the words of a file are unknown that it is in another language.
func IsForeign(words, unknown int) bool { return words >= 40 && 4*unknown > words }
