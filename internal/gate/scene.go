package gate

import (
	"context"
	"fmt"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// reader reads the files of one state of the repository.
type reader interface {
	Read(path string) (data []byte, found bool, err error)
	ReadAll(paths []string, see func(path string, data []byte)) error
	Plain(path string) (data []byte, found bool, err error)
	Paths() ([]string, error)
	Lacking(paths []string) (map[string]bool, error)
	Close() error
}

// scene is where a request is judged: the two sides of the change, and the states that policy and baseline are read
// from.
type scene struct {
	kind    policy.Kind
	subject judge.Subject
	notices []string

	ctx    context.Context // where there is no repository
	repo   *git.Repo       // nil for a patch outside any repository
	root   string          // the folder that paths are relative to
	folder string          // the folder of the call, relative to root

	head   reader
	side   git.Side          // the head as a side of a comparison; "" for a patch
	diff   *git.Comparison   // nil where there is no old side, and for a patch
	others []*git.Comparison // with further old sides: a line is the author's only where it differs from all of them
	files  []change.File     // of a patch
	patch  bool
	before bool     // it is the state before a change
	given  []string // of that state: the files that the change modifies or takes away
	pushed bool     // reports serve only the tree they name

	authorities []authority // whose policy counts: the first that has one
	baselineAt  []git.Side  // where the baseline is read: the first that has it
	policyFiles []string    // the policy's paths, and those that it inherits
}

// authority is a state whose policy may count.
type authority struct {
	side git.Side
	name string // how people call that state
	own  bool   // it is the change's own head, which serves only because the target has no policy yet
}

// ownName is how the verdict calls the policy of the change's own head.
const ownName = "HEAD of the change"

func (s *scene) close() {
	if s.head != nil {
		s.head.Close()
	}
	if s.diff != nil {
		s.diff.CloseOld()
	}
}

func (s *scene) author() string {
	if s.repo == nil {
		return ""
	}
	return s.repo.UserName()
}

// newScene finds the two sides of a change that isn't a push or a patch.
func newScene(repo *git.Repo, q Request) (*scene, error) {
	s := &scene{repo: repo, root: repo.Root, folder: repo.Prefix, kind: q.Change.Kind}
	if err := s.set(q); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// set settles the kind of change and its two sides.
func (s *scene) set(q Request) (err error) {
	if s.kind == "" {
		if s.kind, err = s.kindOfDoor(q); err != nil {
			return err
		}
	}
	if s.repo.Bare && (s.kind == policy.Staged || s.kind == policy.Worktree || s.kind == policy.Tree && q.Change.To == "") {
		return fmt.Errorf("this is a bare repository, which has no work tree and no index to judge; name a --range or --against")
	}
	s.subject.Kind = string(s.kind)
	switch s.kind {
	case policy.Staged:
		return s.staged()
	case policy.Worktree:
		return s.worktree()
	case policy.Range:
		return s.span(q.Change.From, q.Change.To)
	case policy.Branch:
		return s.against(q.Change.Against)
	}
	return s.everything(q.Change.To)
}

// kindOfDoor lets the door decide what is judged where the call doesn't say. The door is looked up in the work tree's
// policy, since only changes found there may be left unnamed.
func (s *scene) kindOfDoor(q Request) (policy.Kind, error) {
	s.authorities = []authority{{side: git.Worktree, name: "the work tree"}}
	p, _, err := s.policyOf(q)
	if err != nil {
		return "", err
	}
	if q.Door == "" {
		return "", wrongCall("name the change to judge: --staged, --worktree, --against REF, --range A..B, --push, --patch FILE or --tree; or a --door that judges one of its own")
	}
	door, ok := p.Door(q.Door)
	switch {
	case !ok:
		return "", unknownDoor(p, q.Door)
	case door.Judges.Local():
		return door.Judges, nil
	case door.Judges == "":
		return "", wrongCall("door %s judges a change of any kind, which the call must name%s", q.Door, suggestChange(door))
	}
	return "", wrongCall("door %s judges a %s, which the call must name%s", q.Door, door.Judges, suggestChange(door))
}

func suggestChange(d policy.Door) string {
	switch {
	case d.Judges == policy.Push:
		return ": --push, with the lines that git gives its hook on standard input"
	case d.Against != "":
		return ", as in --against " + d.Against
	}
	return ": --against REF, --range A..B or --patch FILE"
}

// sides opens the head and sets up the comparison with the old side, and with further old sides.
func (s *scene) sides(old, head git.Side, further ...git.Side) (err error) {
	s.side = head
	if old == "" {
		s.head, err = s.repo.Tree(head)
		return err
	}
	s.diff = s.repo.Compare(old, head)
	for _, other := range further {
		s.others = append(s.others, s.repo.Compare(other, head))
	}
	s.head, err = s.diff.NewTree()
	return err
}

// start begins the comparison. All lines are asked for at once where a local change is judged, which is small as a
// rule; else only the list of files.
func (s *scene) start() {
	if s.diff != nil {
		s.diff.Start(s.side == git.Index || s.side == git.Worktree)
	}
}

// changed lists the files of the change, with or without their lines.
func (s *scene) changed() ([]change.File, error) {
	if s.diff == nil {
		return s.files, nil
	}
	return s.diff.Files()
}

// names lists the files of the change without their lines, which may still be read meanwhile.
func (s *scene) names() ([]change.File, error) {
	if s.diff == nil {
		return s.files, nil
	}
	return s.diff.Names()
}
