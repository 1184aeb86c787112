// Package target knows what is judged: the two states that a change lies between, for each way of naming one. It gives them
// as trees that can be read, what lies between them, and how people call them. It reads no policy and no report.
package target

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// ErrCall is the error of a call that makes no sense as it stands, as opposed to one that can't be answered.
var ErrCall = errors.New("wrong call")

// WrongCall makes an error that wraps ErrCall.
func WrongCall(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrCall, fmt.Sprintf(format, args...))
}

// Name names one change that isn't a push.
type Name struct {
	Kind  policy.Kind // "" where the call leaves it to the door
	From  string      // Range: the old side
	To    string      // Range: the new side; Branch: the commit to merge, "" for HEAD; Tree: the revision, "" for the work tree
	Into  string      // Branch: the target
	Patch string      // a file with a unified diff, "-" for standard input; its Kind is Range
}

// Tree reads the files of one state. It is safe for concurrent use.
type Tree interface {
	Read(path string) (data []byte, found bool, err error)
	ReadAll(paths []string, see func(path string, data []byte)) error
	Plain(path string) (data []byte, found bool, err error)
	Paths() ([]string, error)
	Lacking(paths []string) (map[string]bool, error)
	Link(path string) (to string, link bool, err error)
	Close() error
}

// ReadEach reads files: all at once, as far as that goes, and else one by one. See may be called by several goroutines at once, with
// what found is false for where there is no such file; the data is its own during the call alone.
func ReadEach(readAll func([]string, func(path string, data []byte)) error, read func(path string) ([]byte, bool, error), paths []string, see func(path string, data []byte, found bool)) error {
	var mutex sync.Mutex
	seen := map[string]bool{}
	err := readAll(paths, func(path string, data []byte) {
		see(path, data, true)
		mutex.Lock()
		defer mutex.Unlock()
		seen[path] = true
	})
	if err != nil {
		return err
	}
	for _, path := range paths {
		if seen[path] {
			continue
		}
		data, found, err := read(path)
		if err != nil {
			return err
		}
		see(path, data, found)
	}
	return nil
}

// State is a state of the repository by name.
type State struct {
	Side git.Side
	Name string // how people call it
	Own  bool   // it is the change's own new side
}

// OwnName is what people read of the change's own new side.
const OwnName = "HEAD of the change"

// Target is what is judged. It must be closed, and isn't written to once it was opened; its methods may be called for
// several at once.
type Target struct {
	Kind    policy.Kind
	Subject judge.Subject // without the number of files, which is known later
	Notices []string

	Repo   *git.Repo // nil for a patch or a folder outside any repository
	Root   string    // the absolute folder that paths are relative to
	Folder string    // the folder of the call, relative to Root

	Tree    Tree              // the judged state
	Side    git.Side          // the same as a side of a comparison; "" for a patch
	Diff    *git.Comparison   // nil where there is no old side, and for a patch
	Others  []*git.Comparison // with further old sides: a line counts only where it differs from all of them
	Further []*git.Comparison // with further commits that a branch left its target at: a line that differs from one of them counts too
	Tip     git.Side          // of a branch's target: a line counts only where it differs from it too; "" where there is none
	Patch   []change.File     // of a patch
	IsPatch bool

	Along       []Update // what is pushed with it, itself included
	Guarded     bool     // it is what comes to a guarded ref
	OwnTreeOnly bool     // a report serves only where it is of exactly the judged tree
	Before      bool     // it is the state before a change
	given       []string
	opened      bool // the repository was opened for this target alone

	// PolicyAt are the states whose policy may count: the first that has one. BaselineAt are those whose baseline may.
	PolicyAt   []State
	BaselineAt []git.Side
}

// Close releases the target.
func (t *Target) Close() error {
	var err error
	if t.Tree != nil {
		err = t.Tree.Close()
	}
	if t.Diff != nil {
		err = errors.Join(err, t.Diff.CloseOld())
	}
	if t.opened {
		err = errors.Join(err, t.Repo.Close())
	}
	return err
}

// Author is the name of the person who makes the call, as git knows it.
func (t *Target) Author() string {
	if t.Repo == nil {
		return ""
	}
	return t.Repo.UserName()
}

// Local reports whether the index or the work tree is judged.
func (t *Target) Local() bool { return t.Side == git.Index || t.Side == git.Worktree }

// Files lists the files of the change, with their lines where all of them were read at once.
func (t *Target) Files() ([]change.File, error) {
	if t.Diff == nil {
		return t.Patch, nil
	}
	files, err := t.Diff.Files()
	if err != nil || len(t.Further) == 0 {
		return files, err
	}
	all := &change.Change{Files: slices.Clone(files)}
	for _, further := range t.Further {
		more, err := further.Files()
		if err != nil {
			return nil, err
		}
		all.Widen(&change.Change{Files: more})
	}
	return all.Files, nil
}

// Alters reports whether the change alters a file.
func (t *Target) Alters(path string) (bool, error) {
	for _, diff := range append([]*git.Comparison{t.Diff}, t.Further...) {
		if is, err := diff.Alters(path); is || err != nil {
			return is, err
		}
	}
	return false, nil
}

