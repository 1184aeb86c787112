package finding

import "strings"

// Skeleton is a message without what may change while the fault stays: numbers become 0, quoted names lose what is
// between the quotes, and absolute paths their folders. Two messages with one skeleton say the same of different names
// and counts.
func Skeleton(message string) string {
	var out strings.Builder
	out.Grow(len(message))
	for i := 0; i < len(message); {
		c := message[i]
		switch {
		case c == '/' || c == '\\':
			if n := foldersLength(message, i); n > 0 {
				i += n
				out.WriteByte('/')
				continue
			}
			out.WriteByte(c)
			i++
		case c >= '0' && c <= '9':
			i += numberLength(message[i:])
			out.WriteByte('0')
		case c == '\'' || c == '"' || c == '`':
			if n := quotedLength(message[i:]); n > 0 && !insideWord(message, i) {
				i += n
				out.WriteString("''")
				continue
			}
			out.WriteByte(c)
			i++
		default:
			out.WriteByte(c)
			i++
		}
	}
	return out.String()
}

// SharedWords is the share of the words of two messages that are in both.
func SharedWords(a, b string) float64 {
	words := map[string]bool{}
	for word := range strings.FieldsSeq(a) {
		words[word] = false
	}
	all := len(words)
	both := 0
	for word := range strings.FieldsSeq(b) {
		seen, known := words[word]
		switch {
		case !known:
			words[word] = true
			all++
		case !seen:
			words[word] = true
			both++
		}
	}
	if all == 0 {
		return 1
	}
	return float64(both) / float64(all)
}

// numberLength is the length of the number, decimal or hexadecimal, at the start of s.
func numberLength(s string) int {
	if len(s) > 2 && s[0] == '0' && s[1]|0x20 == 'x' {
		n := 2
		for n < len(s) && strings.IndexByte("0123456789abcdefABCDEF", s[n]) >= 0 {
			n++
		}
		return n
	}
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// foldersLength is the length of the folders of the absolute path at i, up to its last separator; 0 where there is none.
func foldersLength(s string, i int) int {
	if i > 0 && s[i-1] != ' ' && s[i-1] != '(' && s[i-1] != ':' && s[i-1] != '=' && s[i-1] != '[' {
		return 0
	}
	last := 0
	for n := i; n < len(s) && strings.IndexByte(" \t\n:,;()[]'\"`<>", s[n]) < 0; n++ {
		if s[n] == s[i] {
			last = n - i
		}
	}
	if last == 0 {
		return 0
	}
	return last + 1
}

// quotedLength is the length of the quotation at the start of s with both its quotes, 0 where it has no end.
func quotedLength(s string) int {
	closing := s[0]
	if closing == '`' {
		closing = '\''
		if tick := strings.IndexByte(s[1:], '`'); tick >= 0 {
			closing = '`'
		}
	}
	end := strings.IndexByte(s[1:], closing)
	if end < 0 {
		return 0
	}
	return end + 2
}

// insideWord reports whether the quote at i is an apostrophe, as in "doesn't".
func insideWord(s string, i int) bool {
	letter := func(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
	return s[i] == '\'' && i > 0 && i+1 < len(s) && letter(s[i-1]) && letter(s[i+1])
}
