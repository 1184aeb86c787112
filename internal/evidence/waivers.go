package evidence

import (
	"fmt"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
)

// mostSearched is in how many changed files without findings waivers are looked for: where there are more, reading them
// all would take as long as the rest of the judgement, to find no more than waivers of nothing.
const mostSearched = 1000

// search is what was found of waivers in files that no report names.
type search struct {
	found      map[string][]waiver.Waiver // by changed file
	unsearched int                        // how many changed files there are, where they are too many
	paths      []string                   // where everything is judged: all files that may hold one
}

// takesWaivers reports whether waivers in the code matter: to the door, and in this state.
func (c *collector) takesWaivers() bool { return c.Door.Waivers.Code && !c.Target.Before }

// searches reports whether waivers are looked for in the changed files that no report names, which nothing else reads; where
// everything is judged, in all files. Where a local change is judged they are few and read when they are needed.
func (c *collector) searches() bool {
	return c.takesWaivers() && (c.everywhere() || c.Target.Diff != nil && !c.Target.Local())
}

func (c *collector) everywhere() bool { return c.Target.Kind == policy.Tree && c.Target.Repo != nil }

func (c *collector) search() (*search, error) {
	s := &search{}
	var err error
	if c.everywhere() {
		s.paths, err = c.Target.Repo.FilesWith(waiver.Sign, c.Target.Side)
		return s, err
	}
	s.found = map[string][]waiver.Waiver{}
	s.unsearched, err = c.Target.Diff.NewTexts(mostSearched, func(path string) bool { return c.named[path] == nil }, func(path string, data []byte) {
		s.found[path] = nil
		if waiver.In(data) {
			s.found[path] = waiver.Find(path, source.New(data))
		}
	})
	return s, err
}

// noteSearch reports files that weren't searched.
func (c *collector) noteSearch(s *search) {
	if s.unsearched > 0 {
		c.notices = append(c.notices, fmt.Sprintf(
			"waivers that set nothing aside aren't looked for in %d changed files without findings; zincdoor gate --tree finds them", s.unsearched))
	}
}

// waivers gives the waivers of all files of the change and of those in which findings stand, and where everything is judged
// of all others; none where the door takes none.
func (c *collector) waivers(collected *Collected, s *search) (all []waiver.Waiver, err error) {
	if !c.takesWaivers() {
		return nil, nil
	}
	add := func(path string) error {
		some, err := c.waiversIn(path, s)
		all = append(all, some...)
		return err
	}
	without := map[string]bool{} // findings
	for _, f := range collected.Change.Files {
		if s.unsearched == 0 && f.Status != change.Deleted && f.Opaque == "" {
			without[f.Path] = true
		}
	}
	for _, path := range s.paths {
		without[path] = true
	}
	last := ""
	for i := range collected.Findings { // in the order of their paths
		f := &collected.Findings[i]
		if f.Outside || f.Path == last {
			continue
		}
		if err := add(f.Path); err != nil {
			return nil, err
		}
		last = f.Path
		delete(without, last)
	}
	for path := range without {
		if err := add(path); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(all, waiver.Order)
	return all, nil
}

// waiversIn are the waivers of one file.
func (c *collector) waiversIn(path string, s *search) ([]waiver.Waiver, error) {
	if some, known := s.found[path]; known {
		return some, nil
	}
	if some, known := c.texts.waivers[path]; known {
		return some, nil
	}
	text, err := c.texts.wholeText(path)
	if err != nil || text == nil {
		return nil, err
	}
	c.texts.waivers[path] = waiversOf(path, text)
	return c.texts.waivers[path], nil
}
