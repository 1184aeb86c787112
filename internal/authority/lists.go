package authority

import (
	"bytes"
	"errors"
	"fmt"
	"slices"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// Lists are the baseline that counts, and what the change makes of it and of the policy.
type Lists struct {
	Baseline *baseline.Baseline
	Altered  []policy.Alteration // of the policy
	Added    []baseline.Addition // what the change puts into the baseline
	Dropped  []baseline.Entry    // what it takes out
	Uncovers []baseline.Cover    // what it no longer covers after the change
	Whole    bool                // both are in Baseline already, which is honoured as it is
	Evidence []judge.Evidence    // what of the baseline is missing
	Notices  []string

	written []byte   // the baseline as it is written
	from    git.Side // the state that it was read from; "" where it was no state
	dropped bool     // written is no longer there
}

// Digest names the baseline's bytes, as that of a policy is; "" where there is none. Lists must have been asked for it.
func (l *Lists) Digest() (string, error) {
	if l.dropped {
		return "", errors.New("the baseline's digest wasn't asked for")
	}
	if l.written == nil {
		return "", nil
	}
	return policyfile.Text{Data: l.written}.Digest(), nil
}

// Lists reads the baseline, and finds what the change makes of it and of the policy. What the change alters is asked last: git may
// still be at it while the baseline is read.
func (a *Authority) Lists(t *target.Target, by Overrides) (*Lists, error) {
	l := &Lists{}
	at := t.BaselineAt
	if n := len(t.PolicyAt) - 1; by.Policy == "" && t.PolicyAt[n].Own && a.Origin.From == target.OwnName {
		where := t.PolicyAt[0].Name + " has no policy"
		if n == 0 {
			where = "there is no other policy yet"
		}
		l.Notices = append(l.Notices, where+", so this change is judged by its own policy")
		at = []git.Side{t.PolicyAt[n].Side}
	}
	if err := l.read(t, at, a.Policy.Policy, by); err != nil {
		return l, err
	}
	if by.Baseline == "" {
		if err := l.readAdditions(t, a); err != nil {
			return l, err
		}
	}
	if !by.Digest {
		l.written, l.dropped = nil, l.written != nil // it may be long
	}
	ofPolicy, err := l.compare(t, a, by)
	l.Notices = append(ofPolicy, l.Notices...)
	return l, err
}

// Kept reads the baseline alone.
func (a *Authority) Kept(t *target.Target, by Overrides) (*Lists, error) {
	l := &Lists{}
	return l, l.read(t, t.BaselineAt, a.Policy.Policy, by)
}

// lastCommit is what a local change is compared with, "" where there is none yet.
func lastCommit(t *target.Target) (string, error) {
	commit, err := t.Repo.Commit("HEAD")
	if errors.Is(err, git.ErrUnknownRevision) {
		return "", nil
	}
	return commit, err
}

// compare finds what the change makes of the policy: of the target's, or where a local change is judged of the last
// commit's.
func (l *Lists) compare(t *target.Target, a *Authority, by Overrides) (notices []string, err error) {
	if t.IsPatch || t.Repo == nil || by.Policy != "" || t.Kind == policy.Tree || t.Diff == nil {
		return nil, nil
	}
	altered := false
	for _, path := range append(a.files, policyfile.Path) {
		is, err := t.Alters(path)
		if err != nil {
			return nil, err
		}
		altered = altered || is
	}
	if !altered {
		return nil, nil
	}
	side := t.Side
	if t.Local() {
		commit, err := lastCommit(t)
		if err != nil || commit == "" {
			return nil, err
		}
		side = git.Side(commit)
	}
	data, found, err := t.Plain(side, policyfile.Path)
	if err != nil && !errors.Is(err, git.ErrLink) {
		return nil, fmt.Errorf("the policy can't be read: %w", err)
	}
	if err != nil || !found {
		if !t.Local() && !found {
			notices = append(notices, "the change removes the policy")
		}
		return notices, nil
	}
	shelf := &library{Target: t, at: target.State{Side: side, Name: shortSide(side)}, look: true}
	other, err := policyfile.Read(shelf.text(policyfile.Path, data))
	notices = append(notices, shelf.notices...)
	var wrong policyfile.Problems
	switch {
	case err != nil && !t.Local() && !errors.As(err, &wrong):
		notices = append(notices, fmt.Sprintf("the policy after this change can't be read: %v", err))
	case err != nil && !t.Local():
		notices = append(notices, fmt.Sprintf("the policy that this change brings is invalid, so no later change could be judged: %v", err))
	case err != nil:
	case t.Local():
		l.Altered = policyfile.Compare(other.Policy, a.Policy.Policy)
	default:
		l.Altered = policyfile.Compare(a.Policy.Policy, other.Policy)
	}
	return notices, nil
}

// read reads the baseline from where it counts. One that the policy names and that isn't there is evidence that is missing.
func (l *Lists) read(t *target.Target, at []git.Side, p *policy.Policy, by Overrides) error {
	l.Baseline = &baseline.Baseline{}
	if by.Baseline != "" {
		data, err := readNamed(t, by.Dir, by.Baseline)
		if err != nil {
			return target.WrongCall("--baseline %s: %v", by.Baseline, err)
		}
		return l.parse(by.Baseline, data)
	}
	for _, side := range at {
		data, found, err := t.Plain(side, p.Baseline)
		if errors.Is(err, git.ErrLink) {
			return target.WrongCall("%v", err)
		}
		if err != nil {
			return fmt.Errorf("the baseline can't be read: %w", err)
		}
		if found {
			l.from = side
			return l.parse(fileName(side, shortSide(side), p.Baseline), data)
		}
	}
	if p.BaselineNamed {
		l.Evidence = append(l.Evidence, judge.Evidence{
			Name: p.Baseline, Format: "baseline", State: judge.Missing,
			Problem: "the policy names this baseline, and the file is missing. Make it: zincdoor baseline take; or remove baseline: from the policy",
		})
	}
	return nil
}

func (l *Lists) parse(name string, data []byte) error {
	b, err := baselinefile.Read(data)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	l.Baseline, l.written = b, data
	return nil
}

// readAdditions finds what the change makes of the list. Where a local change is judged, the list is honoured as it is, and
// what it adds to that of the last commit is a notice, unless the door says what a change may accept.
func (l *Lists) readAdditions(t *target.Target, a *Authority) error {
	path, honours := a.Policy.Policy.Baseline, a.Door.Acceptances != nil
	local := t.Kind == policy.Staged || t.Kind == policy.Worktree || t.Kind == policy.Tree
	if t.IsPatch || t.Repo == nil || local && l.written == nil && !honours {
		return nil
	}
	other := t.Side // the state to compare the list with
	if local {
		commit, err := lastCommit(t)
		if err != nil || commit == "" {
			return err
		}
		other = git.Side(commit)
	}
	if same, err := l.isAt(t, other, path); same || err != nil {
		return err
	}
	data, found, err := t.Plain(other, path)
	switch {
	case err != nil && !errors.Is(err, git.ErrLink): // what git couldn't do now says nothing of the list
		return fmt.Errorf("the baseline can't be read: %w", err)
	case err != nil && local: // a list that took the place of something else
		return nil
	case !found && local && !honours: // a first list
		return nil
	case found && bytes.Equal(data, l.written):
		return nil
	}
	theirs := &baseline.Baseline{}
	if found {
		if theirs, err = baselinefile.Read(data); err != nil && local {
			return nil
		}
	}
	if err != nil { // which would leave all later changes without one
		l.Evidence = append(l.Evidence, judge.Evidence{
			Name: path, Format: "baseline", State: judge.Failed, Problem: fmt.Sprintf("the baseline after this change can't be read: %v; fix the file", err),
		})
		return nil
	}
	before, after := l.Baseline.Entries, theirs.Entries
	if local {
		before, after = after, before
	}
	l.Added, l.Dropped = baseline.Additions(before, after)
	l.Uncovers = baseline.Uncovered(l.Baseline.Covers, theirs.Covers)
	if local {
		l.Uncovers = baseline.Uncovered(theirs.Covers, l.Baseline.Covers)
	}
	for _, c := range l.Uncovers {
		l.Notices = append(l.Notices, fmt.Sprintf("after this change the baseline no longer covers %s in %s, so only changed lines would count there", c.Tool, target.ClipList(c.Paths)))
	}
	switch {
	case local && !honours:
		l.Whole = true
		if n := fresh(l.Added); n > 0 {
			l.Notices = append(l.Notices, fmt.Sprintf("the baseline accepts %s more than at the last commit", finding.Count(n)))
		}
	case local:
		l.Baseline = &baseline.Baseline{Covers: l.Baseline.Covers, Entries: before}
	}
	return nil
}

// isAt reports whether a state surely has the list that was read, as git tells without reading it again. The work tree may have files
// that git doesn't know.
func (l *Lists) isAt(t *target.Target, other git.Side, path string) (bool, error) {
	if t.Diff == nil || l.from == "" || l.from == git.Worktree || other == git.Worktree {
		return false, nil
	}
	if l.from == other {
		return true, nil
	}
	compared := []git.Side{t.Diff.Old(), t.Side}
	if !slices.Contains(compared, l.from) || !slices.Contains(compared, other) {
		return false, nil
	}
	altered, err := t.Alters(path)
	return !altered, err
}

// fresh counts the additions that take no other entry's place.
func fresh(added []baseline.Addition) (n int) {
	for _, a := range added {
		if a.Was == nil {
			n++
		}
	}
	return n
}

// fileName is a file of a state as messages name it: plain where it lies on disk, else with the revision before it.
func fileName(side git.Side, name, path string) string {
	switch side {
	case git.Worktree:
		return path
	case git.Index:
		return ":" + path
	}
	return name + ":" + path
}

func shortSide(side git.Side) string { return string(side[:min(len(side), 12)]) }
