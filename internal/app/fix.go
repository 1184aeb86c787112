package app

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/fixing"
	"zincdoor/internal/syntax"
	"zincdoor/internal/target"
)

// FixRequest is what to fix.
type FixRequest struct {
	GateRequest
	Broken bool // only what broke a limit of the door
	All    bool // also on lines that the change doesn't touch
	ByDoor bool // nothing, unless the door wants fixes
	Write  bool // what is planned will be written
	Takes  func(j *Judged) (func(judge.Finding) bool, error)
}

// Fixing is a fix on its way: what is chosen, what is suggested for it, and what becomes of the files. It must be closed.
type Fixing struct {
	*Judged
	Chosen    []int // the findings to fix, as indices
	Recovered Recovered

	request FixRequest
	files   *fixing.Files
}

// OpenFix judges a change and chooses what to fix: findings on lines of the change, from reports that are evidence, that
// aren't set aside. It is nil where the door wants no fixes and they were asked for by it alone.
func OpenFix(ctx context.Context, q FixRequest) (*Fixing, error) {
	var recovered Recovered
	if q.Write {
		var err error
		if recovered, err = recoverFix(ctx, q.Dir); err != nil {
			return nil, err
		}
	}
	q.fixing = true
	judgeIt := List
	if q.Door != "" {
		judgeIt = Gate
	}
	all, err := judgeIt(ctx, q.GateRequest)
	if err != nil {
		return nil, err
	}
	f := &Fixing{Judged: all[0], Recovered: recovered, request: q}
	if q.ByDoor && !f.Input.Door.Fix {
		return nil, nil
	}
	takes, err := q.Takes(f.Judged)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	broke := f.Broken()
	for i, one := range f.Findings {
		aside := one.Standing == judge.Accepted || one.Standing == judge.Waived
		touched := one.Place == change.OnTouched || q.All && !one.Outside
		if touched && !aside && (!q.Broken || slices.Contains(broke, i)) && takes(one) {
			f.Chosen = append(f.Chosen, i)
		}
	}
	f.files, err = fixing.Open(ctx, q.Dir, q.Change.Kind)
	return f, err
}

// Recovered is what became of a fix that was interrupted: the files that it had altered and that are as they were before it, and
// those that were altered since and are left as they are.
type Recovered struct{ Back, Altered []string }

func recoverFix(ctx context.Context, dir string) (r Recovered, err error) {
	files, err := fixing.Open(ctx, dir, policy.Worktree)
	if err != nil {
		return r, err
	}
	defer files.Close()
	r.Back, r.Altered, err = files.Recover()
	return r, err
}

// Close ends the fix.
func (f *Fixing) Close() error { return f.files.Close() }

// Suggestions are what can be done: for the chosen findings by our own checks, which are surest, then by the tools; then
// what linters alter by themselves. The problems say which of these failed.
func (f *Fixing) Suggestions(ctx context.Context) (all []fix.Suggestion, problems []string, err error) {
	all = f.Suggested(f.Chosen)
	linted, problems, err := f.files.ByLinters(ctx, f.Input.Policy, f.Refused, f.trusted, f.paths())
	return append(all, linted...), problems, err
}

// Suggested are the fixes that come with some findings: first those of our own checks, which are surest.
func (j *Judged) Suggested(findings []int) (all []fix.Suggestion) {
	for _, ours := range []bool{true, false} {
		for _, i := range findings {
			one := j.Findings[i]
			if fixes := one.Details().Fixes; (one.Tool == house.Tool) == ours && len(fixes) > 0 {
				all = append(all, fix.Suggestion{Index: i, Tool: one.Tool, Edits: fixes[0].Edits, Columns: one.Columns})
			}
		}
	}
	return all
}

// paths are the files that the findings, or the change, are about.
func (f *Fixing) paths() (paths []string) {
	for _, file := range f.Input.Change.Files {
		if file.Status != change.Deleted && file.Opaque == "" {
			paths = append(paths, file.Path)
		}
	}
	for _, one := range f.Findings {
		if f.Input.Change.Everything && one.Path != "" && !one.Outside {
			paths = append(paths, one.Path)
		}
	}
	slices.Sort(paths)
	return slices.Compact(paths)
}

// Diff is a file with its old text and its new one.
type Diff struct {
	Path     string
	Old, New []byte
}

// Preview is what one suggestion would do alone.
func (f *Fixing) Preview(s fix.Suggestion) (all []Diff) {
	single := fix.Choose([]fix.Suggestion{s}, f.files.Text, func(string, int) bool { return true })
	for path, pieces := range single.Pieces {
		old := f.files.Text(path).Data
		all = append(all, Diff{path, old, fix.Apply(old, pieces)})
	}
	return all
}

// FixPlan is what is to be written, and what isn't.
type FixPlan struct {
	Files     []fixing.Fixed
	Fixed     []int         // the findings, as indices, that are fixed as was suggested for them
	ByLinters []int         // those on lines that linters alter by themselves
	Hunks     int           // how many pieces those are
	Left      []LeftFinding // chosen findings with suggestions that weren't taken
	None      []int         // chosen findings for which nothing is suggested
	Untouched int           // how many lines beyond the change are altered
	Then      judge.Verdict // what the verdict is without the findings that are fixed
	pieces    map[string][]fix.Piece
}

// LeftFinding is a finding, by its index, that is left as it is, and why.
type LeftFinding struct {
	Index int
	Why   string
}

