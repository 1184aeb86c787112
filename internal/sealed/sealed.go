// Package sealed knows which sealed statements count for what is judged: those that a call, or the refs of a repository, bring,
// held against the keys that a policy names, the judged tree and today. Of each that doesn't count it says why.
package sealed

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// RefOf is the ref that carries an envelope: by its tree's object id and the SHA-256 of its bytes.
func RefOf(e *seal.Envelope) string { return target.SealedRefs + e.Statement.Tree + "/" + e.Digest }

// CheckUpdate says why a push can't put a ref that carries sealed statements where it does; nil where it can. Such refs are only ever
// added, and hold what their names say.
func CheckUpdate(repo *git.Repo, u target.Update) error {
	switch {
	case u.New == "":
		return errors.New("sealed statements are only ever added by a push, so it can't be deleted")
	case u.Old != "" && u.Old != u.New:
		return errors.New("sealed statements are only ever added, so it can't be overwritten")
	}
	blob, err := repo.BlobAt(u.New)
	if err != nil {
		return err
	}
	data, err := repo.ReadBlob(blob, seal.MostBytes)
	if err != nil {
		return fmt.Errorf("it carries no sealed statement: %w", err)
	}
	e, err := seal.Read(data)
	switch {
	case err != nil:
		return fmt.Errorf("it carries %w", err)
	case RefOf(e) != u.Ref:
		return fmt.Errorf("the statement in it belongs at %s", RefOf(e))
	}
	return nil
}

// mostRefs bounds how many statements of one tree are looked at.
const mostRefs = 1000

