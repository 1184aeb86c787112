package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
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

	KeepTexts bool // the texts of a change's files will be asked for

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
}

// opened is a state to be measured, with the policy that says what is left out.
type opened struct {
	*target.Target
	repo   *git.Repo
	policy *policy.Policy
	takes  func(path string) bool
}

func (o *opened) Close() error { return errors.Join(o.Target.Close(), o.repo.Close()) }

// open finds what is measured. It must be closed.
func (q *MeasureRequest) open(ctx context.Context) (o *opened, err error) {
	repo, err := git.Open(ctx, q.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, fmt.Errorf("%w: run zincdoor measure inside one", err)
	} else if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			repo.Close()
		}
	}()
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
	o = &opened{Target: t, repo: repo}
	read, err := readPolicy(t, q.Call)
	if err == nil {
		o.policy = read.Policy
		if o.takes, err = q.Selects(read.Policy, t.Root); err != nil {
			err = target.WrongCall("%v", err)
		}
	}
	if err != nil {
		t.Close()
	}
	return o, err
}

// Measure measures files that are in languages which are known: of a change those that it alters, else all; but for those that the
// policy skips or says are generated.
func Measure(ctx context.Context, q MeasureRequest) (*Sizes, error) {
	t, err := q.open(ctx)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	return t.measure(q.KeepTexts, nil)
}

// measure measures the files of a state, and those of a change as they were before. Also takes files in languages that aren't known.
func (t *opened) measure(keepTexts bool, also func(path string) bool) (sizes *Sizes, err error) {
	sizes = &Sizes{}
	choice := &measuring.Choice{Policy: t.policy, Takes: t.takes, Also: also}
	defer func() { sizes.Other, sizes.Aside = choice.Other, choice.Aside }()
	if keepTexts && t.Diff != nil {
		sizes.texts = map[string]*source.Text{}
	}
	if t.Diff == nil {
		paths, err := t.Tree.Paths()
		if err != nil {
			return nil, err
		}
		sizes.Files, err = choice.Measure(choice.Left(slices.Clone(paths)), measuring.Of(t.Tree), nil)
		return sizes, err
	}
	lines, err := t.Diff.Lines(git.Known{}, func(f change.File) bool {
		return t.takes(f.Path) && (measure.Knows(f.Path) || also != nil && also(f.Path))
	})
	if err != nil {
		return nil, err
	}
	sizes.Change = change.New(slices.Clone(lines.Files), t.policy.Place)
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
	before := &measuring.Choice{Policy: t.policy, Takes: t.takes} // what was left out is counted once
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
