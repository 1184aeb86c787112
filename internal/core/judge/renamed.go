package judge

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// Renamed is a tool that the baseline knows by another name.
type Renamed struct {
	Was, Now string
	Same     int // how many of its findings the baseline has under that name
	Findings int // how many it has
}

// wording is what stays of a finding when its tool is called otherwise.
type wording struct{ path, rule, message string }

// renamedTools finds the tools that the baseline covers by another name: it covers one that no report is of, and has under
// that name at least half of what is found by one that it doesn't cover.
func (in Input) renamedTools() (all []Renamed) {
	lost := in.coveredWithoutReport()
	if len(lost) == 0 {
		return nil
	}
	now := map[string]map[wording]int{} // what is found by tools that the baseline doesn't cover
	for _, f := range in.Findings {
		if in.Baseline.KnowsTool(f.Tool) {
			continue
		}
		if now[f.Tool] == nil {
			now[f.Tool] = map[wording]int{}
		}
		now[f.Tool][wording{f.Path, f.Rule, f.Message}]++
	}
	if len(now) == 0 {
		return nil
	}
	renames := in.Whole.Renames()
	was := map[string]map[wording]int{}
	for _, tool := range lost {
		was[tool] = map[wording]int{}
	}
	for _, e := range in.Baseline.Entries {
		if was[e.Tool] == nil {
			continue
		}
		was[e.Tool][wording{cmp.Or(renames[e.Path], e.Path), e.Rule, e.Message}]++
	}
	taken := map[string]bool{}
	for _, tool := range slices.Sorted(maps.Keys(now)) {
		best := Renamed{Now: tool}
		for _, n := range now[tool] {
			best.Findings += n
		}
		for _, old := range lost {
			same := 0
			for w, n := range now[tool] {
				same += min(n, was[old][w])
			}
			if same > best.Same && !taken[old] {
				best.Was, best.Same = old, same
			}
		}
		if best.Same*2 >= best.Findings {
			taken[best.Was] = true
			all = append(all, best)
		}
	}
	return all
}

// coveredWithoutReport lists the tools that the baseline covers and no report is of, sorted; none where a report can't be read,
// which may be of any.
func (in Input) coveredWithoutReport() (tools []string) {
	if slices.ContainsFunc(in.Evidence, func(e Evidence) bool { return len(e.Covers) == 0 && !e.Sound() }) {
		return nil
	}
	for _, c := range in.Baseline.Covers {
		here := slices.ContainsFunc(in.Evidence, func(e Evidence) bool {
			return slices.ContainsFunc(e.Covers, func(o baseline.Cover) bool { return o.Tool == c.Tool })
		}) || slices.ContainsFunc(in.Findings, func(f finding.Finding) bool { return f.Tool == c.Tool })
		if !here {
			tools = append(tools, c.Tool)
		}
	}
	slices.Sort(tools)
	return slices.Compact(tools)
}

// remarksOnTools reports tools that the baseline knows by another name, and reports that may be of another tool than it
// knows.
func (j *judgement) remarksOnTools() (notices []string) {
	known := map[string]bool{}
	for _, r := range j.renamed {
		known[r.Was], known[r.Now] = true, true
		notices = append(notices, fmt.Sprintf(
			"%s is taken as %s, the name in the baseline: it has %d of its %s. To keep the new name: zincdoor baseline sweep; to keep the old one: tool: %s in the report",
			r.Now, r.Was, r.Same, finding.Count(r.Findings), r.Was))
	}
	var lost []string
	for _, tool := range j.coveredWithoutReport() {
		if !known[tool] {
			lost = append(lost, tool)
		}
	}
	if len(lost) == 0 {
		return notices
	}
	for _, e := range j.Evidence {
		for _, c := range e.Covers {
			if e.Pinned || e.Format == house.Tool || e.Format == measure.Tool || e.Format == policy.Coverage || known[c.Tool] || j.Baseline.KnowsTool(c.Tool) {
				continue
			}
			known[c.Tool] = true
			notices = append(notices, fmt.Sprintf(
				"%s comes from %s, which the baseline doesn't cover; the baseline covers %s, and there is no report of it. If that is another name of the tool, say one name with tool: in the report",
				e.Name, c.Tool, lost[0]))
		}
	}
	return notices
}

// nameTools finds out which tools of the baseline are called otherwise now.
func (j *judgement) nameTools() {
	j.renamed, j.toolNow = j.renamedTools(), map[string]string{}
	for _, r := range j.renamed {
		j.toolNow[r.Was] = r.Now
	}
	j.cover = &baseline.Baseline{Covers: slices.Clone(j.Baseline.Covers)}
	for i := range j.cover.Covers {
		j.cover.Covers[i].Tool = j.toolOf(j.cover.Covers[i].Tool)
	}
}

// toolOf is how a tool of the baseline is called now.
func (j *judgement) toolOf(tool string) string { return cmp.Or(j.toolNow[tool], tool) }

// today gives entries with the names that their tools have now.
func (j *judgement) today(entries []baseline.Entry) []baseline.Entry {
	if len(j.toolNow) == 0 {
		return entries
	}
	entries = slices.Clone(entries)
	for i := range entries {
		entries[i].Tool = j.toolOf(entries[i].Tool)
	}
	return entries
}
