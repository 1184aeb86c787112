package evidence

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

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
	named, inside := "", 0 // the first path that is no file of the tree, and how many are one
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
		switch vouched := at.Outside && (r.from.runs || r.from.terms.Outside != nil); {
		case at.Inside:
			inside++
		case !vouched:
			named = cmp.Or(named, at.Path)
		}
		if f.Unweighed && !at.Inside {
			r.fail(judge.Failed, fmt.Sprintf("%s:%d is no file of the repository, so that nobody can tell what this line says: %q; run the linter in this checkout, or call the line noise: in the report's part of the policy", at.Path, f.Region.Line, clip(f.Message)))
		}
		if at.Inside || at.Outside && finder.places.IsLibrary(at.Path) {
			continue
		}
		if !at.Outside && !at.OnDisk {
			c.unknown = append(c.unknown, at.Path)
		}
		changed, err := c.namesake(at.Path)
		if err != nil {
			return err
		}
		if changed != "" {
			r.fail(judge.Foreign, fmt.Sprintf(
				"it speaks of %s, which isn't in the repository but bears the name of the changed %s; %s", at.Path, changed, findItAdvice))
		}
	}
	for _, tool := range r.report.Tools {
		for _, target := range tool.Targets {
			if at := finder.find(target); at.Inside {
				inside++
			} else if !at.Outside {
				named = cmp.Or(named, at.Path)
			}
		}
	}
	for _, source := range r.report.Compiled.Sources {
		if finder.find(source).Inside {
			inside++
		}
	}
	if named != "" && inside == 0 {
		r.fail(judge.Foreign, fmt.Sprintf("none of the files it names is in the repository (for example %s); %s", named, findItAdvice))
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
	finder.keep(err)
	return finder.err
}

// checkStops settles what files a tool gave up: a report is no evidence where one of them was changed, or isn't known.
func (c *collector) checkStops(r *reading, finder *finder) error {
	if r.from.terms.Errors || len(r.report.Stops) == 0 {
		return nil
	}
	lost := map[string]bool{}
	for _, stop := range r.report.Stops {
		any := false
		for _, reported := range stop.Files {
			at := finder.find(reported)
			if !at.Inside {
				continue
			}
			any, lost[at.Path] = true, true
			if !stop.Folder {
				continue
			}
			files, err := c.filesOf(r.tree.tree)
			if err != nil {
				return err
			}
			for _, file := range files {
				if path.Dir(file) == path.Dir(at.Path) && path.Ext(file) == path.Ext(at.Path) {
					lost[file] = true
				}
			}
		}
		if !any {
			r.fail(judge.Failed, stop.Problem)
		}
	}
	r.state.Lost, r.state.Trouble = slices.Sorted(maps.Keys(lost)), r.report.Stops[0].Problem
	for _, file := range r.state.Lost {
		if finder.isChanged(file) {
			r.fail(judge.Failed, fmt.Sprintf("%s, so that not all of the changed %s was looked at; have it compile, and run the tool again", r.state.Trouble, file))
			return nil
		}
	}
	c.notices = append(c.notices, fmt.Sprintf("%s: not all of %s was looked at: %s", r.state.Name, target.ClipList(r.state.Lost), r.state.Trouble))
	return nil
}

// checkCompiled takes the log of a build for no evidence that compiled files, and not one that was changed: an earlier build did,
// and what was found there isn't in this log.
func (c *collector) checkCompiled(r *reading, seen map[string]bool) error {
	if seen == nil {
		return nil
	}
	files, err := c.Target.Files()
	for _, f := range files {
		covered := len(r.from.terms.Covers) == 0 || policy.MatchPath(r.from.terms.Covers, f.Path)
		if f.Status != change.Deleted && covered && r.report.Compiled.IsKind(f.Path) && !seen[f.Path] {
			r.fail(judge.Failed, fmt.Sprintf("the build whose log it is didn't compile the changed %s; have all of it compiled anew, or, where it never compiles that file, say by covers: in the report's part of the policy which files it does", f.Path))
			return nil
		}
	}
	return err
}

