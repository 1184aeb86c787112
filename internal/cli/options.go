package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// options are flags of a command that belong together, under a heading of its help.
type options struct {
	heading string
	flags   *pflag.FlagSet
}

// The headings that several commands have.
const (
	changeHeading    = "Change"
	reportsHeading   = "Reports"
	policyHeading    = "Policy"
	selectionHeading = "Selection"
	outputHeading    = "Output"
)

// group gives a command flags under a heading. They are made when the command is called or shown (ready): a call needs those of one
// command, and there are several hundred in all.
func (p *program) group(cmd *cobra.Command, heading string, add ...func(f *pflag.FlagSet)) {
	if p.unmade == nil {
		p.unmade = map[*cobra.Command][]func(){}
	}
	p.unmade[cmd] = append(p.unmade[cmd], func() {
		flags := pflag.NewFlagSet(heading, pflag.ContinueOnError)
		flags.SortFlags = false
		for _, add := range add {
			add(flags)
		}
		cmd.Flags().SortFlags = false
		cmd.Flags().AddFlagSet(flags)
		p.options[cmd] = append(p.options[cmd], options{heading, flags})
	})
}

// ready makes the flags of a command, once.
func (p *program) ready(cmd *cobra.Command) {
	unmade, some := p.unmade[cmd]
	if !some {
		return
	}
	delete(p.unmade, cmd)
	for _, make := range unmade {
		make()
	}
	p.finishFlags(cmd)
}

// readyFor makes the flags that a call needs: of the command that it names, or of all where it completes a call.
func (p *program) readyFor(root *cobra.Command, args []string) {
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) {
		for cmd := range p.unmade {
			p.ready(cmd)
		}
		return
	}
	if cmd, _, err := root.Find(args); err == nil {
		p.ready(cmd)
	}
}

// valuesKey marks the values that a flag takes, where they are few: help lists them, and completion offers them.
const valuesKey = "zincdoor_values"

// values says which values a flag takes.
func values(f *pflag.FlagSet, name string, all ...string) {
	if err := f.SetAnnotation(name, valuesKey, all); err != nil {
		panic(err)
	}
}

// checkValue complains of a value that a flag doesn't take.
func checkValue(name, value string, all []string) error {
	if slices.Contains(all, value) {
		return nil
	}
	return fmt.Errorf("--%s is one of %s, not %q", name, strings.Join(all, ", "), value)
}

// addToday adds the flag that says on which day a command acts.
func addToday(f *pflag.FlagSet, day *string) {
	f.StringVar(day, "today", "", "judge as on `DATE`, such as 2027-02-01 (UTC); else today")
}

// addPolicy adds the flag that names the policy.
func addPolicy(f *pflag.FlagSet, file *string) {
	f.StringVar(file, "policy", "", "`FILE`|the policy, also as REV:PATH")
}

// addRun adds the flag that lets programs be started.
func addRun(f *pflag.FlagSet, run *bool) {
	f.BoolVar(run, "run", false, "start the policy's linters, and fetch what it inherits")
}

// checkArgument complains of an argument that isn't one of those that there are.
func checkArgument(what, value string, all []string) error {
	if slices.Contains(all, value) {
		return nil
	}
	return fmt.Errorf("there is no %s %q; there are %s", what, value, strings.Join(all, ", "))
}
