package gate

import (
	"fmt"
	"strings"

	"zincdoor/internal/git"
)

// deepen is the command that brings a shallow clone all there is.
const deepen = "git fetch --unshallow origin '+refs/heads/*:refs/remotes/origin/*'"

// parents are what the next commit will have: HEAD, or the empty tree on a branch without a commit, and the commits
// that are being merged.
func (s *scene) parents() (first git.Side, name string, merged []git.Side, err error) {
	commit, ok := s.repo.Head()
	if !ok {
		empty, err := s.repo.EmptyTree()
		return git.Side(empty), "", nil, err
	}
	heads, err := s.repo.MergeHeads()
	for _, h := range heads {
		merged = append(merged, git.Side(h))
	}
	return git.Side(commit), commit, merged, err
}

func (s *scene) staged() error {
	return s.local(git.Index, "the index")
}

func (s *scene) worktree() error {
	return s.local(git.Worktree, "the work tree")
}

func (s *scene) local(side git.Side, name string) error {
	base, commit, merged, err := s.parents()
	if err != nil {
		return err
	}
	s.authorities, s.baselineAt = []authority{{side: side, name: name}}, []git.Side{side}
	s.subject.Base, s.subject.Head = commit, string(side)
	return s.sides(base, side, merged...)
}

func (s *scene) span(from, to string) error {
	a, err := s.commit(from)
	if err != nil {
		return err
	}
	b, err := s.commit(to)
	if err != nil {
		return err
	}
	s.authorities = []authority{{side: a, name: from}, {side: b, name: ownName, own: true}}
	s.baselineAt = []git.Side{a}
	s.subject.Ref, s.subject.Base, s.subject.Head = from+".."+to, string(a), string(b)
	return s.sides(a, b)
}

func (s *scene) against(ref string) error {
	target, err := s.commit(ref)
	if err != nil {
		return err
	}
	commit, ok := s.repo.Head()
	if !ok {
		return fmt.Errorf("this branch has no commit yet, so there is nothing to compare with %s", ref)
	}
	head := git.Side(commit)
	bases, err := s.mergeBases(target, head, ref)
	if err != nil {
		return err
	}
	s.authorities = []authority{{side: target, name: ref}, {side: head, name: ownName, own: true}}
	s.baselineAt = []git.Side{bases[0], target}
	s.subject.Ref, s.subject.Base, s.subject.Head = ref, string(bases[0]), commit
	return s.sides(bases[0], head, bases[1:]...)
}

// mergeBases are the commits at which a branch left its target: at least one. In a shallow clone they count only where
// no way to them was cut.
func (s *scene) mergeBases(target, head git.Side, ref string) ([]git.Side, error) {
	found, err := s.repo.MergeBases(string(target), string(head))
	if err != nil {
		return nil, err
	}
	if s.repo.Shallow {
		cut, err := s.repo.CutShort([]string{string(target), string(head)}, found)
		if err != nil {
			return nil, err
		}
		if cut || len(found) == 0 {
			return nil, fmt.Errorf("the clone is too shallow to tell where this branch left %s; deepen it: %s", ref, deepen)
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s and HEAD have no common ancestor, so what this branch changed can't be told; name two commits with --range A..B", ref)
	}
	bases := make([]git.Side, len(found))
	for i, b := range found {
		bases[i] = git.Side(b)
	}
	return bases, nil
}

func (s *scene) everything(rev string) error {
	s.authorities, s.baselineAt = []authority{{side: git.Worktree, name: "the work tree"}}, []git.Side{git.Worktree}
	if rev == "" {
		s.subject.Head = string(git.Worktree)
		if err := s.repo.IncludeUntracked(); err != nil {
			return err
		}
		return s.sides("", git.Worktree)
	}
	commit, err := s.commit(rev)
	if err != nil {
		return err
	}
	if s.repo.Bare {
		s.authorities, s.baselineAt = []authority{{side: commit, name: rev}}, []git.Side{commit}
	}
	s.subject.Ref, s.subject.Head = rev, string(commit)
	return s.sides("", commit)
}

// commit resolves a name that the call gives.
func (s *scene) commit(name string) (git.Side, error) {
	commit, err := s.repo.Commit(name)
	switch {
	case err == nil:
		return git.Side(commit), nil
	case s.repo.Shallow:
		return "", fmt.Errorf("%w; the clone is shallow, deepen it: %s", err, deepen)
	case strings.HasPrefix(name, "-"):
		return "", err
	}
	return "", fmt.Errorf("%w; git branch -a lists the branches, git fetch brings those of the other side", err)
}