// seenIn are the files that the log of a build tells something of, or shows to have been compiled; nil where it doesn't show
// what was.
func (c *collector) seenIn(r *reading, find func(string) report.Found) (map[string]bool, error) {
	made := &r.report.Compiled
	if r.from.runs || !made.Shown() || made.Vague {
		return nil, nil
	}
	seen := map[string]bool{}
	for _, source := range made.Sources {
		seen[find(source).Path] = true
	}
	for i := range r.report.Findings {
		if r.placed[i] {
			seen[r.report.Findings[i].Path] = true
		}
	}
	if len(made.Objects) == 0 {
		return seen, nil
	}
	files, err := c.filesOf(r.tree.tree)
	isMade := made.Made()
	for _, file := range files {
		if isMade(file) {
			seen[file] = true
		}
	}
	return seen, err
}

const findItAdvice = "run the linter in this checkout, or say with --report-root where its paths start"

// finder finds a report's paths, each once.
type finder struct {
	places   report.Places
	relative map[string]string
	known    map[string]report.Found
	last     string // what was found last, and where
	lastAt   report.Found
	changed  func() (map[string]bool, error) // the files of the change that are there, which may be waited for
	unsure   string                          // why nobody can tell where the paths start, "" where that is known
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

// changedFiles are the files of the change that are there.
func (f *finder) changedFiles() map[string]bool {
	files, err := f.changed()
	f.keep(err)
	return files
}

func (f *finder) isChanged(path string) bool { return f.changedFiles()[path] }

// keep keeps the first error.
func (f *finder) keep(err error) {
	if f.err == nil {
		f.err = err
	}
}

// changedFiles are the files of the change that are there.
func (c *collector) changedFiles() (map[string]bool, error) {
	if c.changed != nil {
		return c.changed, nil
	}
	files, err := c.Target.Files()
	c.changed = map[string]bool{}
	for _, file := range files {
		if file.Status != change.Deleted {
			c.changed[file.Path] = true
		}
	}
	return c.changed, err
}

// finder prepares to find the report's paths. Where some are found nowhere, it looks how they lead into the tree.
func (c *collector) finder(r *reading) (*finder, error) {
	f := &finder{relative: r.report.Relative, known: map[string]report.Found{}, changed: c.changedFiles}
	tree := r.tree.tree
	f.places = report.Places{
		Root:    c.Target.Root,
		Folder:  c.Target.Folder,
		Outside: r.from.terms.Outside,
		Has: func(p string) bool {
			found, err := r.tree.has(p)
			f.keep(err)
			return found
		},
		HasFolder: func(p string) bool {
			files, err := c.filesOf(tree)
			f.keep(err)
			return slices.ContainsFunc(files, func(file string) bool { return strings.HasPrefix(file, p+"/") })
		},
		Link: func(p string) (string, bool) {
			to, link, err := tree.Link(p)
			f.keep(err)
			return to, link
		},
		Changed: f.isChanged,
		OnDisk: func(p string) bool {
			_, err := os.Lstat(target.InDir(c.Target.Root, p))
			return err == nil && fs.ValidPath(p)
		},
	}
	if c.Given.Root != "" {
		f.places.From = report.RootMapping(c.Given.Root)
	}
	paths := map[string]bool{}
	for i := range r.report.Findings {
		paths[r.report.Findings[i].Path] = true
	}
	for _, tool := range r.report.Tools {
		for _, target := range tool.Targets {
			paths[target] = true
		}
	}
	for _, source := range r.report.Compiled.Sources {
		paths[source] = true
	}
	delete(paths, "")
	var unknown []string
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		if !f.find(p).Inside {
			unknown = append(unknown, p)
		}
	}
	if len(unknown) > 0 && f.err == nil {
		all, err := c.filesOf(tree)
		f.keep(err)
		f.keep(f.learn(all, unknown, len(paths)-len(unknown)))
		for _, p := range unknown { // a build may have been told to print paths from elsewhere than where it says to work
			if printed, ok := r.report.Printed[p]; ok && !f.find(p).Inside {
				if at := f.places.Find(printed, ""); at.Inside {
					f.known[p] = at
				}
			}
		}
		f.last = ""
	}
	f.checkFolders(r.report)
	return f, f.err
}

