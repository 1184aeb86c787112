package app

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/sealed"
	"zincdoor/internal/target"
)

// GateRequest is a change to judge at a door.
type GateRequest struct {
	Call
	Change  target.Name
	Remote  string // of a push: the name of the remote that is pushed to, "" for the only one
	Door    string // "" takes the one door that judges this kind of change
	Reports Reports
	Lines   bool            // the lines around findings will be asked for
	Record  Recording       // whether and where the verdict is recorded
	Sealing Sealing         // what is sealed, and what is to be
	Tell    func(lint.Step) // is called with how far the work is; nil for nobody

	keeping *keeping // where the records of the call go
	live    *Live    // whose request it is, nil for none
	listing bool     // no door decides anything
	fixing  bool     // lines that differ in white space alone may be edited too
}

// Gate judges a change at a door: one verdict, but for a push one for each ref. An error wraps ErrCall or is a
// policyfile.Problems where the call or the policy is wrong; any other means that it can't be judged.
func Gate(ctx context.Context, q GateRequest) ([]*Judged, error) {
	q.keeping = &keeping{}
	judged, err := q.each(ctx, func(ctx context.Context, t *target.Target) (*Judged, error) {
		return q.judge(ctx, t, (*authority.Authority).ChooseDoor)
	})
	if err != nil {
		q.keeping.close()
	}
	return judged, err
}

// List judges a change at whatever door there is, named or not: for its findings' places and standings, not its outcome.
func List(ctx context.Context, q GateRequest) ([]*Judged, error) {
	q.listing = true
	return q.each(ctx, func(ctx context.Context, t *target.Target) (*Judged, error) {
		return q.judge(ctx, t, (*authority.Authority).ChooseAnyDoor)
	})
}

// Plan says which linters Gate would start on which files, and starts nothing.
func Plan(ctx context.Context, q GateRequest) (all []evidence.Planned, err error) {
	_, err = q.each(ctx, func(ctx context.Context, t *target.Target) (*Judged, error) {
		a, err := q.authority(t, (*authority.Authority).ChooseDoor)
		if err != nil {
			return nil, err
		}
		planned, err := evidence.Plan(ctx, collecting(t, a, q.Call, q.Reports, q.Tell))
		all = append(all, planned...)
		return nil, err
	})
	return all, err
}

// each opens the targets that a request names, and does something with each of them.
func (q GateRequest) each(ctx context.Context, do func(context.Context, *target.Target) (*Judged, error)) ([]*Judged, error) {
	repo, err := q.open(ctx)
	if err != nil {
		return nil, err
	}
	if repo != nil {
		defer repo.Close()
	}
	if q.Change.Kind == policy.Push {
		return q.eachUpdate(ctx, repo, do)
	}
	t, err := q.target(repo)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	judged, err := do(ctx, t)
	return []*Judged{judged}, err
}

// open finds the repository of a call. A patch does without one: the repository is nil then.
func (q GateRequest) open(ctx context.Context) (*git.Repo, error) {
	repo, err := open(ctx, q.Dir)
	if q.Change.Patch != "" && errors.Is(err, git.ErrNoRepository) {
		return nil, nil
	}
	return repo, err
}

// target finds the states of a change that isn't a push. Where the call names none, the door decides.
func (q GateRequest) target(repo *git.Repo) (*target.Target, error) {
	name := q.Change
	if name.Patch != "" {
		return target.OfPatch(repo, q.Dir, name.Patch, q.Reports.Stdin, q.Policy != "" && q.Baseline != "")
	}
	if name.Kind == "" {
		var err error
		if name.Kind, err = authority.KindOfDoor(repo, q.overrides(), q.Door); err != nil {
			return nil, err
		}
	}
	return target.Of(repo, name)
}

// eachUpdate does something with each ref that is pushed. One that can't be judged leaves the others as they are.
func (q GateRequest) eachUpdate(ctx context.Context, repo *git.Repo, do func(context.Context, *target.Target) (*Judged, error)) ([]*Judged, error) {
	p, err := target.ReadPush(q.Reports.Stdin)
	if err != nil {
		return nil, err
	}
	if len(p.Updates) == 0 {
		return []*Judged{q.nothing("", "nothing is pushed, so there is nothing to judge")}, nil
	}
	receiver, err := target.ReceiverOf(repo, p, q.Remote)
	if err != nil {
		return nil, err
	}
	var all []*Judged
	for _, u := range p.Updates {
		if strings.HasPrefix(u.Ref, target.SealedRefs) {
			all = append(all, q.sealedRef(repo, u))
			continue
		}
		judged, err := q.update(ctx, repo, receiver, p.Updates, u, do)
		var problems policyfile.Problems
		switch {
		case errors.Is(err, ErrCall) || errors.As(err, &problems):
			return nil, err
		case err != nil:
			judged = q.unjudged(u.Ref, err)
		}
		all = append(all, judged)
	}
	return all, nil
}

