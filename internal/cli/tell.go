package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"zincdoor/internal/render"
)

// terminalColumns is how wide the terminal is that w leads to, 0 where it leads to none.
func terminalColumns(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// tell writes sentences for people, on a terminal within its width.
func (p *program) tell(w io.Writer, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	columns := terminalColumns(w)
	if columns < leastHelp {
		io.WriteString(w, text)
		return
	}
	var all strings.Builder
	for line := range strings.Lines(text) {
		line, end := strings.TrimSuffix(line, "\n"), strings.HasSuffix(line, "\n")
		lead := line[:len(line)-len(strings.TrimLeft(line, " "))]
		for i, part := range render.Wrap(strings.TrimLeft(line, " "), columns-len(lead)-2) {
			if i > 0 {
				all.WriteString("\n" + lead + "  ")
			} else {
				all.WriteString(lead)
			}
			all.WriteString(part)
		}
		if end {
			all.WriteByte('\n')
		}
	}
	io.WriteString(w, all.String())
}
