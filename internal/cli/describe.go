package cli

import (
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Described is a command as its help has it, for manuals.
type Described struct {
	Path    string // as it is called: zincdoor baseline accept
	Short   string // a line, without a full stop
	Long    string // a paragraph a line; lines that begin with a blank stay as they are
	Usage   string
	Example string      // calls, one a line
	Beneath []Described // its commands, without theirs
	Options []DescribedOptions
}

// DescribedOptions are options that belong together.
type DescribedOptions struct {
	Heading string
	All     []DescribedOption
}

// DescribedOption is an option of a command.
type DescribedOption struct {
	Name   string   // as it is typed, with the name of its value: -C, --in DIR
	Usage  string   // what it means
	Values []string // those that it takes, where they are few
}

// Describe describes all commands in the order of the help, each before those beneath it.
func Describe() (all []Described) {
	cobra.EnableCommandSorting = false
	p := &program{options: map[*cobra.Command][]options{}}
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		cmd.InitDefaultHelpFlag()
		d := described(cmd)
		for _, g := range p.optionsOf(cmd) {
			if g.flags.HasFlags() {
				d.Options = append(d.Options, DescribedOptions{g.heading, describedOptions(g.flags)})
			}
		}
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				d.Beneath = append(d.Beneath, described(c))
			}
		}
		all = append(all, d)
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				walk(c)
			}
		}
	}
	walk(p.root())
	return all
}

func described(cmd *cobra.Command) Described {
	return Described{Path: cmd.CommandPath(), Short: cmd.Short, Long: cmd.Long, Usage: usageLine(cmd), Example: cmd.Example}
}

func describedOptions(flags *pflag.FlagSet) (all []DescribedOption) {
	flags.VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			all = append(all, DescribedOption{flagName(f), f.Usage, f.Annotations[valuesKey]})
		}
	})
	return all
}