func (q GateRequest) update(ctx context.Context, repo *git.Repo, receiver *target.Receiver, along []target.Update, u target.Update, do func(context.Context, *target.Target) (*Judged, error)) (*Judged, error) {
	t, nothing, err := target.OfUpdate(repo, receiver, u, func(t *target.Target) (target.Guard, error) {
		a, err := authority.Find(t, q.overrides())
		if err != nil {
			return target.Guard{}, err
		}
		p := a.Policy.Policy
		return target.Guard{Takes: func(ref string) bool { return p.Guards(ref, receiver.Main()) }, Named: p.NamesRefs(), Called: q.Policy != ""}, nil
	})
	if err != nil {
		return nil, err
	}
	if t == nil {
		return q.nothing(u.Ref, nothing), nil
	}
	defer t.Close()
	t.Along = along
	judged, err := do(ctx, t)
	var absent authority.NoDoor
	if errors.As(err, &absent) {
		return q.nothing(u.Ref, absent.Error()), nil
	}
	return judged, err
}

// nothing is the verdict on a push that brings nothing in.
func (q GateRequest) nothing(ref, why string) *Judged {
	return q.empty(ref, judge.Input{Notices: []string{why}})
}

// unjudged is the verdict on a ref that can't be judged.
func (q GateRequest) unjudged(ref string, why error) *Judged {
	return q.empty(ref, judge.Input{Evidence: []judge.Evidence{{Name: ref, State: judge.Missing, Problem: why.Error()}}})
}

func (q GateRequest) empty(ref string, in judge.Input) *Judged {
	builtin := policyfile.Builtin()
	in.Subject = judge.Subject{Kind: string(policy.Push), Ref: ref}
	in.Change, in.Policy, in.Today = &change.Change{}, builtin.Policy, q.Today
	in.Door = policy.Door{Name: q.Door, Mode: policy.Enforce}
	return &Judged{Verdict: judge.Judge(in), Input: in, Policy: builtin}
}

// authority finds the policy that counts, and chooses the door.
func (q GateRequest) authority(t *target.Target, choose func(*authority.Authority, *target.Target, string) error) (*authority.Authority, error) {
	a, err := authority.Find(t, q.overrides())
	if err != nil {
		return nil, err
	}
	return a, choose(a, t, q.Door)
}

// judge judges a target. While the policy and the reports are read, git already lists what the change alters.
func (q GateRequest) judge(ctx context.Context, t *target.Target, choose func(*authority.Authority, *target.Target, string) error) (*Judged, error) {
	var group errgroup.Group
	defer group.Wait()
	if t.Diff != nil {
		group.Go(func() error {
			_, err := t.Diff.Files()
			return err // which whoever asks for the files meets too
		})
	}
	if q.Record.Asked && q.Record.apart == nil { // else the policy is to say so first
		q.keeping.begin(ctx, t.Repo, q.Dir, q.Record.Place)
		defer q.keeping.found.Wait()
	}
	a, err := q.authority(t, choose)
	if err != nil {
		return nil, err
	}
	kept := q.beginRecord(ctx, t, a)
	defer kept.wait()
	statements, err := q.statements(t, a)
	if err != nil {
		return nil, err
	}
	sealable := q.sealable(t, statements)
	collected, lists, err := q.collect(ctx, t, a, kept, statements)
	if err != nil {
		return nil, err
	}
	in := inputOf(t, a, collected, lists)
	if err := q.addSealed(t, a, lists, statements, &in); err != nil {
		return nil, err
	}
	in.Today = q.Today
	before, err := q.addBase(ctx, t, a, &in)
	if err != nil {
		return nil, err
	}
	if err := addMeasures(ctx, t, &in, collected, before); err != nil {
		return nil, err
	}
	in.Measures.Recall = q.recall(ctx, t)
	j := &Judged{Input: in, Policy: a.Policy, Dir: q.Dir, Root: t.Root, side: t.Side, trusted: a.Trusted(t).Side, texts: collected.Texts, rules: collected.Rules}
	if slices.ContainsFunc(in.Policy.Reports, func(r policy.Report) bool { return len(r.Fix) > 0 }) {
		j.Refused = a.Refusal(t, q.overrides())
	}
	if q.live != nil {
		if err := q.live.keep(t, a, collected); err != nil {
			return nil, err
		}
	}
	if err := j.judge(t); err != nil {
		return j, err
	}
	j.sealable = sealable.end(q.Change, t, a, lists, collected)
	j.unrecorded = kept.end(j)
	return j, nil
}

