// Package render knows how a verdict is shown: to a person at a terminal and to a program. It decides nothing about
// the verdict.
package render

import (
	"fmt"
	"io"
	"text/template"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/verdictfile"
)

// The formats.
const (
	Terminal = "terminal"
	JSON     = "json"
	SARIF    = "sarif"
	JUnit    = "junit"
	Markdown = "markdown"
	HTML     = "html"
	Template = "template"
	Review   = "review"
	Sealed   = "sealed" // signed, for whom Options.Seal is set
)

// Formats lists the names of all formats.
var Formats = []string{Terminal, JSON, SARIF, JUnit, Markdown, HTML, Template, Review}

// Options say how a verdict is shown. The zero value shows in a terminal what broke a limit, by file.
type Options struct {
	Show    Show // which findings; "" for those that broke a limit, as many as a person reads at once
	Group   Group
	Context int      // how many lines are shown around each finding
	Brief   bool     // an open door takes a line, and so does each notice
	Quiet   bool     // nothing but the outcome
	Part    []string // globs of the files whose findings are shown; empty for all
	Verbose bool     // all that there is to a finding
	Plain   bool     // in words alone, without colours and drawn signs, for screen readers

	// Text gives the text of a file that a finding stands in, nil where it isn't known.
	Text func(path string) *source.Text
	// Touched reports whether a line is of the change; nil where no line's is known.
	Touched func(path string, line int) bool
	// Rule gives what a finding's tool says about its rule.
	Rule func(f *finding.Finding) (finding.Rule, bool)

	Seal     func() ([]byte, error) // the verdict sealed; nil for a verdict that can't be
	Template *template.Template     // of the format template
	Sets     map[string][]string    // the policy's sets of paths, by which a page has sections

	List string // the command that lists what was counted, "" for none
	Fix  string // the command that fixes what can be fixed, "" for none

	Like      io.Writer // the terminal that it is for, where it isn't written there at once; nil for where it is written
	MaxLength int       // how many characters Markdown may have; 0 for MarkdownLength
	Link      string    // an address with {path}, {line} and {commit} for a line of the judged state; "" for none
}

func (o Options) text(path string) *source.Text {
	if o.Text == nil {
		return nil
	}
	return o.Text(path)
}

// Verdict writes a verdict in a format.
func Verdict(w io.Writer, format string, v judge.Verdict, o Options) error {
	switch format {
	case Terminal:
		return writeTerminal(w, v, o)
	case JSON:
		return verdictfile.Write(w, v)
	case SARIF:
		return writeSARIF(w, v, o)
	case JUnit:
		return writeJUnit(w, v)
	case Markdown:
		return writeMarkdown(w, v, o)
	case HTML:
		return writeHTML(w, v, o)
	case Template:
		return writeTemplate(w, v, o)
	case Review:
		return writeReview(w, v, o)
	case Sealed:
		return writeSealed(w, o)
	}
	return fmt.Errorf("no output format is called %q", format)
}