// Bearer is what brings statements.
type Bearer struct {
	Dir   string // where the call is made
	Files []File // envelopes that the call names
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

// Needed reports whether a door asks for anything sealed.
func Needed(p *policy.Policy, d policy.Door) bool {
	reports, _ := p.Needed(d)
	return len(d.Verdicts)+len(d.Exceptions) > 0 || slices.ContainsFunc(reports, func(r policy.Report) bool { return len(r.Sealed) > 0 })
}

// Gather reads the statements at hand. The error is that of a call which names what can't be read; refs that hold no statement are
// passed over, since anybody may have pushed them.
func Gather(t *target.Target, p *policy.Policy, b Bearer) (*Statements, error) {
	s := &Statements{bearer: b, policy: p, repo: t.Repo, along: t.Along}
	for _, file := range b.Files {
		data, err := ReadFile(target.InDir(b.Dir, file.Path))
		if err != nil {
			return nil, target.WrongCall("--sealed %s: %v", file.Name, err)
		}
		e, err := seal.Read(data)
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

// ReadFile reads an envelope from a file, no more than one may have.
func ReadFile(file string) ([]byte, error) {
	info, err := os.Stat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, errors.New("there is no such file")
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no file")
	case info.Size() > seal.MostBytes:
		return nil, fmt.Errorf("it has %d bytes, where %d are allowed", info.Size(), seal.MostBytes)
	}
	return os.ReadFile(file)
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
		by, key, ok := s.sealedBy(st, names, why)
		if !ok {
			continue
		}
		if at := st.envelope.Statement; at.Tree != s.tree {
			why.note(ofAnotherTree, "%s is sealed for another tree, %s; the judged tree is %.12s", st.from, s.treeName(at), s.tree)
			continue
		}
		if see(st, key, why) {
			return by, key, nil
		}
	}
	return "", policy.Key{}, why
}

// sealedBy is the seal, of some names, that sealed a statement with a key that counts today.
func (s *Statements) sealedBy(st statement, names []string, why *refusal) (by string, key policy.Key, ok bool) {
	why.note(byOthers, "%s isn't sealed by a key of %s", st.from, strings.Join(names, " or "))
	for _, name := range names {
		named, _ := s.policy.Seal(name)
		for _, key := range named.Keys {
			public, err := seal.ParsePublic(key.Text)
			if err != nil || !st.envelope.SignedBy(public) {
				continue
			}
			if s.inForce(name, key, public, st.from, why) {
				return name, key, true
			}
		}
	}
	return "", policy.Key{}, false
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
	var names []string
	for _, s := range p.Seals {
		names = append(names, s.Name)
	}
	if len(names) == 0 {
		return "", "the policy has no seals"
	}
	s := &Statements{bearer: Bearer{Today: today}, policy: p}
	var refused refusal
	by, _, _ = s.sealedBy(statement{"it", e}, names, &refused)
	if by == "" {
		return "", refused.why
	}
	return by, ""
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

// Report finds whether a report, by its files, was sealed as the policy demands: by the name of the seal, and its key, or why it wasn't.
func (s *Statements) Report(r policy.Report, files []seal.File) (by string, key policy.Key, why string) {
	if s.tree == "" {
		return "", key, "it must be sealed for the judged tree, and a patch has none; judge commits, e.g. --range A..B"
	}
	none := fmt.Sprintf("it isn't sealed; seal it where it is made: zincdoor seal --report %s=FILE --key KEY --output SEAL, and give that: --sealed SEAL", r.Name)
	by, key, refused := s.counted(r.Sealed, func(of seal.Statement) bool { return of.Reports != nil }, none, func(st statement, _ policy.Key, why *refusal) bool {
		report := st.envelope.Statement.Reports.Named(r.Name)
		switch {
		case report == nil:
			why.note(ofAnotherThing, "%s has no report %s", st.from, r.Name)
		case !sameFiles(report.Files, files):
			why.note(altered, "the report %s isn't the one that was sealed in %s: its content is another", r.Name, st.from)
		case report.Exit != nil && !goodExit(r, *report.Exit):
			why.note(failed, "the tool of the report %s failed with exit code %d, as %s says; fix that, and run it again", r.Name, *report.Exit, st.from)
		case st.envelope.Statement.Reports.Time.After(s.bearer.Now.Add(skew)):
			why.note(failed, "%s was sealed at a time to come: %s", st.from, st.envelope.Statement.Reports.Time.UTC().Format(time.RFC3339))
		default:
			return true
		}
		return false
	})
	if refused != nil {
		return "", key, refused.why
	}
	return by, key, ""
}

// skew is by how much the clocks of two machines may differ.
const skew = 5 * time.Minute

// sameFiles reports whether both are the same contents, each as often, in whatever order.
func sameFiles(sealed, read []seal.File) bool {
	sorted := func(files []seal.File) []seal.File {
		files = slices.Clone(files)
		slices.SortFunc(files, func(a, b seal.File) int { return strings.Compare(a.SHA256, b.SHA256) })
		return files
	}
	return slices.Equal(sorted(sealed), sorted(read))
}

// goodExit reports whether a tool that ended with a code has done its work: by the codes that the policy declares, else unless it was
// ended by a signal or couldn't be started (POSIX shell, "Exit Status for Commands").
func goodExit(r policy.Report, code int) bool {
	if r.Run != nil {
		return r.Run.Declares(code)
	}
	return code >= 0 && code <= 125
}

// Made finds whether what is made here counts as sealed by one of the names: where the call has the key of it.
func (s *Statements) Made(r policy.Report) (by string, key policy.Key, why string) {
	none := fmt.Sprintf("it must be sealed by %s; give the key to what starts the linter (--key FILE), or seal the report where it is made", strings.Join(r.Sealed, " or "))
	if s.bearer.Key == nil {
		return "", key, none
	}
	refused := refusal{why: fmt.Sprintf("it must be sealed by %s, and the key of this call is none of theirs", strings.Join(r.Sealed, " or "))}
	for _, name := range r.Sealed {
		named, _ := s.policy.Seal(name)
		for _, key := range named.Keys {
			public, err := seal.ParsePublic(key.Text)
			if err == nil && public.Is(*s.bearer.Key) && s.inForce(name, key, public, "it", &refused) {
				return name, key, ""
			}
		}
	}
	return "", key, refused.why
}

// Expected is what a sealed verdict must have been judged by.
type Expected struct {
	Base     string   // the commit that the judged change starts from
	Ref      string   // the ref that it comes to
	Policy   string   // "sha256:" and 64 hexadecimal digits
	Inherits []string // the same of the policies that it inherits
	Baseline string   // the same of the list, "" where there is none
}

// Digest names a content, as Expected has it; "" for none.
func Digest(data []byte) string {
	if data == nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Verdicts are what became of the sealed verdicts that a door needs, as evidence. Files are those of the change.
func (s *Statements) Verdicts(d policy.Door, want Expected, files []string) (all []judge.Evidence) {
	for _, need := range d.Verdicts {
		e := judge.Evidence{Name: "verdict of " + need.Verdict, Format: judge.SealedVerdict, State: judge.Read}
		by, why := s.Verdict(need, want, files)
		if e.Sealed = by; why != "" {
			e.State, e.Problem = judge.Foreign, why
		}
		if why != "" && !s.has(func(of seal.Statement) bool { return of.Verdict != nil }) {
			e.State = judge.Missing
		}
		all = append(all, e)
	}
	return all
}

// has reports whether some statement at hand is about a thing.
func (s *Statements) has(about func(seal.Statement) bool) bool {
	return slices.ContainsFunc(s.all, func(st statement) bool { return about(st.envelope.Statement) })
}

// Verdict finds whether a door was open for the judged tree: by the name of the seal, or why it doesn't count.
func (s *Statements) Verdict(need policy.Sealed, want Expected, files []string) (by, why string) {
	if s.tree == "" {
		return "", "a sealed verdict is of a tree, and a patch has none; judge commits, e.g. --range A..B"
	}
	none := fmt.Sprintf("no sealed verdict is of the judged tree %.12s; let the door %s judge it where the key is: zincdoor gate --into REF --door %s --write sealed=FILE --key KEY", s.tree, need.Verdict, need.Verdict)
	by, _, refused := s.counted(need.By, func(of seal.Statement) bool { return of.Verdict != nil }, none, func(st statement, key policy.Key, why *refusal) bool {
		return s.holds(st, key, need.Verdict, want, files, why)
	})
	if refused != nil {
		return "", refused.why
	}
	return by, ""
}

func (s *Statements) holds(st statement, key policy.Key, door string, want Expected, files []string, why *refusal) bool {
	v := st.envelope.Statement.Verdict
	if v.Door != door {
		why.note(ofAnotherThing, "%s is a verdict of the door %s, and the one of %s is needed", st.from, v.Door, door)
		return false
	}
	outside := slices.IndexFunc(files, func(path string) bool { return len(key.Paths) > 0 && !policy.MatchPath(key.Paths, path) })
	again := "; judge it again"
	switch {
	case v.Ref != want.Ref:
		why.note(altered, "%s was judged for %s, and this goes to %s%s", st.from, orNoRef(v.Ref), orNoRef(want.Ref), again)
	case v.Kind != string(policy.Branch) && v.Kind != string(policy.Push) && v.Kind != string(policy.Range):
		why.note(altered, "%s judged a %s, and a verdict on a branch, a push or a range is needed", st.from, v.Kind)
	case v.Base != want.Base || v.Tip != want.Base:
		why.note(altered, "%s was judged against %.12s, and %s is at %.12s: bring the change up to date with it, and judge it again", st.from, v.Base, orNoRef(want.Ref), want.Base)
	case v.Policy != want.Policy || !slices.Equal(v.Inherits, want.Inherits):
		why.note(altered, "%s was judged by another policy than that of %s%s", st.from, orNoRef(want.Ref), again)
	case v.Baseline != want.Baseline:
		why.note(altered, "%s was judged by another baseline than that of %s%s", st.from, orNoRef(want.Ref), again)
	case v.Time.After(s.bearer.Now.Add(skew)) || v.Day > s.bearer.Now.Add(skew).UTC().Format(time.DateOnly):
		why.note(altered, "%s was sealed at a time to come: %s", st.from, v.Time.UTC().Format(time.RFC3339))
	case v.Until != "" && v.Until < s.bearer.Today:
		why.note(altered, "%s holds until %s, when an acceptance or a limit that it rests on ended or began%s", st.from, v.Until, again)
	case outside >= 0:
		why.note(altered, "%s is sealed by a key that speaks for %s alone, and the change touches %s", st.from, strings.Join(key.Paths, ", "), files[outside])
	case !v.Passed && v.Mode != string(policy.Enforce):
		why.note(failed, "%s says that the door %s only advises, so it proves nothing", st.from, door)
	case !v.Passed:
		why.note(failed, "%s says that the door %s was %s", st.from, door, v.Enforced)
	default:
		return true
	}
	return false
}

func orNoRef(ref string) string {
	if ref == "" {
		return "no ref"
	}
	return ref
}

// Exception is the operator's exception that opens a door, nil where there is none.
func (s *Statements) Exception(d policy.Door) (found *judge.Exception, notices []string) {
	if len(d.Exceptions) == 0 || s.tree == "" {
		return nil, nil
	}
	by, _, why := s.counted(d.Exceptions, func(of seal.Statement) bool { return of.Exception != nil }, "", func(st statement, _ policy.Key, why *refusal) bool {
		e := st.envelope.Statement.Exception
		switch {
		case e.Door != d.Name:
			why.note(ofAnotherThing, "%s is an exception for the door %s, and this is %s", st.from, e.Door, d.Name)
		case e.Until < s.bearer.Today:
			why.note(altered, "the exception in %s ended on %s", st.from, e.Until)
		case e.Time.After(s.bearer.Now.Add(skew)):
			why.note(altered, "the exception in %s was sealed at a time to come: %s", st.from, e.Time.UTC().Format(time.RFC3339))
		default:
			found = &judge.Exception{By: e.By, Reason: e.Reason, Until: e.Until, From: st.from}
			return true
		}
		return false
	})
	if found != nil {
		found.Seal = by
		return found, nil
	}
	if why.why != "" {
		return nil, []string{"an exception doesn't count: " + why.why}
	}
	return nil, nil
}

// DigestOf names the content of a file.
func DigestOf(path string) (f seal.File, err error) {
	in, err := os.Open(path)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = errors.New("there is no such file")
		}
		return f, err
	}
	defer in.Close()
	sum := sha256.New()
	if f.Bytes, err = io.Copy(sum, in); err != nil {
		return f, err
	}
	f.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return f, nil
}
