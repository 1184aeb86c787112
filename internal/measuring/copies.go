package measuring

import (
	"fmt"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

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
	var counted change.Lines
	for _, c := range all {
		own := t.Change.Touched(f.Path, c.Code)
		if own.Count() < t.Policy.Duplication.Lines {
			continue
		}
		counted = counted.Union(own)
		message := fmt.Sprintf("these %d changed lines duplicate other code", own.Count())
		found := t.find(measure.NumberDuplicated, measure.OfTouched, f.Path, change.Span{First: own[0].First, Last: own[len(own)-1].Last}, message, own.Count())
		found.Detail().Notes = []finding.Remark{{Message: fmt.Sprintf("the same, up to line %d", c.There.Last), Path: c.Other, Region: finding.Region{Line: c.There.First, EndLine: c.There.Last}}}
	}
	return counted.Count(), t.Change.Touched(f.Path, f.Code).Count()
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
	for _, was := range t.gone() {
		t.add(measure.Value{Subject: measure.Subject{Number: measure.NumberDuplicated, Of: measure.OfAll, Path: was.Path}, Before: before(was)})
	}
}
