package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/history"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// History is what was recorded of a repository. It must be closed.
type History struct {
	Name    string         // of the repository
	Policy  *policy.Policy // the present one, the built-in one where there is none that can be read
	Dir     string         // where the call is made
	Root    string         // of the repository
	Notices []string

	store *history.Store
	repo  *git.Repo // nil outside of one
	call  Call
	place Place
}

// OpenHistory opens what was recorded of the repository at hand, or of another one by its name. Records that waited are put in first.
func OpenHistory(ctx context.Context, c Call, place Place, name string) (*History, error) {
	return openHistory(ctx, c, place, name, history.OpenThere)
}

func openHistory(ctx context.Context, c Call, place Place, name string, openStore func(context.Context, string) (*history.Store, error)) (*History, error) {
	repo, err := openIfAny(ctx, c.Dir)
	if err != nil {
		return nil, err
	}
	h := &History{Policy: policyfile.Builtin().Policy, Dir: c.Dir, Root: c.Dir, repo: repo, call: c, place: place}
	if repo != nil {
		h.Root = repo.Root
		if file, err := ReadPolicy(ctx, c); err == nil {
			h.Policy = file.Policy
		}
	}
	var at string
	var waiting history.Waiting
	home := homeOf(repo, c.Dir)
	h.Name = cmp.Or(name, home.name)
	if at, waiting, err = place.at(home, c.Dir); err == nil {
		h.store, err = openStore(ctx, at)
	}
	if err != nil {
		h.Close()
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("nothing has been recorded in %s yet; verdicts are recorded with zincdoor gate --record, or where the policy says history: {record: true}", at)
		}
		return nil, err
	}
	_, told, err := waiting.TakeIn(ctx, h.store)
	h.Notices = told
	if err != nil {
		h.Notices = append(h.Notices, fmt.Sprintf("not all records that wait could be put in: %v", err))
	}
	return h, nil
}

// Close closes it.
func (h *History) Close() {
	if h.store != nil {
		h.store.Close()
	}
	if h.repo != nil {
		h.repo.Close()
	}
}

// List lists records of the repository, the oldest first.
func (h *History) List(ctx context.Context, f history.Filter) ([]record.Summary, error) {
	f.Repository = h.Name
	return h.store.List(ctx, f)
}

// Branch names the states of a guarded branch as one door sees them. What is empty may be any.
type Branch struct{ Name, Door string }

// String names it for people.
func (b Branch) String() string {
	return fmt.Sprintf("%s at the door %s", strings.TrimPrefix(b.Name, "refs/heads/"), b.Door)
}

// States lists the states of a branch by their positions: of several branches that would do, of the one that was recorded last. The
// others are named.
func (h *History) States(ctx context.Context, of Branch) (states []record.Summary, is Branch, others []Branch, err error) {
	if of.Name != "" {
		of.Name = policy.WholeRef(of.Name)
	}
	all, err := h.List(ctx, history.Filter{Branch: of.Name, Door: of.Door, States: true})
	if err != nil {
		return nil, is, nil, err
	}
	if len(all) == 0 {
		return nil, is, nil, h.noStates(ctx, of)
	}
	last := all[len(all)-1]
	seen := map[Branch]bool{}
	for _, r := range all {
		b := Branch{r.Branch, r.Door}
		if r.State.Stream == last.State.Stream {
			states, is = append(states, r), b
		} else if !seen[b] {
			seen[b] = true
			others = append(others, b)
		}
	}
	slices.SortFunc(states, func(a, b record.Summary) int { return int(a.State.Position - b.State.Position) })
	return states, is, others, nil
}

// Nothing says that nothing was recorded of the repository, and of which there are records; nil where something was.
func (h *History) Nothing(ctx context.Context) error {
	all, err := h.List(ctx, history.Filter{Last: 1})
	if err != nil || len(all) > 0 {
		return err
	}
	names, err := h.store.Repositories(ctx)
	switch {
	case err != nil:
		return err
	case len(names) == 0:
		return fmt.Errorf("nothing has been recorded of %s", h.Name)
	}
	return fmt.Errorf("nothing has been recorded of %s; there are records of %s (--repository NAME)", h.Name, strings.Join(names, ", "))
}

// noStates says what is missing where no state of a branch was recorded.
func (h *History) noStates(ctx context.Context, of Branch) error {
	what := "of a guarded branch"
	if of.Name != "" {
		what = "of " + strings.TrimPrefix(of.Name, "refs/heads/")
	}
	if of.Door != "" {
		what += " at the door " + of.Door
	}
	if err := h.Nothing(ctx); err != nil {
		return err
	}
	return fmt.Errorf("no state %s has been recorded: that takes a verdict on its tip, by a push door or by gate --tree or --range on it, with all evidence it needs; for the past: zincdoor history import", what)
}

