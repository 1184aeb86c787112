package evidence

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// Edited are files whose texts differ from those that something was found in, and how.
type Edited struct {
	Between *change.Change // from the earlier texts to the present ones
	Texts   map[string]*source.Text
}

// NewEdited compares the earlier texts of some files with the present ones.
func NewEdited(earlier, present map[string]*source.Text) *Edited {
	e := &Edited{Between: &change.Change{}, Texts: present}
	for _, path := range slices.Sorted(maps.Keys(present)) {
		if old := earlier[path]; old != nil {
			e.Between.Files = append(e.Between.Files, change.Between(path, old, present[path]))
		}
	}
	return e
}

// inPlaceOf is the line that stands in the place of an edited one; without a line where there is none.
func (e *Edited) inPlaceOf(path string, line int) finding.Region {
	if file := e.Between.File(path); file != nil {
		for _, h := range file.Hunks {
			if line >= h.OldStart && line < h.OldStart+h.OldCount && h.NewCount > 0 {
				return finding.Region{Line: h.NewStart + min(line-h.OldStart, h.NewCount-1)}
			}
		}
	}
	return finding.Region{}
}

// Carry brings findings to the present texts. Those whose line was edited are given apart, on the line in its place; where there is none,
// they are gone.
func (e *Edited) Carry(all []finding.Finding) (kept, edited []finding.Finding) {
	carrier := change.Carrier{Between: e.Between}
	for _, f := range all {
		meets := e.Texts[f.Path] != nil
		f.Extra.EachPath(func(path *string) { meets = meets || e.Texts[*path] != nil })
		if !meets {
			kept = append(kept, f)
			continue
		}
		now := f
		now.Extra = f.Extra.Clone()
		if !carrier.Carry(&now) {
			if f.Extra, f.Region = nil, e.inPlaceOf(f.Path, f.Region.Line); f.Region.Line > 0 {
				edited = append(edited, f)
			}
			continue
		}
		if text := e.Texts[now.Path]; text != nil && now.Region.Line > 0 {
			now.Code = text.CodeAt(now.Region.Line)
		}
		kept = append(kept, now)
	}
	return kept, edited
}

// Again is what would be collected if some files of the work tree had other texts: those of the request's target, which is the one that
// c was collected for with these texts. Our own checks look at these files anew, and what else was found is carried there; of it, edited is
// what stood on lines that aren't any more what they were. No report is read and nothing is started.
// Findings in files that takes doesn't take are left out.
func (c *Collected) Again(ctx context.Context, q Request, e *Edited, takes func(path string) bool) (all *Collected, edited []finding.Finding, err error) {
	q.only = map[string]bool{}
	for path := range e.Texts {
		q.only[path] = true
	}
	k := &collector{Request: q, texts: newHeadTexts(q.Target.Tree), paths: q.Target.Tree.Paths, miscut: map[string]string{}}
	maps.Copy(k.texts.read, e.Texts)
	if q.checksHouse() {
		ours, err := q.checkHouse(ctx)
		if err != nil {
			return nil, nil, err
		}
		k.reports = []*reading{ours.reading}
	}
	for _, r := range k.reports {
		if err := k.findPlaces(r); err != nil {
			return nil, nil, err
		}
	}
	lines, err := k.readChange(suspected{}, &search{}, len(k.reports) > 0)
	if err != nil {
		return nil, nil, err
	}
	all = &Collected{Change: lines.change, Whole: lines.whole, Spaced: lines.spaced}
	for _, r := range k.reports {
		if all.Findings, err = k.believe(r, all.Change); err != nil {
			return nil, nil, err
		}
	}
	if err := k.markGenerated(all); err != nil {
		return nil, nil, err
	}
	var earlier []finding.Finding
	for i := range c.Findings {
		if f := &c.Findings[i]; takes(f.Path) && (len(k.reports) == 0 || !k.looksAnew(f)) {
			earlier = append(earlier, *f)
		}
	}
	carried, edited := e.Carry(earlier)
	all.Findings = finding.Merge(oncePerFile(slices.Concat(all.Findings, carried), all.Change))
	all.miscut = maps.Clone(c.miscut)
	maps.DeleteFunc(all.miscut, func(path, _ string) bool { return q.only[path] })
	maps.Copy(all.miscut, k.miscut)
	all.hide(all.miscut)
	all.Waivers = k.waiversAgain(c.Waivers, all)
	all.Evidence, all.Coverage, all.Words, all.Notices, all.Waiting, all.Rules = c.Evidence, c.Coverage, c.Words, c.Notices, c.Waiting, c.Rules
	all.Texts = maps.Clone(c.Texts)
	maps.Copy(all.Texts, e.Texts)
	return all, edited, nil
}

