package spelling

import (
	"bytes"

	"zincdoor/internal/core/comment"
)

// Named reports whether a word is a name, or part of one, in the code of a file, or stands there between quotes or backquotes: a comment
// that has it speaks of that name.
func Named(file string, text []byte, word string) bool {
	parts := comment.Parts(file, text)
	within := func(from, to int) bool {
		for at := from; ; {
			n := bytes.Index(text[at:to], []byte(word))
			if n < 0 {
				return false
			}
			at += n
			before := at == from || !isLetter(text[at-1]) || isUpper(text[at]) && !isUpper(text[at-1])
			end := at + len(word)
			after := end == to || !isLetter(text[end]) || isUpper(text[end]) && !isUpper(text[end-1])
			if before && after {
				return true
			}
			at = end
		}
	}
	for _, p := range parts {
		switch p.Kind {
		case comment.Code:
			if within(p.From, p.To) {
				return true
			}
		case comment.Quoted:
			if !sentence(text[p.From:p.To]) && within(p.From, p.To) {
				return true
			}
		default:
			for rest := p.From; rest < p.To; { // between backquotes
				open := bytes.IndexByte(text[rest:p.To], '`')
				if open < 0 {
					break
				}
				open += rest
				shut := bytes.IndexByte(text[open+1:p.To], '`')
				if shut < 0 {
					break
				}
				if within(open+1, open+1+shut) {
					return true
				}
				rest = open + shut + 2
			}
		}
	}
	return false
}
