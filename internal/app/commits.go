package app

import (
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
)

// textsAt gives the texts of a commit's files, nil where there is none; none at all where the commit isn't there. done lets go of it.
func textsAt(repo *git.Repo, commit string) (text func(path string) *source.Text, done func()) {
	none := func(string) *source.Text { return nil }
	if !isThere(repo, commit) {
		return none, func() {}
	}
	tree, err := repo.Tree(git.Side(commit))
	if err != nil {
		return none, func() {}
	}
	known, mutex := map[string]*source.Text{}, sync.Mutex{}
	return func(path string) *source.Text {
		mutex.Lock()
		defer mutex.Unlock()
		text, ok := known[path]
		if !ok {
			if data, found, err := tree.Read(path); err == nil && found {
				text = source.New(data)
			}
			known[path] = text
		}
		return text
	}, func() { tree.Close() }
}

// isThere reports whether the repository has a commit.
func isThere(repo *git.Repo, commit string) bool {
	return repo != nil && len(commit) >= 40 && repo.Has(commit+"^{commit}")
}

// wayBetween is the change from one commit to another, with the lines of some files.
func wayBetween(repo *git.Repo, from, to string, rules change.Rules, paths map[string]bool) (*change.Change, error) {
	lines, err := repo.Compare(git.Side(from), git.Side(to)).Lines(git.Known{}, func(f change.File) bool { return paths[f.Path] || paths[f.Old] })
	if err != nil {
		return nil, err
	}
	return change.New(lines.Files, rules), nil
}

// pathsOf are the files that findings stand in.
func pathsOf(all []judge.Finding) map[string]bool {
	paths := map[string]bool{}
	for _, f := range all {
		paths[f.Path] = true
	}
	return paths
}
