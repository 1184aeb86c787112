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
	"zincdoor/internal/sealed"
	"zincdoor/internal/target"
)

// gateFlags are what a change is judged by, and how its verdict is shown.
type gateFlags struct {
	evidence evidenceFlags
	change   changeFlags
	output   outputFlags
	history  historyFlags
	door     string
	key      string
	sealed   []string
	hook     bool
}

func (p *program) gate() *cobra.Command {
	var gate gateFlags
	gate.output.formats = slices.Concat(render.Formats, []string{render.Sealed})
	var dry bool
	cmd := &cobra.Command{
		Use:   "gate",
		Short: "Judge a change at a door",
		Long: `Judge a change: find the findings that it brought in, and hold them against the limits of a door. Name one change; the reports are those that the policy names, or the ones of this call.

The policy is .zincdoor/policy.yaml: for a branch, a push or a range the one that the target has now. Without a policy file, a built-in policy lets no new error and no new warning pass. Its linters are started only where git config zincdoor.run is true, or with --run.

Exit codes: 0 open, 1 shut, 2 can't judge, 3 the call or the policy is wrong.`,
		Example: `zincdoor gate --into main
zincdoor gate --staged --report compiler=build/compiler.txt
zincdoor gate --range main..HEAD --write html=verdict.html
zincdoor gate --into main --show touched --group team`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, outputs, err := gate.request(cmd.Flags(), args, p.in)
			if err != nil {
				return err
			}
			if request.Sealing, err = p.sealingOf(&gate, outputs); err != nil {
				return err
			}
			if dry {
				return p.showPlans(cmd.Context(), request)
			}
			_, err = p.judge(cmd.Context(), &gate, request, outputs, p.out)
			return err
		},
	}
	p.group(cmd, changeHeading+" (name one)", gate.change.add)
	p.group(cmd, reportsHeading, gate.evidence.addReports, gate.evidence.addBaseReports, gate.evidence.addRuns, func(f *pflag.FlagSet) {
		f.BoolVar(&dry, "dry-run", false, "show which linters it would start on which files, and start none")
	})
	p.group(cmd, "Seals", func(f *pflag.FlagSet) {
		f.StringArrayVar(&gate.sealed, "sealed", nil, "`FILE`|sealed reports, a sealed verdict or an exception; repeatable")
		addKey(f, &gate.key)
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addDoor(f, &gate.door) }, gate.evidence.addPolicy, gate.evidence.addBaseline, gate.evidence.addToday)
	p.group(cmd, "In the terminal, show", gate.output.screen.add)
	p.group(cmd, outputHeading, gate.output.add, gate.history.addRecord, func(f *pflag.FlagSet) {
		f.BoolVar(&gate.hook, "hook", false, "as git hooks call it: short if open, and advice never stops anybody")
	})
	return cmd
}

// request is the request of a call, and where its verdict goes.
func (g *gateFlags) request(f *pflag.FlagSet, args []string, in io.Reader) (q app.GateRequest, o outputs, err error) {
	if q, err = g.evidence.gateRequest(&g.change, f, args, in); err != nil {
		return q, nil, err
	}
	q.Door, q.Remote = g.door, g.change.remote
	if o, err = g.output.outputs(); err != nil {
		return q, nil, err
	}
	q.Lines, q.Record = g.output.lines(o), g.history.recording()
	return q, o, oneStdin(q)
}

// judge judges what is requested, shows it, and records it. The exit code is that of the gravest verdict.
func (p *program) judge(ctx context.Context, g *gateFlags, q app.GateRequest, o outputs, out io.Writer) ([]*app.Judged, error) {
	judged, err := p.watched(ctx, q, app.Gate)
	if err != nil {
		return nil, err
	}
	var verdicts []shown
	for _, j := range judged {
		code := exitOf(j.Outcome)
		if g.hook && code == exitUnjudged && j.Mode == policy.Advise {
			p.tell(p.err, "zincdoor: the door %s only advises, so nothing is held up though it can't judge\n", render.Safe(j.Verdict.Door))
			code = exitOpen
		}
		p.code = graver(p.code, code)
		options := g.output.options(j)
		options.Brief = g.hook && !g.output.screen.verbose
		options.Fix, options.List = fixCommand(g.change, g.evidence, g.door), listCommand(g.change, g.evidence, g.door)
		verdicts = append(verdicts, shown{j.Verdict, options})
	}
	err = o.write(out, verdicts)
	for _, notice := range app.Record(context.WithoutCancel(ctx), judged) {
		p.tell(p.err, "zincdoor: %s\n", render.Safe(notice))
	}
	return judged, err
}

