package evidence

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
)

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
			paths = slices.Concat(run.Files, run.Inputs)
		}
		if partly := r.from.runs && r.from.terms.Run.Changed; !partly && len(tool.Targets) == 0 {
			paths = r.reach(paths)
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
		covers = append(covers, baseline.Cover{Tool: cmp.Or(tool.Name, r.toolName()), Paths: paths, Except: slices.Concat(globsOf(r.laid), r.from.terms.Except)})
	}
	return covers
}

// reach adds to what a tool was given what it reported on beside that, and files of the same kind: it reads what they include.
func (r *reading) reach(paths []string) []string {
	cover := baseline.Cover{Paths: paths}
	if slices.Contains(paths, baseline.Everywhere) {
		return paths
	}
	kinds := map[string]bool{}
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		if !r.placed[i] || cover.Matches(f.Path) {
			continue
		}
		if ext := path.Ext(f.Path); ext != "" {
			kinds["**/*"+baseline.PathGlob(ext)] = true
		} else {
			kinds[baseline.PathGlob(f.Path)] = true
		}
	}
	return slices.Concat(paths, slices.Sorted(maps.Keys(kinds)))
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

// checkStops settles what files a tool gave up: a report is no evidence where one of them was changed, or isn't known.
func (c *collector) checkStops(r *reading, finder *finder) error {
	if r.from.terms.Errors || len(r.report.Stops) == 0 {
		return nil
	}
	lost := map[string]bool{}
	var packages []string // by folder
	for _, stop := range r.report.Stops {
		known, stranger := false, false
		for _, reported := range stop.Files {
			at := finder.find(reported)
			if !at.Inside {
				stranger = stranger || !at.Outside
				continue
			}
			known, lost[at.Path] = true, true
			if stop.Package {
				packages = append(packages, path.Dir(at.Path))
			}
		}
		if !known || stranger {
			r.fail(judge.Failed, stop.Problem)
		}
	}
	if len(packages) > 0 {
		files, err := c.filesOf(r.tree.tree)
		if err != nil {
			return err
		}
		all, err := readGoPackages(r.tree.tree, files)
		if err != nil {
			return err
		}
		for _, file := range all.dependants(packages) {
			lost[file] = true
		}
	}
	r.state.Lost, r.state.Trouble = slices.Sorted(maps.Keys(lost)), r.report.Stops[0].Problem
	for _, file := range r.state.Lost {
		if finder.isChanged(file) {
			r.fail(judge.Failed, fmt.Sprintf("%s, so not all of the changed %s was looked at; make it compile, and run the tool again", r.state.Trouble, file))
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
	isKind := r.report.Compiled.Kinds()
	for _, f := range files {
		covered := (len(r.from.terms.Covers) == 0 || policy.MatchPath(r.from.terms.Covers, f.Path)) && !policy.MatchPath(r.from.terms.Except, f.Path)
		if f.Status != change.Deleted && covered && isKind(f.Path) && !seen[f.Path] {
			r.fail(judge.Failed, fmt.Sprintf("this build log doesn't compile the changed %s. Build everything again; if the build never compiles that file, say which files it does with covers: in the report", f.Path))
			return nil
		}
	}
	return err
}

// seenIn are the files that the log of a build tells something of, or shows to have been compiled; nil where it doesn't show
// what was.
func (c *collector) seenIn(r *reading, find func(string) report.Found) (map[string]bool, error) {
	made := &r.report.Compiled
	if r.from.runs && r.from.terms.Run.TakesFiles() || !made.Shown() || made.Vague {
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

// noteUnseen reports evidence that, by its own word, looked at none of the changed files.
func (c *collector) noteUnseen(r *reading) error {
	changed, err := c.changedFiles()
	if err != nil || len(changed) == 0 || !r.state.Sound() {
		return err
	}
	for file := range changed {
		if r.state.LooksAt(file) {
			return nil
		}
	}
	c.notices = append(c.notices, fmt.Sprintf("%s says that it looked at none of the changed files", r.state.Name))
	return nil
}

// coverUnread names the tool of a report that couldn't be read, as far as that is known without it.
func (r *reading) coverUnread() []baseline.Cover {
	tool := r.from.terms.Tool
	if tool == "" && r.from.format != policy.SARIF {
		tool = r.from.format
	}
	if tool == "" {
		return nil
	}
	return []baseline.Cover{{Tool: tool, Paths: []string{baseline.Everywhere}}}
}
