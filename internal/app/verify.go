package app

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/target"
)

// VerifyRequest is a sealed statement to check.
type VerifyRequest struct {
	Call
	File    string
	Commit  string          // the revision that it should be of, "" for what is checked out
	Door    string          // whose verdict or exception it should be; "" for the one it names
	Into    string          // what the change comes to; "" for the ref that a verdict names
	Reports []evidence.File // to compare with those that were sealed, by their names
	Now     time.Time
}

// Verified is what became of it.
type Verified struct {
	Statement seal.Statement
	Digest    string   // of the envelope, SHA-256
	Commit    string   // that it was held against
	Into      string   // what the change comes to, as it is called here; "" for a commit by itself
	By        []string // the seals that it counts by
	Why       []string // why it doesn't hold, empty where it does
	Unchecked []string // reports whose content wasn't given
	Limits    []string // the files that a key of an exception's seal speaks for, where no change was given to compare
}

// Verify checks a sealed statement as a door does: its keys, its tree, and what it says.
func Verify(ctx context.Context, q VerifyRequest) (*Verified, error) {
	envelope, _, err := sealed.ReadFile(target.InDir(q.Dir, q.File))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", q.File, err)
	}
	repo, err := git.Open(ctx, q.Dir)
	if err != nil {
		return nil, err
	}
	defer repo.Close()
	v := &Verified{Statement: envelope.Statement, Digest: envelope.Digest}
	if v.Commit, err = repo.Commit(cmp.Or(q.Commit, "HEAD")); err != nil {
		return nil, err
	}
	if v.Statement.Verdict != nil {
		return v, v.verdict(repo, q)
	}
	return v, v.tree(repo, q)
}

func (v *Verified) bearer(q VerifyRequest) sealed.Bearer {
	return sealed.Bearer{Dir: q.Dir, Alone: true, Files: []sealed.File{{Name: q.File, Path: q.File}}, Today: q.Today, Now: q.Now}
}

// verdict checks a verdict against the ref that it names, or the one that the call does.
func (v *Verified) verdict(repo *git.Repo, q VerifyRequest) error {
	said := v.Statement.Verdict
	into := q.Into
	if into == "" {
		if said.Ref == "" {
			return target.WrongCall("the verdict names no ref; name what the change comes to: --into REF")
		}
		var err error
		if into, err = repo.Follower(said.Ref); err != nil {
			return err
		}
	}
	v.Into = into
	t, err := target.Of(repo, target.Name{Kind: policy.Branch, Into: into, To: v.Commit})
	if err != nil {
		return err
	}
	defer t.Close()
	a, err := authority.Find(t, q.overrides())
	if err != nil {
		return err
	}
	statements, err := sealed.Gather(t, a.Policy.Policy, v.bearer(q))
	if err != nil {
		return err
	}
	lists, err := a.Kept(t, q.overrides())
	if err != nil {
		return err
	}
	want, err := expectedOf(target.Name{Into: into}, t, a, lists)
	if err != nil {
		return err
	}
	want.Base, want.Ref = string(t.PolicyAt[0].Side), cmp.Or(want.Ref, said.Ref)
	paths, err := changedPaths(t)
	if err != nil {
		return err
	}
	by, why := statements.Verdict(policy.Sealed{Verdict: cmp.Or(q.Door, said.Door), By: a.Policy.Policy.SealNames()}, want, paths)
	v.note(by, why)
	return nil
}

// tree checks reports, or an exception, by the policy of what the change comes to, or of the commit that is checked out.
func (v *Verified) tree(repo *git.Repo, q VerifyRequest) error {
	name := target.Name{Kind: policy.Tree, To: v.Commit}
	if v.Into = q.Into; v.Into != "" {
		name.Kind, name.Into = policy.Branch, v.Into
	}
	t, err := target.Of(repo, name)
	if err != nil {
		return err
	}
	defer t.Close()
	a, err := authority.Find(t, q.overrides())
	if err != nil {
		return err
	}
	p := a.Policy.Policy
	statements, err := sealed.Gather(t, p, v.bearer(q))
	if err != nil {
		return err
	}
	if v.Statement.Exception != nil {
		door := policy.Door{Name: cmp.Or(q.Door, v.Statement.Exception.Door), Exceptions: p.SealNames()}
		if known, ok := p.Door(door.Name); ok {
			door.Exceptions = known.Exceptions
		}
		var paths []string
		if v.Into != "" {
			if paths, err = changedPaths(t); err != nil {
				return err
			}
		}
		found, notices := statements.Exception(door, paths)
		switch {
		case found != nil:
			v.By = append(v.By, found.Seal)
			if v.Into == "" {
				v.Limits = limitsOf(p, found.Seal)
			}
		case len(notices) == 0:
			v.Why = append(v.Why, fmt.Sprintf("the door %s takes no exceptions", door.Name))
		}
		v.Why = append(v.Why, notices...)
		return nil
	}
	given := map[string][]seal.File{}
	for _, file := range q.Reports {
		digest, err := sealed.DigestOf(target.InDir(q.Dir, file.Path))
		if err != nil {
			return fmt.Errorf("the report %s can't be read: %w", file.Path, err)
		}
		if v.Statement.Reports.Named(file.Name) == nil {
			v.Why = append(v.Why, fmt.Sprintf("%s has no report %s", q.File, file.Name))
		}
		given[file.Name] = append(given[file.Name], digest)
	}
	for _, r := range v.Statement.Reports.Reports {
		files, compared := given[r.Name]
		if !compared {
			files = r.Files
			v.Unchecked = append(v.Unchecked, r.Name)
		}
		terms, known := p.Report(r.Name)
		if !known || len(terms.Sealed) == 0 {
			terms.Name, terms.Sealed = r.Name, p.SealNames()
		}
		by, _, why := statements.Report(terms, files)
		v.note(by, why)
	}
	return nil
}

// limitsOf are the files that keys of a seal speak for, where they don't speak for all.
func limitsOf(p *policy.Policy, name string) (limits []string) {
	named, _ := p.Seal(name)
	for _, key := range named.Keys {
		limits = append(limits, key.Paths...)
	}
	return limits
}

// note notes what became of one thing, each once.
func (v *Verified) note(by, why string) {
	add := func(to *[]string, text string) {
		if text != "" && !slices.Contains(*to, text) {
			*to = append(*to, text)
		}
	}
	add(&v.By, by)
	add(&v.Why, why)
}
