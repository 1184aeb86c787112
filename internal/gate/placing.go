package gate

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
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/report"
)

// place finds the report's paths in the tree it speaks of: as they stand, else by what they and the tree's files have in
// common.
func (w *witness) place(t *testimony) error {
	if t == w.housed { // which knows its files
		t.placed = slices.Repeat([]bool{true}, len(t.report.Findings))
		w.coverOf(t, nil)
		return nil
	}
	finder, err := w.finder(t)
	if err != nil {
		return err
	}
	t.placed = make([]bool, len(t.report.Findings))
	inside, strange := 0, ""
	show := func(path *string) {
		if *path != "" {
			*path = finder.find(*path).Path
		}
	}
	for i := range t.report.Findings {
		f := &t.report.Findings[i]
		f.More.EachPath(show)
		if f.Path == "" {
			continue
		}
		at := finder.find(f.Path)
		f.Path, f.Outside, t.placed[i] = at.Path, !at.Inside, at.Inside
		switch {
		case at.Inside:
			inside++
		case at.Strange:
			strange = cmp.Or(strange, at.Path)
			w.strange = append(w.strange, at.Path)
			changed, err := w.namesake(at.Path)
			if err != nil {
				return err
			}
			if changed != "" {
				t.fail(judge.Foreign, fmt.Sprintf(
					"it speaks of %s, which isn't in the repository but bears the name of the changed %s; %s", at.Path, changed, findItAdvice))
			}
		}
	}
	if strange != "" && inside == 0 {
		t.fail(judge.Foreign, fmt.Sprintf("none of the files it names is in the repository (for example %s); %s", strange, findItAdvice))
	}
	w.coverOf(t, finder.find)
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
func (w *witness) finder(t *testimony) (*finder, error) {
	f := &finder{relative: t.report.Relative, known: map[string]report.Found{}}
	f.places = report.Places{
		Root:   w.root,
		Folder: w.folder,
		Has: func(p string) bool {
			found, err := t.lens.has(p)
			if f.err == nil {
				f.err = err
			}
			return found
		},
		OnDisk: func(p string) bool {
			_, err := os.Lstat(inDir(w.root, p))
			return err == nil && fs.ValidPath(p)
		},
	}
	if w.request.ReportRoot != "" {
		f.places.From = report.RootMapping(w.request.ReportRoot)
	}
	strange := map[string]bool{}
	for i := range t.report.Findings {
		if path := t.report.Findings[i].Path; path != "" && f.find(path).Strange {
			strange[path] = true
		}
	}
	if len(strange) == 0 || f.err != nil {
		return f, f.err
	}
	return f, f.learn(t.lens.tree, slices.Sorted(maps.Keys(strange)))
}

// learn finds how strange paths lead into the tree, by a common beginning or by case alone.
func (f *finder) learn(tree reader, strange []string) error {
	files, err := tree.Paths()
	if err != nil {
		return err
	}
	mapping, mapped := report.FindMapping(strange, files)
	fold := report.NewFold(files)
	for _, p := range strange {
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
func (w *witness) namesake(p string) (string, error) {
	files, err := w.changed()
	for _, f := range files {
		if f.Status != change.Deleted && path.Base(f.Path) == path.Base(p) {
			return f.Path, nil
		}
	}
	return "", err
}

// coverOf names the evidence's tools, the finding's tool where the report doesn't, and what they looked at.
func (w *witness) coverOf(t *testimony, find func(string) report.Found) {
	name := []string{t.evidence.Name} // which all of them share
	for i := range t.report.Findings {
		f := &t.report.Findings[i]
		f.Tool, f.Sources = cmp.Or(f.Tool, t.toolName()), name
	}
	if t == w.housed {
		t.evidence.Covers = w.houseCover(t)
		return
	}
	for _, tool := range t.report.Tools {
		paths := []string{baseline.Everywhere}
		switch run := t.from.terms.Run; {
		case len(t.from.terms.Covers) > 0:
			paths = t.from.terms.Covers
		case !t.from.runs || !run.TakesFiles():
		case run.Changed && (w.kind != policy.Tree || w.before):
			paths = globsOf(t.given)
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
		t.evidence.Covers = append(t.evidence.Covers, baseline.Cover{Tool: cmp.Or(tool.Name, t.toolName()), Paths: paths})
	}
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

// toolName is what a tool is called that doesn't name itself.
func (t *testimony) toolName() string {
	return cmp.Or(t.from.terms.Tool, t.from.terms.Name, t.report.Format)
}
