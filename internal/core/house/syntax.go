package house

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// syntaxOf makes a check of the files with one of the endings, by the rule's parser.
func syntaxOf(endings string) func(t *text, s *Setting) {
	return func(t *text, s *Setting) {
		parse := t.syntax[s.Kind]
		dot := strings.LastIndexByte(t.Path, '.')
		if parse == nil || t.Mode == Link || dot < 0 || !slices.Contains(strings.Fields(endings), strings.ToLower(t.Path[dot:])) {
			return
		}
		if len(t.Data) > mostBytes {
			t.unread(s, fmt.Sprintf("it is over %d MiB long", mostBytes>>20))
			return
		}
		switch f := parse(t.Data); {
		case f == nil:
		case f.Unread:
			t.unread(s, f.Text)
		default:
			line, column := f.Line, max(f.Column-1, 0)
			if lines := bytes.Count(t.Data, []byte{'\n'}); line > max(lines, 1) && bytes.HasSuffix(t.Data, []byte{'\n'}) { // at the end
				line, column = lines, 0
			}
			t.find(s, line, column, column+1, nil, "%s", f.Text)
		}
	}
}
