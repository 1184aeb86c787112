package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// RehearseRequest is a policy to try on past changes.
type RehearseRequest struct {
	Call            // whose Policy is the one to try
	Door     string // "" takes the one door that judges a range
	From, To string // the changes from one commit to another; "" for the last ones
	Last     int    // how many of HEAD's, where From is ""
	Reports  string // the folder with the reports of each commit; "" where the policy's linters are started on them
	Tell     func(lint.Step)
}

// Rehearse judges past changes by a policy and by the present one, which is the last commit's. Each commit is a change, from
// its first parent.
func Rehearse(ctx context.Context, q RehearseRequest) ([]judge.Rehearsal, error) {
	repo, err := open(ctx, q.Dir)
	if err != nil {
		return nil, err
	}
	defer repo.Close()
	list, err := q.list(repo)
	if err != nil {
		return nil, err
	}
	store := &reportStore{}
	if q.Reports != "" {
		if store, err = readStore(target.InDir(q.Dir, q.Reports)); err != nil {
			return nil, err
		}
	}
	if q.Door == "" {
		if q.Door, err = q.door(ctx); err != nil {
			return nil, err
		}
	}
	present, err := presentPolicy(repo)
	if err != nil {
		return nil, err
	}
	var all []judge.Rehearsal
	for _, c := range list {
		r := judge.Rehearsal{Commit: c.Name, Subject: c.Subject}
		given := evidence.Given{Dir: q.Dir, Files: store.of(c.Name), Commit: c.Name, Alone: true, Start: q.Run}
		switch {
		case len(c.Parents) == 0:
			r.Problem = "it has no parent to compare with"
		case len(given.Files) == 0 && !q.Run:
			r.Problem = "no reports of it; --run starts the policy's linters on it"
		default:
			one := GateRequest{Call: q.Call, Door: q.Door, Reports: Reports{Given: given}, Tell: q.Tell}
			one.Change = target.Name{Kind: policy.Range, From: c.Parents[0], To: c.Name}
			if r.New, err = rehearse(ctx, one); err != nil {
				return nil, err
			}
			one.Policy = present
			switch r.Now, err = rehearse(ctx, one); {
			case errors.Is(err, ErrCall): // it has no such door
				r.Problem = "the present policy can't judge this change: " + strings.TrimPrefix(err.Error(), ErrCall.Error()+": ")
			case err != nil:
				return nil, fmt.Errorf("judging by the present policy: %w", err)
			}
		}
		all = append(all, r)
	}
	return all, nil
}

// door is the door of the policy to try that judges ranges, or else branches, where it has one of the kind; "" leaves it to judging
// to complain.
func (q RehearseRequest) door(ctx context.Context) (string, error) {
	file, err := ReadPolicy(ctx, q.Call)
	if err != nil {
		return "", err
	}
	for _, kind := range []policy.Kind{policy.Range, policy.Branch} {
		if doors := file.Policy.DoorsFor(kind); len(doors) == 1 {
			return doors[0].Name, nil
		} else if len(doors) > 1 {
			break
		}
	}
	return "", nil
}

func rehearse(ctx context.Context, q GateRequest) (*judge.Verdict, error) {
	judged, err := Gate(ctx, q)
	if err != nil {
		return nil, err
	}
	return &judged[0].Verdict, nil
}

// presentPolicy names the policy of the last commit, as calls name one; authority.BuiltIn where it has none.
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
	if _, found, err := tree.Plain(policyfile.Path); err != nil || !found {
		return authority.BuiltIn, err
	}
	return commit + ":" + policyfile.Path, nil
}

// list lists the commits of the past, the oldest first.
func (q RehearseRequest) list(repo *git.Repo) ([]git.Commit, error) {
	if q.From == "" {
		return repo.Log(q.Last, "HEAD")
	}
	var ends []string
	for _, name := range []string{q.From, q.To} {
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
		return nil, target.WrongCall("--reports: %v", err)
	}
	return &reportStore{dir, entries}, nil
}

var commitName = regexp.MustCompile(`^[0-9a-f]{7,64}`)

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
