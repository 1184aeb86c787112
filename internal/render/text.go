package render

import (
	"iter"
	"strings"

	"github.com/rivo/uniseg"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/pattern"
)

// escape is a sequence that a terminal obeys and doesn't show: colours and the like, and links.
var escape = pattern.Of("^\x1b(?:\\[[0-?]*[ -/]*[@-~]|\\][^\x07\x1b]*(?:\x07|\x1b\\\\))")

// cells cuts a text into what a terminal shows as one character, each with how many cells it takes. Escape sequences are
// handed on with none.
func cells(text string) iter.Seq2[string, int] {
	return func(yield func(string, int) bool) {
		state := -1
		for text != "" {
			var one string
			var wide int
			if text[0] == '\x1b' {
				one, state = escape.FindString(text), -1
			}
			if one != "" {
				text = text[len(one):]
			} else {
				one, text, wide, state = uniseg.FirstGraphemeClusterInString(text, state)
			}
			if !yield(one, wide) {
				return
			}
		}
	}
}

// width is how many cells a text takes.
func width(text string) (n int) {
	for _, wide := range cells(text) {
		n += wide
	}
	return n
}

// truncate fits a text into so many cells; where something is cut off, the tail stands in its place. Escape sequences stay.
func truncate(text string, room int, tail string) string {
	if width(text) <= room {
		return text
	}
	if room -= width(tail); room < 0 {
		return ""
	}
	var fitted strings.Builder
	used, full := 0, false
	for one, wide := range cells(text) {
		if wide > 0 && !full && used+wide > room {
			full = true
			fitted.WriteString(tail)
		}
		if !full || one[0] == '\x1b' {
			used += wide
			fitted.WriteString(one)
		}
	}
	return fitted.String()
}

// Truncate fits a text into so many cells.
func Truncate(text string, room int) string { return truncate(text, room, "") }

// cut is what is in the cells from left up to right of a text. A character that reaches into them from the left stands
// there whole.
func cut(text string, left, right int) string {
	var inside strings.Builder
	at := 0
	for one, wide := range cells(text) {
		if at+wide > right {
			break
		}
		if at += wide; at > left {
			inside.WriteString(one)
		}
	}
	return inside.String()
}

// Wrap breaks a text into lines of so many cells at most: at blanks, which are left out there, and after a slash or a
// hyphen; within a word only where it is longer than a line. Line ends of its own stay.
func Wrap(text string, room int) (lines []string) {
	for paragraph := range strings.SplitSeq(text, "\n") {
		lines = append(lines, wrapLine(paragraph, room)...)
	}
	return lines
}

func wrapLine(text string, room int) (lines []string) {
	var line, blanks, word strings.Builder
	used, blank, long := 0, 0, 0 // cells of these
	end := func() {
		lines = append(lines, line.String())
		line.Reset()
		blanks.Reset()
		used, blank = 0, 0
	}
	put := func() {
		if long == 0 && word.Len() == 0 {
			return
		}
		if used > 0 && used+blank+long > room {
			end()
		}
		line.WriteString(blanks.String() + word.String())
		used += blank + long
		blanks.Reset()
		word.Reset()
		blank, long = 0, 0
	}
	for one, wide := range cells(text) {
		if one == " " || one == "\t" {
			put()
			blanks.WriteString(one)
			blank++
			continue
		}
		if long+wide > room {
			put()
			end()
		}
		word.WriteString(one)
		long += wide
		if one == "/" || one == "-" {
			put()
		}
	}
	put()
	if used+blank <= room {
		line.WriteString(blanks.String())
	}
	return append(lines, line.String())
}

// ids are the names by which commands take a finding: its own, and that of the entry or base finding that it is recognised
// by where that is another.
func ids(f judge.Finding) string {
	if f.EntryID == "" || f.EntryID == f.ID {
		return f.ID
	}
	return f.ID + ", entry " + f.EntryID
}
