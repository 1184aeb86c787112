package evidence

import (
	"cmp"
	"fmt"
	"slices"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/report"
)

// findPlaces finds the state that a report speaks of, and the report's paths there.
func (c *collector) findPlaces(r *reading) error {
	if r.report == nil {
		return nil
	}
	if err := c.findTree(r); err != nil || r.tree == nil {
		return err
	}
	if err := c.place(r); err != nil || r.tree.tree != c.Target.Tree {
		return err
	}
	for i := range r.report.Findings { // another spelling of the path may have asked for other lines
		f := &r.report.Findings[i]
		if text := c.texts.read[f.Path]; r.placed[i] && text != nil && !text.Holds(f.Region.Line) {
			delete(c.texts.read, f.Path)
		}
	}
	return c.fillCode(r) // now, while the lines are still being read; elsewhere once the findings stand on the judged lines
}

// place finds the report's paths in the tree it speaks of: as they stand, else by what they and the tree's files have in
// common.
func (c *collector) place(r *reading) error {
	if r.from.format == house.Tool { // which knows its files
		r.placed = slices.Repeat([]bool{true}, len(r.report.Findings))
		r.nameTools()
		r.state.Covers = c.houseCover(r)
		return nil
	}
	finder, err := c.finder(r)
	if err != nil {
		return err
	}
	if err := c.placeCoverage(r, finder); err != nil {
		return err
	}
	if err := c.placeFindings(r, finder); err != nil {
		return err
	}
	if finder.unsure != "" {
		r.fail(judge.Foreign, finder.unsure)
	}
	r.nameTools()
	seen, err := c.seenIn(r, finder.find)
	if err == nil {
		r.state.Covers = c.coverOf(r, finder.find, seen)
		err = c.checkCompiled(r, seen)
	}
	if err == nil {
		err = c.checkStops(r, finder)
	}
	if err == nil && (seen != nil || slices.ContainsFunc(r.report.Tools, func(t report.Tool) bool { return len(t.Targets) > 0 })) {
		err = c.noteUnseen(r)
	}
	finder.keep(err)
	return finder.err
}

// placeFindings puts the paths of the report's findings right, and takes it for foreign where they aren't of this tree.
func (c *collector) placeFindings(r *reading, finder *finder) error {
	r.placed = make([]bool, len(r.report.Findings))
	named, inside := "", 0 // the first path that is no file of the tree, and how many are one
	count := func(at report.Found, vouched bool) {
		switch {
		case at.Inside:
			inside++
		case !vouched:
			named = cmp.Or(named, at.Path)
		}
	}
	show := func(path *string) {
		if *path != "" {
			*path = finder.find(*path).Path
		}
	}
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		f.Extra.EachPath(show)
		if f.Path == "" {
			continue
		}
		at := finder.find(f.Path)
		f.Path, f.Outside, r.placed[i] = at.Path, !at.Inside, at.Inside
		count(at, at.Outside && (r.from.runs || r.from.terms.Outside != nil))
		if f.Unweighed && !at.Inside {
			r.fail(judge.Failed, fmt.Sprintf("%s:%d is no file of the repository, so this line isn't understood: %q; run the linter in this checkout, or add noise: to the report for such lines", at.Path, f.Region.Line, clip(f.Message)))
		}
		if at.Inside || at.Outside && finder.places.IsLibrary(at.Path) {
			continue
		}
		if !at.Outside && !at.OnDisk {
			c.unknown = append(c.unknown, at.Path)
		}
		if changed := finder.namesake(at.Path, ""); changed != "" {
			r.fail(judge.Foreign, fmt.Sprintf(
				"it names %s, which isn't in the repository but may be the changed %s; %s", at.Path, changed, findItAdvice))
		}
	}
	for _, path := range r.report.LookedAt() {
		at := finder.find(path)
		count(at, at.Outside)
	}
	if named != "" && inside == 0 {
		r.fail(judge.Foreign, fmt.Sprintf("none of the files it names is in the repository, e.g. %s; %s", named, findItAdvice))
	}
	return finder.err
}

// nameTools names the tool of findings whose report doesn't, and the report they come from.
func (r *reading) nameTools() {
	name := []string{r.state.Name} // which all of them share
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		f.Tool, f.Sources = cmp.Or(f.Tool, r.toolName()), name
	}
}
