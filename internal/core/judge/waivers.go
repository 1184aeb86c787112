package judge

import (
	"slices"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
)

// WaiverUse is a waiver that set findings aside.
type WaiverUse struct {
	waiver.Waiver
	Added    bool     // by the change
	Findings []string // the IDs of those it set aside
}

// waiversLimit is the name of the limit that holds a change to how many waivers it may add.
const waiversLimit = "waivers"

// matchWaivers finds which waiver means which finding, and adds to the findings what is to be said of the waivers
// themselves.
func (j *judgement) matchWaivers() {
	if len(j.Waivers) == 0 {
		j.waiverOf = slices.Repeat([]int{none}, len(j.Findings))
		return
	}
	var rules []string
	for _, f := range j.Findings {
		rules = append(rules, f.Rule)
	}
	for _, e := range j.Baseline.Entries {
		rules = append(rules, e.Rule)
	}
	slices.Sort(rules)
	j.Waivers = slices.Clone(j.Waivers)
	matches := waiver.Match(j.Findings, j.Waivers, policy.MatchRule)
	problems := waiver.Problems(j.Waivers, slices.Compact(rules), j.lookedAll, j.Today, policy.MatchRule)
	j.Findings, j.waiverOf = mergeIn(j.Findings, matches, finding.Merge(problems))
}

// lookedAll reports whether every tool of the policy that looks at files like one has looked at it.
func (j *judgement) lookedAll(path string) bool {
	for _, r := range j.Policy.Reports {
		never := len(r.Covers) > 0 && !policy.MatchPath(r.Covers, path) || r.Run != nil && r.Run.TakesFiles() && !r.Run.TakesFile(path) || policy.MatchPath(r.Except, path)
		looked := func(e Evidence) bool { return e.Name == r.Name && e.Sound() && e.LooksAt(path) }
		if !never && !slices.ContainsFunc(j.Evidence, looked) {
			return false
		}
	}
	return true
}

// addsWaiver reports whether the change adds a waiver to its file: on a line of its own, or in a block that was moved there
// from another file.
func (j *judgement) addsWaiver(w waiver.Waiver) bool {
	if j.Change.Everything || j.Change.Touches(w.Path, w.Line) {
		return !j.Change.Everything
	}
	f := j.Whole.File(w.Path)
	if f == nil || f.OldLine(w.Line) != 0 || j.Texts.Old == nil || j.Texts.New == nil {
		return false
	}
	old, now := j.Texts.Old(f.Old), j.Texts.New(w.Path)
	if f.Old == "" || old == nil || now == nil {
		return true
	}
	line := source.Collapse(now.Line(w.Line))
	for n := 1; n <= old.Len(); n++ {
		if source.Collapse(old.Line(n)) == line {
			return false
		}
	}
	return true
}

// mergeIn puts findings about waivers among the others, both being in finding.Order, and gives the matches of all.
func mergeIn(findings []finding.Finding, matches []int, problems []finding.Finding) (all []finding.Finding, matched []int) {
	for len(findings)+len(problems) > 0 {
		switch {
		case len(problems) == 0 || len(findings) > 0 && finding.Order(findings[0], problems[0]) <= 0:
			all, matched = append(all, findings[0]), append(matched, matches[0])
			findings, matches = findings[1:], matches[1:]
		default:
			if n := len(all) - 1; n >= 0 && finding.Order(all[n], problems[0]) == 0 { // read back from a verdict
				all = append(all[:n], finding.Merge([]finding.Finding{all[n], problems[0]})...)
			} else {
				all = append(all, problems[0])
			}
			for len(matched) < len(all) {
				matched = append(matched, none)
			}
			problems = problems[1:]
		}
	}
	return all, matched
}

// waives reports whether a finding is set aside by the code or by its tool, as the door lets them.
func (j *judgement) waives(i int, f Finding) bool {
	rules := j.Door.Waivers
	if f.Tool == waiver.Tool || !rules.MayWaive(j.Policy.Ladder, *f.Finding, f.Severity) {
		return false
	}
	return j.validWaiver(i) != none || rules.Tool && f.Suppressed
}

// validWaiver is the index of the waiver in the code that sets a finding aside, or none.
func (j *judgement) validWaiver(i int) int {
	if n := j.waiverOf[i]; n != none && j.Door.Waivers.Code && j.Waivers[n].Valid(j.Today) {
		return n
	}
	return none
}

// addWaivers lists the waivers that set findings aside, and holds the change to how many it adds.
func (v *Verdict) addWaivers(j *judgement) {
	uses := make([]WaiverUse, len(j.Waivers))
	for i, w := range j.Waivers {
		uses[i] = WaiverUse{Waiver: w, Added: j.addsWaiver(w)}
	}
	for i, f := range v.Findings {
		if n := j.validWaiver(i); f.Standing == Waived && n != none {
			uses[n].Findings = append(uses[n].Findings, f.ID)
		}
	}
	most := j.Door.Waivers.Most
	result := LimitResult{Limit: policy.Limit{Name: waiversLimit, Most: most, Mode: policy.Enforce}, Counted: WaiversMade, Mode: j.Door.Mode, Bound: most}
	for _, use := range uses {
		if len(use.Findings) == 0 {
			continue
		}
		v.Waivers = append(v.Waivers, use)
		if use.Added {
			result.Found++
		}
	}
	if result.Found > 0 {
		result.Held = result.Found <= result.Most
		v.Limits = append(v.Limits, result)
	}
}
