package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/target"
)

// Sealing is what a call brings that is sealed, and what it seals with.
type Sealing struct {
	Files   []sealed.File // envelopes
	Key     *seal.Private // nil for none
	Now     time.Time
	Program string // the version that seals
}

// bearer is what brings the statements of a call.
func (q GateRequest) bearer() sealed.Bearer {
	b := sealed.Bearer{Dir: q.Dir, Files: q.Sealing.Files, Today: q.Today, Now: q.Sealing.Now}
	if b.Now.IsZero() {
		b.Now = time.Now()
	}
	if q.Sealing.Key != nil {
		public := q.Sealing.Key.Public()
		b.Key = &public
	}
	return b
}

// statements are the sealed ones at hand, nil where the door asks for none. Who only looks, or types, isn't asked for seals.
func (q GateRequest) statements(t *target.Target, a *authority.Authority) (*sealed.Statements, error) {
	if q.listing || q.live != nil || !sealed.Needed(a.Policy.Policy, a.Door) {
		return nil, nil
	}
	return sealed.Gather(t, a.Policy.Policy, q.bearer())
}

// addSealed adds the sealed verdicts that the door needs, and the exception that opens it.
func (q GateRequest) addSealed(t *target.Target, a *authority.Authority, lists *authority.Lists, statements *sealed.Statements, in *judge.Input) error {
	if statements == nil {
		for _, need := range a.Door.Verdicts {
			in.Evidence = append(in.Evidence, sealed.Unasked(need))
		}
		return nil
	}
	paths, err := changedPaths(t)
	if err != nil {
		return err
	}
	if len(a.Door.Verdicts) > 0 {
		expected, err := expectedOf(q.Change, t, a, lists)
		if err != nil {
			return err
		}
		in.Evidence = append(in.Evidence, statements.Verdicts(a.Door, expected, paths)...)
	}
	exception, notices := statements.Exception(a.Door, paths)
	in.Exception, in.Notices = exception, append(in.Notices, notices...)
	return nil
}

// expectedOf is what a change is judged by, and so what a sealed verdict on it must have been.
func expectedOf(name target.Name, t *target.Target, a *authority.Authority, lists *authority.Lists) (sealed.Expected, error) {
	digest, err := lists.Digest()
	if err != nil {
		return sealed.Expected{}, err
	}
	want := sealed.Expected{Base: t.Subject.Base, Policy: a.Origin.Digest, Baseline: digest}
	for _, i := range a.Origin.Inherits {
		want.Inherits = append(want.Inherits, i.Digest)
	}
	want.Ref, err = refOf(name, t)
	return want, err
}

// changedPaths are the files that a change touches, on either side.
func changedPaths(t *target.Target) (paths []string, err error) {
	files, err := t.Files()
	for _, f := range files {
		paths = append(paths, f.Path)
		if f.Old != "" && f.Old != f.Path {
			paths = append(paths, f.Old)
		}
	}
	return paths, err
}

// refOf is the ref that a change comes to, as the side that has it calls it; "" where it comes to none.
func refOf(name target.Name, t *target.Target) (string, error) {
	switch {
	case t.Kind == policy.Push:
		return t.Subject.Ref, nil
	case t.IsPatch || t.Repo == nil:
		return "", nil
	case t.Kind == policy.Branch:
		return t.Repo.FullRef(name.Into)
	case t.Kind == policy.Range:
		return t.Repo.FullRef(name.From)
	}
	return "", nil
}

// sealable is what sealing a verdict needs beside it.
type sealable struct {
	sealed.Expected // what it was judged by
	reports         []seal.Report
	tree, tip       string
	err             error
	sealing         Sealing
}

