// Package gate knows the way of a finding through the whole program: it asks git for the change, reads the reports,
// the policy and the baseline from where they count, and hands all of it to the core for judgement. It prints nothing.
package gate

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
)

// ErrCall is the error of a call that makes no sense as it stands, as opposed to one that can't be answered.
var ErrCall = errors.New("wrong call")

func wrongCall(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrCall, fmt.Sprintf(format, args...))
}

// Request is what a caller asks.
type Request struct {
	Dir    string // where the call is made
	Change Selection
	Door   string // "" takes the one door that judges this kind of change

	Reports      []ReportFile
	BaseReports  []ReportFile // of the state before the change
	ReportCommit string       // the revision that reports without a word of their own were made at
	ReportRoot   string       // where the reports' paths start: a folder of the repository, or its root on another machine
	EmptyIsClean bool         // a report called diagnostics that is empty means a tool that found nothing

	Remote string // Push: the name of the remote that is pushed to, "" for the only one

	Policy   string // FILE or REV:PATH in place of the policy that counts
	Baseline string // the same for the baseline
	Today    string // YYYY-MM-DD, UTC
	Run      bool   // the programs that the policy names may be started
	Fresh    bool   // they are asked anew, whatever they answered before
	Plan     bool   // they aren't started: Gather's result tells on what they would be
	Apart    bool   // the reports that the policy names aren't looked for: those of the call are all there are
	Around   bool   // the lines around findings will be asked for
	AnyDoor  bool   // where no door is named and several judge this kind of change, or none, any of them will do
	Anew     bool   // Survey: do without a baseline that can't be read

	Stdin io.Reader
	Tell  func(lint.Step) // is told how far the linters are that are started; nil for nobody
}

// begin tells that some work begins; what it returns tells that it has ended.
func (q Request) begin(what string) (end func()) {
	if q.Tell == nil {
		return func() {}
	}
	q.Tell(lint.Step{Name: what})
	return func() { q.Tell(lint.Step{Name: what, Ended: true}) }
}

// Selection names one change.
type Selection struct {
	Kind    policy.Kind // "" leaves it to the door
	From    string      // Range: the old side
	To      string      // Range: the new side; Tree: the revision, "" for the work tree
	Against string      // Branch: the target
	Patch   string      // a file with a unified diff, "-" for Stdin; its Kind is Range
}

// ReportFile is one report of the call.
type ReportFile struct {
	Name string // a format, or a report of the policy that it stands in for; "" to find the format out
	File string // "-" for Stdin
}

// Result is a case made ready for judgement, and the texts its findings stand in.
type Result struct {
	Case judge.Case

	// BaselinePath is where the policy has the baseline, relative to the repository's root.
	BaselinePath string
	// Root is the folder that paths are relative to, on this machine.
	Root string
	// Author is the name of the person who makes the call, as git knows it.
	Author string

	// Refused says why none of the policy's linters may be started to mend something, "" where they may or there is none.
	Refused string

	Plans []Planned // where the request asks for them: there is nothing else then

	texts map[string]*source.Text
	told  map[string]map[string]finding.Rule // what tools tell of their rules, by report and rule
	way   *change.Change                     // the change before other sides had their share
}

// Text is the text of a file that a finding stands in, nil where it isn't known.
func (r *Result) Text(path string) *source.Text { return r.texts[path] }

// Touched reports whether a line of the judged state is one that the change adds or modifies.
func (r *Result) Touched(path string, line int) bool {
	return r.Case.Change.Place(path, finding.Region{Line: line}, true) == change.OnTouched
}

// TouchedAtAll reports whether a line differs from the one before the change in anything, white space included.
func (r *Result) TouchedAtAll(path string, line int) bool {
	spaced := r.Case.Spaced
	return r.Touched(path, line) || spaced != nil && spaced.Place(path, finding.Region{Line: line}, true) == change.OnTouched
}

