package app

import (
	"cmp"
	"context"
	"maps"
	"path/filepath"
	"slices"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/target"
)

// Live is a judgement of a work tree that is kept at hand, to be brought to texts that aren't saved yet: that reads no report, starts no
// linter, and takes time for these files alone. It must be closed. Next may be called beside Type, and each by one goroutine at a time.
type Live struct {
	request GateRequest
	words   *evidence.Vocabulary
	heard   map[string]evidence.Heard // what linters said last, by their names
	step    LiveStep

	cancel    context.CancelFunc
	repo      *git.Repo
	target    *target.Target
	authority *authority.Authority
	collected *evidence.Collected
	edited    []finding.Finding // what was found in earlier texts and doesn't hold any more
	judged    *Judged           // nil before the first judgement
	saved     map[string][]byte // the files that were open, as they were on disk then
}

// LiveStep is what there is to say of one judgement of the work tree as it is on disk.
type LiveStep struct {
	Today  string
	Door   string                   // in the place of the request's, "" for none
	Starts func(policy.Report) bool // which linters may be started where their answer isn't known
	Open   []string                 // the files that may come to have other texts, by their paths from the root
	Tell   func(lint.Step)          // nil for nobody
}

// Judgement is a verdict on the work tree, or on it with texts that aren't saved.
type Judgement struct {
	*Judged
	Waiting []string          // linters that weren't started since files were saved: the verdict rests on what they said before, if they did
	Edited  []finding.Finding // what was found in earlier texts and doesn't hold any more: on lines that were edited since, on the lines in
	// their place, or by reports that are older than the files
}

// NewLive readies the judging of the work tree that a request's folder is in. Nothing is judged yet.
func NewLive(q GateRequest) *Live {
	q.Change = target.Name{Kind: policy.Worktree}
	return &Live{request: q, words: evidence.NewVocabulary(), heard: map[string]evidence.Heard{}}
}

// Next judges the work tree as it is on disk now. What it gives takes the place of l, which is still to be closed.
func (l *Live) Next(ctx context.Context, step LiveStep) (next *Live, err error) {
	next = &Live{request: l.request, words: l.words, heard: maps.Clone(l.heard), step: step, saved: map[string][]byte{}}
	lasting, cancel := context.WithCancel(context.WithoutCancel(ctx)) // which the repository is used in after this call
	next.cancel = cancel
	stop := context.AfterFunc(ctx, cancel)
	defer stop()
	defer func() {
		if err != nil {
			next.Close()
		}
	}()
	if next.repo, err = open(lasting, l.request.Dir); err != nil {
		return next, err
	}
	if next.target, err = target.Of(next.repo, l.request.Change); err != nil {
		return next, err
	}
	q := l.request
	q.live, q.Today, q.Tell, q.Door = next, step.Today, step.Tell, cmp.Or(step.Door, q.Door)
	if next.judged, err = q.judge(ctx, next.target, chooseDoorOfCommit); err != nil {
		return next, err
	}
	for _, path := range step.Open {
		data, found, err := next.target.Tree.Plain(path)
		if err == nil && found {
			next.saved[path] = data
		}
	}
	return next, nil
}

// Judgement is the verdict on the work tree as it was on disk; nil before the first.
func (l *Live) Judgement() *Judgement {
	if l.judged == nil {
		return nil
	}
	return &Judgement{Judged: l.judged, Waiting: l.collected.Waiting, Edited: l.edited}
}

// chooseDoorOfCommit takes the door that the call names, else the one that judges the work tree, else the one that judges what is staged.
func chooseDoorOfCommit(a *authority.Authority, t *target.Target, name string) error {
	err := a.ChooseDoor(t, name)
	if err != nil && name == "" {
		staged := *t
		staged.Kind = policy.Staged
		if a.ChooseDoor(&staged, "") == nil {
			return nil
		}
	}
	return err
}

// recall puts what linters that wait said before in the place of their answers. Of reports that are older than the files now, what they
// said is kept apart.
func (l *Live) recall(c *evidence.Collected, t *target.Target) error {
	for _, e := range slices.Clone(c.Evidence) {
		h, known := l.heard[e.Name]
		waits := slices.Contains(c.Waiting, e.Name)
		if !known || e.Before || !waits && e.State != judge.Foreign {
			continue
		}
		kept, edited, err := h.Now(t)
		if err != nil {
			return err
		}
		if waits {
			c.Recall(h, kept)
		} else {
			edited = append(edited, kept...)
		}
		l.edited = append(l.edited, edited...)
	}
	return nil
}

// keep takes hold of what a judgement was made of.
func (l *Live) keep(t *target.Target, a *authority.Authority, c *evidence.Collected) (err error) {
	l.authority, l.collected = a, c
	for _, e := range c.Evidence {
		if e.Sound() && !e.Before && e.Name != house.Tool && !slices.Contains(c.Waiting, e.Name) {
			if l.heard[e.Name], err = c.Heard(e, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// Files are those on this machine, beside the code, that the next judgement may depend on: reports, the policy with its lists, and what is
// checked out and staged. There may be none at their names.
func (l *Live) Files() (all []string) {
	if l.target == nil {
		return nil
	}
	p := l.authority.Policy.Policy
	paths := []string{policy.Path, p.Baseline}
	for _, r := range p.Reports {
		if r.Run == nil {
			paths = append(paths, r.Files...)
		}
	}
	for _, set := range p.House {
		if set.Spelling == nil {
			continue
		}
		paths = append(paths, set.Spelling.Dictionaries...)
		for _, own := range set.Spelling.Own {
			paths = append(paths, own.File)
		}
	}
	for _, path := range paths {
		all = append(all, filepath.Join(l.target.Root, filepath.FromSlash(path)))
	}
	for _, given := range l.request.Reports.Files {
		all = append(all, target.InDir(l.request.Reports.Dir, given.Path))
	}
	if dir, err := l.repo.GitDir(); err == nil {
		all = append(all, filepath.Join(dir, "HEAD"), filepath.Join(dir, "index"), filepath.Join(dir, "MERGE_HEAD"))
	}
	return all
}

// WorkTree is the folder of the work tree that dir is in, links followed, and dir from there, with slashes; "" where it is in none.
func WorkTree(ctx context.Context, dir string) (root, prefix string, err error) {
	repo, err := openIfAny(ctx, dir)
	if repo == nil || err != nil {
		return "", "", err
	}
	defer repo.Close()
	if repo.Bare {
		return "", "", nil
	}
	return repo.Root, repo.Prefix, nil
}

// Close lets go of the repository.
func (l *Live) Close() {
	if l.cancel != nil {
		defer l.cancel()
	}
	if l.target != nil {
		l.target.Close()
		l.target = nil
	}
	if l.repo != nil {
		l.repo.Close()
		l.repo = nil
	}
}
