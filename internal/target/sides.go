package target

import (
	"fmt"
	"strings"
	"sync"

	"zincdoor/internal/git"
)

// deepen is the command that brings a shallow clone all there is.
const deepen = "git fetch --unshallow origin '+refs/heads/*:refs/remotes/origin/*'"

// parents are what the next commit will have: HEAD, or the empty tree on a branch without a commit, and the commits
// that are being merged.
func (t *Target) parents() (first git.Side, name string, merged []git.Side, err error) {
	commit := t.Repo.Then
	if commit == "" {
		empty, err := t.Repo.EmptyTree()
		return git.Side(empty), "", nil, err
	}
	heads, err := t.Repo.MergeHeads()
	for _, h := range heads {
		old, wrong := t.Repo.IsAncestor(h, commit) // what HEAD went on from: nothing of it is brought along
		if wrong != nil {
			return "", "", nil, wrong
		}
		if !old {
			merged = append(merged, git.Side(h))
		}
	}
	return git.Side(commit), commit, merged, err
}

func (t *Target) local(side git.Side, name string) error {
	base, commit, merged, err := t.parents()
	if err != nil {
		return err
	}
	t.PolicyAt, t.BaselineAt = []State{{Side: side, Name: name}}, []git.Side{side}
	t.Subject.Base, t.Subject.Head = commit, string(side)
	return t.sides(base, side, merged...)
}

func (t *Target) span(from, to string) error {
	both, err := t.commits(from, to)
	if err != nil {
		return err
	}
	a, b := both[0], both[1]
	t.PolicyAt = []State{{Side: a, Name: from}, {Side: b, Name: OwnName, Own: true}}
	t.BaselineAt = []git.Side{a}
	t.Subject.Ref, t.Subject.Base, t.Subject.Head = from+".."+to, string(a), string(b)
	return t.sides(a, b)
}

// into finds what merging a commit into a ref would bring: what is checked out, where none is named.
func (t *Target) into(ref, commit string) error {
	names := []string{ref}
	if commit != "" {
		names = append(names, commit)
	}
	found, err := t.commits(names...)
	if err != nil {
		return err
	}
	target, head := found[0], git.Side(t.Repo.Then)
	if commit != "" {
		head = found[1]
	}
	if head == "" {
		return fmt.Errorf("this branch has no commit yet, so there is nothing to compare with %s", ref)
	}
	bases, err := t.mergeBases(target, head, ref)
	if err != nil {
		return err
	}
	t.PolicyAt = []State{{Side: target, Name: ref}, {Side: head, Name: OwnName, Own: true}}
	t.BaselineAt = []git.Side{bases[0], target}
	t.Subject.Ref, t.Subject.Base, t.Subject.Head = ref, string(bases[0]), string(head)
	if err := t.sides(bases[0], head); err != nil {
		return err
	}
	for _, base := range bases[1:] {
		t.Further = append(t.Further, t.Repo.CompareLines(base, head))
	}
	if bases[0] != target || len(bases) > 1 {
		t.Tip = target
	}
	return nil
}

// mergeBases are the commits at which a branch left its target: at least one. In a shallow clone they count only where
// no way to them was cut.
func (t *Target) mergeBases(target, head git.Side, ref string) ([]git.Side, error) {
	found, err := t.Repo.MergeBases(string(target), string(head))
	if err != nil {
		return nil, err
	}
	if t.Repo.Shallow {
		cut, err := t.Repo.CutShort([]string{string(target), string(head)}, found)
		if err != nil {
			return nil, err
		}
		if cut || len(found) == 0 {
			return nil, fmt.Errorf("the clone is too shallow to see where this branch left %s; deepen it: %s", ref, deepen)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s and HEAD have no common ancestor; name two commits instead: --range A..B", ref)
	}
	bases := make([]git.Side, len(found))
	for i, b := range found {
		bases[i] = git.Side(b)
	}
	return bases, nil
}

func (t *Target) everything(rev string) error {
	t.PolicyAt, t.BaselineAt = []State{{Side: git.Worktree, Name: "the work tree"}}, []git.Side{git.Worktree}
	if rev == "" {
		t.Subject.Head = string(git.Worktree)
		if err := t.Repo.IncludeUntracked(); err != nil {
			return err
		}
		return t.sides("", git.Worktree)
	}
	commits, err := t.commits(rev)
	if err != nil {
		return err
	}
	commit := commits[0]
	if t.Repo.Bare {
		t.PolicyAt, t.BaselineAt = []State{{Side: commit, Name: rev}}, []git.Side{commit}
	}
	t.Subject.Ref, t.Subject.Head = rev, string(commit)
	return t.sides("", commit)
}

// commits resolves names that the call gives, at once.
func (t *Target) commits(names ...string) ([]git.Side, error) {
	sides, notices := make([]git.Side, len(names)), make([]string, len(names))
	errs := make([]error, len(names))
	var asked sync.WaitGroup
	for i, name := range names {
		asked.Go(func() { sides[i], notices[i], errs[i] = t.commit(name) })
	}
	asked.Wait()
	for i := range names {
		if errs[i] != nil {
			return nil, errs[i]
		}
		if notices[i] != "" {
			t.Notices = append(t.Notices, notices[i])
		}
	}
	return sides, nil
}

func (t *Target) commit(name string) (side git.Side, notice string, err error) {
	commit, tag, branch, err := t.Repo.Resolve(name)
	switch {
	case err == nil:
		if branch != "" {
			notice = fmt.Sprintf("%s is both a branch and a tag; the branch is taken (%s, not %s)", name, branch, tag)
		}
		return git.Side(commit), notice, nil
	case t.Repo.Shallow:
		return "", "", fmt.Errorf("%w; the clone is shallow, deepen it: %s", err, deepen)
	case strings.HasPrefix(name, "-"):
		return "", "", err
	}
	return "", "", fmt.Errorf("%w; git branch -a lists branches, git fetch gets those of the other side", err)
}
