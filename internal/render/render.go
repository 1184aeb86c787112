// Package render knows how a verdict is shown: to a person at a terminal and to a program. It decides nothing about
// the verdict.
package render

import (
	"fmt"
	"io"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
)

// The formats.
const (
	Terminal = "terminal"
	JSON     = "json"
)

// Formats lists the names of all formats.
var Formats = []string{Terminal, JSON}

// Options say how a verdict is shown.
type Options struct {
	ByTeam bool // in the terminal, the findings of each team together
	// Text gives the text of a file that a finding stands in, nil where it isn't known.
	Text func(path string) *source.Text
	Like io.Writer // the terminal that it is for, where it isn't written there at once; nil for where it is written
}

// Verdict writes a verdict in a format.
func Verdict(w io.Writer, format string, v judge.Verdict, o Options) error {
	switch format {
	case Terminal:
		return writeTerminal(w, v, o)
	case JSON:
		return writeJSON(w, v)
	}
	return fmt.Errorf("no output format is called %q", format)
}