// sealable begins what sealing a verdict needs, before anything of the judged state is read; nil where nobody asks for that. Statements
// that are at hand know the tree.
func (q GateRequest) sealable(t *target.Target, statements *sealed.Statements) *sealable {
	if q.Sealing.Key == nil {
		return nil
	}
	s := &sealable{sealing: q.Sealing}
	if t.IsPatch || t.Repo == nil {
		s.err = errors.New("a patch has no tree to seal a verdict for; judge commits, the index or the work tree")
		return s
	}
	if statements != nil {
		s.tree = statements.Tree()
	} else {
		s.tree, s.err = t.Repo.TreeID(t.Side)
	}
	return s
}

// end adds what the state was judged by, while its repository is open, and makes sure that it is the state still that was there at first.
func (s *sealable) end(name target.Name, t *target.Target, a *authority.Authority, lists *authority.Lists, c *evidence.Collected) *sealable {
	if s == nil || s.err != nil {
		return s
	}
	s.reports = c.Contents
	if at := t.PolicyAt; len(at) > 0 && !at[0].Own && at[0].Side != git.Index && at[0].Side != git.Worktree {
		s.tip = string(at[0].Side)
	}
	tree := s.tree
	if t.Side == git.Index || t.Side == git.Worktree {
		tree, s.err = t.Repo.TreeID(t.Side)
	}
	switch {
	case s.err != nil:
	case tree != s.tree:
		s.err = errors.New("it isn't sealed, since files changed while they were judged; judge them again")
	default:
		s.Expected, s.err = expectedOf(name, t, a, lists)
	}
	return s
}

// Seal gives the verdict as a sealed statement. The request must have had a key.
func (j *Judged) Seal() ([]byte, error) {
	s := j.sealable
	switch {
	case s == nil:
		return nil, errors.New("there is nothing to seal")
	case s.err != nil:
		return nil, s.err
	}
	commit := j.Subject.Head
	if commit == string(git.Index) || commit == string(git.Worktree) {
		commit = ""
	}
	return seal.Seal(seal.Statement{Tree: s.tree, Commit: commit, Verdict: &seal.Verdict{
		Passed: j.Passed(), Door: j.Verdict.Door, Mode: string(j.Mode), Outcome: string(j.Outcome), Enforced: string(j.Enforced), Kind: j.Subject.Kind,
		Ref: s.Ref, Base: s.Base, Tip: s.tip, Policy: s.Policy, From: j.Origin.From, Inherits: s.Inherits, Baseline: s.Baseline,
		Day: j.Today, Until: j.LastDay(), Reports: s.reports, Time: s.sealing.Now.UTC().Truncate(time.Second), Program: s.sealing.Program,
	}}, *s.sealing.Key)
}

// sealedRef is the verdict on a pushed ref that carries a sealed statement.
func (q GateRequest) sealedRef(repo *git.Repo, u target.Update) *Judged {
	if err := sealed.CheckUpdate(repo, u); err != nil {
		return q.unjudged(u.Ref, err)
	}
	return q.nothing(u.Ref, "a sealed statement, which brings no code in")
}

// SealRequest is what to seal.
type SealRequest struct {
	Dir     string
	At      string // a revision; "" for what is checked out
	Staged  bool   // in its place what is staged
	Whole   bool   // in its place the work tree with its new files
	Sealing Sealing
	AsRef   bool // it is put into a ref of the repository too

	Reports   []evidence.File // named ones; several of one name are one report
	Tool      string
	Version   string
	Command   string
	Exit      *int
	Exception *seal.Exception // in the place of reports
}

// Sealed is a sealed statement, and what it is about.
type Sealed struct {
	Data    []byte
	Tree    string
	Commit  string
	Of      string // for people: what has the tree
	Ref     string // that it was put into, "" for none
	Reports []seal.Report
}

