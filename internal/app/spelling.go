package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/spelling"
	"zincdoor/internal/files"
	"zincdoor/internal/target"
)

// AddWords adds words to the team's own list in the work tree, which stays sorted: to the one that the policy names first, or to the one
// that is called for. It gives the words that weren't there, and the list's path from the repository's root.
func AddWords(ctx context.Context, c Call, list string, words []spelling.OwnWord) (added []string, path string, err error) {
	return added, path, inWorkTree(ctx, c, func(t *target.Target, a *authority.Authority) error {
		if path, err = wordsFile(a, list); err != nil {
			return err
		}
		file := filepath.Join(t.Root, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
			return err
		}
		unlock, err := files.Lock(filepath.Dir(file))
		if err != nil {
			return err
		}
		defer unlock()
		data, found, err := t.Tree.Plain(path)
		if err != nil {
			return fmt.Errorf("%s can't be read: %w", path, err)
		}
		if !found {
			if _, err := os.Lstat(file); err == nil { // not tracked yet
				data, err = os.ReadFile(file)
				if err != nil {
					return err
				}
			} else if !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		var now []byte
		now, added, err = spelling.AddOwn(data, words)
		if err != nil {
			return target.WrongCall("%s: %v", path, err)
		}
		if len(added) == 0 {
			return nil
		}
		return files.WriteLocked(file, now, 0o644)
	})
}

// wordsFile is the list that words are added to.
func wordsFile(a *authority.Authority, list string) (string, error) {
	named := []string{spelling.OwnWords}
	if at := slices.IndexFunc(a.Policy.Policy.House, func(s house.Setting) bool { return s.Spelling != nil }); at >= 0 {
		named = nil
		for _, own := range a.Policy.Policy.House[at].Spelling.Own {
			named = append(named, own.File)
		}
	}
	switch {
	case len(named) == 0:
		return "", target.WrongCall("the policy names no list of own words: own-words: in house: spelling:")
	case list == "" && len(named) > 1:
		return "", target.WrongCall("the policy names several lists; say which: --list FILE (%s)", strings.Join(named, ", "))
	case list == "":
		return named[0], nil
	case !slices.Contains(named, list):
		return "", target.WrongCall("--list %s is none of the policy's lists: %s", list, strings.Join(named, ", "))
	}
	return list, nil
}
