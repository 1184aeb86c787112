package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

func (p *program) policy() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "policy",
		Short: "Check, show and try what the repository demands",
		Long:  "Check, show and try the policy: .zincdoor/policy.yaml, which says what each door lets pass.",
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.checkPolicy(), p.showPolicy(), p.rehearse())
	return cmd
}

// openPolicy reads the policy in a file, else the work tree's.
func (p *program) openPolicy(ctx context.Context, file string, run bool) (*app.PolicyRead, error) {
	dir, err := workingDir()
	if err != nil {
		return nil, err
	}
	read, err := app.ReadPolicy(ctx, app.Call{Dir: dir, Policy: file, Run: run})
	return read, graded(err)
}

func (p *program) checkPolicy() *cobra.Command {
	var evidence evidenceFlags
	cmd := &cobra.Command{
		Use:   "check [FILE]",
		Short: "Find what is wrong in a policy, and what never matters",
		Long: `Check a policy (the work tree's .zincdoor/policy.yaml, or FILE): print everything that is wrong in it at once, each with its line, its column and what would be valid; then what can never matter here: paths that no file has, teams without files, rules that no report here has shown, limits that never decide.

Exit code 3 where something is wrong.`,
		Example: `zincdoor policy check
zincdoor policy check --report compiler=build/compiler.txt`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			call, err := evidence.call()
			if err != nil {
				return err
			}
			given, err := evidence.given(call.Dir, p.in)
			if err != nil {
				return err
			}
			call.Policy = strings.Join(args, "")
			file, idle, err := app.CheckPolicy(cmd.Context(), call, given)
			switch {
			case err != nil:
				return graded(err)
			case file.BuiltIn:
				return fmt.Errorf("there is no %s here, so the built-in policy judges; see zincdoor policy show --built-in, or write a starter policy with zincdoor fit", policyfile.Path)
			}
			name := file.Text.Name
			for _, problem := range idle {
				if problem.File != name { // what others inherit is for other repositories too
					continue
				}
				p.tell(p.err, "zincdoor: %s\n", render.Safe(problem.String()))
			}
			limits := 0
			for _, d := range file.Doors {
				limits += len(d.Limits)
			}
			p.tell(p.out, "%s is valid; limits: %d, at the doors %s\n", render.Safe(name), limits, render.Safe(policy.Names(file.Policy.Doors)))
			return nil
		},
	}
	p.group(cmd, reportsHeading, evidence.addReport, func(f *pflag.FlagSet) { addRun(f, &evidence.run) })
	return cmd
}

// showFlags are the flags of zincdoor policy show.
type showFlags struct {
	file, door, path, rule, tool string
	tags                         []string
	builtIn, origin, run         bool
}

func (p *program) showPolicy() *cobra.Command {
	var flags showFlags
	cmd := &cobra.Command{
		Use:   "show",
		Short: "Show the policy, or what it makes of a rule in a file",
		Long:  `Show the policy of the work tree with all that it inherits, as one file that says the same; with --origin where each value was set. With --rule and --path, show step by step which severity such a finding gets, and which limits count it.`,
		Example: `zincdoor policy show --origin
zincdoor policy show --rule -Wshadow --path core/tide.c`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runShow(cmd.Context(), flags) },
	}
	p.group(cmd, "A finding", func(f *pflag.FlagSet) {
		f.StringVar(&flags.rule, "rule", "", "of the rule `NAME`")
		f.StringVar(&flags.path, "path", "", "in the file `PATH`, from the repository's root")
		f.StringVar(&flags.tool, "tool", "", "of the tool `NAME`")
		f.StringSliceVar(&flags.tags, "tag", nil, "with `TAG`; repeatable")
		f.StringVar(&flags.door, "door", "", "at the door `NAME` alone")
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		addPolicy(f, &flags.file)
		f.BoolVar(&flags.builtIn, "built-in", false, "the policy that judges where there is none")
		f.BoolVar(&flags.origin, "origin", false, "show where each value was set")
		addRun(f, &flags.run)
	})
	return cmd
}

func (p *program) runShow(ctx context.Context, flags showFlags) error {
	file, name, builtIn := policyfile.Builtin(), policyfile.BuiltinName, flags.builtIn
	if !builtIn {
		read, err := p.openPolicy(ctx, flags.file, flags.run)
		if err != nil {
			return err
		}
		file, name, builtIn = read.File, read.Text.Name, read.BuiltIn
	}
	read := file.Policy
	doors := read.Doors
	if flags.door != "" {
		door, ok := read.Door(flags.door)
		if !ok {
			return fmt.Errorf("the policy has no door %q; it has %s", flags.door, policy.Names(read.Doors))
		}
		doors = []policy.Door{door}
	}
	if flags.rule == "" && flags.path == "" && flags.tool == "" && len(flags.tags) == 0 {
		if flags.door != "" {
			for _, l := range doors[0].Limits {
				p.tell(p.out, "%s\n", render.Limit(l, doors[0].ModeOf(l)))
			}
			return nil
		}
		data := file.Write(flags.origin)
		if builtIn && !flags.origin {
			data = policyfile.BuiltinText() // which explains itself
		}
		_, err := p.out.Write(data)
		return err
	}
	team := read.TeamOf(flags.path)
	if team != "" {
		p.tell(p.out, "team %s answers for %s\n", render.Safe(team), render.Safe(flags.path))
	}
	type answer struct {
		levels []string // that end so
		lines  []string
	}
	var answers []answer
	for _, level := range finding.Levels {
		f := finding.Finding{Rule: flags.rule, Path: flags.path, Tool: flags.tool, Traits: &finding.Traits{Tags: flags.tags}, Level: level}
		var steps, lines []string
		severity := ""
		for i, s := range read.Steps(f, team) {
			severity = s.Severity
			if i > 0 || s.Index >= 0 { // the first is the level itself
				steps = append(steps, s.What+setAt(file, s.Index, name))
			}
		}
		lines = append(lines, strings.TrimPrefix(strings.Join(steps, ", then ")+": "+severity, ": "))
		for _, d := range doors {
			var names []string
			for _, l := range d.Limits {
				if severity != policy.Ignored && l.TakesSeverity(read.Ladder, severity) && l.Takes(f, team) {
					names = append(names, l.Name)
				}
			}
			if len(names) > 0 {
				lines = append(lines, fmt.Sprintf("  door %s counts it in %s", d.Name, strings.Join(slices.Compact(names), "; ")))
			}
		}
		if i := slices.IndexFunc(answers, func(a answer) bool { return slices.Equal(a.lines, lines) }); i >= 0 {
			answers[i].levels = append(answers[i].levels, string(level))
			continue
		}
		answers = append(answers, answer{[]string{string(level)}, lines})
	}
	for _, a := range answers {
		p.tell(p.out, "level %s: %s\n", strings.Join(a.levels, ", "), render.Safe(a.lines[0]))
		for _, line := range a.lines[1:] {
			fmt.Fprintln(p.out, render.Safe(line))
		}
	}
	return nil
}

// setAt says where one of the policy's severities is set, for a reader of the file of that name.
func setAt(file *policyfile.File, index int, name string) string {
	if index < 0 {
		return ""
	}
	switch at := file.Severities[index].At; {
	case at.Line == 0:
		return ""
	case at.File == name:
		return fmt.Sprintf(" (line %d)", at.Line)
	default:
		return fmt.Sprintf(" (%s)", at)
	}
}
