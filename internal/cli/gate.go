package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/render"
	"zincdoor/internal/target"
)

func (p *program) gate() *cobra.Command {
	var evidence evidenceFlags
	var change changeFlags
	var output outputFlags
	var door string
	var dry, hook bool
	cmd := &cobra.Command{
		Use:   "gate",
		Short: "Judge a change at a door",
		Long: `Judge a change: find the findings it brought in and hold them against the limits of a door.

Name exactly one change, and the reports of the linters that looked at it:

  zincdoor gate --staged --report build/warnings.txt
  zincdoor gate --into main --report gcc.txt --report fares.sarif

The policy is .zincdoor/policy.yaml; for a branch or a range it is the one that the target has now. Without one,
a built-in policy lets no new error and no new warning pass.

Exit codes: 0 open, 1 shut, 2 can't judge, 3 the call or the policy is wrong.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.gateRequest(&change, cmd.Flags(), args, p.in)
			if err != nil {
				return err
			}
			request.Door, request.Remote = door, change.remote
			places, err := output.places()
			if err != nil {
				return err
			}
			if err := oneStdin(request); err != nil {
				return err
			}
			if dry {
				return p.showPlans(cmd.Context(), request)
			}
			request.Lines = output.lines(places)
			judged, err := p.watched(cmd.Context(), request, app.Gate)
			if err != nil {
				return err
			}
			var verdicts []shown
			for _, j := range judged {
				code := exitOf(j.Outcome)
				if hook && code == exitUnjudged && j.Mode == policy.Advise {
					fmt.Fprintf(p.err, "zincdoor: the door %s only advises, so nothing is held up though it can't judge\n", render.Safe(j.Verdict.Door))
					code = exitOpen
				}
				p.code = graver(p.code, code)
				options := output.options(j)
				options.Brief = hook && !output.screen.verbose
				options.Fix, options.List = fixCommand(change, evidence, door), listCommand(change, evidence, door)
				verdicts = append(verdicts, shown{j.Verdict, options})
			}
			return places.write(p.out, verdicts)
		},
	}
	change.add(cmd.Flags())
	cmd.Flags().StringArrayVar(&evidence.baseReports, "base-report", nil, "a report of the state before the change, as `[FORMAT=]FILE`; what it has is no news. Repeatable")
	cmd.Flags().BoolVar(&hook, "hook", false, "as a git hook: an open door takes a line (--verbose for all of it), and one that only advises holds nothing up where it can't judge")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "tell which linters would be started on which files, and start nothing")
	cmd.Flags().StringVar(&door, "door", "", "the `NAME` of the door; needed where several judge this kind of change")
	evidence.add(cmd.Flags())
	output.add(cmd.Flags())
	return cmd
}

// showPlans shows what a call would start.
func (p *program) showPlans(ctx context.Context, q app.GateRequest) error {
	planned, err := app.Plan(ctx, q)
	if err != nil {
		return graded(err)
	}
	var all []render.Plan
	for _, plan := range planned {
		all = append(all, render.Plan(plan))
	}
	return render.Plans(p.out, all)
}

// changeFlags name the change to judge.
type changeFlags struct {
	staged, worktree, push, tree bool
	span, into, patch, remote    string
}

func (c *changeFlags) add(f *pflag.FlagSet) {
	f.SortFlags = false
	f.BoolVar(&c.staged, "staged", false, "what is staged for the next commit")
	f.BoolVar(&c.worktree, "worktree", false, "the work tree against the last commit, new files included")
	f.StringVar(&c.into, "into", "", "this branch, from where it left `REF`")
	f.StringVar(&c.span, "range", "", "from commit A to commit B, as `A..B`")
	f.BoolVar(&c.push, "push", false, "what a push brings, as git tells its pre-push or pre-receive hook on standard input")
	f.StringVar(&c.remote, "remote", "", "with --push before it is sent: the `NAME` of the remote it goes to (default: the only one)")
	f.StringVar(&c.patch, "patch", "", "a unified diff in `FILE`, - for standard input; needs no repository")
	f.BoolVar(&c.tree, "tree", false, "everything: the work tree, or the commit named after it (--tree REV)")
}

func (c *changeFlags) name(f *pflag.FlagSet, args []string) (target.Name, error) {
	var named []string
	for _, name := range []string{"staged", "worktree", "into", "range", "push", "patch", "tree"} {
		if f.Changed(name) {
			named = append(named, "--"+name)
		}
	}
	if len(named) > 1 {
		return target.Name{}, fmt.Errorf("%s can't go together: name one change", strings.Join(named, " and "))
	}
	if len(args) > 0 && !c.tree {
		return target.Name{}, fmt.Errorf("what is %q? A change is named by a flag: --staged, --worktree, --into REF, --range A..B, --push, --patch FILE or --tree", args[0])
	}
	var s target.Name
	switch {
	case c.staged:
		s.Kind = policy.Staged
	case c.worktree:
		s.Kind = policy.Worktree
	case c.push:
		s.Kind = policy.Push
	case c.tree:
		s.Kind = policy.Tree
		s.To = strings.Join(args, "")
	case f.Changed("into"):
		s.Kind, s.Into = policy.Branch, c.into
	case f.Changed("patch"):
		s.Kind, s.Patch = policy.Range, c.patch
	case f.Changed("range"):
		s.Kind = policy.Range
		from, to, ok := strings.Cut(c.span, "..")
		if !ok || from == "" || to == "" || strings.HasPrefix(to, ".") {
			return s, fmt.Errorf("--range takes two commits as A..B, not %q; for a branch since it left another, use --into REF", c.span)
		}
		s.From, s.To = from, to
	}
	if f.Changed("into") && c.into == "" || f.Changed("patch") && c.patch == "" {
		return s, fmt.Errorf("%s needs a value", named[0])
	}
	return s, nil
}

// evidenceFlags name what a change is judged by. All commands that read reports take them.
type evidenceFlags struct {
	reports, baseReports                  []string
	emptyIsClean, run, noCache            bool
	commit, root, policy, baseline, today string
}

func (e *evidenceFlags) add(f *pflag.FlagSet) {
	f.SortFlags = false
	e.addReports(f)
	f.StringVar(&e.policy, "policy", "", "judge by the policy in `FILE|REV:PATH`")
	f.StringVar(&e.baseline, "baseline", "", "compare with the baseline in `FILE|REV:PATH`")
	addRun(f, &e.run)
	f.BoolVar(&e.noCache, "no-cache", false, "ask all linters anew, whatever they answered before")
	f.StringVar(&e.today, "today", "", "the `DATE` on which to judge, as 2027-02-01 (default: today, UTC)")
}

// addRun adds the flag that lets programs be started.
func addRun(f *pflag.FlagSet, run *bool) {
	f.BoolVar(run, "run", false, "start what the policy names: its linters, and the fetching of what it inherits (always: git config zincdoor.run true)")
}

// addReports adds the flags that name reports.
func (e *evidenceFlags) addReports(f *pflag.FlagSet) {
	e.addReport(f)
	f.StringVar(&e.commit, "report-commit", "", "the `REV` that the reports were made at, where they don't say")
	f.StringVar(&e.root, "report-root", "", "where the reports' paths start, where that isn't plain: a `DIR` of the repository, or its root on another machine")
	f.BoolVar(&e.emptyIsClean, "empty-is-clean", false, "an empty text of a named format (diagnostics or a recipe for text) means that nothing was found")
}

func (e *evidenceFlags) addReport(f *pflag.FlagSet) {
	f.StringArrayVar(&e.reports, "report", nil, "a report, as `[NAME=]FILE`, - for standard input; repeatable. NAME is a report of the policy, or a format: "+strings.Join(policy.Formats, ", "))
}

// call is where and when the call is made, and what it overrides.
func (e *evidenceFlags) call() (c app.Call, err error) {
	c = app.Call{Policy: e.policy, Baseline: e.baseline, Run: e.run}
	if c.Dir, err = workingDir(); err != nil {
		return c, err
	}
	c.Today, err = today(e.today)
	return c, err
}

// given are the reports of the call.
func (e *evidenceFlags) given(dir string, in io.Reader) (g evidence.Given, err error) {
	g = evidence.Given{Dir: dir, Commit: e.commit, Root: e.root, EmptyIsClean: e.emptyIsClean, Stdin: in}
	g.Files, err = reportFiles(e.reports)
	return g, err
}

// request is a request that names no change.
func (e *evidenceFlags) request(in io.Reader) (q app.GateRequest, err error) {
	if q.Call, err = e.call(); err != nil {
		return q, err
	}
	if q.Reports.Base, err = reportFiles(e.baseReports); err != nil {
		return q, err
	}
	q.Reports.Given, err = e.given(q.Dir, in)
	q.Reports.Fresh = e.noCache
	return q, err
}

// gateRequest is the request about the change that a call names.
func (e *evidenceFlags) gateRequest(change *changeFlags, f *pflag.FlagSet, args []string, in io.Reader) (app.GateRequest, error) {
	q, err := e.request(in)
	if err == nil {
		q.Change, err = change.name(f, args)
	}
	return q, err
}

func reportFiles(arguments []string) (all []evidence.File, err error) {
	for _, argument := range arguments {
		file, err := reportFile(argument)
		if err != nil {
			return nil, err
		}
		all = append(all, file)
	}
	return all, nil
}

// reportFile reads [NAME=]FILE. A file whose name holds a = goes before a name that isn't a format.
func reportFile(argument string) (evidence.File, error) {
	name, file, named := strings.Cut(argument, "=")
	switch {
	case argument == "" || named && file == "":
		return evidence.File{}, fmt.Errorf("--report needs a file")
	case named && slices.Contains(policy.Formats, name):
		return evidence.File{Name: name, Path: file}, nil
	case named && !strings.Contains(name, "/"):
		if _, err := os.Stat(argument); err != nil {
			return evidence.File{Name: name, Path: file}, nil
		}
	}
	return evidence.File{Path: argument}, nil
}

// oneStdin refuses to read standard input twice.
func oneStdin(q app.GateRequest) error {
	n := 0
	if q.Change.Patch == "-" || q.Change.Kind == policy.Push {
		n++
	}
	for _, r := range slices.Concat(q.Reports.Files, q.Reports.Base) {
		if r.Path == "-" {
			n++
		}
	}
	if n > 1 {
		return fmt.Errorf("standard input (-) can be read only once, and is named %d times", n)
	}
	return nil
}
