package comment

import "strings"

// Write writes words as a comment with a line of its own in a file. It is false where it isn't known how comments are written there.
func Write(file, words string) (line string, ok bool) {
	s, known := syntaxOf(file)
	switch {
	case !known:
		return "", false
	case len(s.line) > 0:
		return s.line[0] + " " + words, true
	case len(s.block) > 0 && !strings.Contains(words, s.block[0][1]):
		return s.block[0][0] + " " + words + " " + s.block[0][1], true
	}
	return "", false
}
