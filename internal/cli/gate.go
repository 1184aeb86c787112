package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/gate"
	"zincdoor/internal/render"
)

func (p *program) gate() *cobra.Command {
	var evidence evidenceFlags
	var change changeFlags
	var output outputFlags
	var door string
	var dry bool
	cmd := &cobra.Command{
		Use:   "gate",
		Short: "Judge a change at a door",
		Long: `Judge a change: find the findings it brought in and hold them against the limits of a door.

Name exactly one change, and the reports of the linters that looked at it:

  zincdoor gate --staged --report build/warnings.txt
  zincdoor gate --against main --report gcc.txt --report fares.sarif

The policy is .zincdoor/policy.yaml; for a branch or a range it is the one that the target has now. Without one,
a built-in policy lets no new error and no new warning pass.

Exit codes: 0 open, 1 shut, 2 can't judge, 3 the call or the policy is wrong.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			if request.Change, err = change.selection(cmd.Flags(), args); err != nil {
				return err
			}
			request.Door, request.Remote = door, change.remote
			targets, err := output.targets()
			if err != nil {
				return err
			}
			if err := oneStdin(request); err != nil {
				return err
			}
			progress := newProgress(p.err)
			request.Plan, request.Tell = dry, progress.tell
			results, err := gate.Gather(cmd.Context(), request)
			progress.end()
			if err != nil {
				return graded(err)
			}
			if dry {
				return p.showPlans(results)
			}
			var verdicts []shown
			for _, r := range results {
				v := judge.Judge(r.Case)
				p.code = graver(p.code, exitOf(v.Outcome))
				verdicts = append(verdicts, shown{v, output.options(r)})
			}
			return targets.write(p.out, verdicts)
		},
	}
	change.add(cmd.Flags())
	cmd.Flags().StringArrayVar(&evidence.baseReports, "base-report", nil, "a report of the state before the change, as `[FORMAT=]FILE`; what it has is no news. Repeatable")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "tell which linters would be started on which files, and start nothing")
	cmd.Flags().StringVar(&door, "door", "", "the `NAME` of the door; needed where several judge this kind of change")
	evidence.add(cmd.Flags())
	output.add(cmd.Flags())
	return cmd
}

// showPlans tells what a call would start.
func (p *program) showPlans(results []*gate.Result) error {
	var all []render.Plan
	for _, r := range results {
		for _, plan := range r.Plans {
			all = append(all, render.Plan(plan))
		}
	}
	return render.Plans(p.out, all)
}

// changeFlags name the change to judge.
type changeFlags struct {
	staged, worktree, push, tree bool
	span, against, patch, remote string
}

func (c *changeFlags) add(f *pflag.FlagSet) {
	f.SortFlags = false
	f.BoolVar(&c.staged, "staged", false, "what is staged for the next commit")
	f.BoolVar(&c.worktree, "worktree", false, "the work tree against the last commit, new files included")
	f.StringVar(&c.against, "against", "", "this branch, from where it left `REF`")
	f.StringVar(&c.span, "range", "", "from commit A to commit B, as `A..B`")
	f.BoolVar(&c.push, "push", false, "what a push brings, as git tells its pre-push or pre-receive hook on standard input")
	f.StringVar(&c.remote, "remote", "", "with --push before it is sent: the `NAME` of the remote it goes to (default: the only one)")
	f.StringVar(&c.patch, "patch", "", "a unified diff in `FILE`, - for standard input; needs no repository")
	f.BoolVar(&c.tree, "tree", false, "everything: the work tree, or the commit named after it (--tree REV)")
}

func (c *changeFlags) selection(f *pflag.FlagSet, args []string) (gate.Selection, error) {
	var named []string
	for _, name := range []string{"staged", "worktree", "against", "range", "push", "patch", "tree"} {
		if f.Changed(name) {
			named = append(named, "--"+name)
		}
	}
	if len(named) > 1 {
		return gate.Selection{}, fmt.Errorf("%s can't go together: name one change", strings.Join(named, " and "))
	}
	if len(args) > 0 && !c.tree {
		return gate.Selection{}, fmt.Errorf("what is %q? A change is named by a flag: --staged, --worktree, --against REF, --range A..B, --push, --patch FILE or --tree", args[0])
	}
	var s gate.Selection
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
	case f.Changed("against"):
		s.Kind, s.Against = policy.Branch, c.against
	case f.Changed("patch"):
		s.Kind, s.Patch = policy.Range, c.patch
	case f.Changed("range"):
		s.Kind = policy.Range
		from, to, ok := strings.Cut(c.span, "..")
		if !ok || from == "" || to == "" || strings.HasPrefix(to, ".") {
			return s, fmt.Errorf("--range takes two commits as A..B, not %q; for a branch since it left another, use --against REF", c.span)
		}
		s.From, s.To = from, to
	}
	if f.Changed("against") && c.against == "" || f.Changed("patch") && c.patch == "" {
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
	f.BoolVar(&e.emptyIsClean, "empty-is-clean", false, "an empty report given as diagnostics=FILE means that the tool found nothing")
}

func (e *evidenceFlags) addReport(f *pflag.FlagSet) {
	f.StringArrayVar(&e.reports, "report", nil, "a report, as `[NAME=]FILE`, - for standard input; repeatable. NAME is a report of the policy, or a format: "+strings.Join(policy.Formats, ", "))
}

func (e *evidenceFlags) request(in io.Reader) (gate.Request, error) {
	q := gate.Request{
		Dir: ".", Policy: e.policy, Baseline: e.baseline, ReportCommit: e.commit, ReportRoot: e.root, EmptyIsClean: e.emptyIsClean, Run: e.run, Fresh: e.noCache,
		Today: e.today, Stdin: in,
	}
	var err error
	if q.Dir, err = workingDir(); err != nil {
		return q, err
	}
	if q.Today, err = today(e.today); err != nil {
		return q, err
	}
	for _, argument := range e.baseReports {
		report, err := reportFile(argument)
		if err != nil {
			return q, err
		}
		q.BaseReports = append(q.BaseReports, report)
	}
	for _, argument := range e.reports {
		report, err := reportFile(argument)
		if err != nil {
			return q, err
		}
		q.Reports = append(q.Reports, report)
	}
	return q, nil
}

// reportFile reads [NAME=]FILE. A file whose name holds a = goes before a name that isn't a format.
func reportFile(argument string) (gate.ReportFile, error) {
	name, file, named := strings.Cut(argument, "=")
	switch {
	case argument == "" || named && file == "":
		return gate.ReportFile{}, fmt.Errorf("--report needs a file")
	case named && slices.Contains(policy.Formats, name):
		return gate.ReportFile{Name: name, File: file}, nil
	case named && !strings.Contains(name, "/"):
		if _, err := os.Stat(argument); err != nil {
			return gate.ReportFile{Name: name, File: file}, nil
		}
	}
	return gate.ReportFile{File: argument}, nil
}

// oneStdin refuses to read standard input twice.
func oneStdin(q gate.Request) error {
	n := 0
	if q.Change.Patch == "-" || q.Change.Kind == policy.Push {
		n++
	}
	for _, r := range slices.Concat(q.Reports, q.BaseReports) {
		if r.File == "-" {
			n++
		}
	}
	if n > 1 {
		return fmt.Errorf("standard input (-) can be read only once, and is named %d times", n)
	}
	return nil
}

// outputFlags say where the verdict goes and in which formats.
type outputFlags struct {
	format, file string
	writes       []string
	screen       screenFlags
}

// screenFlags say what of a verdict a terminal shows.
type screenFlags struct {
	show, group           string
	context               int
	quiet, verbose, plain bool
}

func (s *screenFlags) add(f *pflag.FlagSet) {
	f.StringVar(&s.show, "show", "", "in the terminal, show findings that are `"+strings.Join(render.Shows, "|")+"`; without it those that broke a limit, as many as are read at once")
	f.StringVar(&s.group, "group", string(render.ByFile), "in the terminal, put findings together by `"+strings.Join(render.Groups, "|")+"`")
	f.IntVar(&s.context, "context", 0, "in the terminal, show `N` lines around each finding")
	f.BoolVarP(&s.quiet, "quiet", "q", false, "in the terminal, show nothing but the outcome")
	f.BoolVarP(&s.verbose, "verbose", "v", false, "in the terminal, show all there is to each finding")
	f.BoolVar(&s.plain, "plain", false, "in the terminal, tell it in sentences without signs or colours, for screen readers")
}

func (s *screenFlags) check() error {
	switch {
	case s.show != "" && !slices.Contains(render.Shows, s.show):
		return fmt.Errorf("--show is one of %s, not %q", strings.Join(render.Shows, ", "), s.show)
	case !slices.Contains(render.Groups, s.group):
		return fmt.Errorf("--group is one of %s, not %q", strings.Join(render.Groups, ", "), s.group)
	case s.context < 0 || s.context > 100:
		return fmt.Errorf("--context takes 0 to 100 lines, not %d", s.context)
	}
	return nil
}

// options are how a result is shown.
func (s *screenFlags) options(r *gate.Result) render.Options {
	o := render.Options{
		Show: render.Show(s.show), Group: render.Group(s.group), Context: s.context, Quiet: s.quiet, Verbose: s.verbose, Plain: s.plain,
		Text: r.Text, Touched: r.Touched, Rule: r.Rule,
	}
	if r.Case.Policy != nil {
		o.Link = r.Case.Policy.Link
	}
	return o
}

func (o *outputFlags) options(r *gate.Result) render.Options { return o.screen.options(r) }

func (o *outputFlags) add(f *pflag.FlagSet) {
	f.StringVar(&o.format, "format", render.Terminal, "how the verdict is shown: `"+strings.Join(render.Formats, "|")+"`")
	f.StringVar(&o.file, "output", "", "write it to `FILE` instead of standard output")
	f.StringArrayVar(&o.writes, "write", nil, "write it to a file as well, as `FORMAT=FILE`; repeatable")
	o.screen.add(f)
}

// target is one place the verdict is written to; file "" is standard output.
type target struct{ format, file string }

type targets []target

func (o *outputFlags) targets() (targets, error) {
	if err := o.screen.check(); err != nil {
		return nil, err
	}
	all := targets{{o.format, o.file}}
	for _, w := range o.writes {
		format, file, ok := strings.Cut(w, "=")
		if !ok || file == "" {
			return nil, fmt.Errorf("--write takes FORMAT=FILE, not %q", w)
		}
		all = append(all, target{format, file})
	}
	for _, t := range all {
		if err := checkFormat(t.format); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func checkFormat(format string) error {
	if slices.Contains(render.Formats, format) {
		return nil
	}
	return fmt.Errorf("no output format is called %q; there are %s", format, strings.Join(render.Formats, ", "))
}

// shown is a verdict, and how it is shown.
type shown struct {
	verdict judge.Verdict
	options render.Options
}

// write writes the verdicts everywhere. A file is replaced whole or not at all.
func (all targets) write(out io.Writer, verdicts []shown) error {
	for _, t := range all {
		if t.file == "" {
			if err := renderAll(out, t.format, verdicts); err != nil {
				return unjudged{fmt.Errorf("writing the verdict: %w", err)}
			}
			continue
		}
		if err := replace(t.file, func(w io.Writer) error { return renderAll(w, t.format, verdicts) }); err != nil {
			return unjudged{fmt.Errorf("the verdict can't be written to %s: %w", t.file, err)}
		}
	}
	return nil
}

// replace puts what write writes in the place of a file, once all of it is written. A device or a pipe is written to.
func replace(file string, write func(io.Writer) error) error {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		to, err := os.OpenFile(file, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(write(to), to.Close())
	}
	to, err := renameio.NewPendingFile(file, renameio.WithPermissions(0o644))
	if err != nil {
		return err
	}
	defer to.Cleanup()
	if err := write(to); err != nil {
		return err
	}
	return to.CloseAtomicallyReplace()
}

func renderAll(out io.Writer, format string, verdicts []shown) error {
	for _, v := range verdicts {
		if err := render.Verdict(out, format, v.verdict, v.options); err != nil {
			return err
		}
	}
	return nil
}
