package measuring

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
		return q.Coverage != nil && (q.Coverage.Coverage[path] != nil || q.Coverage.Expects(path))
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
		return d.Of == measure.OfAll && !d.Number.Limiting().Least && d.Number != measure.NumberDebt
	})
	switch {
	case all && !t.Target.IsPatch:
		if paths, err = t.Target.Tree.Paths(); err != nil {
			return err
		}
		paths = slices.Clone(paths)
	default:
		var olds []string
		for _, f := range t.Change.Files {
			if f.Status != change.Deleted && f.Opaque != change.Submodule {
				paths = append(paths, f.Path)
			}
		}
		if t.Coverage != nil && t.any(func(d policy.Demand) bool { return d.Of == measure.OfAll && d.Number.Limiting().Least }) {
			paths = slices.Concat(paths, slices.Collect(maps.Keys(t.Coverage.Coverage)), olds)
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

// sizes takes the numbers that are read off the text alone.
func (t *taking) sizes() {
	t.once(measure.Number.Size, func(n measure.Number, of measure.Scope) {
		switch of {
		case measure.OfTouched:
			t.touchedLines(n)
		case measure.OfFunction:
			t.rows(n, of, measure.OfFunction)
		default:
			t.rows(n, of, measure.OfFile)
		}
	})
	t.once(func(n measure.Number) bool { return n == measure.NumberFindings }, func(n measure.Number, of measure.Scope) {
		for _, f := range t.files {
			if of == measure.OfAll || t.touches(f.Path) {
				t.add(measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Path}, Whole: f.Code.Count()})
			}
		}
	})
}

func (t *taking) add(v measure.Value) { t.values = append(t.values, v) }

// touchedLines counts the lines with code that the change touches.
func (t *taking) touchedLines(n measure.Number) {
	for _, f := range t.files {
		if !t.touches(f.Path) {
			continue
		}
		lines := 0
		for _, s := range f.Code {
			for line := s.First; line <= s.Last; line++ {
				if t.Change.Touches(f.Path, line) {
					lines++
				}
			}
		}
		t.add(measure.Value{Subject: measure.Subject{Number: n, Of: measure.OfTouched, Path: f.Path}, Part: lines})
	}
}

// rows takes a number of functions or files, and what it was before the change.
func (t *taking) rows(n measure.Number, of, rowsOf measure.Scope) {
	var changed, others []measure.Measured
	for _, f := range t.files {
		if t.touches(f.Path) {
			changed = append(changed, f)
		} else if of == measure.OfAll {
			others = append(others, f)
		}
	}
	rows := measure.Rows(changed, rowsOf)
	old := slices.SortedFunc(maps.Values(t.before), measure.ByPath)
	if t.Target.Diff != nil {
		rows = measure.Compare(rows, measure.Rows(old, rowsOf), t.Change)
	}
	value := func(r measure.Row) measure.Value {
		return measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: r.Path, Function: r.Function, Lines: r.Lines}, Part: r.Numbers[n], Estimated: r.Estimated && n.Guesses()}
	}
	for _, r := range rows {
		v := value(r)
		if r.Before != nil {
			v.Before = &measure.Parts{Part: r.Before[n]}
		}
		if of != measure.OfFunction || t.Change.Everything || t.Change.TouchesAny(r.Path, r.Lines) {
			t.add(v)
		}
	}
	for _, r := range measure.Rows(others, rowsOf) {
		v := value(r)
		v.Before = &measure.Parts{Part: v.Part}
		t.add(v)
	}
	if of != measure.OfAll {
		return
	}
	for _, f := range t.Change.Files { // what went away
		was, measured := t.before[f.Old]
		if f.Status != change.Deleted || !measured {
			continue
		}
		for _, r := range measure.Rows([]measure.Measured{was}, rowsOf) {
			t.add(measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Old}, Before: &measure.Parts{Part: r.Numbers[n]}})
		}
	}
}

