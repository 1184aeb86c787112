package lint

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/report"
)

// A linter's own files are those that its commands name as arguments, and those that the policy calls trusted: the programs and
// settings by which it judges. Where a change from elsewhere is judged, they are taken from the tree that the change wants to
// get into, so that nobody brings the linter that judges him.

// ownFiles are a report's own files among those of a tree, sorted. A source that is compiled is none: a command that names one
// means it to be looked at.
func ownFiles(terms policy.Report, has func(file string) bool, all []string) (files []string) {
	folder := ""
	if terms.Run != nil {
		folder = terms.Run.Folder
		if len(terms.Run.Trusted) > 0 {
			for _, file := range all {
				if policy.MatchPath(terms.Run.Trusted, file) {
					files = append(files, file)
				}
			}
		}
	}
	for _, command := range commandsOf(terms) {
		for i, argument := range command {
			_, value, _ := strings.Cut(argument, "=")
			for _, named := range []string{argument, value} {
				if file := path.Join(folder, filepath.ToSlash(named)); named != "" && has(file) && (i == 0 || !report.IsCompiled(file)) {
					files = append(files, file)
				}
			}
		}
	}
	slices.Sort(files)
	return slices.Compact(files)
}

func commandsOf(terms policy.Report) [][]string {
	commands := [][]string{terms.Ask, terms.Fix}
	if terms.Run != nil {
		commands = append(commands, terms.Run.Command)
	}
	return commands
}

// Laid are the own files of a policy's linters that differ between the judged state and the trusted one, with what the trusted
// one has in their place; nothing where it hasn't the file.
type Laid map[string]laidFile

type laidFile struct {
	entry git.Entry
	of    []string // the reports whose own it is
}

// LayTrusted finds them for some reports.
func LayTrusted(repo *git.Repo, trusted, side git.Side, judged map[string]git.Entry, reports []policy.Report) (Laid, error) {
	if repo == nil || trusted == "" || trusted == side || !slices.ContainsFunc(reports, func(r policy.Report) bool { return len(slices.Concat(commandsOf(r)...)) > 0 }) {
		return nil, nil
	}
	theirs, err := repo.Entries(trusted)
	if err != nil {
		return nil, err
	}
	tree, err := repo.Tree(trusted)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	laid := Laid{}
	for _, terms := range reports {
		own := map[string]bool{}
		for _, entries := range []map[string]git.Entry{theirs, judged} {
			has := func(file string) bool {
				_, ok := entries[file]
				return ok
			}
			for _, file := range ownFiles(terms, has, slices.Collect(maps.Keys(entries))) {
				own[file] = true
			}
		}
		for _, file := range slices.Sorted(maps.Keys(own)) {
			for range mostLinks { // what a link leads to is as much the linter's own
				if theirs[file] != judged[file] {
					laid[file] = laidFile{theirs[file], append(laid[file].of, terms.Name)}
				}
				to, link, err := tree.Link(file)
				if err != nil {
					return nil, err
				}
				if !link {
					break
				}
				file = path.Join(path.Dir(file), to)
			}
		}
	}
	return laid, nil
}

// mostLinks is how many links are followed, one after another.
const mostLinks = 8

// Lay puts the trusted files in the place of those of a copy. Where only some files were copied, only names those; nil for all.
func (l Laid) Lay(repo *git.Repo, trusted git.Side, dir string, only []string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	var there []string
	for _, file := range slices.Sorted(maps.Keys(l)) {
		if only != nil && !slices.Contains(only, file) {
			continue
		}
		if err := makeWay(root, file); err != nil {
			return err
		}
		if l[file].entry != (git.Entry{}) {
			there = append(there, file)
		}
	}
	if len(there) == 0 {
		return nil
	}
	return repo.CheckOut(trusted, dir, there)
}

// makeWay removes what is at a path of a copy, and what is in the place of a folder above it: a link there may lead anywhere.
func makeWay(root *os.Root, file string) error {
	for i := range file {
		if file[i] != '/' {
			continue
		}
		switch info, err := root.Lstat(filepath.FromSlash(file[:i])); {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return err
		case !info.IsDir():
			return root.Remove(filepath.FromSlash(file[:i]))
		}
	}
	return root.RemoveAll(filepath.FromSlash(file))
}

// Own are those of some laid files that are a report's own, sorted.
func (l Laid) Own(terms policy.Report) (files []string) {
	for file, f := range l {
		if slices.Contains(f.of, terms.Name) {
			files = append(files, file)
		}
	}
	slices.Sort(files)
	return files
}