// Changed are the files and links of the change that are there, by path, with what they are.
func (t *Target) Changed() (map[string]git.Entry, error) {
	all := map[string]git.Entry{}
	for _, diff := range append([]*git.Comparison{t.Diff}, t.Further...) {
		changed, err := diff.Changed()
		if err != nil {
			return nil, err
		}
		maps.Copy(all, changed)
	}
	return all, nil
}

// Present lists the files of the change that are there in the judged state; where everything is judged, all files.
func (t *Target) Present() ([]string, error) {
	switch {
	case t.Before:
		return t.given, nil
	case t.Diff == nil && !t.IsPatch:
		return t.Tree.Paths()
	}
	files, err := t.Files()
	var paths []string
	for _, f := range files {
		if f.Status != change.Deleted && f.Opaque != change.Submodule {
			paths = append(paths, f.Path)
		}
	}
	return paths, err
}

// Plain reads a file of a state, refusing symbolic links.
func (t *Target) Plain(side git.Side, path string) (data []byte, found bool, err error) {
	if t.IsPatch || t.Repo == nil || side == t.Side && t.Tree != nil {
		return t.Tree.Plain(path)
	}
	tree, err := t.Repo.Tree(side)
	if err != nil {
		return nil, false, err
	}
	defer tree.Close()
	return tree.Plain(path)
}

// Of finds the two sides of a change that isn't a push. The name's kind must be set.
func Of(repo *git.Repo, name Name) (*Target, error) {
	t := inRepository(repo, name.Kind)
	if err := t.find(name); err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

func inRepository(repo *git.Repo, kind policy.Kind) *Target {
	return &Target{Repo: repo, Root: repo.Root, Folder: repo.Prefix, Kind: kind, Subject: judge.Subject{Kind: string(kind)}}
}

func (t *Target) find(name Name) error {
	if t.Repo.Bare && (name.Kind == policy.Staged || name.Kind == policy.Worktree || name.Kind == policy.Tree && name.To == "") {
		return fmt.Errorf("this is a bare repository, which has no work tree and no index to judge; name a --range or --into")
	}
	switch name.Kind {
	case policy.Staged:
		return t.local(git.Index, "the index")
	case policy.Worktree:
		return t.local(git.Worktree, "the work tree")
	case policy.Range:
		return t.span(name.From, name.To)
	case policy.Branch:
		return t.into(name.Into, name.To)
	}
	return t.everything(name.To)
}

// InFolder is the work tree that dir is in, or the folder itself where there is none, with nothing to compare it with.
func InFolder(ctx context.Context, dir string) (*Target, error) {
	repo, err := git.Open(ctx, dir)
	switch {
	case err == nil && !repo.Bare:
		t, err := Of(repo, Name{Kind: policy.Tree})
		if err != nil {
			return nil, errors.Join(err, repo.Close())
		}
		t.opened = true
		return t, nil
	case err != nil && !errors.Is(err, git.ErrNoRepository):
		return nil, err
	case err != nil:
		repo = nil
	}
	folder, err := openFolder(dir, nil)
	return &Target{Repo: repo, Root: dir, Tree: folder, Side: git.Worktree, opened: repo != nil}, err
}

// BeforeChange is the state before the change, as a target of its own.
func (t *Target) BeforeChange() (*Target, error) {
	before := &Target{Repo: t.Repo, Root: t.Root, Folder: t.Folder, Kind: policy.Tree, Before: true}
	files, err := t.Files()
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if f.Old != "" && f.Opaque == "" {
			before.given = append(before.given, f.Old)
		}
	}
	return before, before.sides("", t.Diff.Old())
}

// WithTexts is the target as it would be if files of the work tree had other texts, by path; those that git ignores stay as they are.
// The target must be of the work tree compared with a commit. What is given must be closed, before the target is.
func (t *Target) WithTexts(texts map[string][]byte) (*Target, error) {
	typed := *t
	typed.opened = false
	var err error
	if typed.Diff, err = t.Diff.WithTexts(texts); err != nil {
		return nil, err
	}
	typed.Others = nil
	for _, other := range t.Others {
		with, err := other.WithTexts(texts)
		if err != nil {
			return nil, err
		}
		typed.Others = append(typed.Others, with)
	}
	typed.Tree, err = typed.Diff.NewTree()
	return &typed, err
}

// sides opens the judged state and sets up the comparison with the old side, and with further old sides.
func (t *Target) sides(old, head git.Side, further ...git.Side) (err error) {
	t.Side = head
	if old == "" {
		t.Tree, err = t.Repo.Tree(head)
		return err
	}
	t.Diff = t.Repo.Compare(old, head)
	for _, other := range further {
		t.Others = append(t.Others, t.Repo.CompareLines(other, head))
	}
	t.Tree, err = t.Diff.NewTree()
	return err
}

// InDir is the path of a file named in a call made in dir.
func InDir(dir, file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(dir, file)
}

// FileName is a named file in messages.
func FileName(file string) string {
	if file == "-" {
		return "standard input"
	}
	return file
}
