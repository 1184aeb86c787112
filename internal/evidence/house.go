package evidence

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/memory"
	"zincdoor/internal/report"
	"zincdoor/internal/syntax"
	"zincdoor/internal/target"
)

// houseReport is what our own checks find, as a report among the others.
type houseReport struct {
	*reading
	notices []string
	words   int // that the change adds to the team's own and that count
}

// aboutSpace reports whether something about white space was found.
func (h *houseReport) aboutSpace() bool {
	return slices.ContainsFunc(h.report.Findings, func(f finding.Finding) bool { return house.AboutSpace(f.Rule) })
}

// mostUnasked is how many files of a change are checked where no policy asks for it: more would take as long as all the
// rest.
const mostUnasked = 1000

// checksHouse reports whether our own checks are made.
func (q Request) checksHouse() bool {
	return len(q.Policy.House) > 0 && !q.Target.Before && (!q.Given.Alone || q.Given.Start)
}

// checkHouse makes our own checks of the change's files; where everything is judged, of all files.
func (q Request) checkHouse(ctx context.Context) (*houseReport, error) {
	found, err := q.findHouse(ctx)
	if err != nil {
		return nil, err
	}
	r := &reading{from: origin{name: house.Tool, format: house.Tool, runs: true}, files: found.files}
	r.state = judge.Evidence{
		Name: house.Tool, Format: house.Tool, State: judge.Read, Optional: !slices.Contains(q.Door.Needs, house.Tool),
		Findings: len(found.findings), Files: len(found.files),
	}
	r.state.Along, r.state.Partly = r.state.Optional, q.Target.Diff != nil
	switch {
	case len(found.files) == 0:
		r.state.State = judge.Skipped
	case len(found.findings) == 0:
		r.state.State = judge.Empty
	}
	r.report = &report.Report{Format: house.Tool, Findings: found.findings, Tools: []report.Tool{{Name: house.Tool}}, Rules: map[string]finding.Rule{}}
	for _, c := range q.Policy.House {
		text := house.RuleOf(c.Kind).Text()
		if c.Say != "" {
			text.Short = c.Say
		}
		r.report.Rules[c.Name] = text
	}
	return &houseReport{r, found.notices, found.words}, nil
}

// houseFindings are what our own checks find, and the files that were checked.
type houseFindings struct {
	findings []finding.Finding
	files    []string
	notices  []string
	words    int // that the change adds to the team's own and that count
}

func (q Request) findHouse(ctx context.Context) (found houseFindings, err error) {
	defer memory.Doing("the house checks")()
	t, p := q.Target, q.Policy
	if t.Diff != nil && q.BuiltIn && t.Diff.About() > mostUnasked {
		found.notices = []string{fmt.Sprintf("the change has over %d files, so the built-in house checks are left out; house: in a policy keeps them", mostUnasked)}
		return found, nil
	}
	files, err := t.Present()
	if err != nil {
		return found, err
	}
	entries := map[string]git.Entry{}
	if t.Repo != nil && !t.IsPatch {
		if entries, err = q.houseEntries(); err != nil {
			return found, err
		}
	}
	before, err := q.oldTexts()
	if err != nil {
		return found, err
	}
	defer before.close()
	speller, notices, err := q.newSpeller()
	if err != nil {
		return found, err
	}
	found.notices = append(found.notices, notices...)
	found.words = speller.honoured()
	var tree *house.Tree
	if q.only == nil {
		tree = house.NewTree(slices.Collect(maps.Keys(entries)))
	}
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
		some := house.Check(f, settings, syntax.Parsers)
		for i := range some {
			some[i].Fresh = house.AboutSyntax(some[i].Rule) && before.sound(path, settings)
		}
		found.findings = append(found.findings, some...)
		if tree != nil {
			found.findings = append(found.findings, tree.Check(f, settings)...)
		}
		if speller.takes(settings) && f.Mode != house.Link && bytes.IndexByte(data, 0) < 0 {
			speller.check(path, data)
		}
	}
	var names []string
	for _, path := range files {
		entry, tracked := entries[path]
		if q.only != nil && !q.only[path] {
			continue
		}
		if (tracked || t.IsPatch || t.Repo == nil) && !policy.MatchPath(p.Skip, path) && len(p.HouseFor(path)) > 0 {
			found.files, names = append(found.files, path), append(names, entry.Content)
		}
	}
	if err := q.eachHouseText(ctx, found.files, names, entries, check); err != nil || speller == nil {
		return found, err
	}
	misspelt, err := speller.findings()
	found.findings = append(found.findings, misspelt...)
	return found, err
}

// eachHouseText hands over the files that are checked: contents by their names, as far as git has them.
func (q Request) eachHouseText(ctx context.Context, files, names []string, entries map[string]git.Entry, check func(path string, data []byte)) error {
	t := q.Target
	if t.Repo != nil && !t.IsPatch && t.Side != git.Worktree {
		each := t.Repo.EachContent
		if tree, ok := t.Tree.(*git.Tree); ok {
			each = tree.EachContent
		}
		return each(names, func(i int, data []byte) { check(files[i], data) })
	}
	for _, path := range files {
		if data, ok := q.houseText(path, entries[path].Link); ok {
			check(path, data)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// houseText is a file of the work tree or of a patch as it is checked; false where there is none to check.
func (q Request) houseText(path string, isLink bool) (data []byte, ok bool) {
	var err error
	switch {
	case q.Target.IsPatch: // where the folder has another text than the patch, there is none
		data, ok, err = q.Target.Tree.Read(path)
	case isLink:
		target, err := os.Readlink(filepath.Join(q.Target.Root, filepath.FromSlash(path)))
		return []byte(target), err == nil
	default:
		data, ok, err = q.Target.Tree.Plain(path)
	}
	return data, ok && err == nil // behind a link, or gone since
}

// houseEntries are the files that are checked, with what they are; where a check looks at the whole tree, all of its files.
func (q Request) houseEntries() (map[string]git.Entry, error) {
	whole := slices.ContainsFunc(q.Policy.House, func(c house.Setting) bool { return house.AboutTree(c.Kind) })
	if q.Target.Diff == nil || whole && q.only == nil {
		return q.Target.Repo.Entries(q.Target.Side)
	}
	return q.Target.Changed()
}

// oldTexts are the files as they were before the change.
type oldTexts struct {
	tree target.Tree // nil where there is no state before
	old  map[string]string
}

func (q Request) oldTexts() (*oldTexts, error) {
	o := &oldTexts{old: map[string]string{}}
	if q.Target.Diff == nil || q.Target.Repo == nil {
		return o, nil
	}
	files, err := q.Target.Files()
	if err != nil {
		return o, err
	}
	for _, f := range files {
		o.old[f.Path] = f.Old
	}
	o.tree, err = q.Target.Repo.Tree(q.Target.Diff.Old())
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
	for _, f := range house.Check(house.File{Path: path, Data: data}, settings, syntax.Parsers) {
		if house.AboutSyntax(f.Rule) {
			return false
		}
	}
	return true
}

// houseCover is what our own checks looked at.
func (c *collector) houseCover(r *reading) []baseline.Cover {
	paths := []string{baseline.Everywhere}
	if c.Target.Kind != policy.Tree {
		paths = globsOf(r.files)
	}
	return []baseline.Cover{{Tool: house.Tool, Paths: paths}}
}
