package evidence

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
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
	r.placed = make([]bool, len(r.report.Findings))
	inside, unknown := 0, ""
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
		switch {
		case at.Inside:
			inside++
		case at.Unknown:
			unknown = cmp.Or(unknown, at.Path)
			c.unknown = append(c.unknown, at.Path)
			changed, err := c.namesake(at.Path)
			if err != nil {
				return err
			}
			if changed != "" {
				r.fail(judge.Foreign, fmt.Sprintf(
					"it speaks of %s, which isn't in the repository but bears the name of the changed %s; %s", at.Path, changed, findItAdvice))
			}
		}
	}
	if unknown != "" && inside == 0 {
		r.fail(judge.Foreign, fmt.Sprintf("none of the files it names is in the repository (for example %s); %s", unknown, findItAdvice))
	}
	r.nameTools()
	r.state.Covers = c.coverOf(r, finder.find)
	return finder.err
}

const findItAdvice = "run the linter in this checkout, or say with --report-root where its paths start"

// finder finds a report's paths, each once.
type finder struct {
	places   report.Places
	relative map[string]string
	known    map[string]report.Found
	last     string // what was found last, and where
	lastAt   report.Found
	err      error
}

func (f *finder) find(reported string) report.Found {
	if reported == f.last && reported != "" {
		return f.lastAt
	}
	at, ok := f.known[reported]
	if !ok {
		at = f.places.Find(reported, f.relative[reported])
		f.known[reported] = at
	}
	f.last, f.lastAt = reported, at
	return at
}

// finder prepares to find the report's paths. Where some are found nowhere, it looks how they lead into the tree.
func (c *collector) finder(r *reading) (*finder, error) {
	f := &finder{relative: r.report.Relative, known: map[string]report.Found{}}
	f.places = report.Places{
		Root:   c.Target.Root,
		Folder: c.Target.Folder,
		Has: func(p string) bool {
			found, err := r.tree.has(p)
			if f.err == nil {
				f.err = err
			}
			return found
		},
		OnDisk: func(p string) bool {
			_, err := os.Lstat(target.InDir(c.Target.Root, p))
			return err == nil && fs.ValidPath(p)
		},
	}
	if c.Given.Root != "" {
		f.places.From = report.RootMapping(c.Given.Root)
	}
	unknown := map[string]bool{}
	for i := range r.report.Findings {
		if path := r.report.Findings[i].Path; path != "" && f.find(path).Unknown {
			unknown[path] = true
		}
	}
	if len(unknown) == 0 || f.err != nil {
		return f, f.err
	}
	return f, f.learn(r.tree.tree, slices.Sorted(maps.Keys(unknown)))
}

// learn finds how unknown paths lead into the tree, by a common beginning or by case alone.
func (f *finder) learn(tree target.Tree, unknown []string) error {
	files, err := tree.Paths()
	if err != nil {
		return err
	}
	mapping, mapped := report.FindMapping(unknown, files)
	fold := report.NewFold(files)
	for _, p := range unknown {
		to, ok := p, false
		if mapped {
			to, ok = mapping.Apply(p)
		}
		if !ok || !f.places.Has(to) {
			to, ok = fold.Find(to)
		}
		if ok && f.places.Has(to) {
			f.known[p] = report.Found{Path: to, Inside: true}
			f.last = ""
		}
	}
	return f.err
}

// namesake is a changed file with the same file name, "" where there is none.
func (c *collector) namesake(p string) (string, error) {
	files, err := c.Target.Files()
	for _, f := range files {
		if f.Status != change.Deleted && path.Base(f.Path) == path.Base(p) {
			return f.Path, nil
		}
	}
	return "", err
}

// nameTools names the tool of findings whose report doesn't, and the report they come from.
func (r *reading) nameTools() {
	name := []string{r.state.Name} // which all of them share
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		f.Tool, f.Sources = cmp.Or(f.Tool, r.toolName()), name
	}
}

// coverOf names the evidence's tools, and what they looked at.
func (c *collector) coverOf(r *reading, find func(string) report.Found) (covers []baseline.Cover) {
	for _, tool := range r.report.Tools {
		paths := []string{baseline.Everywhere}
		switch run := r.from.terms.Run; {
		case len(r.from.terms.Covers) > 0:
			paths = r.from.terms.Covers
		case !r.from.runs || !run.TakesFiles():
		case run.Changed && (c.Target.Kind != policy.Tree || c.Target.Before):
			paths = globsOf(r.files)
		default:
			paths = run.Files
		}
		if len(tool.Targets) > 0 {
			targets := make([]string, len(tool.Targets))
			for i, target := range tool.Targets {
				targets[i] = find(target).Path
			}
			paths = globsOf(targets)
		}
		covers = append(covers, baseline.Cover{Tool: cmp.Or(tool.Name, r.toolName()), Paths: paths})
	}
	return covers
}

// globsOf gives the globs that take just these paths.
func globsOf(paths []string) []string {
	globs := make([]string, len(paths))
	for i, p := range paths {
		globs[i] = baseline.PathGlob(p)
	}
	slices.Sort(globs)
	return slices.Compact(globs)
}
