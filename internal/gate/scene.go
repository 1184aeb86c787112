package gate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// reader reads the files of one state of the repository.
type reader interface {
	Read(path string) (data []byte, found bool, err error)
	Plain(path string) (data []byte, found bool, err error)
	Lacking(paths []string) (map[string]bool, error)
	Close() error
}

// scene is where a request is judged: the two sides of the change, and the states that policy and baseline are read
// from.
type scene struct {
	kind    policy.Kind
	subject judge.Subject
	notices []string

	repo   *git.Repo // nil for a patch outside any repository
	root   string    // the folder that paths are relative to
	folder string    // the folder of the call, relative to root

	head  reader
	side  git.Side        // the head as a side of a comparison; "" for a patch
	diff  *git.Comparison // nil where there is no old side, and for a patch
	files []change.File   // of a patch

	rulesAt    git.Side   // whose policy counts
	rulesName  string     // how people call that state
	baselineAt []git.Side // where the baseline is read, the first that has it
	fallback   git.Side   // whose policy and baseline serve where rulesAt has no policy; "" for none
	patch      bool
}

func (s *scene) close() {
	if s.head != nil {
		s.head.Close()
	}
	if s.repo != nil {
		s.repo.Close()
	}
}

func (s *scene) author() string {
	if s.repo == nil {
		return ""
	}
	return s.repo.UserName()
}

