package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

// The layout of help, in columns.
const (
	helpWidth = 80
	leastHelp = 40
	mostNames = 24 // of a flag with its value's name; a longer one has its line
)

// showHelp writes the help of a command: what it is for, how it is called, examples, then its options by their groups.
func (p *program) showHelp(cmd *cobra.Command) {
	columns := helpWidth
	if width := terminalColumns(p.out); width > 0 {
		columns = min(max(width, leastHelp), helpWidth)
	}
	writeHelp(p.out, cmd, p.optionsOf(cmd), columns)
}

// optionsOf are a command's own options, and those that every command has.
func (p *program) optionsOf(cmd *cobra.Command) []options {
	p.ready(cmd)
	everywhere := pflag.NewFlagSet("", pflag.ContinueOnError)
	everywhere.SortFlags = false
	for _, name := range []string{"in", "help", "version"} {
		if f := cmd.Flag(name); f != nil {
			everywhere.AddFlag(f)
		} else if f := cmd.InheritedFlags().Lookup(name); f != nil {
			everywhere.AddFlag(f)
		}
	}
	return append(slices.Clone(p.options[cmd]), options{"Every command", everywhere})
}

func writeHelp(w io.Writer, cmd *cobra.Command, groups []options, columns int) {
	for _, line := range paragraphs(cmd.Long, columns) {
		fmt.Fprintln(w, line)
	}
	fmt.Fprintf(w, "\nUsage\n  %s\n", usageLine(cmd))
	if cmd.Example != "" {
		fmt.Fprintln(w, "\nExamples")
		for _, line := range strings.Split(cmd.Example, "\n") {
			fmt.Fprintf(w, "  %s\n", line)
		}
	}
	writeCommands(w, cmd, columns)
	for _, g := range groups {
		if !g.flags.HasFlags() {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", g.heading)
		for _, line := range flagLines(g.flags, columns) {
			fmt.Fprintln(w, line)
		}
	}
	if cmd.HasSubCommands() {
		fmt.Fprintf(w, "\n%s COMMAND --help says more of a command.\n", cmd.CommandPath())
	}
}

// usageLine is how a command is called.
func usageLine(cmd *cobra.Command) string {
	switch {
	case cmd.HasSubCommands():
		return cmd.CommandPath() + " COMMAND"
	case cmd.HasParent():
		return cmd.Parent().CommandPath() + " " + cmd.Use + " [OPTION]..."
	}
	return cmd.Use
}

// paragraphs wraps text for people. A paragraph is one line of it; lines that begin with a blank stay as they are.
func paragraphs(text string, columns int) (lines []string) {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, " ") {
			lines = append(lines, line)
			continue
		}
		lines = append(lines, render.Wrap(line, columns)...)
	}
	return lines
}

func writeCommands(w io.Writer, cmd *cobra.Command, columns int) {
	width := 0
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			width = max(width, len(c.Name()))
		}
	}
	write := func(heading, id string) {
		first := true
		for _, c := range cmd.Commands() {
			if !c.IsAvailableCommand() || c.GroupID != id {
				continue
			}
			if first {
				fmt.Fprintf(w, "\n%s\n", heading)
				first = false
			}
			writeEntry(w, c.Name(), c.Short, width, columns)
		}
	}
	for _, g := range cmd.Groups() {
		write(g.Title, g.ID)
	}
	write("Commands", "")
}

// writeEntry writes a name and what it is, the latter from the same column on.
func writeEntry(w io.Writer, name, what string, width, columns int) {
	for _, line := range entryLines(name, what, width, columns) {
		fmt.Fprintln(w, line)
	}
}

func entryLines(name, text string, width, columns int) (lines []string) {
	lead := strings.Repeat(" ", width+4)
	start := fmt.Sprintf("  %-*s  ", width, name)
	if len(name) > width {
		lines = append(lines, "  "+name)
		start = lead
	}
	for _, part := range render.Wrap(text, columns-len(lead)) {
		lines = append(lines, start+part)
		start = lead
	}
	return lines
}

// flagLines are flags with what they mean, and below it the values they take.
func flagLines(flags *pflag.FlagSet, columns int) (lines []string) {
	width := 0
	flags.VisitAll(func(f *pflag.Flag) {
		if n := len(flagName(f)); n <= mostNames {
			width = max(width, n)
		}
	})
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		lines = append(lines, entryLines(flagName(f), f.Usage, width, columns)...)
		lines = append(lines, listLines(f.Annotations[valuesKey], width+4, columns)...)
	})
	return lines
}

// valueKey marks the name of the value that a flag takes.
const valueKey = "zincdoor_value"

// nameValues takes the names of values out of the flags' texts, where they stand in backquotes: within the sentence, or before it
// with a bar.
func nameValues(flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		if _, done := f.Annotations[valueKey]; done {
			return
		}
		value, usage := pflag.UnquoteUsage(f)
		f.Usage = strings.TrimPrefix(usage, value+"|")
		if err := flags.SetAnnotation(f.Name, valueKey, []string{value}); err != nil {
			panic(err)
		}
	})
}

// listLines lists words from a column on, none of them broken.
func listLines(words []string, from, columns int) (lines []string) {
	line := ""
	for i, word := range words {
		if i+1 < len(words) {
			word += ","
		}
		if line != "" && from+len(line)+1+len(word) > columns {
			lines = append(lines, strings.Repeat(" ", from)+line)
			line = ""
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	if line != "" {
		lines = append(lines, strings.Repeat(" ", from)+line)
	}
	return lines
}

// flagName is a flag as it is typed, with its short form and the name of its value.
func flagName(f *pflag.Flag) string {
	name := "--" + f.Name
	if f.Shorthand != "" {
		name = "-" + f.Shorthand + ", " + name
	}
	if value := f.Annotations[valueKey]; len(value) > 0 && value[0] != "" {
		name += " " + value[0]
	}
	return name
}

// helpCommand is zincdoor help, which takes the words of a command.
func (p *program) helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:     "help [COMMAND]...",
		Short:   "Show what a command does and takes",
		Long:    "Show what a command does, how it is called, and its options. zincdoor COMMAND --help shows the same.",
		Example: "zincdoor help gate\nzincdoor help baseline accept",
		RunE: func(_ *cobra.Command, args []string) error {
			cmd := root
			for i, name := range args {
				next := subcommand(cmd, name)
				if next == nil {
					return unknownCommand(cmd, args[i])
				}
				cmd = next
			}
			cmd.InitDefaultHelpFlag()
			p.showHelp(cmd)
			return nil
		},
	}
}

func subcommand(cmd *cobra.Command, name string) *cobra.Command {
	for _, c := range cmd.Commands() {
		if c.Name() == name {
			return c
		}
	}
	return nil
}

// unknownCommand is the error about a command that there isn't, with the nearest that there is.
func unknownCommand(parent *cobra.Command, name string) error {
	var names []string
	for _, c := range parent.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	hint := parent.CommandPath() + " --help lists them"
	if nearest := policyfile.Nearest(name, names); nearest != "" {
		hint = "did you mean " + parent.CommandPath() + " " + nearest + "?"
	}
	return fmt.Errorf("there is no command %q; %s", strings.TrimPrefix(parent.CommandPath()+" "+name, "zincdoor "), hint)
}

// commandsOnly is for a command that only leads to others: it shows its help, and refuses what is none of them.
func (p *program) commandsOnly(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return unknownCommand(cmd, args[0])
	}
	p.showHelp(cmd)
	return nil
}
