package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// fixFlags are the flags of zincdoor fix.
type fixFlags struct {
	evidence                              evidenceFlags
	change                                changeFlags
	selected                              selectFlags
	door                                  string
	apply, broken, all, ask, undo, byDoor bool
	again                                 string // the call that writes what this one shows
}

func (p *program) fix() *cobra.Command {
	var flags fixFlags
	cmd := &cobra.Command{
		Use:   "fix [PATH]...",
		Short: "Apply the fixes that tools offer, on changed lines alone",
		Long: `Apply the fixes that reports, house checks and the team's patterns offer, on lines that the change touches and on no other. Without --apply it shows what it would write, and writes nothing. Without a named change it is for all that isn't committed yet; PATH names files and folders.

With --staged, index and work tree get the fix alike, and what isn't staged of a file stays so. A fix whose place isn't there, that overlaps a surer one or would alter an unchanged line is left out, with the reason.`,
		Example: `zincdoor fix
zincdoor fix --staged --apply
zincdoor fix --into main --rule "-Wunused*" --interactive
zincdoor fix --undo`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if flags.undo {
				return p.takeBack(cmd.Context())
			}
			revision, paths, err := revisionAndPaths(flags.change.tree, args)
			if err != nil {
				return err
			}
			flags.selected.under = paths
			request, err := flags.evidence.gateRequest(&flags.change, cmd.Flags(), revision, p.in)
			if err != nil {
				return err
			}
			switch {
			case request.Change.Kind == "":
				request.Change.Kind = policy.Worktree
			case request.Change.Kind == policy.Tree && request.Change.To != "":
				return fmt.Errorf("fix writes to files of the work tree or the index: name --worktree, --staged, --into REF, --range A..HEAD or --tree")
			}
			request.Door, flags.again = flags.door, again(cmd.Flags())
			return p.runFix(cmd.Context(), request, flags)
		},
	}
	p.group(cmd, "Fix", func(f *pflag.FlagSet) {
		f.BoolVar(&flags.apply, "apply", false, "write what it shows")
		f.BoolVar(&flags.broken, "broken", false, "only what broke a limit of the door")
		f.BoolVar(&flags.all, "all", false, "also on lines that the change doesn't touch")
		f.BoolVar(&flags.ask, "interactive", false, "ask for each fix")
		f.BoolVar(&flags.undo, "undo", false, "take the last fix back, if the files weren't altered since")
		f.BoolVar(&flags.byDoor, "by-door", false, "do nothing unless the door says fix: true, as hooks ask")
	})
	p.group(cmd, selectionHeading, flags.selected.add)
	p.group(cmd, changeHeading+" (else what isn't committed)", flags.change.addLocal)
	p.group(cmd, reportsHeading, flags.evidence.addReports, flags.evidence.addRuns)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		f.StringVar(&flags.door, "door", "", "`NAME`|the door whose limits count")
	}, flags.evidence.addPolicy, flags.evidence.addBaseline, flags.evidence.addToday)
	return cmd
}

func (p *program) takeBack(ctx context.Context) error {
	dir, err := workingDir()
	if err != nil {
		return err
	}
	paths, err := app.Undo(ctx, dir)
	if err != nil {
		return graded(err)
	}
	for _, path := range paths {
		fmt.Fprintf(p.out, "%s is as it was before\n", render.Safe(path))
	}
	return nil
}

func (p *program) runFix(ctx context.Context, q app.GateRequest, flags fixFlags) error {
	progress := newProgress(p.err)
	q.Tell = progress.show
	f, err := app.OpenFix(ctx, app.FixRequest{GateRequest: q, Broken: flags.broken, All: flags.all, ByDoor: flags.byDoor, Write: flags.apply, Takes: func(j *app.Judged) (func(judge.Finding) bool, error) {
		return flags.selected.takes(j.Input.Policy, j.Dir, j.Root)
	}})
	progress.end()
	if err != nil || f == nil {
		return graded(err)
	}
	defer f.Close()
	for _, path := range f.Recovered.Back {
		p.tell(p.err, "zincdoor: an earlier fix was interrupted: %s is as it was before\n", render.Safe(path))
	}
	for _, path := range f.Recovered.Altered {
		p.tell(p.err, "zincdoor: an earlier fix was interrupted: %s was altered since, and is left as it is\n", render.Safe(path))
	}
	for _, e := range f.Evidence {
		if !e.Sound() && e.Name != "" {
			p.tell(p.err, "zincdoor: fixes by %s may be missing, since it is %s: %s\n", render.Safe(e.Name), e.State, render.Safe(e.Problem))
		}
	}
	suggestions, problems, err := f.Suggestions(ctx)
	if err != nil {
		return graded(err)
	}
	for _, problem := range problems {
		p.tell(p.err, "zincdoor: %s\n", render.Safe(problem))
	}
	if flags.ask {
		if err := p.askForEach(f, suggestions); err != nil {
			return err
		}
	}
	plan, err := f.Plan(suggestions)
	if err != nil {
		return graded(err)
	}
	for _, file := range plan.Files {
		if err := render.Diff(p.out, file.Path, file.Old, file.New); err != nil {
			return err
		}
	}
	summary := summaryOf(f, plan)
	summary.Command = flags.again
	if summary.Written = flags.apply && len(plan.Files) > 0; summary.Written {
		if summary.House, err = f.Write(plan); err != nil {
			return unjudged{err}
		}
	}
	return render.Fix(p.out, summary)
}