// Seal seals reports, or an exception, for a tree.
func Seal(ctx context.Context, q SealRequest) (*Sealed, error) {
	repo, err := git.Open(ctx, q.Dir)
	if err != nil {
		return nil, err
	}
	defer repo.Close()
	made := &Sealed{}
	if err := made.find(repo, q); err != nil {
		return nil, err
	}
	s := seal.Statement{Tree: made.Tree, Commit: made.Commit}
	at := q.Sealing.Now.UTC().Truncate(time.Second)
	if q.Exception != nil {
		e := *q.Exception
		e.Time, e.Program = at, q.Sealing.Program
		e.By = cmp.Or(e.By, repo.UserName())
		s.Exception = &e
	} else {
		if made.Reports, err = q.reports(); err != nil {
			return nil, err
		}
		s.Reports = &seal.Reports{Reports: made.Reports, Time: at, Program: q.Sealing.Program}
	}
	if made.Data, err = seal.Seal(s, *q.Sealing.Key); err != nil {
		return nil, err
	}
	envelope, err := seal.Read(made.Data) // what nobody could read again is no seal
	if err != nil || !q.AsRef {
		return made, err
	}
	made.Ref = sealed.RefOf(envelope)
	return made, repo.Writer().AddBlob(made.Ref, made.Data)
}

// PutSealed puts envelopes into refs of the repository, and gives their names: all, or where one can't be read, none.
func PutSealed(ctx context.Context, dir string, envelopes []string) (refs []string, err error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	defer repo.Close()
	contents := map[string][]byte{}
	for _, file := range envelopes {
		envelope, data, err := sealed.ReadFile(target.InDir(dir, file))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		ref := sealed.RefOf(envelope)
		refs, contents[ref] = append(refs, ref), data
	}
	for ref, data := range contents {
		if err := repo.Writer().AddBlob(ref, data); err != nil {
			return nil, err
		}
	}
	return refs, nil
}

// find finds the tree to seal for.
func (s *Sealed) find(repo *git.Repo, q SealRequest) (err error) {
	side := git.Side("")
	switch {
	case q.Staged:
		side, s.Of = git.Index, "what is staged"
	case q.Whole:
		side, s.Of = git.Worktree, "the work tree"
	case q.At != "":
		if s.Commit, err = repo.Commit(q.At); err != nil {
			return err
		}
		side, s.Of = git.Side(s.Commit), q.At
	default:
		if s.Commit = repo.Then; s.Commit == "" {
			return errors.New("this branch has no commit yet; name what is sealed for: --staged or --worktree")
		}
		side, s.Of = git.Side(s.Commit), "HEAD"
		if !repo.Bare && !repo.Unaltered() {
			return errors.New("tracked files differ from the last commit, so a report made here isn't of it; commit first, or name what it is of: --staged, --worktree or --commit REV")
		}
	}
	if repo.Bare && (q.Staged || q.Whole) {
		return errors.New("this is a bare repository, which has no work tree and no index; name a commit: --commit REV")
	}
	s.Tree, err = repo.TreeID(side)
	return err
}

// reports are the digests of the reports to seal.
func (q SealRequest) reports() (all []seal.Report, err error) {
	at := map[string]int{}
	for _, given := range q.Reports {
		file, err := sealed.DigestOf(target.InDir(q.Dir, given.Path))
		if err != nil {
			return nil, fmt.Errorf("the report %s can't be sealed: %w", given.Path, err)
		}
		i, there := at[given.Name]
		if !there {
			i = len(all)
			at[given.Name] = i
			all = append(all, seal.Report{Name: given.Name, Tool: q.Tool, Version: q.Version, Command: q.Command, Exit: q.Exit})
		}
		all[i].Files = append(all[i].Files, file)
	}
	return all, nil
}

// SealerAt is the seal by which an envelope counts today, by the policy of a commit, or why it doesn't.
func SealerAt(ctx context.Context, c Call, commit string, e *seal.Envelope) (by, why string, err error) {
	repo, err := open(ctx, c.Dir)
	if err != nil {
		return "", "", err
	}
	defer repo.Close()
	t, err := target.Of(repo, target.Name{Kind: policy.Tree, To: commit})
	if err != nil {
		return "", "", err
	}
	defer t.Close()
	a, err := authority.Find(t, c.overrides())
	if err != nil {
		return "", "", err
	}
	by, why = sealed.Sealer(a.Policy.Policy, e, c.Today)
	return by, why, nil
}
