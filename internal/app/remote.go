package app

import (
	"context"
	"errors"
	"slices"
	"time"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// Wanted is what a change needs to be judged.
type Wanted struct {
	Door    string
	Policy  string   // the digests of the policy and of all that it inherits
	Base    string   // the commit that the change is compared with, "" for none
	Reports []string // of the policy, which the door needs
	Others  []string // of the policy, which the door takes where they are there
	OfBase  []string // those of both that are wanted of the state before the change too
}

// All are the reports that the door takes.
func (w *Wanted) All() []string { return slices.Concat(w.Reports, w.Others) }

// WantedFor says what a change needs to be judged. Where the call names no door, and the states of a branch are judged, it is the push
// door that stands at that, or the one that judges ranges.
func WantedFor(ctx context.Context, q GateRequest, branch string) (w *Wanted, err error) {
	_, err = q.each(ctx, func(_ context.Context, t *target.Target) (*Judged, error) {
		a, err := q.authority(t, func(a *authority.Authority, t *target.Target, name string) error {
			if name == "" && branch != "" {
				if name = stateDoor(a.Policy.Policy, branch); name == "" {
					return ErrNoDoor
				}
			}
			return a.ChooseDoor(t, name)
		})
		if err != nil {
			return nil, err
		}
		w = &Wanted{Door: a.Door.Name, Policy: digestsOf(a), Base: t.Subject.Base}
		reports, needed := a.Policy.Policy.Needed(a.Door)
		for _, r := range reports {
			if needed[r.Name] {
				w.Reports = append(w.Reports, r.Name)
			} else {
				w.Others = append(w.Others, r.Name)
			}
			if r.Run != nil && r.Run.Base {
				w.OfBase = append(w.OfBase, r.Name)
			}
		}
		return nil, nil
	})
	return w, err
}

// ErrNoDoor is the error of a branch whose states no door judges, or several.
var ErrNoDoor = errors.New("the policy has no door for the states of this branch, or several; the settings can name one")

// stateDoor is the door at which the states of a branch are judged, "" where it isn't clear which that is.
func stateDoor(p *policy.Policy, branch string) string {
	for _, doors := range [][]policy.Door{p.Standing(branch), p.DoorsFor(policy.Range), p.DoorsFor(policy.Tree)} {
		if len(doors) == 1 {
			return doors[0].Name
		}
	}
	return ""
}

// Acceptance is an entry of a baseline with who is to put it right.
type Acceptance struct {
	baseline.Entry
	ID    string
	Owner string // a person or a team, "" where nobody says
}

// AcceptancesAt lists what the policy and the baseline of a commit accept, and the teams that the policy names.
func AcceptancesAt(ctx context.Context, c Call, commit string) (all []Acceptance, teams []string, err error) {
	repo, err := open(ctx, c.Dir)
	if err != nil {
		return nil, nil, err
	}
	defer repo.Close()
	t, err := target.Of(repo, target.Name{Kind: policy.Tree, To: commit})
	if err != nil {
		return nil, nil, err
	}
	defer t.Close()
	a, err := authority.Find(t, c.overrides())
	if err != nil {
		return nil, nil, err
	}
	lists, err := a.Kept(t, c.overrides())
	if err != nil {
		return nil, nil, err
	}
	p, entries := a.Policy.Policy, lists.Baseline.Entries
	for i, id := range baseline.IDs(entries) {
		e := entries[i]
		owner := e.Owner
		if owner == "" {
			owner = p.TeamOf(e.Path)
		}
		all = append(all, Acceptance{Entry: e, ID: id, Owner: owner})
	}
	for _, t := range p.Teams {
		teams = append(teams, t.Name)
	}
	return all, teams, nil
}

// CantJudge is the verdict on a change that can't be judged, and why: its policy is wrong, or what it is compared with is missing.
func CantJudge(q GateRequest, base, head string, why error) *Judged {
	j := q.unjudged(q.Change.Into, why)
	j.Input.Subject.Kind, j.Input.Subject.Base, j.Input.Subject.Head = string(q.Change.Kind), base, head
	j.Verdict.Subject = j.Input.Subject
	if q.Record.apart != nil {
		r := &recording{Recording: q.Record, policy: policyfile.Builtin().Policy, began: time.Now(), state: judgedState{head: head}}
		j.unrecorded = r.end(j)
	}
	return j
}

// Mirror is a bare repository that follows another one.
type Mirror = git.Mirror

// CommitToSend is what a report is sent for: the name of the repository, as its records have it unless the call says otherwise, and the
// commit by its whole name. Outside of any repository the call must say both.
func CommitToSend(ctx context.Context, dir, name, revision string) (repository, commit string, err error) {
	repo, err := openIfAny(ctx, dir)
	switch {
	case err != nil:
		return "", "", err
	case repo == nil && (name == "" || !git.IsHash(revision)):
		return "", "", target.WrongCall("there is no repository here; say --repository NAME, and --commit with all digits of the commit")
	case repo == nil:
		return name, revision, nil
	}
	defer repo.Close()
	if name == "" {
		name = homeOf(repo, dir).name
	}
	commit, err = repo.Commit(revision)
	return name, commit, err
}
