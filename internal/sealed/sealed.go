// Package sealed knows which sealed statements count for what is judged: those that a call, or the refs of a repository, bring,
// held against the keys that a policy names, the judged tree and today. Of each that doesn't count it says why.
package sealed

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// mostRefs bounds how many statements of one tree are looked at.
const mostRefs = 1000

// Bearer is what brings statements.
type Bearer struct {
	Dir   string // where the call is made
	Files []File // envelopes that the call names
	Alone bool   // no others are looked for
	Today string // YYYY-MM-DD, UTC
	Now   time.Time
	Key   *seal.Public // whose private part the call has: what is made here counts as sealed by it; nil for none
}

// File is an envelope in a file, and how people call it.
type File struct{ Name, Path string }

// Statements are those at hand for one target.
type Statements struct {
	bearer Bearer
	policy *policy.Policy
	repo   *git.Repo // nil for none
	tree   string    // the judged one, "" where a patch has none
	along  []target.Update
	all    []statement
}

type statement struct {
	from     string // the file or ref, for people
	envelope *seal.Envelope
}

// Tree is the id of the judged tree, "" where a patch has none.
func (s *Statements) Tree() string { return s.tree }

// Needed reports whether a door asks for anything sealed.
func Needed(p *policy.Policy, d policy.Door) bool {
	return len(d.Verdicts)+len(d.Exceptions) > 0 || p.NeedsSeals(d)
}

// Gather reads the statements at hand. The error is that of a call which names what can't be read; refs that hold no statement are
// passed over, since anybody may have pushed them.
func Gather(t *target.Target, p *policy.Policy, b Bearer) (*Statements, error) {
	s := &Statements{bearer: b, policy: p, repo: t.Repo, along: t.Along}
	for _, file := range b.Files {
		e, _, err := ReadFile(target.InDir(b.Dir, file.Path))
		if err != nil {
			return nil, target.WrongCall("--sealed %s: %v", file.Name, err)
		}
		s.all = append(s.all, statement{file.Name, e})
	}
	if t.IsPatch || t.Repo == nil {
		return s, nil
	}
	var err error
	if s.tree, err = t.Repo.TreeID(t.Side); err != nil {
		return nil, fmt.Errorf("the judged tree has no id: %w", err)
	}
	if b.Alone {
		return s, nil
	}
	return s, s.gatherRefs()
}

func (s *Statements) gatherRefs() error {
	prefix := target.SealedRefs + s.tree + "/"
	blobs, err := s.repo.Blobs(prefix)
	if err != nil {
		return err
	}
	for _, u := range s.along {
		if !strings.HasPrefix(u.Ref, prefix) || u.New == "" {
			continue
		}
		if blob, err := s.repo.BlobAt(u.New); err == nil {
			blob.Ref = u.Ref
			blobs = append(blobs, blob)
		}
	}
	for _, blob := range blobs[:min(len(blobs), mostRefs)] {
		if data, err := s.repo.ReadBlob(blob, seal.MostBytes); err == nil {
			if e, err := seal.Read(data); err == nil && e.Statement.Tree == s.tree {
				s.all = append(s.all, statement{blob.Ref, e})
			}
		}
	}
	return nil
}

// ReadFile reads an envelope from a file, and gives its bytes too. No more is read than one may have.
func ReadFile(file string) (e *seal.Envelope, data []byte, err error) {
	in, err := open(file)
	if err != nil {
		return nil, nil, err
	}
	defer in.Close()
	if data, err = io.ReadAll(io.LimitReader(in, seal.MostBytes+1)); err == nil {
		e, err = seal.Read(data)
	}
	return e, data, err
}

func open(file string) (*os.File, error) {
	in, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		err = errors.New("there is no such file")
	}
	return in, err
}

// refusal is why a statement doesn't count. Of several the one counts that came furthest.
type refusal struct {
	far int
	why string
}

func (r *refusal) note(far int, format string, args ...any) {
	if far >= r.far {
		r.far, r.why = far, fmt.Sprintf(format, args...)
	}
}

// How far a statement came.
const (
	unsealed = iota
	byOthers
	outOfTime
	ofAnotherTree
	ofAnotherThing
	altered
	failed
)

// counted hands each statement that one of the named keys sealed, today, for the judged tree to see, until that takes one: then it gives
// the seal's name and the key.
func (s *Statements) counted(names []string, about func(seal.Statement) bool, none string, see func(statement, policy.Key, *refusal) bool) (by string, key policy.Key, why *refusal) {
	why = &refusal{why: none}
	for _, st := range s.all {
		if !about(st.envelope.Statement) {
			continue
		}
		sealers := s.sealersOf(st, names, why)
		if at := st.envelope.Statement; len(sealers) > 0 && at.Tree != s.tree {
			why.note(ofAnotherTree, "%s is sealed for another tree, %s; the judged tree is %.12s", st.from, s.treeName(at), s.tree)
			continue
		}
		for _, by := range sealers {
			if see(st, by.key, why) {
				return by.seal, by.key, nil
			}
		}
	}
	return "", policy.Key{}, why
}

// sealer is a key of a seal.
type sealer struct {
	seal string
	key  policy.Key
}

// sealersOf are the keys of some seals that sealed a statement and count today.
func (s *Statements) sealersOf(st statement, names []string, why *refusal) (all []sealer) {
	if len(names) == 0 {
		why.note(byOthers, "the policy has no seals, so no key is known to have sealed %s", st.from)
		return nil
	}
	why.note(byOthers, "%s isn't sealed by a key of %s", st.from, strings.Join(names, " or "))
	for _, name := range names {
		named, _ := s.policy.Seal(name)
		for _, key := range named.Keys {
			public, err := seal.ParsePublic(key.Text)
			if err != nil || !st.envelope.SignedBy(public) {
				continue
			}
			if s.inForce(name, key, public, st.from, why) {
				all = append(all, sealer{name, key})
			}
		}
	}
	return all
}

func (s *Statements) inForce(name string, key policy.Key, public seal.Public, from string, why *refusal) bool {
	if key.InForce(s.bearer.Today) {
		return true
	}
	when := "counts from " + key.From
	if key.Until != "" && key.Until < s.bearer.Today {
		when = "ended on " + key.Until
	}
	why.note(outOfTime, "%s is sealed by the key %s of %s, which %s", from, public.ID, name, when)
	return false
}

// Sealer is the seal of a policy whose key sealed an envelope and counts today, or why there is none.
func Sealer(p *policy.Policy, e *seal.Envelope, today string) (by, why string) {
	s := &Statements{bearer: Bearer{Today: today}, policy: p}
	var refused refusal
	sealers := s.sealersOf(statement{"it", e}, p.SealNames(), &refused)
	if len(sealers) == 0 {
		return "", refused.why
	}
	return sealers[0].seal, ""
}

// treeName is a statement's tree for people, with a commit that has it.
func (s *Statements) treeName(at seal.Statement) string {
	if s.repo == nil {
		return fmt.Sprintf("%.12s", at.Tree)
	}
	if at.Commit != "" {
		if tree, err := s.repo.TreeOf(at.Commit); err == nil && tree == at.Tree {
			return fmt.Sprintf("%.12s (that of commit %.12s)", at.Tree, at.Commit)
		}
	}
	if commits, err := s.repo.CommitsOf(at.Tree, lookedAt); err == nil && len(commits) > 0 {
		return fmt.Sprintf("%.12s (that of commit %.12s)", at.Tree, commits[0])
	}
	return fmt.Sprintf("%.12s (no commit here has it)", at.Tree)
}

// lookedAt is how many of the last commits are looked at for one with a tree.
const lookedAt = 10_000
