package app

import (
	"context"
	"errors"
	"fmt"

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
	Call        // whose Policy is the one to try
	Door string // "" takes the one door that judges a range
	Past
	Place Place // where records are whose reports serve, where no folder is named
	Tell  func(lint.Step)
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
	store, err := q.store(q.Dir)
	if err != nil {
		return nil, err
	}
	if q.Reports == "" && !q.Run {
		recorded, err := OpenHistory(ctx, q.Call, q.Place, "")
		if err != nil {
			return nil, fmt.Errorf("%w; or name a folder with the reports of past commits: --reports DIR, or have the policy's linters started on them: --run", err)
		}
		defer recorded.Close()
		lent, err := recorded.lend(ctx, list)
		if err != nil {
			return nil, err
		}
		defer lent.remove()
		store = lent.reportStore
	}
	if q.Door == "" {
		if q.Door, err = pastDoor(ctx, q.Call, policy.Range, policy.Branch); err != nil {
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
				r.Problem = "the present policy can't judge this change: " + Said(err)
			case err != nil:
				return nil, fmt.Errorf("judging by the present policy: %w", err)
			}
		}
		all = append(all, r)
	}
	return all, nil
}

// pastDoor is the door of the policy that a call names that judges changes of a kind, or else of the next kind, where it has one of
// the kind; "" leaves it to judging to complain.
func pastDoor(ctx context.Context, c Call, kinds ...policy.Kind) (string, error) {
	file, err := ReadPolicy(ctx, c)
	if err != nil {
		return "", err
	}
	for _, kind := range kinds {
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