// looksAnew reports whether a finding is one of our own checks which looks at its file anew, and not at what else is in the tree.
func (c *collector) looksAnew(f *finding.Finding) bool {
	return c.only[f.Path] && slices.Contains(f.Sources, house.Tool) && !slices.ContainsFunc(c.Policy.House, func(s house.Setting) bool {
		return s.Name == f.Rule && house.AboutTree(s.Kind)
	})
}

// waiversAgain are earlier waivers, with those of the files that are looked at anew in their place.
func (c *collector) waiversAgain(earlier []waiver.Waiver, all *Collected) (now []waiver.Waiver) {
	if !c.takesWaivers() {
		return nil
	}
	for _, w := range earlier {
		if !c.only[w.Path] {
			now = append(now, w)
		}
	}
	for path := range c.only {
		matters := all.Change.File(path) != nil || slices.ContainsFunc(all.Findings, func(f finding.Finding) bool { return f.Path == path })
		if text := c.texts.read[path]; text != nil && matters {
			now = append(now, waiversOf(path, text)...)
		}
	}
	slices.SortFunc(now, waiver.Order)
	return now
}

// Heard is what a report said of an earlier state.
type Heard struct {
	state    judge.Evidence
	findings []finding.Finding // of all reports
	at       []int             // of its own among them
	rules    map[string]finding.Rule

	// The files that its findings stand in are as they were in that state: changed ones by their texts, the others as the commit has them.
	texts map[string]*source.Text
	base  git.Side
}

// Heard gives what a report said of a target.
func (c *Collected) Heard(e judge.Evidence, t *target.Target) (h Heard, err error) {
	h = Heard{state: e, findings: c.Findings, rules: c.Rules[e.Name], texts: map[string]*source.Text{}, base: t.Diff.Old()}
	for i := range c.Findings {
		f := &c.Findings[i]
		if !slices.Contains(f.Sources, e.Name) {
			continue
		}
		h.at = append(h.at, i)
		if f.Path == "" || f.Outside || h.texts[f.Path] != nil || c.Change.File(f.Path) == nil {
			continue
		}
		data, _, err := t.Tree.Read(f.Path)
		if err != nil {
			return h, fmt.Errorf("reading %s: %w", f.Path, err)
		}
		h.texts[f.Path] = source.New(data)
	}
	return h, nil
}

// Now is what was said, on the lines of the judged state; apart from that what stood on lines that were edited since.
func (h Heard) Now(t *target.Target) (kept, edited []finding.Finding, err error) {
	before, err := t.Repo.Tree(h.base)
	if err != nil {
		return nil, nil, err
	}
	defer before.Close()
	var said []finding.Finding
	present, earlier := map[string]*source.Text{}, map[string]*source.Text{}
	seen := map[string]bool{}
	for _, i := range h.at {
		f := h.findings[i]
		f.Sources = []string{h.state.Name}
		said = append(said, f)
		if f.Path == "" || f.Outside || seen[f.Path] {
			continue
		}
		seen[f.Path] = true
		old := h.texts[f.Path]
		if old == nil {
			altered, err := t.Alters(f.Path)
			if err != nil || !altered && h.base == t.Diff.Old() {
				continue
			}
			data, _, err := before.Read(f.Path)
			if err != nil {
				return nil, nil, fmt.Errorf("reading %s: %w", f.Path, err)
			}
			old = source.New(data)
		}
		data, _, err := t.Tree.Read(f.Path)
		if err != nil {
			return nil, nil, fmt.Errorf("reading %s: %w", f.Path, err)
		}
		if string(data) != string(old.Data()) {
			earlier[f.Path], present[f.Path] = old, source.New(data)
		}
	}
	kept, edited = NewEdited(earlier, present).Carry(said)
	return kept, edited, nil
}

// Recall puts what a linter that waits said earlier in the place of its answer: the findings as they are now.
func (c *Collected) Recall(h Heard, findings []finding.Finding) {
	c.Findings = finding.Merge(slices.Concat(c.Findings, findings))
	for i, e := range c.Evidence {
		if e.Name == h.state.Name && !e.Before {
			c.Evidence[i] = h.state
		}
	}
	c.Rules[h.state.Name] = h.rules
}