// collect reads the reports and the lists, side by side.
func (q GateRequest) collect(ctx context.Context, t *target.Target, a *authority.Authority, kept *recording, statements *sealed.Statements) (*evidence.Collected, *authority.Lists, error) {
	var group errgroup.Group
	var lists *authority.Lists
	by := q.overrides()
	by.Digest = statements != nil || q.Sealing.Key != nil
	group.Go(func() (err error) {
		lists, err = a.Lists(t, by)
		return err
	})
	request := collecting(t, a, q.Call, q.Reports, q.Tell)
	request.Lines, request.Keep, request.Spaces = q.Lines, kept.keeper(), q.fixing || q.live != nil
	if request.Sealed = statements; q.Sealing.Key != nil { // nothing is sealed that a cache may have been given by others
		request.Digests, request.Fresh = true, true
	}
	if q.live != nil {
		request.Starts, request.Words = q.live.step.Starts, q.live.words
	}
	collected, err := evidence.Collect(ctx, request)
	if unread := group.Wait(); unread != nil {
		return nil, nil, unread
	}
	if err == nil && q.live != nil {
		err = q.live.recall(collected, t)
	}
	return collected, lists, err
}

// inputOf is what the verdict depends on, without what was found before the change.
func inputOf(t *target.Target, a *authority.Authority, c *evidence.Collected, l *authority.Lists) judge.Input {
	in := judge.Input{
		Subject: t.Subject, Origin: a.Origin, Policy: a.Policy.Policy, Door: a.Door, Notices: slices.Concat(t.Notices, a.Notices, l.Notices, c.Notices),
		Change: c.Change, Whole: c.Whole, Spaced: c.Spaced, Findings: c.Findings, Evidence: slices.Concat(c.Evidence, l.Evidence), Waivers: c.Waivers,
		Baseline: l.Baseline, Added: l.Added, Dropped: l.Dropped, Uncovers: l.Uncovers, AcceptAllEdits: l.Whole, WordsAdded: c.Words,
	}
	in.Origin.Altered = l.Altered
	if !c.Change.Everything {
		in.Subject.Files = len(c.Change.Files)
	}
	return in
}

// addBase adds what was found before the change: by the reports of that state, and by linters that are run on it. It gives what tests
// covered then, nil where that isn't known.
func (q GateRequest) addBase(ctx context.Context, t *target.Target, a *authority.Authority, in *judge.Input) (*measure.Reported, error) {
	given := q.Reports.Base
	if len(given) == 0 && (t.Diff == nil || q.Reports.Alone && !q.Reports.Start || !evidence.RunsOnBase(in.Policy, in.Door)) {
		return nil, nil
	}
	if t.Diff == nil {
		return nil, target.WrongCall("--base-report is for a change, and here there is nothing to compare with")
	}
	before, err := t.BeforeChange()
	if err != nil {
		return nil, err
	}
	defer before.Close()
	reports := q.Reports
	reports.Files, reports.Commit = given, cmp.Or(t.Subject.Base, string(t.Diff.Old()))
	request := collecting(before, a, q.Call, reports, q.Tell)
	if request.Sealed, err = q.statements(before, a); err != nil {
		return nil, err
	}
	c, err := evidence.Collect(ctx, request)
	if err != nil {
		return nil, err
	}
	in.BaseFindings = c.Findings
	for _, e := range c.Evidence {
		if e.Sound() {
			in.BaseCovers = append(in.BaseCovers, e.Covers...)
		}
		e.Name, e.Covers, e.Before = "before the change: "+e.Name, nil, true
		in.Evidence = append(in.Evidence, e)
	}
	in.Notices = append(in.Notices, c.Notices...)
	return c.Coverage, nil
}

// judge makes the verdict.
func (j *Judged) judge(t *target.Target) error {
	texts, err := textsOf(t, &j.Input)
	if err != nil {
		return err
	}
	j.Input.Texts = texts.Texts
	j.Verdict = judge.Judge(j.Input)
	return texts.unread
}