// coverage takes what tests cover.
func (t *taking) coverage() {
	if t.Coverage == nil {
		return
	}
	isCoverage := func(n measure.Number) bool { return n == measure.NumberCoverage || n == measure.NumberBranches }
	t.once(isCoverage, func(n measure.Number, of measure.Scope) {
		for _, f := range t.files {
			lines, counts := t.Coverage.LinesOf(f, t.touches(f.Path) && !t.Change.Everything)
			if !counts || of != measure.OfAll && !t.touches(f.Path) {
				continue
			}
			if n == measure.NumberCoverage && t.touches(f.Path) && !t.Change.Everything {
				lines.AddUnknown(f, func(line int) bool { return t.Change.Touches(f.Path, line) })
			}
			v := measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Path}}
			count := func(take func(line int) bool) (p measure.Parts) { return lines.Parts(n, take) }
			everywhere := func(int) bool { return true }
			switch of {
			case measure.OfTouched:
				touched := func(line int) bool { return t.Change.Touches(f.Path, line) }
				parts := count(touched)
				v.Part, v.Whole = parts.Part, parts.Whole
				t.add(v)
				t.stretches(f, n, of, lines, touched)
				continue
			case measure.OfFunction:
				for _, fn := range f.Functions {
					if !t.Change.Everything && !t.Change.TouchesAny(f.Path, fn.Span) {
						continue
					}
					parts := count(func(line int) bool { return line >= fn.First && line <= fn.Last })
					v.Function, v.Lines, v.Part, v.Whole = fn.Name, fn.Span, parts.Part, parts.Whole
					t.add(v)
				}
				continue
			}
			parts := count(everywhere)
			v.Part, v.Whole, v.Before = parts.Part, parts.Whole, t.coverageBefore(f, n)
			t.add(v)
		}
		if of == measure.OfAll && t.Before != nil {
			t.coverageGone(n)
		}
	})
}

// coverageBefore is what tests covered of a file before the change, nil where that isn't known.
func (t *taking) coverageBefore(f measure.Measured, n measure.Number) *measure.Parts {
	if t.Before == nil {
		return nil
	}
	was := f
	if c := t.Change.File(f.Path); c != nil {
		if was = t.before[c.Old]; c.Old == "" || was.Path == "" {
			return nil
		}
	}
	lines, counts := t.Before.LinesOf(was, false)
	if !counts {
		return nil
	}
	parts := lines.Parts(n, func(int) bool { return true })
	return &parts
}

// coverageGone takes what tests covered of files that the change takes away.
func (t *taking) coverageGone(n measure.Number) {
	for _, f := range t.Change.Files {
		was, measured := t.before[f.Old]
		if f.Status != change.Deleted || !measured {
			continue
		}
		if lines, counts := t.Before.LinesOf(was, false); counts {
			parts := lines.Parts(n, func(int) bool { return true })
			t.add(measure.Value{Subject: measure.Subject{Number: n, Of: measure.OfAll, Path: f.Old}, Before: &parts})
		}
	}
}

// stretches makes findings of the stretches of lines that tests don't come to.
func (t *taking) stretches(f measure.Measured, n measure.Number, of measure.Scope, lines measure.FileCoverage, take func(line int) bool) {
	for _, s := range lines.Stretches(n, take) {
		message := "no test runs this changed line"
		switch {
		case n == measure.NumberBranches && s.Parts.Whole > 0:
			message = fmt.Sprintf("tests take %d of the %d ways on from this changed line", s.Parts.Whole-s.Parts.Part, s.Parts.Whole)
		case s.Parts.Part > 1:
			message = fmt.Sprintf("no test runs these %d changed lines", s.Parts.Part)
		}
		t.find(n, of, f.Path, s.Span, message, s.Parts.Part)
	}
}

