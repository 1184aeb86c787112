package cli

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var update = flag.Bool("update", false, "write docs/reference.md anew")

const referenceFile = "../../docs/reference.md"

// TestReference: the reference in the docs, which is made from the command tree, says what the commands do.
func TestReference(t *testing.T) {
	p := &program{options: map[*cobra.Command][]options{}}
	var text strings.Builder
	text.WriteString("# Reference\n\nEvery command with its options, as `zincdoor help COMMAND` shows them.\n")
	p.reference(&text, p.root())
	if *update {
		if err := os.WriteFile(referenceFile, []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if data, err := os.ReadFile(referenceFile); err != nil || string(data) != text.String() {
		t.Errorf("docs/reference.md is out of date (%v): go test ./internal/cli -run TestReference -update", err)
	}
}

func (p *program) reference(w *strings.Builder, cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		if !c.IsAvailableCommand() {
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