// Rule gives what a finding's tool tells of its rule: of one with a name like a/b/c, else of a/b, else of a (SARIF 2.1.0,
// 3.52.4).
func (r *Result) Rule(f *finding.Finding) (finding.Rule, bool) {
	for _, source := range f.Sources {
		for name := f.Rule; name != ""; name = name[:max(strings.LastIndexByte(name, '/'), 0)] {
			if rule, ok := r.told[source][name]; ok {
				return rule, true
			}
		}
	}
	return finding.Rule{}, false
}

// RuleNamed gives what some tool tells of a rule, and the tool's report, whether or not it found anything.
func (r *Result) RuleNamed(name string) (rule finding.Rule, source string, ok bool) {
	for _, source := range slices.Sorted(maps.Keys(r.told)) {
		if rule, ok := r.told[source][name]; ok {
			return rule, source, true
		}
	}
	return finding.Rule{}, "", false
}

// RuleNames lists the rules that the reports tell of.
func (r *Result) RuleNames() (all []string) {
	for _, rules := range r.told {
		all = slices.AppendSeq(all, maps.Keys(rules))
	}
	return all
}

// Gather makes a request cases, one for each change it names: one, but for a push of several refs. An error wraps
// ErrCall or is a policy.Problems where the call or the policy is wrong; any other means that it can't be judged.
func Gather(ctx context.Context, q Request) ([]*Result, error) {
	repo, err := open(ctx, q)
	if err != nil {
		return nil, err
	}
	if repo != nil {
		defer repo.Close()
	}
	var s *scene
	switch {
	case q.Change.Patch != "":
		s, err = patchScene(repo, q)
	case q.Change.Kind == policy.Push:
		return gatherPush(repo, q)
	default:
		s, err = newScene(repo, q)
	}
	if err != nil {
		return nil, err
	}
	s.ctx = ctx
	result, err := s.gather(q)
	return []*Result{result}, err
}

// open finds the repository of a call. A patch does without one: the repository is nil then.
func open(ctx context.Context, q Request) (*git.Repo, error) {
	repo, err := git.Open(ctx, q.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		if q.Change.Patch != "" {
			return nil, nil
		}
		return nil, fmt.Errorf("%w: run zincdoor inside one, or judge a diff with --patch FILE", err)
	}
	return repo, err
}

// gatherPush makes a case of each ref that is pushed.
func gatherPush(repo *git.Repo, q Request) ([]*Result, error) {
	p, err := readPush(bufio.NewScanner(q.Stdin))
	if err != nil {
		return nil, err
	}
	if len(p.updates) == 0 {
		return []*Result{q.nothing("", "nothing is pushed, so there is nothing to judge")}, nil
	}
	r, err := receiverOf(repo, p, q.Remote)
	if err != nil {
		return nil, err
	}
	var results []*Result
	for _, u := range p.updates {
		result, err := q.gatherUpdate(repo, r, u)
		var problems policy.Problems
		switch {
		case errors.Is(err, ErrCall) || errors.As(err, &problems):
			return nil, err
		case err != nil: // the other refs are judged all the same
			result = q.nothing(u.ref, "")
			result.Case.Notices = nil
			result.Case.Evidence = []judge.Evidence{{Name: u.ref, State: judge.Missing, Problem: err.Error()}}
		}
		results = append(results, result)
	}
	return results, nil
}

func (q Request) gatherUpdate(repo *git.Repo, r *receiver, u update) (*Result, error) {
	s, nothing, err := pushScene(repo, q, r, u)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return q.nothing(u.ref, nothing), nil
	}
	return s.gather(q)
}

// nothing is the case of a push that brings nothing in.
func (q Request) nothing(ref, why string) *Result {
	return &Result{Case: judge.Case{
		Subject: judge.Subject{Kind: string(policy.Push), Ref: ref}, Change: &change.Change{}, Policy: policy.Builtin(),
		Door: policy.Door{Name: q.Door, Mode: policy.Enforce}, Today: q.Today, Notices: []string{why},
	}}
}

