package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/authority"
	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/lint"
	"zincdoor/internal/target"
)

// errChanged says that another run was faster.
var errChanged = errors.New("the list was changed while this ran; run it again")

// Kept is the work tree's baseline.
type Kept struct {
	*baseline.Baseline
	Policy *policy.Policy
	IDs    []string // of the entries
	Path   string   // relative to the repository's root
	Dir    string   // where the call was made
	Root   string   // of the repository, on this machine
	Author string   // the name of the person who makes the call, as git knows it

	file string // on this machine
	last string // where the list is kept as it was before a sweep
}

// OpenList reads the work tree's baseline.
func OpenList(ctx context.Context, c Call) (kept *Kept, err error) {
	return kept, inWorkTree(ctx, c, func(t *target.Target, a *authority.Authority) error {
		lists, err := a.Kept(t, c.overrides())
		if err != nil {
			return err
		}
		kept, err = newKept(c.Dir, t, a, lists.Baseline)
		return err
	})
}

func newKept(dir string, t *target.Target, a *authority.Authority, b *baseline.Baseline) (*Kept, error) {
	path := a.Policy.Policy.Baseline
	gitDir, err := t.Repo.GitDir()
	return &Kept{
		Baseline: b, Policy: a.Policy.Policy, IDs: baseline.IDs(b.Entries), Path: path, Dir: dir, Root: t.Root, Author: t.Author(),
		file: filepath.Join(t.Root, filepath.FromSlash(path)), last: filepath.Join(gitDir, "zincdoor", "list-before-sweep.jsonl"),
	}, err
}

// inWorkTree opens the work tree, with its policy and no door.
func inWorkTree(ctx context.Context, c Call, do func(t *target.Target, a *authority.Authority) error) error {
	repo, err := open(ctx, c.Dir)
	if err != nil {
		return err
	}
	defer repo.Close()
	t, err := target.Of(repo, target.Name{Kind: policy.Tree})
	if err != nil {
		return err
	}
	defer t.Close()
	a, err := authority.Find(t, c.overrides())
	if err != nil {
		return err
	}
	if a.Origin.From == authority.BuiltIn { // whose checks nobody asked for are no debt to keep a list of
		a.Policy.Policy.House = nil
	}
	return do(t, a)
}

// edit changes the list under a lock.
func (k *Kept) edit(change func(now *baseline.Baseline) (*baseline.Baseline, error)) error {
	return baselinefile.Edit(k.file, filepath.Dir(k.last), func(old *baseline.Baseline, unread error) (*baseline.Baseline, error) {
		if unread != nil {
			return nil, unread
		}
		return change(old)
	})
}

