package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/policy"
)

// shells are those that completion is written for.
var shells = []string{"bash", "zsh", "fish", "powershell"}

func (p *program) completion() *cobra.Command {
	return &cobra.Command{
		Use:   "completion SHELL",
		Short: "Print what completes commands in your shell",
		Long: `Print the script by which SHELL (bash, zsh, fish or powershell) completes commands, options and their values: doors, teams, rules, tools, formats, ids and refs of the repository at hand.

  bash        source <(zincdoor completion bash)
  zsh         source <(zincdoor completion zsh)
  fish        zincdoor completion fish | source
  powershell  zincdoor completion powershell | Out-String | Invoke-Expression

Put that line into the file that your shell reads when it starts.`,
		Example:   "zincdoor completion bash",
		Args:      arguments("one of " + strings.Join(shells, ", ")),
		ValidArgs: shells,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkArgument("shell", args[0], shells); err != nil {
				return err
			}
			switch root := cmd.Root(); args[0] {
			case "bash":
				return root.GenBashCompletionV2(p.out, true)
			case "zsh":
				return root.GenZshCompletion(p.out)
			case "fish":
				return root.GenFishCompletion(p.out, true)
			default:
				return root.GenPowerShellCompletionWithDesc(p.out)
			}
		},
	}
}

// at is what a completion looks in: the repository at hand, as far as the command's flags name it.
type at struct {
	ctx    context.Context
	call   app.Call
	policy *policy.Policy
}

// completers give the values of flags, by the flags' names.
var completers = map[string]func(at) []string{
	"door": func(r at) (all []string) {
		for _, d := range r.policy.Doors {
			all = append(all, d.Name)
		}
		return all
	},
	"host": func(r at) (all []string) {
		for _, h := range r.policy.Hosts {
			all = append(all, h.Name)
		}
		return all
	},
	"team": func(r at) (all []string) {
		for _, t := range r.policy.Teams {
			all = append(all, t.Name)
		}
		return all
	},
	"severity": func(r at) []string { return append(slices.Clone([]string(r.policy.Ladder)), policy.Ignored) },
	"report": func(r at) (all []string) {
		for _, report := range r.policy.Reports {
			all = append(all, report.Name+"=")
		}
		for _, format := range r.policy.FormatNames() {
			all = append(all, format+"=")
		}
		return all
	},
	"rule": func(r at) []string { return r.seen().Rules },
	"tool": func(r at) []string { return r.seen().Tools },
	"tag":  func(r at) []string { return r.seen().Tags },
	"into": at.refs,
	"range": func(r at) (all []string) {
		for _, ref := range r.refs() {
			all = append(all, ref+"..HEAD")
		}
		return all
	},
	"report-commit": at.refs,
	"branch":        at.refs,
	"repository":    func(r at) []string { return r.recorded().Repositories },
}

// recorded is what was recorded here.
func (r at) recorded() app.RecordedHere {
	return app.RecordedIn(r.ctx, r.call, (&historyFlags{}).place())
}

// refs are the branches and tags here.
func (r at) refs() []string { return app.Refs(r.ctx, r.call.Dir) }

// seen is what the reports of the work tree have shown.
func (r at) seen() app.Seen { return app.SeenHere(r.ctx, r.call) }

// completedArguments give the arguments of commands, by the commands' paths.
var completedArguments = map[string]func(at) []string{
	"zincdoor explain":         func(r at) []string { return slices.Concat(r.seen().Rules, r.seen().IDs) },
	"zincdoor baseline accept": func(r at) []string { return r.seen().Unaccepted },
	"zincdoor baseline renew":  func(r at) []string { return app.EntryIDs(r.ctx, r.call) },
	"zincdoor recipe try":      func(r at) []string { return r.policy.FormatNames() },
	"zincdoor history show":    func(r at) []string { return append(r.recorded().IDs, app.Last) },
	"zincdoor history compare": func(r at) []string { return slices.Concat(r.recorded().States, []string{app.Last}, r.refs()) },
}

// withFiles are the flags whose values are files, and the arguments that may be.
var withFiles = []string{"report", "base-report", "output", "write", "template", "policy", "baseline", "patch", "reports", "keep", "in", "path", "history-file", "host", "verdict", "ca", "data"}

// finishFlags readies the texts of a command's flags, and has a shell complete their values.
func (p *program) finishFlags(cmd *cobra.Command) {
	nameValues(cmd.Flags())
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		values, known := completers[f.Name], f.Annotations[valuesKey]
		if _, done := cmd.GetFlagCompletionFunc(f.Name); done { // a flag of every command
			return
		}
		if values == nil && known == nil && slices.Contains(withFiles, f.Name) {
			return
		}
		err := cmd.RegisterFlagCompletionFunc(f.Name, func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			directive := cobra.ShellCompDirectiveNoFileComp
			if slices.Contains(withFiles, f.Name) {
				directive = cobra.ShellCompDirectiveDefault
			}
			switch {
			case values != nil:
				return p.completed(cmd, values, begun), directive
			case known != nil:
				return known, directive
			}
			return nil, directive
		})
		if err != nil {
			panic(err)
		}
	})
}

// finish has a shell complete the arguments of all commands.
func (p *program) finish(cmd *cobra.Command) {
	if values := completedArguments[cmd.CommandPath()]; values != nil {
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if cmd.Name() == "try" && len(args) > 0 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return p.completed(cmd, values, begun), cobra.ShellCompDirectiveNoFileComp
		}
	} else if cmd.ValidArgs == nil && !strings.Contains(cmd.Use, "PATH") && !strings.Contains(cmd.Use, "FILE") {
		cmd.ValidArgsFunction = cobra.NoFileCompletions
	}
	for _, c := range cmd.Commands() {
		p.finish(c)
	}
}

// completed is what begins as begun, of the repository at hand. Where nothing can be read there, it is nothing.
func (p *program) completed(cmd *cobra.Command, values func(at) []string, begun string) (all []string) {
	if p.enter() != nil {
		return nil
	}
	dir, err := workingDir()
	if err != nil {
		return nil
	}
	day, err := today("")
	if err != nil {
		return nil
	}
	r := at{ctx: cmd.Context(), call: app.Call{Dir: dir, Today: day}}
	if f := cmd.Flags().Lookup("policy"); f != nil {
		r.call.Policy = f.Value.String()
	}
	read, err := app.ReadPolicy(r.ctx, r.call)
	if err != nil {
		return nil
	}
	r.policy = read.Policy
	for _, word := range values(r) {
		if strings.HasPrefix(word, begun) {
			all = append(all, word)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
