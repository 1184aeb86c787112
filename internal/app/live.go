package app

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
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
	q.Change, q.Lines = target.Name{Kind: policy.Worktree}, true
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
	q.live, q.Today, q.Tell = next, step.Today, step.Tell
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
func (l *Live) keep(a *authority.Authority, c *evidence.Collected) {
	l.authority, l.collected = a, c
	for _, e := range c.Evidence {
		if e.Sound() && !e.Before && e.Name != house.Tool && !slices.Contains(c.Waiting, e.Name) {
			l.heard[e.Name] = c.Heard(e)
		}
	}
}

// Type judges the work tree as it was at the last judgement, with files that have other texts, by their paths from the root.
func (l *Live) Type(ctx context.Context, texts map[string][]byte) (*Judgement, error) {
	saved, present, typed := map[string]*source.Text{}, map[string]*source.Text{}, map[string][]byte{}
	for path, data := range texts {
		old, found := l.saved[path]
		if !found {
			var err error
			if old, found, err = l.target.Tree.Read(path); err != nil {
				return nil, fmt.Errorf("reading %s: %w", path, err)
			}
		}
		if found && string(old) == string(data) {
			continue
		}
		typed[path], present[path] = data, source.New(data)
		if found {
			saved[path] = source.New(old)
		}
	}
	if len(typed) == 0 {
		return l.Judgement(), nil
	}
	t, err := l.target.WithTexts(typed)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	request := collecting(t, l.authority, l.request.Call, l.request.Reports, nil)
	request.Lines, request.Words = true, l.words
	e := evidence.NewEdited(saved, present)
	collected, edited, err := l.collected.Again(ctx, request, e)
	if err != nil {
		return nil, err
	}
	in := l.judged.Input
	in.Change, in.Whole, in.Spaced, in.Waivers = collected.Change, collected.Whole, collected.Spaced, collected.Waivers
	in.Subject.Files = len(in.Change.Files)
	in.Findings, edited = l.withMeasures(&in, collected.Findings, e, edited)
	in.Texts, in.Baseline = typedTexts(in.Texts, present), entriesThatMatter(in.Baseline, in.Change, in.Findings)
	j := &Judged{Input: in, Policy: l.judged.Policy, Dir: l.judged.Dir, Root: l.judged.Root, Refused: l.judged.Refused, side: t.Side, texts: collected.Texts, rules: collected.Rules}
	j.Verdict = judge.Judge(in)
	before, again := e.Carry(l.edited)
	return &Judgement{Judged: j, Waiting: collected.Waiting, Edited: slices.Concat(before, again, edited)}, nil
}

// withMeasures adds what was found about numbers, and brings the numbers to the lines of the texts: they are taken anew when files are saved.
func (l *Live) withMeasures(in *judge.Input, findings []finding.Finding, e *evidence.Edited, edited []finding.Finding) (all, lost []finding.Finding) {
	measured := slices.DeleteFunc(slices.Clone(in.Findings), func(f finding.Finding) bool {
		return f.Tool != measure.Tool || !slices.Contains(f.Sources, measure.Tool)
	})
	if len(measured) == 0 && len(in.Measures.Values) == 0 {
		return findings, edited
	}
	kept, gone := e.Carry(measured)
	carrier := change.Carrier{Between: e.Between}
	var values []measure.Value
	for _, v := range in.Measures.Values {
		if e.Texts[v.Path] != nil && v.Lines.First > 0 {
			_, at, there := carrier.CarryLine(v.Path, v.Lines.First)
			if !there {
				continue
			}
			v.Lines.Last += at - v.Lines.First
			v.Lines.First = at
		}
		values = append(values, v)
	}
	slices.SortFunc(values, measure.ByPlace)
	in.Measures.Values = values
	return finding.Merge(slices.Concat(findings, kept)), slices.Concat(edited, gone)
}

// entriesThatMatter leaves out of a list what lies in files that neither the change nor any finding has: there may be very many, and none
// recognises anything.
func entriesThatMatter(b *baseline.Baseline, c *change.Change, findings []finding.Finding) *baseline.Baseline {
	if b == nil || c.Everything {
		return b
	}
	paths := map[string]bool{"": true}
	for _, f := range c.Files {
		paths[f.Path], paths[f.Old] = true, true
	}
	for i := range findings {
		paths[findings[i].Path] = true
	}
	fewer := *b
	fewer.Entries = nil
	for _, e := range b.Entries {
		if paths[e.Path] {
			fewer.Entries = append(fewer.Entries, e)
		}
	}
	return &fewer
}

// typedTexts are the texts that recognition looks into, with some in the place of those on disk.
func typedTexts(saved judge.Texts, present map[string]*source.Text) judge.Texts {
	typed := saved
	if saved.New == nil {
		return typed
	}
	typed.Missing = func(path string) bool { return present[path] == nil && saved.Missing != nil && saved.Missing(path) }
	typed.New = func(path string) *source.Text {
		if text := present[path]; text != nil {
			return text
		}
		return saved.New(path)
	}
	typed.News = func(paths []string, see func(path string, text *source.Text)) {
		left := slices.DeleteFunc(slices.Clone(paths), func(path string) bool {
			text := present[path]
			if text != nil {
				see(path, text)
			}
			return text != nil
		})
		saved.News(left, see)
	}
	return typed
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
