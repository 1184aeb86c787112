package app

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/git"
	"zincdoor/internal/history"
	"zincdoor/internal/policyfile"
)

// Records are what was recorded of many repositories, in one store. They must be closed; several goroutines may ask them at once.
type Records struct {
	store *history.Store
	place string
}

// Place is where they are kept: a file, or the address of a PostgreSQL database.
func (r *Records) Place() string { return r.place }

// OpenRecords opens what was recorded where a call in dir finds it: the place that it names, else the one of the repository at hand. A file
// that isn't there is made.
func OpenRecords(ctx context.Context, dir string, place Place) (*Records, error) {
	repo, err := openIfAny(ctx, dir)
	if err != nil {
		return nil, err
	}
	home := homeOf(repo, dir)
	if repo != nil {
		repo.Close()
	}
	at, waiting, err := place.at(home, dir)
	if err != nil {
		return nil, err
	}
	store, err := history.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	if _, _, err := waiting.TakeIn(ctx, store); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, errors.Join(err, store.Close())
	}
	return &Records{store, at}, nil
}

// Close closes them.
func (r *Records) Close() error { return r.store.Close() }

// Ready reports whether the store answers.
func (r *Records) Ready(ctx context.Context) error { return r.store.Ready(ctx) }

// Of is what was recorded of one repository. It needn't be closed.
func (r *Records) Of(name string) *History {
	return &History{Name: name, Policy: policyfile.Builtin().Policy, store: r.store}
}

// RepositoryState is how a repository stands.
type RepositoryState struct {
	Name     string
	Last     record.Summary      // the newest record, of one without states
	Branches []history.LastState // sorted by branch and door; none where no state was recorded
}

// lineStates is how many states a line shows.
const lineStates = 30

// Repositories are all that have records and whose name is taken, by their names.
func (r *Records) Repositories(ctx context.Context, takes func(name string) bool) (all []RepositoryState, err error) {
	names, err := r.store.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	branches, err := r.Branches(ctx, "")
	if err != nil {
		return nil, err
	}
	of := map[string][]history.LastState{}
	for _, b := range branches {
		of[b.Repository] = append(of[b.Repository], b)
	}
	for _, name := range names {
		if !takes(name) {
			continue
		}
		is := RepositoryState{Name: name, Branches: of[name]}
		if len(is.Branches) == 0 {
			last, err := r.store.List(ctx, history.Filter{Repository: name, Last: 1})
			if err != nil {
				return nil, err
			}
			if len(last) == 0 {
				continue // it has gone meanwhile
			}
			is.Last = last[0]
		}
		all = append(all, is)
	}
	return all, nil
}

// Branches are the last states of a repository's guarded branches; of all repositories' where the name is empty.
func (r *Records) Branches(ctx context.Context, repository string) ([]history.LastState, error) {
	return r.store.LastStates(ctx, repository, lineStates)
}

// Record reads a record by its id, with what it is in the store; nil where there is none.
func (r *Records) Record(ctx context.Context, id string) (made *record.Record, is record.Summary, err error) {
	is, found, err := r.store.ByID(ctx, id)
	if err != nil || !found {
		return nil, is, err
	}
	made, err = r.store.Record(ctx, is)
	return made, is, err
}

// LifeEvent is something that happened to a finding.
type LifeEvent struct {
	Kind   string         // one of history.Came, Went and Became
	Record record.Summary // the state in which that was seen
	Is     *judge.Finding // as it was then; nil where it went, and of all but the last few events
}

// mostPlaced is of how many events, the last ones, it is read where the finding stood: that takes a whole state each.
const mostPlaced = 5

// Life follows a finding of a recorded state, by its id there, through the states of that branch: since when it is there, where it moved,
// whether it is gone.
func (r *Records) Life(ctx context.Context, in record.Summary, finding string) (all []LifeEvent, err error) {
	events, err := r.store.Life(ctx, in.State.Stream, finding)
	if err != nil {
		return nil, err
	}
	for n, e := range events {
		is, found, err := r.store.At(ctx, in.State.Stream, e.Position)
		if err != nil {
			return nil, err
		}
		if !found {
			continue
		}
		life := LifeEvent{Kind: e.Kind, Record: is}
		if e.Kind != history.Went && n >= len(events)-mostPlaced {
			if life.Is, err = r.findingIn(ctx, is, e.Finding); err != nil {
				return nil, err
			}
		}
		all = append(all, life)
	}
	return all, nil
}

func (r *Records) findingIn(ctx context.Context, is record.Summary, id string) (*judge.Finding, error) {
	made, err := r.store.Record(ctx, is)
	if err != nil {
		return nil, err
	}
	for i := range made.Verdict.Findings {
		if f := &made.Verdict.Findings[i]; f.ID == id {
			return f, nil
		}
	}
	return nil, nil
}

// Names are the names of the repositories that have records.
func (r *Records) Names(ctx context.Context) ([]string, error) { return r.store.Repositories(ctx) }

// Store is where they are kept. It is closed with them.
func (r *Records) Store() *history.Store { return r.store }

// BusyFiles ranks the files of a repository since a time: how often they changed is known where a mirror of it is in a folder.
func (r *Records) BusyFiles(ctx context.Context, name, mirror string, since time.Time) (*Ranked, error) {
	h := r.Of(name)
	if mirror != "" {
		if repo, err := git.Open(ctx, mirror); err == nil {
			defer repo.Close()
			h.repo = repo
		}
	}
	return h.Worst(ctx, WorstRequest{By: record.ByFile, From: since})
}
