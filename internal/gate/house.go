package gate

import (
	"os"
	"path/filepath"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/intake"
)

// checked is what our own checks find, and the first error of reading files.
type checked struct {
	findings []finding.Finding
	files    []string
	err      error
}

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
	t := w.housed
	t.given = done.files
	t.report = &intake.Report{Format: house.Tool, Findings: done.findings, Tools: []intake.Tool{{Name: house.Tool}}, Rules: map[string]finding.Rule{}}
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
	files, err := w.present()
	if err != nil {
		return checked{err: err}
	}
	entries, tree := map[string]git.Entry{}, reader(w.head)
	if w.repo != nil && !w.patch {
		if entries, err = w.repo.Entries(w.side); err != nil {
			return checked{err: err}
		}
		own, err := w.repo.Tree(w.side) // the head's reader is busy
		if err != nil {
			return checked{err: err}
		}
		defer own.Close()
		tree = own
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
	seen := map[string]bool{}
	for _, path := range files {
		_, tracked := entries[path]
		if (tracked || w.patch || w.repo == nil) && !policy.MatchPath(p.Skip, path) && len(p.HouseFor(path)) > 0 {
			done.files = append(done.files, path)
		}
	}
	if done.err = tree.ReadAll(done.files, func(path string, data []byte) {
		seen[path] = true
		check(path, data)
	}); done.err != nil {
		return done
	}
	for _, path := range done.files {
		if seen[path] {
			continue
		}
		data, found, err := tree.Read(path)
		if entries[path].Link && w.side == git.Worktree {
			var target string
			target, err = os.Readlink(filepath.Join(w.root, filepath.FromSlash(path)))
			data, found = []byte(target), err == nil
		}
		if err != nil {
			done.err = err
			return done
		}
		if found {
			check(path, data)
		}
	}
	return done
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
