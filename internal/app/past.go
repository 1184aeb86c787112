package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// Past are changes of the past: each commit is one, from its first parent.
type Past struct {
	From, To string // the changes from one commit to another; "" for the last ones
	Last     int    // how many of HEAD's, where From is ""
	Reports  string // the folder with the reports of each commit, "" for none
}

// list lists the commits, the oldest first.
func (p Past) list(repo *git.Repo) ([]git.Commit, error) {
	if p.From == "" {
		return repo.Log(p.Last, "HEAD")
	}
	var ends []string
	for _, name := range []string{p.From, p.To} {
		commit, err := repo.Commit(name)
		if err != nil {
			return nil, err
		}
		ends = append(ends, commit)
	}
	return repo.Log(0, ends[0]+".."+ends[1])
}

// store reads the folder of reports.
func (p Past) store(dir string) (*reportStore, error) {
	if p.Reports == "" {
		return &reportStore{}, nil
	}
	return readStore(target.InDir(dir, p.Reports))
}

// reportStore is a folder of reports by commit: files and folders that are called by the beginning of its name.
type reportStore struct {
	dir     string
	entries []os.DirEntry
}

func readStore(dir string) (*reportStore, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, target.WrongCall("--reports: %v", err)
	}
	return &reportStore{dir, entries}, nil
}

var commitName = pattern.Of(`^[0-9a-f]{7,64}`)

// of lists the reports of a commit. A file that is called like a report of the policy stands in for it.
func (s *reportStore) of(commit string) (reports []evidence.File) {
	for _, entry := range s.entries {
		name := commitName.FindString(entry.Name())
		if name == "" || !strings.HasPrefix(commit, name) {
			continue
		}
		at := filepath.Join(s.dir, entry.Name())
		if !entry.IsDir() {
			reports = append(reports, evidence.File{Path: at})
			continue
		}
		inside, err := os.ReadDir(at)
		if err != nil {
			continue
		}
		for _, file := range inside {
			if !file.IsDir() {
				reports = append(reports, evidence.File{Path: filepath.Join(at, file.Name())})
			}
		}
	}
	slices.SortFunc(reports, func(a, b evidence.File) int { return strings.Compare(a.Path, b.Path) })
	return reports
}
