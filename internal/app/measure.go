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
	"zincdoor/internal/measuring"
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
	choice := &measuring.Choice{Policy: read.Policy, Takes: takes}
	defer func() { sizes.Other, sizes.Aside = choice.Other, choice.Aside }()
	if q.KeepTexts && t.Diff != nil {
		sizes.texts = map[string]*source.Text{}
	}
	if q.KeepTexts || t.Diff == nil {
		if sizes.paths, err = t.Tree.Paths(); err != nil {
			return nil, err
		}
	}
	if t.Diff == nil {
		sizes.Files, err = choice.Measure(choice.Left(slices.Clone(sizes.paths)), measuring.Of(t.Tree), nil)
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
	if sizes.Files, err = choice.Measure(choice.Left(paths), measuring.Of(t.Tree), sizes.keepText()); err != nil {
		return nil, err
	}
	before := &measuring.Choice{Policy: read.Policy, Takes: takes} // what was left out is counted once
	sizes.Before, err = before.Measure(before.Left(olds), measuring.State{ReadAll: t.Diff.ReadOlds, Read: t.Diff.ReadOld}, nil)
	return sizes, errors.Join(err, t.Diff.CloseOld())
}

// keepText keeps texts where they will be asked for.
func (s *Sizes) keepText() func(m measure.Measured, data []byte) {
	if s.texts == nil {
		return nil
	}
	var mutex sync.Mutex
	return func(m measure.Measured, data []byte) {
		mutex.Lock()
		defer mutex.Unlock()
		s.texts[m.Path] = source.New(bytes.Clone(data))
	}
}
