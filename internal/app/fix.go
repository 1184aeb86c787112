package app

import (
	"context"
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
	Takes  func(p *policy.Policy) (func(judge.Finding) bool, error)
}

// Fixing is a fix on its way: what is chosen, what is suggested for it, and what becomes of the files. It must be closed.
type Fixing struct {
	*Judged
	Chosen []int // the findings to fix, as indices

	request FixRequest
	files   *fixing.Files
}

// OpenFix judges a change and chooses what to fix: findings on lines of the change, from reports that are evidence, that
// aren't set aside. It is nil where the door wants no fixes and they were asked for by it alone.
func OpenFix(ctx context.Context, q FixRequest) (*Fixing, error) {
	judgeIt := List
	if q.Door != "" {
		judgeIt = Gate
	}
	all, err := judgeIt(ctx, q.GateRequest)
	if err != nil {
		return nil, err
	}
	f := &Fixing{Judged: all[0], request: q}
	if q.ByDoor && !f.Input.Door.Fix {
		return nil, nil
	}
	takes, err := q.Takes(f.Input.Policy)
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

// Close ends the fix.
func (f *Fixing) Close() error { return f.files.Close() }

// Suggestions are what can be done: for the chosen findings by our own checks, which are surest, then by the tools; then
// what linters alter by themselves. The problems say which of these failed.
func (f *Fixing) Suggestions(ctx context.Context) (all []fix.Suggestion, problems []string, err error) {
	for _, ours := range []bool{true, false} {
		for _, i := range f.Chosen {
			one := f.Findings[i]
			if fixes := one.Details().Fixes; (one.Tool == house.Tool) == ours && len(fixes) > 0 {
				all = append(all, fix.Suggestion{Index: i, Tool: one.Tool, Edits: fixes[0].Edits, Columns: one.Columns})
			}
		}
	}
	linted, problems, err := f.files.ByLinters(ctx, f.Input.Policy, f.Refused, f.trusted, f.paths())
	return append(all, linted...), problems, err
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
	Fixed     []int      // the findings, as indices
	ByLinters int        // how many pieces linters alter by themselves
	Left      []fix.Left // suggestions for findings that weren't taken, and why
	None      []int      // chosen findings for which nothing is suggested
	Untouched int        // how many lines beyond the change are altered
	pieces    map[string][]fix.Piece
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
	settled := map[int]bool{}
	leave := func(index int, why string) {
		if settled[index] = true; index >= 0 {
			plan.Left = append(plan.Left, fix.Left{Index: index, Why: why})
		}
	}
	for _, l := range taken.Left {
		leave(l.Index, l.Why)
	}
	for _, i := range taken.Taken {
		switch {
		case i < 0:
			plan.ByLinters++
		case aside[f.Findings[i].Path] != "":
			leave(i, f.Findings[i].Path+": "+aside[f.Findings[i].Path])
		default:
			plan.Fixed = append(plan.Fixed, i)
			settled[i] = true
		}
	}
	for _, i := range f.Chosen {
		if !settled[i] {
			plan.None = append(plan.None, i)
		}
	}
	if f.request.All {
		plan.Untouched = f.untouched(plan)
	}
	return plan, nil
}

// untouched counts the lines beyond the change that are altered.
func (f *Fixing) untouched(plan *FixPlan) (n int) {
	for _, file := range plan.Files {
		lines := map[int]bool{}
		for _, piece := range plan.pieces[file.Path] {
			first, last := fix.Lines(file.Old, piece)
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
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	return paths, nil
}
