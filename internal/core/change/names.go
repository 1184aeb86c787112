package change

import (
	"fmt"
	"strings"
)

// pathOf reads the path of a "--- " or "+++ " line: quoted as git quotes, or plain up to a tab (after which a time
// stamp or nothing stands).
func pathOf(line string) (string, error) {
	name := line[len("--- "):]
	if !strings.HasPrefix(name, `"`) {
		name, _, _ = strings.Cut(name, "\t")
	}
	return Unquote(name)
}

// splitNames cuts the two names of a "diff --git" line apart. Where neither is quoted it must find the blank at which
// both halves are the same path, since names may hold blanks; a rename's names come from later lines.
func splitNames(s string) (old, path string, ok bool) {
	if strings.HasPrefix(s, `"`) {
		end := closingQuote(s)
		if end < 0 || end+2 > len(s) {
			return "", "", false
		}
		old, err := Unquote(s[:end+1])
		path, fail := Unquote(strings.TrimPrefix(s[end+1:], " "))
		return old, path, err == nil && fail == nil
	}
	if plain, quoted, found := strings.Cut(s, ` "`); found {
		path, err := Unquote(`"` + quoted)
		return plain, path, err == nil
	}
	for i := 0; i < len(s); i++ {
		if s[i] != ' ' {
			continue
		}
		old, path = stripPrefixes(s[:i], s[i+1:])
		if old == path {
			return s[:i], s[i+1:], true
		}
	}
	return "", "", false
}

// stripPrefixes takes off the one-letter folders that git puts before the two sides ("a/" and "b/", or the pairs that
// name what is compared), where both sides have one.
func stripPrefixes(old, path string) (string, string) {
	prefixed := func(s string) bool {
		return len(s) > 2 && s[1] == '/' && strings.IndexByte("abciow12", s[0]) >= 0
	}
	if prefixed(old) && prefixed(path) {
		return old[2:], path[2:]
	}
	return old, path
}

func closingQuote(s string) int {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

// Unquote undoes git's quoting of unusual names: double quotes around, with the escapes of C inside. A name without
// quotes is returned as it is.
func Unquote(s string) (string, error) {
	if !strings.HasPrefix(s, `"`) {
		return s, nil
	}
	end := closingQuote(s)
	if end < 0 {
		return "", fmt.Errorf("the quoted name %s has no end", short(s))
	}
	var name []byte
	for i := 1; i < end; i++ {
		if s[i] != '\\' {
			name = append(name, s[i])
			continue
		}
		i++
		if at := strings.IndexByte(`abtnvfr"\`, s[i]); at >= 0 {
			name = append(name, "\a\b\t\n\v\f\r\"\\"[at])
			continue
		}
		if i+3 > end || !octal(s[i:i+3]) {
			return "", fmt.Errorf("the quoted name %s has an unknown escape", short(s))
		}
		name = append(name, (s[i]-'0')<<6|(s[i+1]-'0')<<3|(s[i+2]-'0'))
		i += 2
	}
	return string(name), nil
}

func octal(s string) bool {
	return s[0] >= '0' && s[0] <= '3' && s[1] >= '0' && s[1] <= '7' && s[2] >= '0' && s[2] <= '7'
}
