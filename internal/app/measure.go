package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// MeasureRequest says what is measured.
type MeasureRequest struct {
	Call
	Revision string // a commit; "" for the work tree

	// Selects makes, of the policy and the repository's root, what takes the files that are measured.
	Selects func(p *policy.Policy, root string) (takes func(path string) bool, err error)
}

// Sizes are the numbers of files, and what was left out.
type Sizes struct {
	Files []measure.Measured // by their paths
	Other int                // files in languages that aren't known
	Aside int                // files that the policy skips, or says are generated
}

// Measure measures the files of the work tree or a commit that are in languages which are known, but for those that the policy skips or
// says are generated.
func Measure(ctx context.Context, q MeasureRequest) (*Sizes, error) {
	repo, err := git.Open(ctx, q.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, fmt.Errorf("%w: run zincdoor measure inside one", err)
	} else if err != nil {
		return nil, err
	}
	defer repo.Close()
	if repo.Bare && q.Revision == "" {
		return nil, target.WrongCall("this is a bare repository, which has no work tree to measure; name a commit: --tree REV")
	}
	t, err := target.Of(repo, target.Name{Kind: policy.Tree, To: q.Revision})
	if err != nil {
		return nil, err
	}
	defer t.Close()
	read, err := readPolicy(t, q.Call)
	if err != nil {
		return nil, err
	}
	p := read.Policy
	takes, err := q.Selects(p, t.Root)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	paths, err := t.Tree.Paths()
	if err != nil {
		return nil, err
	}
	sizes := &Sizes{}
	paths = slices.DeleteFunc(paths, func(path string) bool {
		switch {
		case path == "" || !takes(path):
			return true
		case policy.MatchPath(p.Skip, path) || policy.MatchPath(p.Sets[policy.GeneratedSet], path):
			sizes.Aside++
			return true
		case !measure.Knows(path):
			sizes.Other++
			return true
		}
		return false
	})
	var mutex sync.Mutex
	measured := map[string]bool{}
	see := func(path string, data []byte) {
		generated := p.Marker != nil && source.New(data).Any(p.Marker.MatchString)
		one := measure.Measured{Path: path}
		if !generated {
			one.File = measure.Of(path, data)
		}
		mutex.Lock()
		defer mutex.Unlock()
		if measured[path] = true; generated {
			sizes.Aside++
		} else {
			sizes.Files = append(sizes.Files, one)
		}
	}
	if err := t.Tree.ReadAll(paths, see); err != nil {
		return nil, err
	}
	for _, path := range paths { // what wasn't read at once
		if measured[path] {
			continue
		}
		data, found, err := t.Tree.Read(path)
		if err != nil {
			return nil, err
		}
		if found {
			see(path, data)
		}
	}
	slices.SortFunc(sizes.Files, measure.ByPath)
	return sizes, nil
}
