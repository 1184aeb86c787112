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
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
)

const findItAdvice = "run the linter in this checkout, or say where its paths start: --report-root DIR"

// finder finds a report's paths, each once.
type finder struct {
	places   report.Places
	relative map[string]string
	known    map[string]report.Found
	last     string // what was found last, and where
	lastAt   report.Found
	changed  func() (map[string]change.Status, error) // the files of the change that are there, which may be waited for
	named    map[string][]string                      // those by their names, nil before they were asked for
	roots    []report.Mapping                         // where other paths of the report start
	unsure   string                                   // why nobody can tell where the paths start, "" where that is known
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
func (f *finder) changedFiles() map[string]change.Status {
	files, err := f.changed()
	f.keep(err)
	return files
}

func (f *finder) isChanged(path string) bool { return f.changedFiles()[path] != 0 }

// isRelinked reports whether the change alters what was there before at a path.
func (f *finder) isRelinked(path string) bool {
	return f.isChanged(path) && f.changedFiles()[path] != change.Added
}

// keep keeps the first error.
func (f *finder) keep(err error) {
	if f.err == nil {
		f.err = err
	}
}

// changedFiles are the files of the change that are there.
func (c *collector) changedFiles() (map[string]change.Status, error) {
	if c.changed != nil {
		return c.changed, nil
	}
	files, err := c.Target.Files()
	c.changed = map[string]change.Status{}
	for _, file := range files {
		if file.Status != change.Deleted {
			c.changed[file.Path] = file.Status
		}
	}
	return c.changed, err
}

// finder prepares to find the report's paths. Where some are found nowhere, it looks how they lead into the tree.
func (c *collector) finder(r *reading) (*finder, error) {
	f := &finder{relative: r.report.Relative, changed: c.changedFiles}
	tree := r.tree.tree
	files := sync.OnceValue(func() []string { // in order, as git gives them but for a few
		all, err := c.filesOf(tree)
		f.keep(err)
		if !slices.IsSorted(all) {
			all = slices.Sorted(slices.Values(all))
		}
		return all
	})
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
			at, _ := slices.BinarySearch(files(), p+"/")
			return at < len(files()) && strings.HasPrefix(files()[at], p+"/")
		},
		Link: func(p string) (string, bool) {
			to, link, err := tree.Link(p)
			f.keep(err)
			return to, link
		},
		Altered: f.isRelinked,
		OnDisk: func(p string) bool {
			info, err := os.Lstat(target.InDir(c.Target.Root, p))
			return err == nil && info.Mode().IsRegular() && fs.ValidPath(p)
		},
	}
	if c.Given.Root != "" {
		f.places.From = report.RootMapping(c.Given.Root)
	}
	paths := make(map[string]bool, len(c.named))
	for i := range r.report.Findings {
		if at := &r.report.Findings[i]; i == 0 || at.Path != r.report.Findings[i-1].Path {
			paths[at.Path] = true
		}
	}
	for _, looked := range r.report.LookedAt() {
		paths[looked] = true
	}
	delete(paths, "")
	f.known = make(map[string]report.Found, len(paths))
	var unknown []string
	for p := range paths {
		if !f.find(p).Inside {
			unknown = append(unknown, p)
		}
	}
	slices.Sort(unknown)
	if len(unknown) > 0 && f.err == nil {
		all, err := c.filesOf(tree)
		f.keep(err)
		f.learn(all, unknown, len(paths)-len(unknown))
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
	if f.places.Folder != "" {
		f.roots = append(f.roots, report.Mapping{Add: f.places.Folder})
	}
	if len(f.roots) > 0 {
		for _, p := range slices.Sorted(maps.Keys(paths)) {
			f.checkRoots(p)
		}
	}
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
				f.unsure = fmt.Sprintf("make worked in several folders at once, so %s may be %s or %s; keep each folder's output together: make --output-sync", said.Printed[p], at.Path, other.Path)
			}
		}
	}
	f.last = ""
}

// learn finds how unknown paths lead into the tree: by a root that they have in common, or written in another form; stand is
// how many paths were found as they stand.
func (f *finder) learn(all, unknown []string, stand int) {
	names := map[string]bool{} // of the files that the paths may mean
	for _, p := range unknown {
		names[report.Loosest(path.Base(p))] = true
	}
	var files []string
	for _, file := range all {
		if names[report.Loosest(file[strings.LastIndexByte(file, '/')+1:])] {
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
				if inRoot && !slices.Contains(f.roots, root.Mapping) {
					f.roots = append(f.roots, root.Mapping)
				}
				if inRoot && root.Strip != "" && root.Depth == 1 && f.unsure == "" { // found by its name alone
					if changed := f.namesake(to, to); changed != "" {
						f.unsure = fmt.Sprintf("%s may be %s or the changed %s; %s", p, to, changed, findItAdvice)
					}
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
}

// checkRoots looks whether a path that was found as it stands is beyond doubt: by the root of the report's other paths, or the
// folder of the call, it isn't a changed file.
func (f *finder) checkRoots(p string) {
	at := f.find(p)
	for _, root := range f.roots {
		to, ok := root.Apply(p)
		if ok && at.Inside && to != at.Path && path.Clean(p) == at.Path && f.isChanged(to) && f.unsure == "" {
			f.unsure = fmt.Sprintf("%s is a file, and so is the changed %s, where the linter may have worked; say which: --report-root DIR", p, to)
		}
	}
}

// checkRivals looks whether the root that was taken is beyond doubt: by no other one that fits as well a path is a changed
// file.
func (f *finder) checkRivals(root report.Mapped, unknown []string, names map[string]string) {
	for _, rival := range root.Rivals {
		for _, p := range unknown {
			to, ok := rival.Apply(p)
			if file := names[to]; ok && f.isChanged(file) && f.unsure == "" {
				f.unsure = fmt.Sprintf("%s may be the changed %s, since the paths may start at %s; say which: --report-root DIR", p, file, orList(append([]report.Mapping{root.Mapping}, root.Rivals...)))
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

// namesake is a changed file with the same file name as a path's, other than one; "" where there is none.
func (f *finder) namesake(p, other string) string {
	if f.named == nil {
		f.named = map[string][]string{}
		for _, file := range slices.Sorted(maps.Keys(f.changedFiles())) {
			name := report.Loosest(path.Base(file))
			f.named[name] = append(f.named[name], file)
		}
	}
	for _, file := range f.named[report.Loosest(path.Base(p))] {
		if file != other {
			return file
		}
	}
	return ""
}
