package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
)

// Reference writes what every command takes, as Markdown: from the command tree, so that it never says less than the program.
func Reference(w io.Writer) error {
	p := &program{in: strings.NewReader(""), out: w, err: w, options: map[*cobra.Command][]options{}}
	var text strings.Builder
	text.WriteString("# Reference\n\nEvery command with its options, as `zincdoor help COMMAND` shows them.\n")
	p.reference(&text, p.root())
	_, err := io.WriteString(w, text.String())
	return err
}

func (p *program) reference(w *strings.Builder, cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		if !c.IsAvailableCommand() && c.Name() != "help" {
			continue
		}
		c.InitDefaultHelpFlag()
		fmt.Fprintf(w, "\n## %s\n\n```text\n", c.CommandPath())
		var help strings.Builder
		groups := p.optionsOf(c)
		writeHelp(&help, c, groups[:len(groups)-1], helpWidth)
		fmt.Fprintf(w, "%s```\n", help.String())
		p.reference(w, c)
	}
	if !cmd.HasParent() {
		w.WriteString("\n## Options of every command\n\n```text\n")
		groups := p.optionsOf(cmd)
		for _, line := range flagLines(groups[len(groups)-1].flags, helpWidth) {
			w.WriteString(line + "\n")
		}
		w.WriteString("```\n")
	}
}
