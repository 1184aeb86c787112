package gate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/lint"
	"zincdoor/internal/report"
)

func (s *scene) context() context.Context {
	if s.repo != nil {
		return s.repo.Context()
	}
	return s.ctx
}

// runner readies the starting of linters on the scene's state.
func (s *scene) runner(q Request, r *rules) (*lint.Runner, error) {
	run := &lint.Runner{Context: s.context(), Repo: s.repo, Root: s.root, Side: s.side, Flows: r.policy.Place.Flows, Policy: r.policy, Tell: q.Tell}
	if s.patch {
		run.Side = ""
	}
	if dir, err := os.UserCacheDir(); err == nil && !q.Fresh {
		run.Store = filepath.Join(dir, "zincdoor", "answers")
	}
	parts := []string{lint.Build(), r.origin.Digest}
	for _, i := range r.origin.Inherits {
		parts = append(parts, i.Digest)
	}
	run.Depends = strings.Join(parts, " ")
	var err error
	if s.before {
		if run.Tree, err = s.repo.TreeOf(string(s.side)); err != nil {
			return run, err
		}
	}
	run.Files, err = s.present()
	return run, errors.Join(err, run.Begin())
}

// present lists the files of the change that are there in the scene's state; where everything is judged, all files.
func (s *scene) present() ([]string, error) {
	switch {
	case s.before:
		return s.given, nil
	case s.diff == nil && !s.patch:
		return s.head.Paths()
	}
	files, err := s.names()
	var paths []string
	for _, f := range files {
		if f.Status != change.Deleted && f.Opaque != change.Submodule {
			paths = append(paths, f.Path)
		}
	}
	return paths, err
}

// ask starts the linters among the sources, all at once, and hears what they say, in the order of the sources: nil for
// what isn't a linter.
func (w *witness) ask(sources []origin) ([]*testimony, error) {
	heard := make([]*testimony, len(sources))
	started := false
	for i, from := range sources {
		if from.runs {
			started = true
			heard[i] = &testimony{from: from, evidence: judge.Evidence{Name: from.name, Format: from.format, State: judge.Read, Optional: !from.needed}}
		}
	}
	if !started {
		return heard, nil
	}
	if why := w.refusal(w.request, w.rules); why != "" {
		for _, t := range heard {
			if t != nil {
				t.fail(judge.Missing, fmt.Sprintf("%q is not run: %s", clip(strings.Join(t.from.terms.Run.Command, " ")), why))
			}
		}
		return heard, nil
	}
	runner, err := w.runner(w.request, w.rules)
	defer runner.End()
	if err != nil {
		return nil, err
	}
	var wait sync.WaitGroup
	for _, t := range heard {
		if t != nil {
			wait.Go(func() { w.run(runner, t) })
		}
	}
	wait.Wait()
	if err := w.context().Err(); err != nil {
		return nil, fmt.Errorf("called off: %w", err)
	}
	if altered := runner.Altered(); altered != "" {
		for _, t := range heard {
			if t != nil && !t.from.terms.Run.TakesFiles() {
				t.fail(judge.Failed, fmt.Sprintf("one of the linters altered %s in the copy that all of them read; have it print what it finds and mend nothing, or give it its files with files:", altered))
			}
		}
	}
	for _, t := range heard {
		if t != nil && t.report != nil {
			for _, notice := range t.report.Notices {
				w.notices = append(w.notices, t.from.name+": "+notice)
			}
		}
	}
	return heard, nil
}

// run asks one linter. It may be called for several at once.
func (w *witness) run(runner *lint.Runner, t *testimony) {
	terms := t.from.terms
	if len(terms.Ask) > 0 {
		var problem string
		if t.evidence.Version, problem = w.askVersion(terms); problem != "" {
			t.fail(judge.Missing, problem)
			return
		}
	}
	plan, err := runner.Plan(terms, t.evidence.Version)
	if err != nil {
		t.fail(judge.Failed, fmt.Sprintf("what it is to look at can't be told: %v", err))
		return
	}
	result := runner.Do(plan)
	t.report, t.evidence.Files = result.Report, len(result.Given)
	if t.report == nil {
		t.report = &report.Report{Format: terms.As}
	}
	t.given = result.Given
	for i := range t.report.Tools {
		if result.Kept > 0 {
			t.report.Tools[i].Targets = nil // those of the last run alone
		}
	}
	switch {
	case result.Skipped:
		t.evidence.State = judge.Skipped
		return
	case result.Problem != "":
		t.fail(judge.Failed, result.Problem)
	case result.Broken != nil:
		t.fail(judge.Failed, fmt.Sprintf("%v; try its command by hand, and keep all of its output", result.Broken))
	}
	w.assess(t, true)
	if t.evidence.Sound() && result.Known {
		t.evidence.State = judge.Cached
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

// plans tells on what the door's linters would be started.
func (s *scene) plans(q Request, r *rules) (all []Planned, err error) {
	sources, err := s.sources(q, r)
	if err != nil {
		return nil, err
	}
	runner, err := s.runner(q, r)
	defer runner.End()
	if err != nil {
		return nil, err
	}
	refused := s.refusal(q, r)
	for _, from := range sources {
		if !from.runs {
			continue
		}
		plan, err := runner.Plan(from.terms, "") // nothing is started, not even to ask for a version
		if err != nil {
			return nil, err
		}
		all = append(all, Planned{
			Name: from.name, Command: from.terms.Run.Command, Where: plan.Where, Folder: from.terms.Run.Folder, Files: plan.Asked,
			Known: len(plan.Given) - len(plan.Asked), Before: s.before, Refused: refused, Skipped: plan.Skipped(),
		})
	}
	if s.before || s.diff == nil || !r.runsOnBase() {
		return all, nil
	}
	before, err := s.beforeChange()
	if err != nil {
		return nil, err
	}
	defer before.close()
	earlier, err := before.plans(q, r)
	return append(all, earlier...), err
}
