package cli

import (
	"strings"
	"testing"

	"github.com/rivo/uniseg"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// TestHelp: every command says what it is for, has an example, and its options stand in groups; nothing is wider than a terminal.
func TestHelp(t *testing.T) {
	p := &program{options: map[*cobra.Command][]options{}}
	var visit func(cmd *cobra.Command)
	visit = func(cmd *cobra.Command) {
		grouped := map[string]bool{}
		for _, g := range p.optionsOf(cmd) {
			g.flags.VisitAll(func(f *pflag.Flag) {
				grouped[f.Name] = true
				if f.Usage == "" || strings.Contains(f.Usage, "`") {
					t.Errorf("%s --%s: %q", cmd.CommandPath(), f.Name, f.Usage)
				}
				if len(f.Usage) > 70 {
					t.Errorf("%s --%s: %d letters are too long for a line of help", cmd.CommandPath(), f.Name, len(f.Usage))
				}
				for _, value := range f.Annotations[valueKey] {
					if value != "" && value == f.DefValue {
						t.Errorf("%s --%s: its value is called as its default", cmd.CommandPath(), f.Name)
					}
				}
			})
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if !grouped[f.Name] {
				t.Errorf("%s --%s is in no group", cmd.CommandPath(), f.Name)
			}
		})
		if cmd.Short == "" || len(cmd.Short) > 70 && cmd.HasParent() || cmd.Long == "" || cmd.Example == "" && !cmd.HasSubCommands() {
			t.Errorf("%s: short %q, long %q, example %q", cmd.CommandPath(), cmd.Short, cmd.Long, cmd.Example)
		}
		var help strings.Builder
		writeHelp(&help, cmd, p.optionsOf(cmd), helpWidth)
		for line := range strings.Lines(help.String()) {
			if line = strings.TrimSuffix(line, "\n"); uniseg.StringWidth(line) > helpWidth {
				t.Errorf("%s: a line of %d columns: %s", cmd.CommandPath(), uniseg.StringWidth(line), line)
			}
		}
		for _, c := range cmd.Commands() {
			visit(c)
		}
	}
	visit(p.root())
}
