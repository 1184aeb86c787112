package gate

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/report"
)

// checked is what our own checks find, and the first error of reading files.
type checked struct {
	findings []finding.Finding
	files    []string
	notice   string
	err      error
}

// mostAlong is how many files of a change are checked where no policy asks for it: more would take as long as all the
// rest.
const mostAlong = 1000

// beginHouse begins our own checks of the change's files, beside the reading of the reports.
func (w *witness) beginHouse() {
	if len(w.rules.policy.House) == 0 || w.before || w.request.Apart {
		return
	}
	w.housed = &testimony{from: origin{name: house.Tool, format: house.Tool, runs: true}}
	w.housed.evidence = judge.Evidence{Name: house.Tool, Format: house.Tool, State: judge.Read, Optional: !slices.Contains(w.rules.door.Needs, house.Tool)}
	w.housed.evidence.Along = w.housed.evidence.Optional
	w.housing = make(chan checked, 1)
	go func() {
		w.housing <- w.checkHouse()
		close(w.housing)
	}()
}

// keepHouse waits for our own checks and makes what they found a report among the others.
func (w *witness) keepHouse() error {
	if w.housed == nil {
		return nil
	}
	done := <-w.housing
	if done.err != nil {
		return done.err
	}
	if done.notice != "" {
		w.notices = append(w.notices, done.notice)
	}
	t := w.housed
	t.given = done.files
	t.report = &report.Report{Format: house.Tool, Findings: done.findings, Tools: []report.Tool{{Name: house.Tool}}, Rules: map[string]finding.Rule{}}
	for _, c := range w.rules.policy.House {
		text := house.RuleOf(c.Kind).Text()
		if c.Say != "" {
			text.Short = c.Say
		}
		t.report.Rules[c.Name] = text
	}
	t.evidence.Findings, t.evidence.Files = len(done.findings), len(done.files)
	switch {
	case len(done.files) == 0:
		t.evidence.State = judge.Skipped
	case len(done.findings) == 0:
		t.evidence.State = judge.Empty
	}
	w.all = append(w.all, t)
	return nil
}

// checkHouse checks the files of the change; where everything is judged, all files.
func (w *witness) checkHouse() (done checked) {
	p := w.rules.policy
	if w.diff != nil && w.rules.origin.From == BuiltIn && w.diff.About() > mostAlong {
		return checked{notice: fmt.Sprintf("the change has over %d files, too many for the door's own checks, which nobody asked for: a policy with house: has them all the same", mostAlong)}
	}
	files, err := w.present()
	if err != nil {
		return checked{err: err}
	}
	entries := map[string]git.Entry{}
	if w.repo != nil && !w.patch {
		if entries, err = w.entries(); err != nil {
			return checked{err: err}
		}
	}
	before, err := w.oldTexts()
	if err != nil {
		return checked{err: err}
	}
	defer before.close()
	var paths []string
	for path := range entries {
		paths = append(paths, path)
	}
	all := house.NewTree(paths)
	check := func(path string, data []byte) {
		entry := entries[path]
		f := house.File{Path: path, Data: data, Size: int64(len(data))}
		switch {
		case entry.Link:
			f.Mode = house.Link
		case entry.Executable:
			f.Mode = house.Executable
		}
		settings := p.HouseFor(path)
		found := house.Check(f, settings)
		for i := range found {
			found[i].Fresh = house.AboutSyntax(found[i].Rule) && before.sound(path, settings)
		}
		done.findings = append(done.findings, found...)
		done.findings = append(done.findings, all.Check(f, settings)...)
	}
	var names []string
	for _, path := range files {
		entry, tracked := entries[path]
		if (tracked || w.patch || w.repo == nil) && !policy.MatchPath(p.Skip, path) && len(p.HouseFor(path)) > 0 {
			done.files, names = append(done.files, path), append(names, entry.Content)
		}
	}
	if w.repo != nil && !w.patch && w.side != git.Worktree {
		done.err = w.repo.EachContent(names, func(i int, data []byte) { check(done.files[i], data) })
		return done
	}
	for _, path := range done.files {
		var data []byte
		found := true
		switch {
		case w.patch: // where the folder has another text than the patch, there is none
			if data, found, err = w.head.Read(path); err != nil {
				found = false
			}
		case entries[path].Link:
			target, err := os.Readlink(filepath.Join(w.root, filepath.FromSlash(path)))
			data, found = []byte(target), err == nil
		default:
			if data, found, err = w.head.Plain(path); err != nil {
				found = false // behind a link, or gone since
			}
		}
		if found {
			check(path, data)
		}
	}
	return done
}

// entries are the files that are checked, with what they are; where a check looks at the whole tree, all of its files.
func (w *witness) entries() (map[string]git.Entry, error) {
	whole := slices.ContainsFunc(w.rules.policy.House, func(c policy.HouseCheck) bool { return house.AboutTree(c.Kind) })
	if w.diff == nil || whole {
		return w.repo.Entries(w.side)
	}
	return w.diff.Changed()
}

// oldTexts are the files as they were before the change.
type oldTexts struct {
	tree reader // nil where there is no state before
	old  map[string]string
}

func (w *witness) oldTexts() (*oldTexts, error) {
	o := &oldTexts{old: map[string]string{}}
	if w.diff == nil || w.repo == nil {
		return o, nil
	}
	files, err := w.names()
	if err != nil {
		return o, err
	}
	for _, f := range files {
		o.old[f.Path] = f.Old
	}
	o.tree, err = w.repo.Tree(w.diff.Old())
	return o, err
}

func (o *oldTexts) close() {
	if o.tree != nil {
		o.tree.Close()
	}
}

// sound reports whether a file was there before the change, and its syntax was in order.
func (o *oldTexts) sound(path string, settings []house.Setting) bool {
	if o.tree == nil || o.old[path] == "" {
		return false
	}
	data, found, err := o.tree.Read(o.old[path])
	if err != nil || !found {
		return false
	}
	for _, f := range house.Check(house.File{Path: path, Data: data}, settings) {
		if house.AboutSyntax(f.Rule) {
			return false
		}
	}
	return true
}

// houseCover is what our own checks looked at.
func (w *witness) houseCover(t *testimony) []baseline.Cover {
	paths := []string{baseline.Everywhere}
	if w.kind != policy.Tree {
		paths = globsOf(t.given)
	}
	return []baseline.Cover{{Tool: house.Tool, Paths: paths}}
}