// sealingOf is what the call brings that is sealed, and what it seals with.
func (p *program) sealingOf(g *gateFlags, o outputs) (app.Sealing, error) {
	wanted := slices.ContainsFunc(o, func(t output) bool { return t.format == render.Sealed })
	switch {
	case wanted && g.key == "":
		return app.Sealing{}, fmt.Errorf("the format sealed needs the key that seals: --key FILE")
	case wanted && g.evidence.today != "":
		return app.Sealing{}, fmt.Errorf("a verdict is sealed for the day on which it is judged: leave out --today")
	}
	s, err := p.sealing(g.key)
	for _, file := range g.sealed {
		s.Files = append(s.Files, sealed.File{Name: file, Path: file})
	}
	return s, err
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
	c.addLocal(f)
	f.BoolVar(&c.push, "push", false, "what a push brings, by the lines that git gives its hooks")
	f.StringVar(&c.remote, "remote", "", "`NAME`|with --push in a clone: the remote it goes to; else the only one")
	f.StringVar(&c.patch, "patch", "", "`FILE`|a unified diff, - for standard input; needs no repository")
}

// addLocal adds the changes whose files can be written to.
func (c *changeFlags) addLocal(f *pflag.FlagSet) {
	f.BoolVar(&c.staged, "staged", false, "what is staged for the next commit")
	f.BoolVar(&c.worktree, "worktree", false, "the work tree against the last commit, new files included")
	c.addCommitted(f)
}

// addCommitted adds the changes that lead to a commit.
func (c *changeFlags) addCommitted(f *pflag.FlagSet) {
	f.StringVar(&c.into, "into", "", "what merging HEAD into `REF` would bring")
	f.StringVar(&c.span, "range", "", "`A..B`|from commit A to commit B")
	f.BoolVar(&c.tree, "tree", false, "every line of the work tree, or of commit REV (--tree REV)")
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

// addReports adds the flags that name reports.
func (e *evidenceFlags) addReports(f *pflag.FlagSet) {
	e.addReport(f)
	f.StringVar(&e.commit, "report-commit", "", "the reports were made at `REV`, if they don't say")
	f.StringVar(&e.root, "report-root", "", "the reports' paths start at `DIR`, here or on another machine")
	f.BoolVar(&e.emptyIsClean, "empty-is-clean", false, "an empty text report means nothing was found (diagnostics=FILE)")
}

func (e *evidenceFlags) addReport(f *pflag.FlagSet) {
	f.StringArrayVar(&e.reports, "report", nil, "`[NAME=]FILE`|a report, - for standard input; NAME: of the policy, or a format:")
	values(f, "report", policy.Formats...)
}

func (e *evidenceFlags) addBaseReports(f *pflag.FlagSet) {
	f.StringArrayVar(&e.baseReports, "base-report", nil, "`[FORMAT=]FILE`|a report made before the change; its findings are existing")
}

// addRuns adds the flags about linters that are started.
func (e *evidenceFlags) addRuns(f *pflag.FlagSet) {
	addRun(f, &e.run)
	f.BoolVar(&e.noCache, "no-cache", false, "ask all linters anew, whatever they answered before")
}

func (e *evidenceFlags) addPolicy(f *pflag.FlagSet) { addPolicy(f, &e.policy) }

func (e *evidenceFlags) addBaseline(f *pflag.FlagSet) {
	f.StringVar(&e.baseline, "baseline", "", "`FILE`|the baseline, also as REV:PATH")
}

func (e *evidenceFlags) addToday(f *pflag.FlagSet) { addToday(f, &e.today) }

// addDoor adds the flag that names the door.
func addDoor(f *pflag.FlagSet, door *string) {
	f.StringVar(door, "door", "", "`NAME`|the door; required if several doors judge this kind of change")
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
