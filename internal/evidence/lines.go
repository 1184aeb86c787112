package evidence

import (
	"slices"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// firstLines are the lines of the change that were read while the texts were, with what can be worked out of them; nil where none were.
type firstLines struct {
	*git.Lines
	ahead *change.Ahead
}

// readLines reads the lines of files that reports name and that were there before. Those of new files are in their texts.
func (c *collector) readLines() (*firstLines, error) {
	if c.Target.Diff == nil {
		return nil, nil
	}
	lines, err := c.Target.Diff.Lines(git.Known{}, func(f change.File) bool { return f.Status != change.Added && c.named[f.Path] != nil })
	if err != nil {
		return nil, err
	}
	return &firstLines{lines, change.WorkAhead(lines.Files, c.Policy.Place)}, nil
}

// suspected is what is known of the change's lines once it was looked for moved blocks.
type suspected struct {
	known   git.Known
	ahead   *change.Ahead
	sources map[string]bool // old paths of files that a block may have been moved from
}

// seekMoved finds the files from which a block may have been moved to where a finding stands, so that their lines are read too.
func (c *collector) seekMoved(first *firstLines) (suspected, error) {
	if first == nil {
		return suspected{}, nil
	}
	s := suspected{known: git.Known{Lines: first.Lines, Fresh: map[string][]change.Hunk{}}, ahead: first.ahead}
	lines := c.regionLines(first.Files)
	for i := range first.Files {
		f := &first.Files[i]
		if f.Status != change.Added || lines[f.Path] == nil {
			continue
		}
		hunks, err := c.readFresh(f.Path, lines[f.Path])
		if err != nil {
			return s, err
		}
		if hunks != nil {
			s.known.Fresh[f.Path] = hunks
		}
	}
	var err error
	if s.known.Lines, err = c.Target.Diff.Lines(s.known, func(f change.File) bool { return lines[f.Path] != nil }); err != nil {
		return s, err
	}
	suspects := change.NewSuspects(s.ahead)
	for _, f := range s.known.Lines.Files {
		if at := lines[f.Path]; at != nil {
			suspects.Add(f, at)
		}
	}
	if suspects.None() {
		return s, nil
	}
	s.sources = map[string]bool{}
	var mutex sync.Mutex
	return s, c.Target.Diff.OldTexts(func(path string) bool { return s.known.Lines.Read[path] }, func(path string, data []byte) {
		if suspects.MayComeFrom(data) {
			mutex.Lock()
			defer mutex.Unlock()
			s.sources[path] = true
		}
	})
}

// regionLines are the lines of all regions of findings in some files, by path.
func (c *collector) regionLines(files []change.File) map[string][]int {
	lines := make(map[string][]int, len(files))
	for i := range files {
		lines[files[i].Path] = nil
	}
	for _, r := range c.reports {
		if r.report == nil || r.tree == nil {
			continue
		}
		for i := range r.report.Findings {
			f := &r.report.Findings[i]
			if _, asked := lines[f.Path]; !asked {
				continue
			}
			for n := f.Region.Line; n > 0 && n <= f.Region.Last(); n++ {
				lines[f.Path] = append(lines[f.Path], n)
			}
		}
	}
	return lines
}

// readFresh reads the lines of a new file, which are those of its text; nil where it has none.
func (c *collector) readFresh(path string, named []int) ([]change.Hunk, error) {
	text, err := c.texts.of(path)
	if err != nil || text == nil || text.Len() == 0 {
		return nil, err
	}
	hunks := []change.Hunk{{NewStart: 1, NewCount: text.Len(), Added: text.Lines()}}
	if c.cutsTexts() {
		c.texts.read[path] = text.Only(named)
	}
	return hunks, nil
}

// changes is the change as it is judged, in its three forms.
type changes struct{ change, whole, spaced *change.Change }

// readChange reads the lines of the change, as far as findings or waivers stand in its files, and settles what is touched.
func (c *collector) readChange(s suspected, elsewhere *search, spaced bool) (changes, error) {
	t, rules := c.Target, c.Policy.Place
	switch {
	case t.Kind == policy.Tree:
		all := &change.Change{Everything: true}
		return changes{all, all, nil}, nil
	case t.Diff == nil:
		all := change.New(slices.Clone(t.Patch), rules)
		return changes{all, all, nil}, nil
	}
	files, err := t.Diff.Files()
	if err != nil {
		return changes{}, err
	}
	wanted, all := c.wantedFiles(files)
	lines, err := t.Diff.Lines(s.known, func(f change.File) bool {
		return all || wanted[f.Path] || s.sources[f.Old] || len(elsewhere.found[f.Path]) > 0
	})
	if err != nil {
		return changes{}, err
	}
	c.notices = append(c.notices, lines.Notices...)
	var made changes
	var both sync.WaitGroup
	if spaced && !rules.CountSpace {
		both.Go(func() {
			counting := rules
			counting.CountSpace = true
			made.spaced = change.New(slices.Clone(lines.Files), counting)
		})
	}
	made.change = change.NewFrom(slices.Clone(lines.Files), rules, s.ahead)
	both.Wait()
	made.whole = made.change
	if len(t.Others)+len(t.Further) > 0 || t.Tip != "" {
		made.whole = &change.Change{Files: slices.Clone(made.change.Files)}
	}
	if err := c.narrow(made.change, rules); err != nil {
		return changes{}, err
	}
	if made.spaced != nil {
		rules.CountSpace = true
		if err := c.narrow(made.spaced, rules); err != nil {
			return changes{}, err
		}
		made.spaced.DropTexts(false)
	}
	if made.whole != made.change {
		made.change.DropTexts(false)
	}
	made.whole.DropTexts(true)
	return made, nil
}

// wantedFiles tells which of the change's files have lines that are needed; all says that every file's are.
func (c *collector) wantedFiles(files []change.File) (wanted map[string]bool, all bool) {
	wanted = make(map[string]bool, len(files))
	for i := range files {
		wanted[files[i].Path] = false
	}
	want := func(path string) {
		if _, asked := wanted[path]; asked {
			wanted[path] = true
		}
	}
	all = slices.ContainsFunc(c.Door.Limits, func(l policy.Limit) bool { return l.PerLines > 0 || l.Demands() }) // and so how many lines are touched
	for _, r := range c.reports {
		if r.report == nil || r.tree == nil {
			continue
		}
		all = all || r.tree.between != nil && !r.tree.worktree
		for i := range r.report.Findings {
			f := &r.report.Findings[i]
			want(f.Path)
			if !c.Policy.Place.Flows {
				continue
			}
			for _, flow := range f.Details().Flows {
				for _, step := range flow {
					want(step.Path)
				}
			}
		}
	}
	return wanted, all
}

// narrow settles what of the change counts where it has further old sides: what differs from one more commit that a branch left
// its target at counts too, and what one of the others brings along, or the target's tip has, doesn't.
func (c *collector) narrow(narrowed *change.Change, rules change.Rules) error {
	t := c.Target
	for _, further := range t.Further {
		lines, err := further.Lines(git.Known{}, nil)
		if err != nil {
			return err
		}
		narrowed.Widen(change.New(slices.Clone(lines.Files), rules))
	}
	for _, other := range t.Others {
		if len(narrowed.Files) == 0 {
			return nil
		}
		lines, err := other.Lines(git.Known{}, nil)
		if err != nil {
			return err
		}
		narrowed.Narrow(change.New(slices.Clone(lines.Files), rules))
	}
	if t.Tip == "" || len(narrowed.Files) == 0 {
		return nil
	}
	var paths []string
	for _, f := range narrowed.Files {
		paths = append(paths, f.Path)
		if f.Status == change.Renamed {
			paths = append(paths, f.Old)
		}
	}
	if git.TooMany(paths) {
		paths = nil
	}
	lines, err := t.Repo.CompareLines(t.Tip, t.Side, paths...).Lines(git.Known{}, nil)
	if err == nil {
		narrowed.Narrow(change.New(slices.Clone(lines.Files), rules))
	}
	return err
}
