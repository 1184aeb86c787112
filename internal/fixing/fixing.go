// Package fixing knows how files are fixed where they lie: read as they are judged, written in the index and the work tree
// alike, and taken back. It doesn't know what is to be fixed.
package fixing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// Files are the files that may be fixed: of the work tree, and at a staged door of the index beside it. It must be closed.
type Files struct {
	repo   *git.Repo
	staged bool
	head   *git.Tree // where a commit is judged, nil elsewhere
	index  *git.Tree
	disk   *git.Tree
	cached map[string]fix.Text
}

// Open opens the repository that dir is in, for fixing what a kind of change was judged by.
func Open(ctx context.Context, dir string, kind policy.Kind) (*Files, error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	if repo.Bare {
		return nil, fmt.Errorf("this is a bare repository: there are no files to fix")
	}
	s := &Files{repo: repo, staged: kind == policy.Staged, cached: map[string]fix.Text{}}
	if s.index, err = repo.Tree(git.Index); err != nil {
		return nil, err
	}
	if s.disk, err = repo.Tree(git.Worktree); err != nil {
		return nil, err
	}
	if kind == policy.Branch || kind == policy.Range {
		commit, ok := repo.Head()
		if !ok {
			return nil, fmt.Errorf("this branch has no commit yet")
		}
		s.head, err = repo.Tree(git.Side(commit))
	}
	return s, err
}

// Close releases the files.
func (s *Files) Close() error {
	err := errors.Join(s.index.Close(), s.disk.Close(), s.repo.Close())
	if s.head != nil {
		err = errors.Join(err, s.head.Close())
	}
	return err
}

// Text is a file as it is judged: of the index or of the work tree.
func (s *Files) Text(path string) fix.Text {
	t, known := s.cached[path]
	if !known {
		t = s.read(path)
		s.cached[path] = t
	}
	return t
}

func (s *Files) read(path string) fix.Text {
	if !fs.ValidPath(path) || path == "." {
		return fix.Text{Refused: "it lies outside the repository"}
	}
	if links, err := s.disk.Links(path); err != nil || len(links) > 0 {
		return fix.Text{Refused: "it is a symbolic link, or lies behind one"}
	}
	var data []byte
	var found bool
	var err error
	if s.staged {
		data, found, err = s.index.Read(path)
	} else {
		data, found, err = s.disk.Plain(path)
	}
	if s.head != nil && err == nil && found {
		judged, _, err := s.head.Read(path)
		if err != nil || !bytes.Equal(judged, data) {
			return fix.Text{Refused: "it isn't in the work tree as the judged commit has it"}
		}
	}
	switch {
	case err != nil:
		return fix.Text{Refused: err.Error()}
	case !found:
		return fix.Text{Refused: "there is no such file"}
	}
	return fix.Text{Data: data, Binary: bytes.IndexByte(data[:min(len(data), 8000)], 0) >= 0}
}

// Fixed is a file with its new text.
type Fixed struct {
	Path     string
	Old, New []byte
	disk     []byte // what the work tree has
	worktree []byte // and what it gets
}

// Ready makes a plan's texts. A file whose work tree has altered the same lines as the fixing would is refused: aside
// tells why, by path.
func (s *Files) Ready(p *fix.Plan) (files []Fixed, aside map[string]string, err error) {
	aside = map[string]string{}
	for _, path := range slices.Sorted(maps.Keys(p.Pieces)) {
		if len(p.Pieces[path]) == 0 {
			continue
		}
		old := s.Text(path).Data
		m := Fixed{Path: path, Old: old, New: fix.Apply(old, p.Pieces[path])}
		if m.disk, m.worktree = m.Old, m.New; s.staged {
			why, err := s.beside(&m)
			if err != nil {
				return nil, nil, err
			}
			if why != "" {
				aside[path] = why
				continue
			}
		}
		files = append(files, m)
	}
	return files, aside, nil
}

// beside finds what the work tree's copy of a staged file becomes: what isn't staged of it stays so.
func (s *Files) beside(m *Fixed) (why string, err error) {
	now, found, err := s.disk.Plain(m.Path)
	if err != nil {
		return "", err
	}
	m.disk = now
	w := s.repo.Writer()
	switch {
	case !found:
		return "the work tree doesn't have it any more", nil
	case bytes.Equal(now, m.Old):
		return "", nil
	}
	// What is merged is what git would keep of it, as long as git would write it just as it stands there: then nothing else changes.
	mine, err := w.Kept(m.Path, now)
	if err != nil {
		return "git can't convert it: " + err.Error(), nil
	}
	again, err := w.Written(m.Path, mine)
	if err != nil {
		return "git can't convert it: " + err.Error(), nil
	}
	converted := bytes.Equal(again, now)
	if !converted {
		mine = now
	}
	merged, clean, err := s.repo.Merge(mine, m.Old, m.New)
	switch {
	case err != nil:
		return "", err
	case !clean:
		return "its unstaged part changes the same lines; stage the rest or put it away first", nil
	case !converted:
		m.worktree = merged
		return "", nil
	}
	m.worktree, err = w.Written(m.Path, merged)
	return "", err
}