// checkFolders looks whether paths that a build printed while it worked in several folders are beyond doubt.
func (f *finder) checkFolders(said *report.Report) {
	for _, p := range slices.Sorted(maps.Keys(said.Rivals)) {
		at := f.find(p)
		for _, rival := range said.Rivals[p] {
			other := f.places.Find(rival, "")
			switch {
			case !other.Inside || other.Path == at.Path:
			case !at.Inside:
				f.known[p], at = other, other
			case (f.isChanged(at.Path) || f.isChanged(other.Path)) && f.unsure == "":
				f.unsure = fmt.Sprintf("make worked in several folders at once, and nobody can tell whether %s is %s or %s; have it keep together what belongs together (make --output-sync)", said.Printed[p], at.Path, other.Path)
			}
		}
	}
	f.last = ""
}

// learn finds how unknown paths lead into the tree: by a root that they have in common, or written in another form; stand is
// how many paths were found as they stand.
func (f *finder) learn(all, unknown []string, stand int) error {
	loosest := report.NameForms[len(report.NameForms)-1]
	names := map[string]bool{} // of the files that the paths may mean
	for _, p := range unknown {
		names[loosest(path.Base(p))] = true
	}
	var files []string
	for _, file := range all {
		if names[loosest(file[strings.LastIndexByte(file, '/')+1:])] {
			files = append(files, file)
		}
	}
	for _, form := range report.NameForms {
		var left []string
		names := form.Index(files)
		formed := map[string]string{} // the unknown paths, by how they are written in this form
		for _, p := range unknown {
			formed[form(p)] = p
		}
		outside := func(name string) bool { return f.known[formed[name]].Outside }
		root, mapped := report.FindMapping(slices.Sorted(maps.Keys(formed)), slices.Collect(maps.Keys(names)), outside)
		for _, p := range unknown {
			to, ok := names[form(p)]
			inRoot := false
			if !ok && mapped && !(outside(form(p)) && root.Depth < 2 && root.Files < stand) {
				if to, inRoot = root.Apply(form(p)); inRoot {
					to = cmp.Or(names[to], to) // which may lead through a link
				}
			}
			if to != "" {
				to, ok = f.places.Resolve(to)
			}
			switch {
			case ok:
				f.known[p] = report.Found{Path: to, Inside: true}
				if inRoot && root.Strip != "" && root.Depth == 1 && f.unsure == "" {
					f.unsure = f.namesakeOf(p, to)
				}
			case inRoot && root.Strip != "": // of the same checkout, and no file of the tree
				f.known[p] = report.Found{Path: p}
				left = append(left, p)
			default:
				left = append(left, p)
			}
		}
		if mapped {
			f.checkRivals(root, slices.Sorted(maps.Keys(formed)), names)
		}
		if unknown = left; len(unknown) == 0 {
			break
		}
	}
	f.last = ""
	return f.err
}

// checkRivals looks whether the root that was taken is beyond doubt: by no other one that fits as well a path is a changed
// file.
func (f *finder) checkRivals(root report.Mapped, unknown []string, names map[string]string) {
	for _, rival := range root.Rivals {
		for _, p := range unknown {
			to, ok := rival.Apply(p)
			if file := names[to]; ok && f.isChanged(file) && f.unsure == "" {
				f.unsure = fmt.Sprintf("nobody can tell whether %s is the changed %s: its paths may start at %s; say which with --report-root", p, file, orList(append([]report.Mapping{root.Mapping}, root.Rivals...)))
			}
		}
	}
}

// orList names the folders that paths may start at.
func orList(roots []report.Mapping) string {
	var names []string
	for _, root := range roots {
		if name := root.String(); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names[:min(len(names), 4)], " or at ")
}

// namesakeOf says why a file that was found by its name alone may be another one, which was changed.
func (f *finder) namesakeOf(reported, found string) string {
	for _, file := range slices.Sorted(maps.Keys(f.changedFiles())) {
		if file != found && report.SameName(path.Base(file), path.Base(found)) {
			return fmt.Sprintf("%s may be %s or the changed %s; %s", reported, found, file, findItAdvice)
		}
	}
	return ""
}

// namesake is a changed file with the same file name, "" where there is none.
func (c *collector) namesake(p string) (string, error) {
	files, err := c.Target.Files()
	for _, f := range files {
		if f.Status != change.Deleted && report.SameName(path.Base(f.Path), path.Base(p)) {
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

// coverOf names the evidence's tools, and what they looked at: no more than what was seen where the log of a build shows that.
func (c *collector) coverOf(r *reading, find func(string) report.Found, seen map[string]bool) (covers []baseline.Cover) {
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
		if seen != nil {
			paths = globsOf(slices.Collect(maps.Keys(seen)))
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
