package evidence

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/lint"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
)

// runner readies the starting of linters on the judged state. End must be called whether or not there is an error.
func (q Request) runner(ctx context.Context) (*lint.Runner, error) {
	t := q.Target
	run := &lint.Runner{Context: ctx, Repo: t.Repo, Root: t.Root, Side: t.Side, Trusted: q.Trusted.Side, Flows: q.Policy.Place.Flows, Policy: q.Policy, Tell: q.Tell}
	if t.IsPatch {
		run.Side = ""
	}
	if dir, err := os.UserCacheDir(); err == nil && !q.Fresh {
		run.Store, run.Copies = filepath.Join(dir, "zincdoor", "answers"), filepath.Join(dir, "zincdoor", "copies")
	}
	run.Depends = lint.Build() + " " + q.Depends
	var err error
	if run.Files, err = t.Present(); err != nil {
		return run, err
	}
	run.Before, run.Reuse = t.Before, t.Before
	if !t.Before && t.Diff != nil {
		files, err := t.Files()
		if err != nil {
			return run, err
		}
		run.Reuse = !slices.ContainsFunc(files, func(f change.File) bool { return !q.Policy.Own(f.Path) || f.Old != "" && !q.Policy.Own(f.Old) })
	}
	return run, run.Begin()
}

// runLinters starts the linters among the origins, all at once, and waits for them. What it gives is in the order of the
// origins: nil for what isn't a linter.
func (q Request) runLinters(ctx context.Context, origins []origin) (all []*reading, notices []string, err error) {
	all = make([]*reading, len(origins))
	for i, from := range origins {
		if from.runs {
			all[i] = newReading(from)
		}
	}
	linters := slices.DeleteFunc(slices.Clone(all), func(r *reading) bool { return r == nil })
	if len(linters) == 0 {
		return all, nil, nil
	}
	if why := q.Refusal(); why != "" {
		for _, r := range linters {
			r.fail(judge.Missing, fmt.Sprintf("%q isn't started: %s", words(r.from.terms.Run.Command), why))
		}
		return all, nil, nil
	}
	runner, err := q.runner(ctx)
	defer runner.End()
	if err != nil {
		return nil, nil, err
	}
	var wait sync.WaitGroup
	for _, r := range linters {
		wait.Go(func() { q.runLinter(ctx, runner, r) })
	}
	wait.Wait()
	if err := ctx.Err(); err != nil {
		return nil, nil, fmt.Errorf("called off: %w", err)
	}
	altered := runner.Altered()
	for _, r := range linters {
		if altered != "" && !r.from.terms.Run.TakesFiles() {
			r.fail(judge.Failed, fmt.Sprintf("a linter changed %s in the copy that all of them read; make it report only, or name the files it gets with files:", altered))
		}
		if r.report != nil {
			notices = append(notices, noticesOf(r)...)
		}
		if len(r.laid) > 0 {
			notices = append(notices, fmt.Sprintf("%s: it uses %s as in %s, since this change edits it", r.from.name, target.ClipList(r.laid), q.Trusted.Name))
		}
		if r.forgotten != "" {
			notices = append(notices, fmt.Sprintf("%s: not all answers can be kept, so it runs again each time: %s", r.from.name, r.forgotten))
		}
	}
	return all, notices, nil
}

// runLinter asks one linter.
func (q Request) runLinter(ctx context.Context, runner *lint.Runner, r *reading) {
	terms := r.from.terms
	runner.Ahead(terms)
	if len(terms.Ask) > 0 {
		var problem string
		if r.state.Version, problem = q.askVersion(ctx, terms); problem != "" {
			r.fail(judge.Missing, problem)
			return
		}
	}
	plan, err := runner.Plan(terms, r.state.Version)
	if err == nil {
		r.laid, err = runner.Laid(terms)
	}
	if err != nil {
		r.fail(judge.Failed, fmt.Sprintf("its files can't be listed: %v", err))
		return
	}
	if q.Starts != nil && !plan.Settled() && !q.Starts(terms) {
		r.waits = true
		r.fail(judge.Missing, "it wasn't started since files have changed")
		return
	}
	result := runner.Do(plan)
	r.state.Partly = terms.Run.Changed && terms.Run.TakesFiles() && q.Target.Diff != nil
	r.report, r.files, r.state.Files, r.forgotten = result.Report, result.Given, len(result.Given), result.Forgotten
	if r.report == nil {
		r.report = &report.Report{Format: terms.As}
	}
	for i := range r.report.Tools {
		if result.Kept > 0 {
			r.report.Tools[i].Targets = nil // those of the last run alone
		}
	}
	switch {
	case result.Skipped:
		r.state.State = judge.Skipped
		return
	case result.Problem != "":
		r.fail(judge.Failed, result.Problem)
	case result.Broken != nil:
		r.fail(judge.Failed, fmt.Sprintf("%v; run its command by hand to see all of its output", result.Broken))
	}
	q.assess(ctx, r, true)
	if r.state.Sound() && result.Known {
		r.state.State = judge.Cached
	}
}

// Planned is what a linter would be started on.
type Planned struct {
	Name    string
	Command []string
	Where   string   // for people: the copy or folder it would be started in
	Folder  string   // in it; "" for its root
	Files   []string // that it would be asked about; nil where it finds its files by itself
	Known   int      // of how many more the answer is known
	Before  bool     // it would be run on the state before the change
	Refused string   // why it wouldn't be started, "" where it would
	Skipped bool     // there is nothing to ask it about
}

// Plan says on what the door's linters would be started, and starts nothing.
func Plan(ctx context.Context, q Request) (all []Planned, err error) {
	origins, err := q.origins()
	if err != nil {
		return nil, err
	}
	runner, err := q.runner(ctx)
	defer runner.End()
	if err != nil {
		return nil, err
	}
	refused := q.Refusal()
	for _, from := range origins {
		if !from.runs {
			continue
		}
		plan, err := runner.Plan(from.terms, "") // not even a version is asked for
		if err != nil {
			return nil, err
		}
		all = append(all, Planned{
			Name: from.name, Command: from.terms.Run.Command, Where: plan.Where, Folder: from.terms.Run.Folder, Files: plan.Asked,
			Known: len(plan.Given) - len(plan.Asked), Before: q.Target.Before, Refused: refused, Skipped: plan.Skipped(),
		})
	}
	if q.Target.Before || q.Target.Diff == nil || !RunsOnBase(q.Policy, q.Door) {
		return all, nil
	}
	before, err := q.Target.BeforeChange()
	if err != nil {
		return nil, err
	}
	defer before.Close()
	q.Target = before
	earlier, err := Plan(ctx, q)
	return append(all, earlier...), err
}

// RunsOnBase reports whether the door is judged by a linter that is run on the state before the change too.
func RunsOnBase(p *policy.Policy, door policy.Door) bool {
	reports, _ := p.Needed(door)
	return slices.ContainsFunc(reports, func(r policy.Report) bool { return r.Run != nil && r.Run.Base })
}
