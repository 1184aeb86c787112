package gate

import (
	"slices"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
)

// noteWaivers keeps the waivers of a file of the judged state. The text must be whole.
func (w *witness) noteWaivers(path string, text *source.Text) {
	w.waivers[path] = nil
	if found, _ := text.Contains(waiver.Sign); found && !text.IsPointer() {
		w.waivers[path] = waiver.Find(path, text)
	}
}

// seekWaivers looks for waivers in a file that wasn't looked at yet.
func (w *witness) seekWaivers(path string) error {
	if text := w.texts[path]; text != nil {
		if _, whole := text.Contains(waiver.Sign); whole {
			w.noteWaivers(path, text)
			return nil
		}
	}
	data, found, err := w.head.Read(path)
	if found && err == nil {
		w.noteWaivers(path, source.New(data))
	}
	return err
}

// allWaivers gives the waivers of all files in which findings stand, of those in which the change brought one, and where
// everything is judged of all others.
func (w *witness) allWaivers() ([]waiver.Waiver, error) {
	paths := map[string]bool{}
	for _, f := range w.findings {
		if f.Path != "" && !f.Outside {
			paths[f.Path] = true
		}
	}
	for _, path := range w.bringing {
		paths[path] = true
	}
	if w.before {
		return nil, nil
	}
	if w.kind == policy.Tree && w.repo != nil {
		all, err := w.repo.FilesWith(waiver.Sign, w.side)
		if err != nil {
			return nil, err
		}
		for _, path := range all {
			paths[path] = true
		}
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

// bringWaivers notes the files in which the change brought a waiver, as far as its lines are known.
func (w *witness) bringWaivers(files []change.File) {
	for _, f := range files {
		if slices.ContainsFunc(f.Hunks, func(h change.Hunk) bool {
			return slices.ContainsFunc(h.Added, func(line string) bool { return strings.Contains(line, waiver.Sign) })
		}) {
			w.bringing = append(w.bringing, f.Path)
		}
	}
}

// holdWaivers adds to the case's findings what is to be said of the waivers themselves, where the door honours any.
func holdWaivers(c *judge.Case) {
	if !c.Door.Waivers.Code {
		c.Waivers = nil
	}
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