// gather makes the scene a case, and closes it.
func (s *scene) gather(q Request) (*Result, error) {
	defer s.close()
	s.start()
	rules, err := s.rules(q)
	if err != nil {
		return nil, err
	}
	if q.Plan {
		plans, err := s.plans(q, rules)
		return &Result{Plans: plans}, err
	}
	w, err := s.call(q, rules)
	if err != nil {
		return nil, err
	}
	defer w.settle()
	if err := s.lists(q, rules); err != nil {
		return nil, err
	}
	result, err := s.nothingStaged()
	if result == nil && err == nil {
		result, err = w.hear()
	}
	if err != nil {
		return nil, err
	}
	c := &result.Case
	if !c.Change.Everything {
		s.subject.Files = len(c.Change.Files)
	}
	c.Subject, c.Today = s.subject, q.Today
	c.Policy, c.Origin, c.Door, c.Baseline = rules.policy, rules.origin, rules.door, rules.baseline
	c.Evidence = append(c.Evidence, rules.evidence...)
	c.Notices = slices.Concat(s.notices, rules.notices, c.Notices)
	holdWaivers(c)
	if slices.ContainsFunc(rules.policy.Reports, func(r policy.Report) bool { return len(r.Mend) > 0 }) {
		result.Refused = s.refusal(q, rules)
	}
	if err := s.hearBase(q, c, rules); err != nil {
		return nil, err
	}
	return result, s.know(c, result.way, rules)
}

// nothingStaged is the result where a commit is judged that would be empty, nil otherwise.
func (s *scene) nothingStaged() (*Result, error) {
	if s.kind != policy.Staged {
		return nil, nil
	}
	files, err := s.changed()
	if err != nil || len(files) > 0 {
		return nil, err
	}
	none := &change.Change{}
	return &Result{Case: judge.Case{Change: none, Notices: []string{"nothing is staged, so there is nothing to judge; git add stages files, --worktree judges what isn't staged"}}, way: none}, nil
}

// Survey reads the reports of the work tree and recognises what the work tree's baseline accepts, without a door to hold
// them against.
func Survey(ctx context.Context, q Request) (result *Result, err error) {
	err = inWorkTree(ctx, q, func(s *scene, r *rules) error {
		if err := s.readBaseline(q, r); err != nil {
			if !q.Anew {
				return err
			}
			r.baseline = &baseline.Baseline{}
		}
		w, err := s.call(q, r)
		if err != nil {
			return err
		}
		defer w.settle()
		if result, err = w.hear(); err != nil {
			return err
		}
		result.BaselinePath, result.Root, result.Author = r.policy.Baseline, s.root, s.author()
		c := &result.Case
		c.Policy, c.Today, c.Baseline, c.Apart = r.policy, q.Today, r.baseline, true
		return s.know(c, result.way, r)
	})
	return result, err
}

// List is the work tree's baseline, and where it is kept.
type List struct {
	Baseline *baseline.Baseline
	Policy   *policy.Policy
	Path     string // relative to the repository's root
	Root     string
	Author   string // the name of the person who makes the call, as git knows it
}

// OpenList reads the work tree's baseline.
func OpenList(ctx context.Context, q Request) (list *List, err error) {
	err = inWorkTree(ctx, q, func(s *scene, r *rules) error {
		err := s.readBaseline(q, r)
		list = &List{Baseline: r.baseline, Policy: r.policy, Path: r.policy.Baseline, Root: s.root, Author: s.author()}
		return err
	})
	return list, err
}

// inWorkTree opens the work tree as a scene, with its policy and no door.
func inWorkTree(ctx context.Context, q Request, do func(s *scene, r *rules) error) error {
	q.Change = Selection{Kind: policy.Tree}
	repo, err := open(ctx, q)
	if err != nil {
		return err
	}
	defer repo.Close()
	s, err := newScene(repo, q)
	if err != nil {
		return err
	}
	defer s.close()
	p, origin, err := s.policyOf(q)
	if err != nil {
		return err
	}
	if origin.From == BuiltIn { // whose checks nobody asked for are no debt to keep a list of
		p.House = nil
	}
	return do(s, &rules{policy: p, origin: origin})
}
