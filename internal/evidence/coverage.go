package evidence

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/target"
)

// placeCoverage leads the files that a coverage report speaks of to those of the tree. Of Go they are called by their packages, and
// so the module says where they are, in a repository of several ones too.
func (c *collector) placeCoverage(r *reading, finder *finder) error {
	if r.report.Coverage == nil {
		return nil
	}
	modules := map[string]string{}
	if slices.ContainsFunc(r.report.Coverage.Paths(), func(p string) bool { return path.Ext(p) == ".go" && !path.IsAbs(p) }) {
		files, err := c.filesOf(r.tree.tree)
		if err != nil {
			return err
		}
		if modules, err = readGoModules(r.tree.tree, files); err != nil {
			return err
		}
	}
	placed := measure.Coverage{}
	var strangers []string
	guessed := false
	for _, p := range r.report.Coverage.Paths() {
		at := finder.find(p)
		if to, ok := inModule(modules, p); ok {
			has, err := r.tree.has(to)
			if err != nil {
				return err
			}
			if has {
				at.Path, at.Inside = to, true
				finder.known[p] = at
			}
			guessed = guessed || !has
		} else {
			guessed = true
		}
		if !at.Inside {
			strangers = append(strangers, p)
			continue
		}
		placed.Join(measure.Coverage{at.Path: r.report.Coverage[p]})
	}
	finder.last = ""
	if !guessed {
		finder.unsure = ""
	}
	if len(strangers) > 0 && len(placed) > 0 {
		c.notices = append(c.notices, fmt.Sprintf("%s names files that aren't in the repository: %s", r.state.Name, target.ClipList(strangers)))
	}
	r.report.Coverage, r.state.Files = placed, len(placed)
	return nil
}

// inModule is where a file of Go is that is called by its package: in the module with the longest name that it begins with.
func inModule(modules map[string]string, name string) (file string, ok bool) {
	longest := ""
	for folder, module := range modules {
		if rest, in := strings.CutPrefix(name, module+"/"); in && module != "" && len(module) > len(longest) {
			file, ok, longest = path.Join(folder, rest), true, module
		}
	}
	return file, ok
}

// mostVerified is how many files that the change doesn't alter are held against what a coverage report says of them.
const mostVerified = 200

// verifyCoverage holds a coverage report against the text that it was made from: a line past the end of its file, or one where
// nothing can be reached, shows that it was another one.
func (c *collector) verifyCoverage(r *reading) error {
	if r.report.Coverage == nil {
		return nil
	}
	changed, err := c.changedFiles()
	if err != nil {
		return err
	}
	others := 0
	for _, p := range r.report.Coverage.Paths() {
		if changed[p] == 0 {
			if others++; others > mostVerified {
				continue
			}
		}
		data, found, err := r.tree.tree.Read(p)
		if err != nil {
			return err
		}
		text := source.New(data)
		if !found || text.IsPointer() || text.OtherBreak() != "" {
			continue
		}
		if why := misfit(measure.Of(p, data), text, r.report.Coverage[p]); why != "" {
			r.fail(judge.Foreign, fmt.Sprintf("it speaks of %s:%s: it was made from another text; run the tests again", p, why))
			return nil
		}
	}
	return nil
}

// misfit is the first line that a text can't have as a coverage report speaks of it, and why; "" where all fit.
func misfit(f measure.File, text *source.Text, lines map[int]measure.Hits) string {
	for _, n := range slices.Sorted(maps.Keys(lines)) {
		h := lines[n]
		switch {
		case n > text.Len():
			return fmt.Sprintf("%d, and the file has %d lines", n, text.Len())
		case h.Column > len(text.Line(n))+1:
			return fmt.Sprintf("%d:%d, and the line has %d bytes", n, h.Column, len(text.Line(n)))
		case !h.Block && source.Collapse(text.Line(n)) == "" && !f.Code.Has(n):
			return fmt.Sprintf("%d, and the line is blank", n)
		}
	}
	return ""
}

// carryCoverage brings the lines of a coverage report to the judged state.
func carryCoverage(r *reading) {
	if r.report.Coverage == nil || r.tree.between == nil {
		return
	}
	carrier := change.Carrier{Between: r.tree.between, Back: r.tree.worktree}
	carried := measure.Coverage{}
	for p, lines := range r.report.Coverage {
		if now, _, there := carrier.CarryLine(p, 0); there && carried[now] == nil {
			carried[now] = map[int]measure.Hits{}
		}
		for n, h := range lines {
			if now, at, there := carrier.CarryLine(p, n); there {
				carried.Add(now, at, h)
			}
		}
	}
	r.report.Coverage = carried
}

// addCoverage adds what a report covers to what others do.
func (all *Collected) addCoverage(r *reading) {
	if all.Coverage == nil {
		all.Coverage = measure.NewReported()
	}
	c := all.Coverage
	c.Join(r.report.Coverage)
	terms := r.from.terms
	kinds := map[string]bool{}
	for p := range r.report.Coverage {
		kinds[path.Ext(p)] = true
	}
	also := func(a, b func(string) bool) func(string) bool {
		return func(p string) bool { return a(p) || b(p) }
	}
	named := func(p string) bool {
		return policy.MatchPath(terms.Covers, p) && !policy.MatchPath(terms.Except, p)
	}
	expects := named
	if len(terms.Covers) == 0 {
		expects = func(p string) bool { return kinds[path.Ext(p)] && !policy.MatchPath(terms.Except, p) }
	}
	c.Named, c.Expects = also(c.Named, named), also(c.Expects, expects)
}
