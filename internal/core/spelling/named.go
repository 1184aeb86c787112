package spelling

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"zincdoor/internal/core/comment"
)

// NamesIn are the names in the code of a file and their parts, with what is between quotes there and isn't for people, or between
// backquotes in a comment: who writes such a word in a comment speaks of that name. They are in lower case.
func NamesIn(file string, text []byte) map[string]bool {
	names := map[string]bool{}
	for _, p := range comment.Parts(file, text) {
		switch {
		case p.Kind == comment.Code, p.Kind == comment.Quoted && !sentence(text[p.From:p.To]):
			addNames(names, text[p.From:p.To])
		case p.Kind != comment.Quoted:
			rest := text[p.From:p.To]
			for {
				open := bytes.IndexByte(rest, '`')
				if open < 0 {
					break
				}
				inside, after, closed := bytes.Cut(rest[open+1:], []byte("`"))
				if !closed {
					break
				}
				addNames(names, inside)
				rest = after
			}
		}
	}
	return names
}

// addNames adds the runs of letters of a stretch, and the parts that these have by their capitals.
func addNames(names map[string]bool, text []byte) {
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
			names[strings.ToLower(string(run))] = true
		}
		for from, i := 0, 1; i <= len(run); i++ {
			if i == len(run) || isUpper(run[i]) && !isUpper(run[i-1]) || i+1 < len(run) && isUpper(run[i]) && !isUpper(run[i+1]) {
				if i-from >= shortest && i-from < len(run) {
					names[strings.ToLower(string(run[from:i]))] = true
				}
				from = i
			}
		}
		at = end
	}
}

// IsForeign reports whether so many of the words of a file are unknown that it is in another language.
func IsForeign(words, unknown int) bool { return words >= 40 && 4*unknown > words }
