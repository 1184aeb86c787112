package measuring

import (
	"context"
	"errors"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/target"
)

// Request says what the limits of a door are to be held against.
type Request struct {
	Target   *target.Target
	Policy   *policy.Policy
	Door     policy.Door
	Change   *change.Change
	Coverage *measure.Reported // nil where no report of it is believed
	Before   *measure.Reported // of the state before the change
}

// Result are the numbers that the door's limits need, and the findings about those that may break one.
type Result struct {
	Measures judge.Measures
	Findings []finding.Finding // in finding.Order
	Evidence []judge.Evidence
	Rules    map[string]finding.Rule // what there is to say of the rules of the findings
	Texts    map[string]*source.Text // of the files that findings stand in
}

// taking takes the numbers of a call.
type taking struct {
	Request
	choice  *Choice
	demands []policy.Demand // of the door's limits
	files   []measure.Measured
	before  map[string]measure.Measured // by their paths before the change
	values  []measure.Value
	shown   []finding.Finding
	texts   map[string]*source.Text // of the files that these stand in
}

// ForLimits takes the numbers that the limits of a door need. Where it has none on numbers nothing is read.
func ForLimits(ctx context.Context, q Request) (*Result, error) {
	t := &taking{Request: q, before: map[string]measure.Measured{}, texts: map[string]*source.Text{}}
	for _, l := range q.Door.Limits {
		if l.Demands() {
			t.demands = append(t.demands, *l.Demand)
		}
	}
	switch {
	case len(t.demands) == 0:
		return &Result{}, nil
	case q.Target.Kind == policy.Staged && len(q.Change.Files) == 0: // nothing is staged, and no evidence was asked for
		return &Result{Measures: judge.Measures{Known: measure.Limited, Before: measure.Limited}}, nil
	}
	t.choice = t.choose()
	t.choice.Also = func(path string) bool {
		return q.Coverage != nil && (q.Coverage.Coverage[path] != nil || q.Coverage.Expects(path)) || q.Before != nil && q.Before.Coverage[path] != nil
	}
	if err := t.read(); err != nil {
		return nil, err
	}
	t.sizes()
	t.coverage()
	if err := t.duplicates(); err != nil {
		return nil, err
	}
	slices.SortFunc(t.values, measure.ByPlace)
	if err := t.show(); err != nil {
		return nil, err
	}
	r := &Result{Findings: finding.Merge(t.shown), Rules: Rules(), Texts: t.texts}
	r.Measures = judge.Measures{Values: t.values, Known: t.known(), Before: t.knownBefore()}
	r.Evidence = []judge.Evidence{{
		Name: measure.Tool, Format: measure.Tool, State: judge.Read, Optional: true, Along: !q.Door.NeedsMeasures(), Partly: q.Target.Diff != nil,
		Files: len(t.files), Findings: len(r.Findings), Covers: []baseline.Cover{{Tool: measure.Tool, Paths: t.covers()}},
	}}
	return r, nil
}

// choose chooses files of the judged state.
func (t *taking) choose() *Choice { return &Choice{Policy: t.Policy, Marks: t.marks, Binary: true} }

// marks reports whether a marker of generated files counts in a file: what the change writes itself says nothing.
func (t *taking) marks(path string) bool {
	f := t.Change.File(path)
	if f == nil {
		return true
	}
	if t.Target.Diff == nil || f.Old != path {
		return false
	}
	data, found, err := t.Target.Diff.ReadOld(path)
	return err == nil && found && source.New(data).Any(t.Policy.Marker.MatchString)
}

// any reports whether a limit is on such a number.
func (t *taking) any(is func(d policy.Demand) bool) bool { return slices.ContainsFunc(t.demands, is) }

// known are the numbers that were taken.
func (t *taking) known() (all []measure.Number) {
	for _, n := range measure.Limited {
		switch n {
		case measure.NumberCoverage:
			if t.Coverage == nil {
				continue
			}
		case measure.NumberBranches:
			if t.Coverage == nil || !t.Coverage.HasBranches() {
				continue
			}
		}
		all = append(all, n)
	}
	return all
}

// knownBefore are the numbers of which is known what they were before the change.
func (t *taking) knownBefore() (all []measure.Number) {
	for _, n := range measure.Limited {
		switch {
		case (n.Size() || n == measure.NumberDuplicated) && t.Target.Diff != nil,
			n == measure.NumberCoverage && t.Before != nil,
			n == measure.NumberBranches && t.Before != nil && t.Before.HasBranches():
			all = append(all, n)
		}
	}
	return all
}

// covers are the globs of the files that were looked at.
func (t *taking) covers() (globs []string) {
	if t.Change.Everything {
		return []string{baseline.Everywhere}
	}
	for _, f := range t.files {
		if t.Change.File(f.Path) != nil {
			globs = append(globs, baseline.PathGlob(f.Path))
		}
	}
	return globs
}

// touches reports whether the change touches a file.
func (t *taking) touches(path string) bool { return t.Change.Everything || t.Change.File(path) != nil }

// read measures the files that the limits are on, and those of the change as they were before.
func (t *taking) read() (err error) {
	var paths []string
	all := t.Change.Everything || t.any(func(d policy.Demand) bool {
		return d.Of == measure.OfAll && !d.Number.Limiting().Least && d.Number != measure.NumberDebt && d.Number != measure.NumberReported
	})
	switch {
	case all && !t.Target.IsPatch:
		if paths, err = t.Target.Tree.Paths(); err != nil {
			return err
		}
		paths = slices.Clone(paths)
	default:
		for _, f := range t.Change.Files {
			if f.Status != change.Deleted && f.Opaque != change.Submodule {
				paths = append(paths, f.Path)
			}
		}
		if t.Coverage != nil && t.any(func(d policy.Demand) bool { return d.Of == measure.OfAll && d.Number.Limiting().Least }) {
			paths = slices.Concat(paths, t.Coverage.Paths())
			if t.Before != nil {
				paths = slices.Concat(paths, t.Before.Paths())
			}
		}
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	if t.files, err = t.choice.Measure(t.choice.Left(paths), Of(t.Target.Tree), nil); err != nil {
		return err
	}
	diff := t.Target.Diff
	if diff == nil || !t.any(func(d policy.Demand) bool { return d.Number.Size() && d.Of != measure.OfTouched || d.NotWorse }) {
		return nil
	}
	var olds []string
	for _, f := range t.Change.Files {
		if f.Old != "" {
			olds = append(olds, f.Old)
		}
	}
	before := &Choice{Policy: t.Policy, Also: t.choice.Also}
	measured, err := before.Measure(before.Left(olds), State{ReadAll: diff.ReadOlds, Read: diff.ReadOld}, nil)
	for _, f := range measured {
		t.before[f.Path] = f
	}
	return errors.Join(err, diff.CloseOld())
}

// gone are the files that the change takes away, as they were.
func (t *taking) gone() (all []measure.Measured) {
	for _, f := range t.Change.Files {
		if was, measured := t.before[f.Old]; f.Status == change.Deleted && measured {
			all = append(all, was)
		}
	}
	return all
}

// once hands over each number and scope that some limit is on.
func (t *taking) once(takes func(n measure.Number) bool, do func(n measure.Number, of measure.Scope)) {
	seen := map[string]bool{}
	for _, d := range t.demands {
		if rule := measure.Rule(d.Number, d.Of); takes(d.Number) && !seen[rule] {
			seen[rule] = true
			do(d.Number, d.Of)
		}
	}
}
