package app

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"slices"

	"zincdoor/internal/git"
)

// Watched is the state of the work tree that dir is in, as a text that changes when something of it does, and the folders
// in which that can be seen.
func Watched(ctx context.Context, dir string) (state string, folders []string, err error) {
	repo, err := open(ctx, dir)
	if err != nil {
		return "", nil, err
	}
	defer repo.Close()
	if repo.Bare {
		return "", nil, fmt.Errorf("this is a bare repository: there is no work tree to watch")
	}
	private, err := repo.GitDir()
	if err != nil {
		return "", nil, err
	}
	if err := repo.IncludeUntracked(); err != nil {
		return "", nil, err
	}
	contents, err := repo.Contents(git.Worktree)
	if err != nil {
		return "", nil, err
	}
	head, _ := repo.Head()
	sum := sha256.New()
	io.WriteString(sum, head)
	seen := map[string]bool{repo.Root: true, private: true}
	for _, file := range slices.Sorted(maps.Keys(contents)) {
		fmt.Fprintf(sum, "\x00%s\x00%s", file, contents[file])
		for at := path.Dir(file); at != "."; at = path.Dir(at) {
			seen[filepath.Join(repo.Root, filepath.FromSlash(at))] = true
		}
	}
	return string(sum.Sum(nil)), slices.Sorted(maps.Keys(seen)), nil
}