// duplicates takes how many lines are duplicates.
func (t *taking) duplicates() error {
	isDuplicated := func(n measure.Number) bool { return n == measure.NumberDuplicated }
	if !t.any(func(d policy.Demand) bool { return isDuplicated(d.Number) }) || len(t.files) == 0 {
		return nil
	}
	q := DuplicatesRequest{Choice: t.choose(), Repo: t.Target.Repo, Side: t.Target.Side, From: Of(t.Target.Tree), Changes: func(path string) bool { return t.Change.File(path) != nil }}
	if t.Target.IsPatch || q.Repo == nil {
		files, err := t.Target.Tree.Paths()
		if err != nil {
			return err
		}
		q.Repo, q.Paths = nil, slices.Clone(files)
	}
	var looked []string
	all := t.any(func(d policy.Demand) bool { return isDuplicated(d.Number) && d.Of == measure.OfAll })
	for _, f := range t.files {
		if all || t.touches(f.Path) {
			looked = append(looked, f.Path)
		}
	}
	copied, err := Duplicates(q, looked)
	if err != nil {
		return err
	}
	before, err := t.duplicatesBefore()
	if err != nil {
		return err
	}
	t.once(isDuplicated, func(n measure.Number, of measure.Scope) {
		for _, f := range t.files {
			if of != measure.OfAll && !t.touches(f.Path) {
				continue
			}
			v := measure.Value{Subject: measure.Subject{Number: n, Of: of, Path: f.Path}}
			if of == measure.OfTouched {
				v.Part, v.Whole = t.copies(f, copied[f.Path])
			} else {
				v.Part, v.Whole = measure.Copies(copied[f.Path]).Count(), f.Code.Count()
				v.Before = before(f)
			}
			t.add(v)
		}
		if of == measure.OfAll {
			t.duplicatesGone(before)
		}
	})
	return nil
}

// copies counts the lines that the change touches and that are duplicates, and all touched lines with code. A stretch counts where
// the change touches enough of it to be one.
func (t *taking) copies(f measure.Measured, all []measure.Copied) (copies, touched int) {
	touches := func(lines change.Lines) change.Lines {
		var some []int
		for _, s := range lines {
			for n := s.First; n <= s.Last; n++ {
				if t.Change.Touches(f.Path, n) {
					some = append(some, n)
				}
			}
		}
		return change.LinesOf(some)
	}
	var counted change.Lines
	for _, c := range all {
		own := touches(c.Code)
		if own.Count() < t.Policy.Duplication.Lines {
			continue
		}
		counted = counted.Union(own)
		message := fmt.Sprintf("these %d changed lines duplicate other code", own.Count())
		found := t.find(measure.NumberDuplicated, measure.OfTouched, f.Path, change.Span{First: own[0].First, Last: own[len(own)-1].Last}, message, own.Count())
		found.Detail().Notes = []finding.Remark{{Message: fmt.Sprintf("the same, up to line %d", c.There.Last), Path: c.Other, Region: finding.Region{Line: c.There.First, EndLine: c.There.Last}}}
	}
	return counted.Count(), touches(f.Code).Count()
}

// duplicatesBefore finds which code was duplicated before the change, where that is asked for.
func (t *taking) duplicatesBefore() (before func(f measure.Measured) *measure.Parts, err error) {
	nothing := func(measure.Measured) *measure.Parts { return nil }
	diff := t.Target.Diff
	if diff == nil || !t.any(func(d policy.Demand) bool { return d.Number == measure.NumberDuplicated && d.NotWorse }) {
		return nothing, nil
	}
	tree, err := t.Target.Repo.Tree(diff.Old())
	if err != nil {
		return nothing, err
	}
	defer tree.Close()
	var looked []string
	was := map[string]measure.Measured{} // by its path now
	for _, f := range t.files {
		old := f
		if c := t.Change.File(f.Path); c != nil {
			old = t.before[c.Old]
		}
		if old.Path != "" {
			was[f.Path] = old
			looked = append(looked, old.Path)
		}
	}
	for path := range t.before {
		looked = append(looked, path)
	}
	slices.Sort(looked)
	copied, err := Duplicates(DuplicatesRequest{Choice: &Choice{Policy: t.Policy}, Repo: t.Target.Repo, Side: diff.Old(), From: Of(tree)}, slices.Compact(looked))
	parts := func(f measure.Measured) *measure.Parts {
		return &measure.Parts{Part: measure.Copies(copied[f.Path]).Count(), Whole: f.Code.Count()}
	}
	return func(f measure.Measured) *measure.Parts {
		if old, there := was[f.Path]; there {
			return parts(old)
		}
		if _, gone := t.before[f.Path]; gone {
			return parts(f)
		}
		return nil
	}, err
}