var (
	recordName = pattern.Of(`^[0-9a-f]{4,16}$`)
	dayName    = pattern.Of(`^\d{4}-\d{2}-\d{2}$`)
)

// Last is what the newest record, or state, is called.
const Last = "last"

// Find finds a record of the repository by the beginning of its id, or the newest one.
func (h *History) Find(ctx context.Context, name string) (is record.Summary, err error) {
	if name == Last {
		all, err := h.List(ctx, history.Filter{Last: 1})
		if err == nil && len(all) == 0 {
			err = h.Nothing(ctx)
		}
		if err != nil {
			return is, err
		}
		return all[0], nil
	}
	if !recordName.MatchString(name) {
		return is, target.WrongCall("%q is no id of a record: that is 4 to 16 hexadecimal digits, as zincdoor history list shows", name)
	}
	all, err := h.store.Named(ctx, h.Name, name)
	switch {
	case err != nil:
		return is, err
	case len(all) == 0:
		return is, target.WrongCall("no record has the id %s; zincdoor history list shows them", name)
	case len(all) > 1:
		return is, target.WrongCall("several records' ids begin with %s: %s and %s", name, all[0].ID, all[1].ID)
	}
	return all[0], nil
}

// At finds a state among those of a branch: by a record's id, a day (its last state then), or a commit.
func (h *History) At(ctx context.Context, states []record.Summary, name string) (is record.Summary, err error) {
	if name == Last {
		return states[len(states)-1], nil
	}
	if dayName.MatchString(name) {
		day, err := time.Parse(time.DateOnly, name)
		if err != nil {
			return is, target.WrongCall("%q is no date", name)
		}
		is, found := record.LastUpTo(states, day.AddDate(0, 0, 1).Add(-1))
		if !found {
			return is, target.WrongCall("the first state was recorded on %s, after %s", states[0].Time.Format(time.DateOnly), name)
		}
		return is, nil
	}
	if recordName.MatchString(name) {
		for _, s := range states {
			if strings.HasPrefix(s.ID, name) {
				return s, nil
			}
		}
	}
	commit := name
	if h.repo != nil {
		if full, err := h.repo.Commit(name); err == nil {
			commit = full
		}
	}
	for _, s := range slices.Backward(states) {
		if s.Head == commit || len(name) >= 7 && strings.HasPrefix(s.Head, name) {
			return s, nil
		}
	}
	return is, target.WrongCall("%s names no recorded state: neither a record's id, nor a day like 2027-02-01, nor a commit that was recorded; zincdoor history list shows them", name)
}

// Recorded is a record with the files that its findings stand in, as far as they are still known.
type Recorded struct {
	*record.Record
	Text func(path string) *source.Text
}

// Show reads a record.
func (h *History) Show(ctx context.Context, is record.Summary) (r *Recorded, done func(), err error) {
	made, err := h.store.Record(ctx, is)
	if err != nil {
		return nil, nil, err
	}
	text, done := textsAt(h.repo, is.Head)
	return &Recorded{Record: made, Text: text}, done, nil
}

// Prune removes what is older than the policy keeps, or than a time that the call names.
func (h *History) Prune(ctx context.Context, before time.Time, rehearsal bool) (history.Pruned, error) {
	records, reports := before, before
	if before.IsZero() {
		records, reports = until(h.Policy.History.Keep, time.Now())
	}
	return h.store.Prune(ctx, h.Name, records, reports, rehearsal)
}

// RecordedHere is what there is to choose among what was recorded.
type RecordedHere struct {
	IDs          []string // of the records, the newest first
	States       []string // the ids of those that have a branch's state
	Repositories []string
}

// mostChosen is how many records there are to choose among.
const mostChosen = 200

// RecordedIn lists what was recorded; what can't be read is left out.
func RecordedIn(ctx context.Context, c Call, place Place) (r RecordedHere) {
	h, err := OpenHistory(ctx, c, place, "")
	if err != nil {
		return r
	}
	defer h.Close()
	r.Repositories, _ = h.store.Repositories(ctx)
	all, _ := h.List(ctx, history.Filter{Last: mostChosen})
	for _, is := range slices.Backward(all) {
		r.IDs = append(r.IDs, is.ID)
		if is.State.Stream != 0 {
			r.States = append(r.States, is.ID)
		}
	}
	return r
}

// Tallies are what was counted when a record was made.
func (h *History) Tallies(ctx context.Context, is record.Summary) (map[record.By][]record.Tally, error) {
	return h.store.Tallies(ctx, is.ID)
}
