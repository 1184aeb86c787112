package judge

import (
	"cmp"
	"fmt"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
)

// loseCover takes evidence for failed whose tool gave up a file that has something to be recognised: it may be there, and isn't
// told.
func (j *judgement) loseCover() {
	renames := j.Change.Renames()
	j.Evidence = slices.Clone(j.Evidence)
	for i := range j.Evidence {
		e := &j.Evidence[i]
		if len(e.Lost) == 0 || !e.Sound() {
			continue
		}
		known := func(tool, path string) bool {
			path = cmp.Or(renames[path], path)
			_, lost := slices.BinarySearch(e.Lost, path)
			return lost && slices.ContainsFunc(e.Covers, func(c baseline.Cover) bool { return c.Tool == tool })
		}
		at := slices.IndexFunc(j.Baseline.Entries, func(o baseline.Entry) bool { return known(j.toolOf(o.Tool), o.Path) })
		before := slices.IndexFunc(j.BaseFindings, func(f finding.Finding) bool { return known(f.Tool, f.Path) })
		switch {
		case at >= 0:
			e.State, e.Problem = Failed, fmt.Sprintf("%s, so the accepted findings in %s can't be checked; make the file compile, and run the tool again", e.Trouble, j.Baseline.Entries[at].Path)
		case before >= 0:
			e.State, e.Problem = Failed, fmt.Sprintf("%s, so earlier findings in %s can't be checked; make the file compile, and run the tool again", e.Trouble, j.BaseFindings[before].Path)
		}
	}
}

// coveredNow reports whether sound evidence looked at a file with a tool, and all evidence of the tool is sound.
func (in Input) coveredNow(tool, path string) bool {
	if in.Texts.Away != nil && in.Texts.Away(path) {
		return false
	}
	covered := false
	for _, evidence := range in.Evidence {
		if !evidence.Before && (&baseline.Baseline{Covers: evidence.Covers}).CoversFinding(tool, path) {
			if covered = evidence.Sound() && !slices.Contains(evidence.Lost, path); !covered {
				return false
			}
		}
	}
	return covered
}
