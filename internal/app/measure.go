package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// MeasureRequest says what is measured.
type MeasureRequest struct {
	Call
	Change target.Name // whose files are measured; without a kind all of the work tree

	KeepTexts bool // the texts of a change's files will be asked for, and all paths

	// Selects makes, of the policy and the repository's root, what takes the files that are measured.
	Selects func(p *policy.Policy, root string) (takes func(path string) bool, err error)
}

// Sizes are the numbers of files, and what was left out.
type Sizes struct {
	Files []measure.Measured // by their paths
	Other int                // files in languages that aren't known
	Aside int                // files that the policy skips, or says are generated

	// Of a change: the same files as they were before, and the change.
	Before []measure.Measured
	Change *change.Change

	texts map[string]*source.Text // of the files of a change, where they were asked for
	paths []string                // all paths of the state, where they were asked for or all of it is measured
	root  string                  // of the repository on this machine
}

// file are the numbers of one file.
func (s *Sizes) file(path string) (f measure.Measured, measured bool) {
	at, measured := slices.BinarySearchFunc(s.Files, path, func(f measure.Measured, path string) int { return strings.Compare(f.Path, path) })
	if !measured {
		return f, false
	}
	return s.Files[at], true
}

// Measure measures files that are in languages which are known: of a change those that it alters, else all; but for those that the
// policy skips or says are generated.
func Measure(ctx context.Context, q MeasureRequest) (*Sizes, error) {
	repo, err := git.Open(ctx, q.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, fmt.Errorf("%w: run zincdoor measure inside one", err)
	} else if err != nil {
		return nil, err
	}
	defer repo.Close()
	if q.Change.Kind == "" {
		q.Change.Kind = policy.Tree
	}
	if repo.Bare && q.Change.Kind == policy.Tree && q.Change.To == "" {
		return nil, target.WrongCall("this is a bare repository, which has no work tree to measure; name a commit: --tree REV")
	}
	t, err := target.Of(repo, q.Change)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	read, err := readPolicy(t, q.Call)
	if err != nil {
		return nil, err
	}
	takes, err := q.Selects(read.Policy, t.Root)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	sizes := &Sizes{root: t.Root}
	s := sizing{policy: read.Policy, takes: takes, sizes: sizes, links: t.Tree.Link}
	if q.KeepTexts && t.Diff != nil {
		sizes.texts = map[string]*source.Text{}
	}
	if q.KeepTexts || t.Diff == nil {
		if sizes.paths, err = t.Tree.Paths(); err != nil {
			return nil, err
		}
	}
	if t.Diff == nil {
		sizes.Files, err = s.measure(s.left(slices.Clone(sizes.paths)), t.Tree.ReadAll, t.Tree.Read)
		return sizes, err
	}
	lines, err := t.Diff.Lines(git.Known{}, func(f change.File) bool { return takes(f.Path) && measure.Knows(f.Path) })
	if err != nil {
		return nil, err
	}
	sizes.Change = change.New(slices.Clone(lines.Files), read.Policy.Place)
	var paths, olds []string
	for _, f := range sizes.Change.Files {
		if f.Status != change.Deleted {
			paths = append(paths, f.Path)
		}
		if f.Old != "" {
			olds = append(olds, f.Old)
		}
	}
	if sizes.Files, err = s.measure(s.left(paths), t.Tree.ReadAll, t.Tree.Read); err != nil {
		return nil, err
	}
	s.sizes, s.links = &Sizes{}, nil // what was left out is counted once
	sizes.Before, err = s.measure(s.left(olds), t.Diff.ReadOlds, t.Diff.ReadOld)
	return sizes, errors.Join(err, t.Diff.CloseOld())
}

// sizing measures the files that a policy and a call leave.
type sizing struct {
	policy *policy.Policy
	takes  func(path string) bool
	sizes  *Sizes // where what is left out is counted

	links func(path string) (to string, link bool, err error) // tells symbolic links of the measured state; nil where that has none
}

// isLink reports whether a content says where a symbolic link leads.
func (s *sizing) isLink(path string, data []byte) bool {
	if s.links == nil || !source.New(data).MayBeLink() {
		return false
	}
	_, link, err := s.links(path)
	return err == nil && link
}

// left are the paths of files that are measured.
func (s *sizing) left(paths []string) []string {
	return slices.DeleteFunc(paths, func(path string) bool {
		switch {
		case path == "" || !s.takes(path):
			return true
		case policy.MatchPath(s.policy.Skip, path) || policy.MatchPath(s.policy.Sets[policy.GeneratedSet], path):
			s.sizes.Aside++
			return true
		case !measure.Knows(path):
			s.sizes.Other++
			return true
		}
		return false
	})
}

// measure measures files: those that can be read at once, and the others one by one.
func (s *sizing) measure(
	paths []string, readAll func(paths []string, see func(path string, data []byte)) error, read func(path string) (data []byte, found bool, err error),
) (all []measure.Measured, err error) {
	var mutex sync.Mutex
	seen := map[string]bool{}
	see := func(path string, data []byte) {
		if bytes.IndexByte(data, 0) >= 0 || s.isLink(path, data) { // no text in the language that its name says
			mutex.Lock()
			defer mutex.Unlock()
			seen[path] = true
			s.sizes.Other++
			return
		}
		generated := s.policy.Marker != nil && source.New(data).Any(s.policy.Marker.MatchString)
		one := measure.Measured{Path: path}
		if !generated {
			one.File = measure.Of(path, data)
		}
		mutex.Lock()
		defer mutex.Unlock()
		if seen[path] = true; generated {
			s.sizes.Aside++
			return
		}
		all = append(all, one)
		if s.sizes.texts != nil {
			s.sizes.texts[path] = source.New(bytes.Clone(data))
		}
	}
	if err := readAll(paths, see); err != nil {
		return nil, err
	}
	for _, path := range paths {
		if seen[path] {
			continue
		}
		data, found, err := read(path)
		if err != nil {
			return nil, err
		}
		if found {
			see(path, data)
		}
	}
	slices.SortFunc(all, measure.ByPath)
	return all, nil
}
