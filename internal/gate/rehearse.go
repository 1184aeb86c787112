package gate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// Past says which changes of the past to rehearse.
type Past struct {
	From, To string // commits A..B; "" for the last ones
	Last     int    // how many of HEAD's, where From is ""
	Reports  string // the folder with the reports of each commit
}

// Rehearse judges past changes by the policy that q names and by the present one, which is the last commit's. Each
// commit is a change, from its first parent.
func Rehearse(ctx context.Context, q Request, past Past) ([]judge.Rehearsal, error) {
	repo, err := open(ctx, q)
	if err != nil {
		return nil, err
	}
	defer repo.Close()
	list, err := past.list(repo)
	if err != nil {
		return nil, err
	}
	store, err := readStore(inDir(q.Dir, past.Reports))
	if err != nil {
		return nil, err
	}
	now, err := presentPolicy(repo)
	if err != nil {
		return nil, err
	}
	q.Apart = true
	var all []judge.Rehearsal
	for _, c := range list {
		r := judge.Rehearsal{Commit: c.Name, Subject: c.Subject}
		q.Reports, q.ReportCommit = store.of(c.Name), c.Name
		switch {
		case len(c.Parents) == 0:
			r.Problem = "it has no parent to compare with"
		case len(q.Reports) == 0:
			r.Problem = "no reports of it"
		default:
			q.Change = Selection{Kind: policy.Range, From: c.Parents[0], To: c.Name}
			if r.New, err = rehearse(ctx, q); err != nil {
				return nil, err
			}
			old := q
			old.Policy = now
			switch r.Now, err = rehearse(ctx, old); {
			case errors.Is(err, ErrCall): // it has no such door
				r.Problem = "the present policy can't judge it: " + strings.TrimPrefix(err.Error(), ErrCall.Error()+": ")
			case err != nil:
				return nil, fmt.Errorf("by the present policy: %w", err)
			}
		}
		all = append(all, r)
	}
	return all, nil
}

func rehearse(ctx context.Context, q Request) (*judge.Verdict, error) {
	results, err := Gather(ctx, q)
	if err != nil {
		return nil, err
	}
	v := judge.Judge(results[0].Case)
	return &v, nil
}

// presentPolicy names the policy of the last commit, as calls name one; BuiltIn where it has none.
func presentPolicy(repo *git.Repo) (string, error) {
	commit, ok := repo.Head()
	if !ok {
		return "", fmt.Errorf("this branch has no commit yet, so there are no past changes")
	}
	tree, err := repo.Tree(git.Side(commit))
	if err != nil {
		return "", err
	}
	defer tree.Close()
	if _, found, err := tree.Plain(policy.Path); err != nil || !found {
		return BuiltIn, err
	}
	return commit + ":" + policy.Path, nil
}

// list lists the commits of the past, the oldest first.
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

// reportStore is a folder of reports by commit: files and folders that are called by the beginning of its name.
type reportStore struct {
	dir     string
	entries []os.DirEntry
}

func readStore(dir string) (*reportStore, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, wrongCall("--reports: %v", err)
	}
	return &reportStore{dir, entries}, nil
}

var commitName = regexp.MustCompile(`^[0-9a-f]{7,64}`)

// of lists the reports of a commit. A file that is called like a report of the policy stands in for it.
func (s *reportStore) of(commit string) (reports []ReportFile) {
	for _, entry := range s.entries {
		name := commitName.FindString(entry.Name())
		if name == "" || !strings.HasPrefix(commit, name) {
			continue
		}
		at := filepath.Join(s.dir, entry.Name())
		if !entry.IsDir() {
			reports = append(reports, ReportFile{File: at})
			continue
		}
		inside, err := os.ReadDir(at)
		if err != nil {
			continue
		}
		for _, file := range inside {
			if !file.IsDir() {
				reports = append(reports, ReportFile{File: filepath.Join(at, file.Name())})
			}
		}
	}
	slices.SortFunc(reports, func(a, b ReportFile) int { return strings.Compare(a.File, b.File) })
	return reports
}