// Plan takes the suggestions that go together, on the lines that may be altered.
func (f *Fixing) Plan(suggestions []fix.Suggestion) (*FixPlan, error) {
	may := f.TouchedWithSpace
	if f.request.All {
		may = func(string, int) bool { return true }
	}
	taken := fix.Choose(suggestions, f.files.Text, may)
	files, aside, err := f.files.Ready(taken)
	if err != nil {
		return nil, err
	}
	plan := &FixPlan{Files: files, pieces: taken.Pieces}
	fixed, why, linters := map[int]bool{}, map[int]string{}, f.onHunks(suggestions)
	about := func(position int) []int { // the findings that a suggestion is for
		if i := suggestions[position].Index; i >= 0 {
			return []int{i}
		}
		return linters[position]
	}
	for _, position := range taken.Taken {
		byLinter := suggestions[position].Index < 0
		if byLinter {
			plan.Hunks++
		}
		for _, i := range about(position) {
			path := f.Findings[i].Path
			switch {
			case aside[path] != "":
				why[i] = path + ": " + aside[path]
			case byLinter && !fixed[i]:
				plan.ByLinters = append(plan.ByLinters, i)
				fixed[i] = true
			case !byLinter:
				plan.Fixed = append(plan.Fixed, i)
				fixed[i] = true
			}
		}
	}
	for _, l := range taken.Left {
		for _, i := range about(l.Position) {
			why[i] = cmp.Or(why[i], l.Why)
		}
	}
	for _, i := range f.Chosen {
		switch {
		case fixed[i]:
		case why[i] != "":
			plan.Left = append(plan.Left, LeftFinding{i, why[i]})
		default:
			plan.None = append(plan.None, i)
		}
	}
	plan.Then = f.without(fixed)
	if f.request.All {
		plan.Untouched = f.untouched(plan)
	}
	return plan, nil
}

// onHunks finds for each suggestion of a linter, by its position, the chosen findings of that linter on the lines it alters.
func (f *Fixing) onHunks(suggestions []fix.Suggestion) map[int][]int {
	type line struct {
		report, path string
		number       int
	}
	standing := map[line][]int{}
	for _, i := range f.Chosen {
		one := f.Findings[i]
		for n := one.Region.Line; n <= min(one.Region.Last(), one.Region.Line+mostRegion) && n > 0; n++ {
			for _, report := range one.Sources {
				standing[line{report, one.Path, n}] = append(standing[line{report, one.Path, n}], i)
			}
		}
	}
	found, indices := map[int][]int{}, map[string]*fix.Index{}
	for position, s := range suggestions {
		if s.Index >= 0 {
			continue
		}
		for _, e := range s.Edits {
			if indices[e.Path] == nil {
				indices[e.Path] = fix.NewIndex(f.files.Text(e.Path).Data)
			}
			piece, err := indices[e.Path].Resolve(e, s.Columns)
			if err != nil {
				continue
			}
			first, last := indices[e.Path].Lines(piece)
			for n := first; n <= last; n++ {
				found[position] = append(found[position], standing[line{s.Tool, e.Path, n}]...)
			}
		}
		slices.Sort(found[position])
		found[position] = slices.Compact(found[position])
	}
	return found
}

// mostRegion is how many lines of a long finding are looked at for what a linter alters.
const mostRegion = 100

// without is the verdict as it would be without some findings, by their indices, and without what else speaks of the same fault.
func (f *Fixing) without(fixed map[int]bool) judge.Verdict {
	gone := map[*finding.Finding]bool{}
	for i := range fixed {
		gone[f.Findings[i].Finding] = true
		for _, also := range f.Findings[i].Also {
			gone[also.Finding] = true
		}
	}
	in := f.Input
	in.Findings = nil
	for i := range f.Input.Findings {
		if one := &f.Input.Findings[i]; !gone[one] {
			in.Findings = append(in.Findings, *one)
		}
	}
	return judge.Judge(in)
}

// untouched counts the lines beyond the change that are altered.
func (f *Fixing) untouched(plan *FixPlan) (n int) {
	for _, file := range plan.Files {
		lines, index := map[int]bool{}, fix.NewIndex(file.Old)
		for _, piece := range plan.pieces[file.Path] {
			first, last := index.Lines(piece)
			for line := first; line <= last; line++ {
				lines[line] = lines[line] || !f.TouchedWithSpace(file.Path, line)
			}
		}
		for _, beyond := range lines {
			if beyond {
				n++
			}
		}
	}
	return n
}

// Write writes a plan's files, and gives what our own checks find in them that they didn't before.
func (f *Fixing) Write(plan *FixPlan) (fresh []finding.Finding, err error) {
	if err := f.files.Write(plan.Files); err != nil {
		return nil, err
	}
	for _, file := range plan.Files {
		settings := f.Input.Policy.HouseFor(file.Path)
		check := func(data []byte) []finding.Finding {
			return house.Check(house.File{Path: file.Path, Data: data, Size: int64(len(data))}, settings, syntax.Parsers)
		}
		had := map[string]int{}
		for _, before := range check(file.Old) {
			had[before.Rule]++
		}
		for _, after := range check(file.New) {
			if had[after.Rule]--; had[after.Rule] < 0 {
				fresh = append(fresh, after)
			}
		}
	}
	return fresh, nil
}

// Undo takes back what was written last, and gives the paths.
func Undo(ctx context.Context, dir string) ([]string, error) {
	files, err := fixing.Open(ctx, dir, policy.Worktree)
	if err != nil {
		return nil, err
	}
	defer files.Close()
	paths, err := files.Undo()
	if errors.Is(err, fixing.ErrNothing) || errors.Is(err, fixing.ErrAltered) {
		return nil, target.WrongCall("%v", err)
	}
	return paths, err
}
