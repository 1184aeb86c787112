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
	said := v.Statement.Verdict
	switch v.Into = q.Into; {
	case v.Into != "" || said == nil:
	case said.Ref == "":
		return nil, target.WrongCall("the verdict names no ref; name what the change comes to: --into REF")
	default:
		if v.Into, err = repo.Follower(said.Ref); err != nil {
			return nil, err
		}
	}
	name := target.Name{Kind: policy.Tree, To: v.Commit}
	if v.Into != "" {
		name.Kind, name.Into = policy.Branch, v.Into
	}
	t, err := target.Of(repo, name)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	a, err := authority.Find(t, q.overrides())
	if err != nil {
		return nil, err
	}
	statements, err := sealed.Gather(t, a.Policy.Policy, sealed.Bearer{Dir: q.Dir, Alone: true, Files: []sealed.File{{Name: q.File, Path: q.File}}, Today: q.Today, Now: q.Now})
	if err != nil {
		return nil, err
	}
	switch {
	case said != nil:
		err = v.verdict(q, t, a, statements)
	case v.Statement.Exception != nil:
		err = v.exception(q, t, a.Policy.Policy, statements)
	default:
		err = v.reports(q, a.Policy.Policy, statements)
	}
	return v, err
}

// verdict checks a verdict against what the change comes to.
func (v *Verified) verdict(q VerifyRequest, t *target.Target, a *authority.Authority, statements *sealed.Statements) error {
	said := v.Statement.Verdict
	lists, err := a.Kept(t, q.overrides())
	if err != nil {
		return err
	}
	want, err := expectedOf(target.Name{Into: v.Into}, t, a, lists)
	if err != nil {
		return err
	}
	want.Base, want.Ref = string(t.PolicyAt[0].Side), cmp.Or(want.Ref, said.Ref)
	paths, err := changedPaths(t)
	if err != nil {
		return err
	}
	v.note(statements.Verdict(policy.Sealed{Verdict: cmp.Or(q.Door, said.Door), By: a.Policy.Policy.SealNames()}, want, paths))
	return nil
}

// exception checks an exception; where it isn't known what the change comes to, whatever that touches.
func (v *Verified) exception(q VerifyRequest, t *target.Target, p *policy.Policy, statements *sealed.Statements) error {
	door := policy.Door{Name: cmp.Or(q.Door, v.Statement.Exception.Door), Exceptions: p.SealNames()}
	if known, ok := p.Door(door.Name); ok {
		door.Exceptions = known.Exceptions
	}
	var paths []string
	if v.Into != "" {
		var err error
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

// reports checks reports, and compares the content of those that are given.
func (v *Verified) reports(q VerifyRequest, p *policy.Policy, statements *sealed.Statements) error {
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
