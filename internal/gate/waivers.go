package gate

import (
	"bytes"
	"fmt"
	"maps"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/git"
)

// takesWaivers reports whether waivers in the code matter: to the door, and in this state.
func (w *witness) takesWaivers() bool { return w.rules.door.Waivers.Code && !w.before }

// noteWaivers keeps the waivers of a file of the judged state. The text must be whole.
func (w *witness) noteWaivers(path string, text *source.Text) {
	w.waivers[path] = nil
	if text.Contains(waiver.Sign) && !text.IsPointer() {
		w.waivers[path] = waiver.Find(path, text)
	}
}

// seekWaivers looks for waivers in a file that wasn't looked at yet.
func (w *witness) seekWaivers(path string) error {
	text, err := w.wholeText(path)
	if text != nil {
		w.noteWaivers(path, text)
	}
	return err
}

// wholeText is all of a file's text, nil where there is no such file.
func (w *witness) wholeText(path string) (*source.Text, error) {
	if text := w.texts[path]; text != nil && text.Whole() {
		return text, nil
	}
	data, found, err := w.head.Read(path)
	if err != nil || !found {
		return nil, err
	}
	return source.New(data), nil
}

// mostSearched is in how many changed files without findings waivers are looked for: where there are more, reading them
// all would take as long as the rest of the judgement, to find no more than waivers of nothing.
const mostSearched = 1000

// searchAhead begins to look for waivers in the changed files that no report names, which nothing else reads; where
// everything is judged, in all files. Where a local change is judged they are few and read when they are needed.
func (w *witness) searchAhead() {
	if !w.takesWaivers() {
		return
	}
	whole := w.kind == policy.Tree && w.repo != nil
	if !whole && (w.diff == nil || w.side == git.Index || w.side == git.Worktree) {
		return
	}
	w.searched = make(chan error, 1)
	go func() {
		defer close(w.searched)
		if whole {
			var err error
			w.signing, err = w.repo.FilesWith(waiver.Sign, w.side)
			w.searched <- err
			return
		}
		w.signed = map[string][]waiver.Waiver{}
		var err error
		w.unsearched, err = w.diff.NewTexts(mostSearched, func(path string) bool { return w.named[path] == nil }, func(path string, data []byte) {
			w.signed[path] = nil
			if bytes.Contains(data, []byte(waiver.Sign)) {
				w.signed[path] = waiver.Find(path, source.New(data))
			}
		})
		w.searched <- err
	}()
}

// endSearch waits for what was begun ahead.
func (w *witness) endSearch() error {
	if w.searched == nil {
		return nil
	}
	if err := <-w.searched; err != nil {
		return err
	}
	maps.Copy(w.waivers, w.signed)
	if w.unsearched > 0 {
		w.notices = append(w.notices, fmt.Sprintf(
			"waivers that set nothing aside are not looked for in the %d changed files without findings; zincdoor gate --tree finds them", w.unsearched))
	}
	return nil
}

// allWaivers gives the waivers of all files of the change and of those in which findings stand, and where everything is
// judged of all others; none where the door takes none.
func (w *witness) allWaivers() ([]waiver.Waiver, error) {
	if !w.takesWaivers() {
		return nil, nil
	}
	paths := map[string]bool{}
	for _, f := range w.findings {
		if f.Path != "" && !f.Outside {
			paths[f.Path] = true
		}
	}
	for _, f := range w.change.Files {
		if w.unsearched == 0 && f.Status != change.Deleted && f.Opaque == "" {
			paths[f.Path] = true
		}
	}
	for _, path := range w.signing {
		paths[path] = true
	}
	var all []waiver.Waiver
	for path := range paths {
		if _, known := w.waivers[path]; !known {
			if err := w.seekWaivers(path); err != nil {
				return nil, err
			}
		}
		all = append(all, w.waivers[path]...)
	}
	slices.SortFunc(all, waiver.Order)
	return all, nil
}

// holdWaivers adds to the case's findings what is to be said of the waivers themselves.
func holdWaivers(c *judge.Case) {
	if len(c.Waivers) == 0 {
		return
	}
	waiver.Match(c.Findings, c.Waivers, policy.MatchRule)
	var rules []string
	for _, f := range c.Findings {
		rules = append(rules, f.Rule)
	}
	for _, e := range c.Baseline.Entries {
		rules = append(rules, e.Rule)
	}
	slices.Sort(rules)
	problems := waiver.Problems(c.Waivers, slices.Compact(rules), c.Today, policy.MatchRule)
	c.Findings = finding.Merge(append(c.Findings, problems...))
}
