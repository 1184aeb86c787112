package judge

import (
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// holdLimits holds the findings against every limit of the door. Demanded are the results of those on numbers about code, by their
// places.
func holdLimits(j *judgement, v *Verdict, demanded map[int]LimitResult) []LimitResult {
	results := make([]LimitResult, 0, len(j.Door.Limits))
	for n, limit := range j.Door.Limits {
		if r, held := demanded[n]; held {
			results = append(results, r)
			continue
		}
		r := LimitResult{Limit: limit, Mode: j.Door.ModeOf(limit), Bound: limit.Most, Waiting: !limit.InForce(j.Today)}
		aside := 0
		for i, f := range v.Findings {
			if !selects(&limit, j.Policy.Ladder, f) || limit.NoGrowth && len(j.BaseCovers) > 0 && !f.AnySource(func(s Finding) bool { return j.onBothSides(s.Tool, s.Path) }) {
				continue
			}
			// Without base findings, what one change was allowed would shut the next.
			if limit.Count == policy.CountNew && limit.Most > 0 && f.Place != change.OnTouched && !f.Fresh && !f.AnySource(func(s Finding) bool { return j.baseCover.CoversFinding(s.Tool, s.Path) }) {
				aside++
				continue
			}
			r.Findings = append(r.Findings, i)
		}
		if aside > 0 {
			v.Notices = append(v.Notices, fmt.Sprintf(
				"limit %q allows more than none and there are no base findings to compare with, so it counts only findings on changed lines; %s on other lines aren't counted",
				limit.Name, finding.Count(aside)))
		}
		r.bind(j, v, j.Beside[n])
		results = append(results, r)
	}
	return results
}

// bind counts what the limit selected, and beside that some that aren't among the findings, and holds it against its bound.
func (r *LimitResult) bind(j *judgement, v *Verdict, beside int) {
	r.Found = len(r.Findings) + beside
	switch {
	case r.NoGrowth && len(j.BaseCovers) == 0:
		r.Unknown, r.Held = true, true
		v.Notices = append(v.Notices, fmt.Sprintf(
			"limit %q allows no growth, and the findings before the change aren't known; name the report made then: --base-report FILE", r.Name))
		return
	case r.NoGrowth:
		r.Bound = j.countBase(&r.Limit)
	case r.PerLines > 0:
		r.Bound = r.Most * max(1, (j.Change.TouchedLines(j.looksAt)+r.PerLines-1)/r.PerLines)
	case r.EachFile:
		r.worstFiles(v.Findings)
		r.Found = max(r.Found, beside)
	}
	r.Held = r.Found <= r.Bound
}

// worstFiles counts findings by file: what counts is the file with the most, and the findings are those of files with
// too many, or of the one with the most where there are none.
func (r *LimitResult) worstFiles(all []Finding) {
	counts := map[string]int{}
	r.Found = 0
	for _, i := range r.Findings {
		counts[all[i].Path]++
		r.Found = max(r.Found, counts[all[i].Path])
	}
	bound := min(r.Bound, r.Found-1)
	r.Findings = slices.DeleteFunc(r.Findings, func(i int) bool { return counts[all[i].Path] <= bound })
}

// onBothSides reports whether sound evidence looked at a file with a tool both before the change and now.
func (in Input) onBothSides(tool, path string) bool {
	return in.coveredNow(tool, path) && (&baseline.Baseline{Covers: in.BaseCovers}).CoversFinding(tool, path)
}

// baseFaults groups what was found before the change by faults.
func (in Input) baseFaults() [][]int {
	groups := finding.Faults(len(in.BaseFindings), func(i int) *finding.Finding { return &in.BaseFindings[i] }, in.sameSet)
	joined := map[int]bool{}
	for _, group := range groups {
		for _, i := range group {
			joined[i] = true
		}
	}
	for i := range in.BaseFindings {
		if !joined[i] {
			groups = append(groups, []int{i})
		}
	}
	return groups
}

// countBase counts what a limit would have counted before the change.
func (in Input) countBase(l *policy.Limit) (n int) {
	in.eachOnBase(l, func(int) { n++ })
	return n
}

// costBase is what the findings that a limit selects cost before the change, in minutes.
func (in Input) costBase(l *policy.Limit) (minutes int) {
	in.eachOnBase(l, func(cost int) { minutes += cost })
	return minutes
}

// eachOnBase hands over, of each fault before the change that a limit selects, what it costs.
func (in Input) eachOnBase(l *policy.Limit, see func(cost int)) {
	type source struct {
		finding.Finding
		team string
	}
	renames := in.Change.Renames()
	for _, group := range in.baseFaults() {
		worst, cost := "", 0
		var selected []source
		for _, i := range group {
			f := in.BaseFindings[i]
			now := f.Path
			if path, ok := renames[now]; ok {
				now = path
			}
			team := in.Policy.TeamOf(f.Path)
			severity := in.Policy.Grade(f, team)
			if severity == policy.Ignored || !in.onBothSides(f.Tool, now) {
				continue
			}
			if worst == "" || in.Policy.Ladder.Worse(severity, worst) {
				worst = severity
			}
			selected, cost = append(selected, source{f, team}), max(cost, in.Policy.CostOf(f, severity))
		}
		if slices.ContainsFunc(selected, func(s source) bool { return l.TakesBase(s.Finding, s.team, in.Policy.Ladder, worst) }) {
			see(cost)
		}
	}
}

// selects reports whether a limit counts a finding.
func selects(l *policy.Limit, ladder policy.Ladder, f Finding) bool {
	return f.Severity != policy.Ignored && !isOurs(f) && counts(l.Count, f) && Selects(&l.Selector, ladder, f)
}

// Selects reports whether a selector means a finding: by any of its sources, with its own severity, place and standing.
func Selects(s *policy.Selector, ladder policy.Ladder, f Finding) bool {
	is := policy.Judged{Severity: f.Severity, Place: f.Place, Standing: string(f.Standing)}
	return f.AnySource(func(g Finding) bool { return s.TakesJudged(*g.Finding, g.Team, ladder, is) })
}

func counts(count policy.Count, f Finding) bool {
	touched := f.Place == change.OnTouched
	switch count {
	case policy.CountNew:
		return f.Standing == New || f.Standing == Worsened || f.Standing == Expired && touched
	case policy.CountTouched:
		return touched && f.Standing != Waived && f.Standing != Accepted
	case policy.CountAll:
		return f.Standing != Waived
	case policy.CountExpired:
		return f.Standing == Expired
	}
	return false
}

// looksAt reports whether some evidence of the door looks at a file; what is only judged along is none.
func (j *judgement) looksAt(path string) bool {
	return slices.ContainsFunc(j.Evidence, func(e Evidence) bool {
		return e.Sound() && !e.Along && e.LooksAt(path)
	})
}

// remarks are the notices that only the finished verdict can give.
func remarks(in Input, v Verdict, lineRule []string) []string {
	var notices []string
	if len(lineRule) > 0 && !in.Change.Everything {
		notices = append(notices, fmt.Sprintf(
			"no baseline covers %s, so only findings on changed lines count as new; to compare with what is there: zincdoor baseline take", strings.Join(lineRule, ", ")))
	}
	if ids := v.untouchedNew(); len(ids) > 0 && v.Enforced == Shut && !in.Change.Everything {
		notices = append(notices, howToAccept(ids, in.Policy.Baseline))
	}
	return append(notices, claims(v)...)
}

// claims reports files with findings that two teams lay claim to: of each pair of teams, one file.
func claims(v Verdict) (notices []string) {
	seen := map[[2]string]bool{}
	for _, f := range v.Findings {
		if pair := [2]string{f.Team, f.rival}; f.rival != "" && !seen[pair] {
			seen[pair] = true
			notices = append(notices, fmt.Sprintf("the teams %s and %s have equally specific globs for %s; it counts for %s, the first of them", f.Team, f.rival, f.Path, f.Team))
		}
	}
	return notices
}

// mostIDs is how many ids a notice names.
const mostIDs = 3

// howToAccept says how findings are accepted that a change shows and didn't cause.
func howToAccept(ids []string, list string) string {
	which, lines, them := "1 of these findings is", "a line", "it"
	if len(ids) > 1 {
		which, lines, them = fmt.Sprintf("%d of these findings are", len(ids)), "lines", "them"
	}
	only := policy.Folder + "/"
	if !strings.HasPrefix(list, only) {
		only = list + " and " + policy.Path
	}
	named := strings.Join(ids[:min(len(ids), mostIDs)], " ")
	if len(ids) > mostIDs {
		named += " …"
	}
	return fmt.Sprintf("%s on %s this change doesn't touch. To accept %s, commit a change that edits only %s: zincdoor baseline accept %s", which, lines, them, only, named)
}

// untouchedNew are the ids of the new findings on untouched lines among those that broke an enforcing limit.
func (v *Verdict) untouchedNew() (ids []string) {
	for _, i := range v.counted(func(l LimitResult, f Finding) bool {
		return l.Shuts() && f.Standing == New && f.Place != change.OnTouched
	}) {
		ids = append(ids, v.Findings[i].ID)
	}
	return ids
}

// Broken lists, by their index and in order, the findings of broken limits: all of those that shut the door, and of a limit
// that only advises those that are the change's own doing.
func (v *Verdict) Broken() []int {
	return v.counted(func(l LimitResult, f Finding) bool {
		own := f.Standing != Accepted && f.Standing != Existing
		return !l.Held && !l.Waiting && (l.Limit.Mode == policy.Enforce || own)
	})
}

// Shutting lists, by their index and in order, the findings of the limits that shut the door.
func (v *Verdict) Shutting() []int {
	return v.counted(func(l LimitResult, _ Finding) bool { return l.Shuts() && v.Outcome == Shut })
}

// counted lists the findings that limits counted, as far as they are asked for, each once.
func (v *Verdict) counted(take func(l LimitResult, f Finding) bool) (all []int) {
	for _, l := range v.Limits {
		for _, i := range l.Findings {
			if take(l, v.Findings[i]) {
				all = append(all, i)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
