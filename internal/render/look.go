package render

import (
	"io"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"
)

// look is how a terminal shows things: greys of zinc, and one colour that says what shuts the door.
type look struct {
	palette
	plain style

	touched, untouched string // the gutter beside a line of code
	shut, open         string // the door
	full, empty        string // a cell of a bar
	cut, arrow         string // where something was left out; from a number to a greater one
	columns            int
	live               bool // a terminal shows it
}

const (
	defaultColumns = 100 // where output isn't a terminal
	leastColumns   = 40
	mostColumns    = 140 // beyond it lines get hard to read
)

func lookFor(w io.Writer) look {
	l := look{
		palette: paletteFor(w),
		touched: "┃", untouched: "┆", shut: "▐█▌", open: "▐ ▌", full: "▪", empty: "·", cut: "…", arrow: " → ", columns: defaultColumns,
	}
	if !unicodeLocale() {
		l.touched, l.untouched, l.shut, l.open, l.cut = "#", "|", "[#]", "[ ]", "..."
		l.full, l.empty = "#", "."
		l.arrow = " -> "
	}
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		l.columns = columns
	}
	if f, ok := w.(*os.File); ok {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil {
			l.columns, l.live = columns, true
		}
	}
	l.columns = min(max(l.columns, leastColumns), mostColumns)
	return l
}

// unicodeLocale reports whether the environment says that characters beyond ASCII can be shown.
func unicodeLocale() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := strings.ToUpper(os.Getenv(name)); value != "" {
			return strings.Contains(value, "UTF-8") || strings.Contains(value, "UTF8")
		}
	}
	return false
}