// duplicatesGone takes which code was duplicated of files that the change takes away.
func (t *taking) duplicatesGone(before func(f measure.Measured) *measure.Parts) {
	for _, f := range t.Change.Files {
		if was, measured := t.before[f.Old]; f.Status == change.Deleted && measured {
			t.add(measure.Value{Subject: measure.Subject{Number: measure.NumberDuplicated, Of: measure.OfAll, Path: f.Old}, Before: before(was)})
		}
	}
}

// find makes a finding about a number.
func (t *taking) find(n measure.Number, of measure.Scope, path string, lines change.Span, message string, part int) *finding.Finding {
	f := finding.Finding{
		Tool: measure.Tool, Rule: measure.Rule(n, of), Level: finding.Warning, Message: message, Path: path, Occurrences: 1, Sources: []string{measure.Tool},
		Region: finding.Region{Line: lines.First, EndLine: lines.Last}, Traits: &finding.Traits{Measured: fmt.Sprint(part)},
	}
	if lines.Last == lines.First {
		f.Region.EndLine = 0
	}
	t.shown = append(t.shown, f)
	return &t.shown[len(t.shown)-1]
}

// mostFiles is how many files are shown of a number of everything, those that weigh most.
const mostFiles = 20

// show makes findings of the values that may break a limit, and gives all findings the code that they stand on.
func (t *taking) show() error {
	weighty := map[measure.Number][]measure.Value{}
	for _, v := range t.values {
		switch {
		case v.Of == measure.OfFunction, v.Of == measure.OfFile:
			if t.mayBreak(v) {
				t.find(v.Number, v.Of, v.Path, v.Lines, v.Message(), v.Part)
			}
		case v.Of == measure.OfAll && v.Number.Limiting().Shares && v.Part > 0 && t.touches(v.Path):
			weighty[v.Number] = append(weighty[v.Number], v)
		}
	}
	for _, all := range weighty {
		slices.SortStableFunc(all, func(a, b measure.Value) int { return cmp.Compare(b.Part, a.Part) })
		for _, v := range all[:min(len(all), mostFiles)] {
			t.find(v.Number, v.Of, v.Path, change.Span{}, v.Message(), v.Part)
		}
	}
	return t.fillCode()
}

// mayBreak reports whether a value breaks the bound of some limit on it.
func (t *taking) mayBreak(v measure.Value) bool {
	return t.any(func(d policy.Demand) bool {
		if d.Number != v.Number || d.Of != v.Of {
			return false
		}
		bound := d.Bound
		if d.NotWorse {
			if v.Before == nil {
				return false
			}
			bound = d.NumberOf(*v.Before)
		}
		parts := measure.Parts{Part: v.Part, Whole: v.Whole}
		return d.Counts(parts) && !d.Holds(d.NumberOf(parts), bound)
	})
}

// fillCode gives the findings the code that they stand on.
func (t *taking) fillCode() error {
	for i := range t.shown {
		f := &t.shown[i]
		if f.Path == "" || f.Region.Line == 0 {
			continue
		}
		if t.texts[f.Path] == nil {
			data, _, err := t.Target.Tree.Read(f.Path)
			if err != nil {
				return err
			}
			t.texts[f.Path] = source.New(data)
		}
		f.Code = t.texts[f.Path].CodeAt(f.Region.Line)
	}
	return nil
}

// Rules are what there is to say of the rules of findings about numbers.
func Rules() map[string]finding.Rule {
	all := map[string]finding.Rule{}
	for _, n := range measure.Limited {
		for _, of := range n.Limiting().Scopes {
			if text := n.About(of); text != "" {
				all[measure.Rule(n, of)] = finding.Rule{Name: measure.Rule(n, of), Short: text, Help: n.Advice()}
			}
		}
	}
	return all
}