// setScene finds the repository and the two sides.
func setScene(ctx context.Context, q Request) (*scene, error) {
	if q.Change.Patch != "" {
		return patchScene(ctx, q)
	}
	repo, err := git.Open(ctx, q.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, fmt.Errorf("%w: run zincdoor inside one, or judge a diff with --patch FILE", err)
	}
	if err != nil {
		return nil, err
	}
	s := &scene{repo: repo, root: repo.Root, folder: repo.Prefix, kind: q.Change.Kind}
	if err := s.set(q); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// set settles the kind of change, its two sides and its files.
func (s *scene) set(q Request) (err error) {
	if s.kind == "" {
		if s.kind, err = s.kindOfDoor(q); err != nil {
			return err
		}
	}
	if s.repo.Bare && (s.kind == policy.Staged || s.kind == policy.Worktree || s.kind == policy.Tree && q.Change.To == "") {
		return fmt.Errorf("this is a bare repository, which has no work tree and no index to judge; name a --range or --against")
	}
	switch s.kind {
	case policy.Staged:
		err = s.staged()
	case policy.Worktree:
		err = s.worktree()
	case policy.Range:
		err = s.span(q.Change.From, q.Change.To)
	case policy.Branch:
		err = s.against(q.Change.Against)
	case policy.Tree:
		err = s.everything(q.Change.To)
	default:
		err = wrongCall("a change of the kind %q can't be judged by this version of zincdoor", s.kind)
	}
	if err != nil {
		return err
	}
	s.subject.Kind = string(s.kind)
	return nil
}

// kindOfDoor lets the door decide what is judged where the call doesn't say. The door is looked up in the work tree's
// policy, since only changes found there may be left unnamed.
func (s *scene) kindOfDoor(q Request) (policy.Kind, error) {
	s.rulesAt, s.rulesName = git.Worktree, "the work tree"
	name := q.Door
	p, _, err := s.policyOf(q)
	if err != nil {
		return "", err
	}
	if name == "" {
		return "", wrongCall("name the change to judge: --staged, --worktree, --against REF, --range A..B, --patch FILE or --tree; or a --door that judges one of its own")
	}
	door, ok := p.Door(name)
	if !ok {
		return "", unknownDoor(p, name)
	}
	if !door.Judges.Local() {
		return "", wrongCall("door %s judges a %s, which the call must name%s", name, orAny(door.Judges), suggestChange(door))
	}
	return door.Judges, nil
}

func orAny(k policy.Kind) string {
	if k == "" {
		return "change of any kind"
	}
	return string(k)
}

func suggestChange(d policy.Door) string {
	if d.Against != "" {
		return ", as in --against " + d.Against
	}
	return ": --against REF, --range A..B or --patch FILE"
}

// old is HEAD, or the empty tree on a branch without a commit.
func (s *scene) old() (side git.Side, name string, err error) {
	if commit, ok := s.repo.Head(); ok {
		return git.Side(commit), commit, nil
	}
	empty, err := s.repo.EmptyTree()
	return git.Side(empty), "", err
}

func (s *scene) staged() error {
	base, name, err := s.old()
	if err != nil {
		return err
	}
	s.rulesAt, s.rulesName, s.baselineAt = git.Index, "the index", []git.Side{git.Index}
	s.subject.Base, s.subject.Head = name, string(git.Index)
	return s.sides(base, git.Index)
}

func (s *scene) worktree() error {
	base, name, err := s.old()
	if err != nil {
		return err
	}
	s.rulesAt, s.rulesName, s.baselineAt = git.Worktree, "the work tree", []git.Side{git.Worktree}
	s.subject.Base, s.subject.Head = name, string(git.Worktree)
	return s.sides(base, git.Worktree)
}

func (s *scene) span(from, to string) error {
	a, err := s.repo.Commit(from)
	if err != nil {
		return s.missingRevision(from, err)
	}
	b, err := s.repo.Commit(to)
	if err != nil {
		return s.missingRevision(to, err)
	}
	s.rulesAt, s.rulesName, s.baselineAt, s.fallback = git.Side(a), from, []git.Side{git.Side(a)}, git.Side(b)
	s.subject.Ref, s.subject.Base, s.subject.Head = from+".."+to, a, b
	return s.sides(git.Side(a), git.Side(b))
}

func (s *scene) against(ref string) error {
	target, err := s.repo.Commit(ref)
	if err != nil {
		return s.missingRevision(ref, err)
	}
	head, err := s.repo.Commit("HEAD")
	if err != nil {
		return fmt.Errorf("this branch has no commit yet, so there is nothing to compare with %s: %w", ref, err)
	}
	bases, err := s.repo.MergeBases(target, head)
	if err != nil {
		return err
	}
	if len(bases) == 0 {
		hint := ""
		if s.repo.Shallow {
			hint = "; the clone is shallow, deepen it: " + deepen
		}
		return fmt.Errorf("%s and HEAD have no common ancestor, so what this branch changed can't be told%s", ref, hint)
	}
	base := git.Side(bases[0])
	s.rulesAt, s.rulesName, s.fallback = git.Side(target), ref, git.Side(head)
	s.baselineAt = []git.Side{base, git.Side(target)}
	s.subject.Ref, s.subject.Base, s.subject.Head = ref, bases[0], head
	return s.sides(base, git.Side(head))
}

func (s *scene) everything(rev string) error {
	s.rulesAt, s.rulesName, s.baselineAt = git.Worktree, "the work tree", []git.Side{git.Worktree}
	if rev == "" {
		s.subject.Head = string(git.Worktree)
		if err := s.repo.IncludeUntracked(); err != nil {
			return err
		}
		return s.sides("", git.Worktree)
	}
	commit, err := s.repo.Commit(rev)
	if err != nil {
		return s.missingRevision(rev, err)
	}
	if s.repo.Bare {
		s.rulesAt, s.rulesName, s.baselineAt = git.Side(commit), rev, []git.Side{git.Side(commit)}
	}
	s.subject.Ref, s.subject.Head = rev, commit
	return s.sides("", git.Side(commit))
}

// deepen is the command that brings a shallow clone all there is.
const deepen = "git fetch --unshallow origin '+refs/heads/*:refs/remotes/origin/*'"

func (s *scene) missingRevision(name string, err error) error {
	if s.repo.Shallow {
		return fmt.Errorf("%w; the clone is shallow, deepen it: %s", err, deepen)
	}
	return fmt.Errorf("%w; git branch -a lists the branches, git fetch brings those of the other side", err)
}

// sides opens the head and sets up the comparison.
func (s *scene) sides(old, head git.Side) error {
	s.side = head
	var err error
	if old == "" {
		s.head, err = s.repo.Tree(head)
		return err
	}
	s.diff = s.repo.Compare(old, head)
	s.head, err = s.diff.NewTree()
	return err
}

// start begins the comparison. All lines are asked for at once where a local change is judged, which is small as a
// rule, or where findings stand in so many files that most lines are needed anyway; else only the list of files.
func (s *scene) start(paths []string) {
	if s.diff != nil {
		s.diff.Start(s.side == git.Index || s.side == git.Worktree || git.TooMany(paths))
	}
}

// changed lists the files of the change, with or without their lines.
func (s *scene) changed() ([]change.File, error) {
	if s.diff == nil {
		return s.files, nil
	}
	return s.diff.Files()
}

// patchScene reads a diff in place of asking a repository for one.
func patchScene(ctx context.Context, q Request) (*scene, error) {
	s := &scene{kind: policy.Range, patch: true, root: q.Dir, subject: judge.Subject{Kind: "patch"}}
	repo, err := git.Open(ctx, q.Dir)
	switch {
	case err == nil && !repo.Bare:
		s.repo, s.root, s.folder = repo, repo.Root, repo.Prefix
	case err != nil && !errors.Is(err, git.ErrNoRepository):
		return nil, err
	}
	in := q.Stdin
	if q.Change.Patch != "-" {
		f, err := os.Open(inDir(q.Dir, q.Change.Patch))
		if err != nil {
			return nil, fmt.Errorf("the patch can't be read: %w", err)
		}
		defer f.Close()
		in = f
	}
	if s.files, err = change.ReadUnified(in); err != nil {
		return nil, fmt.Errorf("%s: %w", nameOf(q.Change.Patch), err)
	}
	folder, err := openFolder(s.root, s.files)
	if err != nil {
		return nil, err
	}
	s.head = folder
	s.notices = append(s.notices, folder.notices()...)
	s.rulesAt, s.rulesName, s.baselineAt = git.Worktree, "the folder", []git.Side{git.Worktree}
	s.subject.Files = len(s.files)
	if q.Policy == "" || q.Baseline == "" {
		for _, f := range s.files {
			if strings.HasPrefix(f.Path, policy.Folder+"/") || strings.HasPrefix(f.Old, policy.Folder+"/") {
				return nil, fmt.Errorf("the patch changes %s, so the folder's own can't judge it; name the ones that count with --policy and --baseline", f.Path)
			}
		}
	}
	return s, nil
}

// nameOf is a file's name in messages.
func nameOf(file string) string {
	if file == "-" {
		return "standard input"
	}
	return file
}

// inDir is the path of a file named in a call made in dir.
func inDir(dir, file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(dir, file)
}
