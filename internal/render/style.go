package render

import (
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// style is how a text is coloured: the attributes of a terminal's "select graphic rendition" (ECMA-48, 8.3.117), "" for
// none.
type style string

// Render colours a text.
func (s style) Render(text string) string {
	if s == "" || text == "" {
		return text
	}
	return "\x1b[" + string(s) + "m" + text + "\x1b[0m"
}

// bold is the same style in bold letters; without colours there are none.
func (s style) bold() style {
	if s == "" {
		return s
	}
	return "1;" + s
}

// palette are the colours of a look.
type palette struct{ bold, faint, zinc, signal style }

// paletteFor gives what can be shown: nothing where no terminal shows it, where NO_COLOR is set or the terminal is a dumb
// one; 256 colours where the terminal says that it has them, else the usual 16.
func paletteFor(w io.Writer) palette {
	file, ok := w.(*os.File)
	forced := os.Getenv("CLICOLOR_FORCE") != "" && os.Getenv("CLICOLOR_FORCE") != "0"
	kind := os.Getenv("TERM")
	switch {
	case os.Getenv("NO_COLOR") != "", !forced && !(ok && term.IsTerminal(int(file.Fd()))), kind == "dumb", kind == "" && !forced:
		return palette{}
	case strings.Contains(kind, "256color") || os.Getenv("COLORTERM") != "":
		return palette{bold: "1", faint: "38;5;243", zinc: "38;5;66", signal: "1;38;5;166"}
	}
	return palette{bold: "1", faint: "90", zinc: "36", signal: "1;31"}
}
