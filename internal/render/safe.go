package render

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Safe makes text from a report, a diff or a file name fit for a terminal: what would steer the terminal, or turn the
// direction of writing, is shown as its code instead. Line feeds and tabs become blanks.
func Safe(s string) string {
	if !strings.ContainsFunc(s, steers) {
		return s
	}
	var out strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\t':
			out.WriteByte(' ')
		case steers(r):
			fmt.Fprintf(&out, "<%02X>", r)
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// steers reports whether a rune does anything but show a sign: controls, format characters other than the joiners of
// emoji, line separators, and what is no character at all.
func steers(r rune) bool {
	switch r {
	case '\u200D', '\uFE0F', '\u00AD':
		return false
	case '\u2028', '\u2029':
		return true
	}
	return unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Co, r)
}

// untab is a line of code fit for a terminal, with tabs widened to the next multiple of four cells.
func untab(line string) string {
	const stop = 4
	if strings.IndexByte(line, '\t') < 0 {
		return Safe(line)
	}
	var out strings.Builder
	for i, part := range strings.Split(line, "\t") {
		if i > 0 {
			for blanks := stop - width(out.String())%stop; blanks > 0; blanks-- {
				out.WriteByte(' ')
			}
		}
		out.WriteString(Safe(part))
	}
	return out.String()
}

// clipBytes is the beginning of a text, at most so many bytes of it.
func clipBytes(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most]
}