// askForEach lets the person at the terminal decline suggestions.
func (p *program) askForEach(f *app.Fixing, suggestions []fix.Suggestion) error {
	answers := bufio.NewReader(p.in)
	declineFrom := func(n int, why string) {
		for i := range suggestions[n:] {
			suggestions[n+i].Declined = why
		}
	}
	for n, s := range suggestions {
		for _, d := range f.Preview(s) {
			if err := render.Diff(p.out, d.Path, d.Old, d.New); err != nil {
				return err
			}
		}
		p.tell(p.err, "%d of %d: fix this? [y]es, [n]o, [a]ll from here, [q]uit ", n+1, len(suggestions))
		answer, err := answers.ReadString('\n')
		switch strings.ToLower(strings.TrimSpace(answer)) {
		case "y", "yes":
		case "a", "all":
			return nil
		case "q", "quit":
			declineFrom(n, "not asked for, since you quit")
			suggestions[n].Declined = declined
			return nil
		default:
			suggestions[n].Declined = declined
		}
		if err != nil { // nobody answers any more
			declineFrom(n+1, "nobody answered")
			return nil
		}
	}
	return nil
}

const declined = "you declined it"

// summaryOf is what is shown of a plan.
func summaryOf(f *app.Fixing, plan *app.FixPlan) render.Fixed {
	summary := render.Fixed{Rules: map[string]int{}, None: map[string]int{}, Linted: map[string]int{}, Hunks: plan.Hunks, Files: len(plan.Files), Untouched: plan.Untouched}
	for _, i := range plan.Fixed {
		summary.Rules[f.Findings[i].Rule]++
	}
	for _, i := range plan.ByLinters {
		summary.Linted[f.Findings[i].Rule]++
	}
	for _, i := range plan.None {
		summary.None[f.Findings[i].Rule]++
	}
	for _, l := range plan.Left {
		summary.Left = append(summary.Left, render.LeftOver{Finding: f.Findings[l.Index], Why: l.Why})
	}
	summary.Before, summary.After = len(f.Broken()), len(plan.Then.Broken())
	return summary
}

// again is how a call is made again so that it writes: by the flags that it was given.
func again(f *pflag.FlagSet) string {
	words := []string{"zincdoor", "fix"}
	f.Visit(func(given *pflag.Flag) {
		name := "--" + given.Name
		switch value := given.Value.(type) {
		case pflag.SliceValue:
			for _, one := range value.GetSlice() {
				words = append(words, name, one)
			}
		default:
			if given.Value.Type() != "bool" {
				words = append(words, name, given.Value.String())
			} else if given.Value.String() == "true" {
				words = append(words, name)
			}
		}
	})
	return render.ShellWords(append(words, "--apply"))
}

// fixCommand is the call of fix that fixes what shut the door at a call of gate, "" where fix can't.
func fixCommand(change changeFlags, evidence evidenceFlags, door string) string {
	words := callWords([]string{"zincdoor", "fix", "--broken"}, change, evidence, door)
	if words == nil {
		return ""
	}
	return render.ShellWords(append(words, "--apply"))
}

// listCommand is the call that lists what a gate counts, "" where there is none.
func listCommand(change changeFlags, evidence evidenceFlags, door string) string {
	words := callWords([]string{"zincdoor", "findings"}, change, evidence, door)
	for _, r := range evidence.baseReports {
		if words != nil {
			words = append(words, "--base-report", r)
		}
	}
	return render.ShellWords(words)
}

// callWords are a command with the change and the evidence of another call; nil where they can't be named again.
func callWords(words []string, change changeFlags, evidence evidenceFlags, door string) []string {
	if change.push || change.patch != "" || slices.Contains(evidence.reports, "-") {
		return nil
	}
	words = append(words, changeWords(change)...)
	if door != "" {
		words = append(words, "--door", door)
	}
	for _, r := range evidence.reports {
		words = append(words, "--report", r)
	}
	for _, given := range []struct{ name, value string }{
		{"--report-commit", evidence.commit}, {"--report-root", evidence.root}, {"--policy", evidence.policy}, {"--baseline", evidence.baseline}, {"--today", evidence.today},
	} {
		if given.value != "" {
			words = append(words, given.name, given.value)
		}
	}
	if evidence.emptyIsClean {
		words = append(words, "--empty-is-clean")
	}
	if evidence.run {
		words = append(words, "--run")
	}
	return words
}

// changeWords are the flags by which a change was named.
func changeWords(c changeFlags) (words []string) {
	switch {
	case c.staged:
		return []string{"--staged"}
	case c.worktree:
		return []string{"--worktree"}
	case c.tree:
		return []string{"--tree"}
	case c.into != "":
		return []string{"--into", c.into}
	case c.span != "":
		return []string{"--range", c.span}
	}
	return nil
}