// Named finds the entries that the beginnings of ids name, each exactly one, as indices.
func (k *Kept) Named(ids []string) ([]int, error) {
	var all []int
	for _, id := range ids {
		var found []int
		for i, name := range k.IDs {
			if name == id {
				found = []int{i}
				break
			}
			if id != "" && strings.HasPrefix(name, id) {
				found = append(found, i)
			}
		}
		if err := onlyOne(id, len(found), "zincdoor baseline list shows the ids of entries"); err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	slices.Sort(all)
	return slices.Compact(all), nil
}

// Renew moves the acceptance of entries: those of out go, those of in come.
func (k *Kept) Renew(out, in []baseline.Entry) error {
	return k.edit(func(now *baseline.Baseline) (*baseline.Baseline, error) {
		if len(baseline.Minus(out, now.Entries)) > 0 {
			return nil, errChanged
		}
		return now.Replace(out, in), nil
	})
}

// Among keeps of some indices those whose entries are among others, each as often as these.
func (k *Kept) Among(chosen []int, others []baseline.Entry) []int {
	left := make(map[baseline.Entry]int, len(others))
	for _, e := range others {
		left[e]++
	}
	return slices.DeleteFunc(chosen, func(i int) bool {
		left[k.Entries[i]]--
		return left[k.Entries[i]] < 0
	})
}

// Survey is the work tree's findings, and the list that some of them are accepted in.
type Survey struct {
	*Judged
	*Kept
}

// SurveyRequest is what to read for a survey.
type SurveyRequest struct {
	Call
	Reports evidence.Given
	Fresh   bool // linters are asked anew, whatever they answered before
	Anew    bool // do without a list that can't be read
	Tell    func(lint.Step)
}

// OpenSurvey reads the reports of the work tree, all of which must be sound, and recognises what its baseline accepts,
// without a door to hold them against.
func OpenSurvey(ctx context.Context, q SurveyRequest) (s *Survey, err error) {
	err = inWorkTree(ctx, q.Call, func(t *target.Target, a *authority.Authority) error {
		lists, err := a.Kept(t, q.overrides())
		switch {
		case err != nil && !q.Anew:
			return err
		case err != nil:
			lists = &authority.Lists{Baseline: &baseline.Baseline{}}
		}
		collected, err := evidence.Collect(ctx, collecting(t, a, q.Call, Reports{Given: q.Reports, Fresh: q.Fresh}, q.Tell))
		if err != nil {
			return err
		}
		lists.Evidence, lists.Notices = nil, nil
		in := inputOf(t, a, collected, lists)
		in.Today, in.KeepApart = q.Today, true
		in.Door.Limits = a.Policy.Policy.DemandsOnParts()
		if err := addMeasures(ctx, t, &in, collected, nil); err != nil {
			return err
		}
		j := &Judged{Input: in, Policy: a.Policy, texts: collected.Texts, rules: collected.Rules}
		kept, err := newKept(q.Dir, t, a, lists.Baseline)
		s = &Survey{j, kept}
		return errors.Join(err, j.judge(t))
	})
	if err != nil {
		return nil, err
	}
	for _, e := range s.Evidence {
		switch {
		case e.Sound():
		case e.Name == "":
			return nil, errors.New(e.Problem)
		default:
			return nil, fmt.Errorf("%s is no evidence (%s), so nothing is changed: %s", e.Name, e.State, e.Problem)
		}
	}
	return s, nil
}

// EntryFor describes a present finding as an entry with some reasons.
func (s *Survey) EntryFor(f judge.Finding, reasons baseline.Entry) baseline.Entry {
	return s.Input.Policy.EntryFor(*f.Finding, f.Severity).For(reasons)
}

// Choose picks findings by the beginnings of their ids, where any are given, and by what takes them.
func (s *Survey) Choose(ids []string, takes func(judge.Finding) bool) ([]judge.Finding, error) {
	var named []int
	for _, id := range ids {
		found := s.Verdict.Named(id)
		if err := onlyOne(id, len(found), "zincdoor findings lists those of the work tree"); err != nil {
			return nil, err
		}
		named = append(named, found...)
	}
	var chosen []judge.Finding
	for i, f := range s.Findings {
		if len(ids) > 0 && !slices.Contains(named, i) || !takes(f) {
			continue
		}
		chosen = append(chosen, f)
	}
	if len(chosen) == 0 {
		return nil, target.WrongCall("none of %s is selected; zincdoor findings lists them", finding.Count(len(s.Findings)))
	}
	return chosen, nil
}

// Acceptances are the entries that accepting findings puts into the list, and those that they take the place of.
func (s *Survey) Acceptances(chosen []judge.Finding, reasons baseline.Entry) (in, out []baseline.Entry) {
	for _, f := range chosen {
		if f.Standing == judge.Accepted {
			continue
		}
		in = append(in, s.EntryFor(f, reasons))
		if f.Entry != nil {
			out = append(out, *f.Entry)
		}
	}
	return in, out
}

// Accept puts entries into the list and takes others out. What another run accepted meanwhile isn't accepted twice.
func (s *Survey) Accept(in, out []baseline.Entry) error {
	return s.edit(func(now *baseline.Baseline) (*baseline.Baseline, error) {
		meanwhile := baseline.Minus(now.Entries, s.Input.Baseline.Entries)
		fresh := slices.DeleteFunc(slices.Clone(in), func(e baseline.Entry) bool {
			i := slices.IndexFunc(meanwhile, e.SameFinding)
			if i >= 0 {
				meanwhile = slices.Delete(meanwhile, i, i+1)
			}
			return i >= 0
		})
		return now.Replace(out, fresh), nil
	})
}

// AcceptFound puts a finding of a judgement of the work tree into its baseline, with what else its tools say there, for some reasons and
// in the name of who uses git. It gives the baseline's path.
func AcceptFound(ctx context.Context, c Call, j *Judged, f judge.Finding, reasons baseline.Entry) (path string, err error) {
	kept, err := OpenList(ctx, c)
	if err != nil {
		return "", err
	}
	s := &Survey{j, kept}
	reasons.By = kept.Author
	in, out := s.Acceptances(append([]judge.Finding{f}, f.Also...), reasons)
	return kept.Path, s.Accept(in, out)
}

// Swept is what a sweep changes.
type Swept struct {
	Gone         []baseline.Entry // that are dropped
	Stale, Fresh []baseline.Entry // that are noted anew, as they were and as they become
	Stay         int              // how many others there are
}

// Sweep finds what a sweep would change.
func (s *Survey) Sweep() Swept {
	swept := Swept{Gone: s.Gone}
	for _, f := range s.Findings {
		if f.Entry == nil {
			continue
		}
		measure, less := s.Input.Policy.MeasureOf(*f.Finding)
		if now := f.Entry.Refresh(*f.Finding, measure, less); now != *f.Entry {
			swept.Stale, swept.Fresh = append(swept.Stale, *f.Entry), append(swept.Fresh, now)
		}
	}
	swept.Stay = len(s.Input.Baseline.Entries) - len(swept.Gone) - len(swept.Stale)
	return swept
}

// fewGone is how many entries of a tool a sweep may always drop, whatever part of them that is.
const fewGone = 5

// TooMuch says why a sweep is more likely to follow from a report that lacks something than from work that was done, "" where it
// isn't: of a tool it would drop more than half of the entries, and more than few. Allowed is how many the user lets it drop.
func (s *Survey) TooMuch(swept Swept, allowed int) string {
	if len(swept.Gone) <= allowed {
		return ""
	}
	all, gone := map[string]int{}, map[string]int{}
	for _, e := range s.Input.Baseline.Entries {
		all[e.Tool]++
	}
	for _, e := range swept.Gone {
		gone[e.Tool]++
	}
	for _, tool := range slices.Sorted(maps.Keys(gone)) {
		if n := gone[tool]; n > fewGone && 2*n > all[tool] {
			return fmt.Sprintf("this would drop %d of the %d entries of %s, more than half. Check that its report is complete and of this code. If the findings are really gone: --allow-removed %d", n, all[tool], tool, len(swept.Gone))
		}
	}
	return ""
}

// ApplySweep changes the list so, and keeps it as it was: put back gives the two files, of which the first takes the second's place
// to undo the sweep.
func (s *Survey) ApplySweep(swept Swept, allowed int) (putBack [2]string, err error) {
	if why := s.TooMuch(swept, allowed); why != "" {
		return putBack, target.WrongCall("%s", why)
	}
	return [2]string{s.last, s.file}, s.edit(func(now *baseline.Baseline) (*baseline.Baseline, error) {
		if len(baseline.Minus(s.Input.Baseline.Entries, now.Entries)) > 0 {
			return nil, errChanged
		}
		if err := baselinefile.Copy(s.file, s.last); err != nil {
			return nil, err
		}
		now = now.Replace(slices.Concat(swept.Gone, swept.Stale), swept.Fresh)
		for _, r := range s.Renamed {
			now = now.RenameTool(r.Was, r.Now)
		}
		return now, nil
	})
}

// Take makes the list anew of all present findings, or of those of the tools that globs take, and of what their reports cover. It
// replaces entries only where replace says so.
func (s *Survey) Take(reasons baseline.Entry, tools []string, replace bool) (taken *baseline.Baseline, err error) {
	if taken, err = s.taken(reasons, tools); err != nil {
		return nil, err
	}
	return taken, baselinefile.Edit(s.file, filepath.Dir(s.last), func(old *baseline.Baseline, unread error) (*baseline.Baseline, error) {
		switch {
		case unread != nil && (!replace || len(tools) > 0):
			return nil, fmt.Errorf("%w; fix it, or write it anew with --replace", unread)
		case unread != nil:
			return taken, nil
		case len(tools) == 0:
			return taken, mayLose(old.Entries, s.Path, replace)
		}
		kept := old
		for _, c := range taken.Covers {
			kept = kept.WithoutTool(c.Tool)
		}
		lost := baseline.Minus(old.Entries, kept.Entries)
		kept.Entries = append(kept.Entries, taken.Entries...)
		kept.Cover(taken.Covers)
		return kept, mayLose(lost, s.Path, replace)
	})
}

// taken is a list of all findings, or of those of the tools that globs take. Files that a tool gave up aren't covered, and nothing in them is
// accepted, since nobody knows what else is there.
func (s *Survey) taken(reasons baseline.Entry, tools []string) (*baseline.Baseline, error) {
	takes := func(tool string) bool {
		return len(tools) == 0 || slices.ContainsFunc(tools, func(glob string) bool { return policy.MatchRule(glob, tool) })
	}
	list := &baseline.Baseline{}
	for _, f := range s.Findings {
		if f.Severity != policy.Ignored && takes(f.Tool) && !s.lost(f) {
			list.Entries = append(list.Entries, s.EntryFor(f, reasons))
		}
	}
	var others []string
	for _, e := range s.Evidence {
		for _, c := range e.Covers {
			c.Except = slices.Clone(c.Except)
			for _, path := range e.Lost {
				c.Except = append(c.Except, baseline.PathGlob(path))
			}
			if takes(c.Tool) {
				list.Cover([]baseline.Cover{c})
			} else {
				others = append(others, c.Tool)
			}
		}
	}
	if len(tools) > 0 && len(list.Covers) == 0 {
		slices.Sort(others)
		return nil, target.WrongCall("no report is of a tool that %q takes; they are of %s", strings.Join(tools, ", "), strings.Join(slices.Compact(others), ", "))
	}
	return list, nil
}

// lost reports whether the tool of a finding gave up its file.
func (s *Survey) lost(f judge.Finding) bool {
	return slices.ContainsFunc(s.Evidence, func(e judge.Evidence) bool {
		_, lost := slices.BinarySearch(e.Lost, f.Path)
		return lost && slices.ContainsFunc(e.Covers, func(c baseline.Cover) bool { return c.Tool == f.Tool })
	})
}

// mayLose refuses to replace entries unless that was asked for, and says what would be lost.
func mayLose(lost []baseline.Entry, name string, replace bool) error {
	if len(lost) == 0 || replace {
		return nil
	}
	reasons, ends := 0, 0
	for _, e := range lost {
		if e.Reason != "" || e.Link != "" {
			reasons++
		}
		if e.Until != "" {
			ends++
		}
	}
	what := "their authors and dates"
	if reasons > 0 {
		what = fmt.Sprintf("the reasons of %d, ", reasons) + what
	}
	if ends > 0 {
		what = fmt.Sprintf("the ends of %d, ", ends) + what
	}
	return target.WrongCall("%s holds %s already, which would be lost (%s); accept single findings with zincdoor baseline accept, or take all anew with --replace",
		name, CountEntries(len(lost)), what)
}

// CountEntries names a number of entries: "1 entry", "3 entries".
func CountEntries(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return strconv.Itoa(n) + " entries"
}

// onlyOne complains where the beginning of an id names nothing, or several things. Hint tells people where ids are shown.
func onlyOne(id string, named int, hint string) error {
	switch named {
	case 0:
		return target.WrongCall("no id begins with %q; %s", id, hint)
	case 1:
		return nil
	}
	return target.WrongCall("%d ids begin with %q; type more of the id", named, id)
}
