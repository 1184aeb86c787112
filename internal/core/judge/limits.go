package judge

import (
	"fmt"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// measure holds the findings against every limit of the door.
func measure(c Case, v *Verdict) []LimitResult {
	onBase := &baseline.Baseline{Covers: c.BaseCovers}
	results := make([]LimitResult, 0, len(c.Door.Limits))
	for _, limit := range c.Door.Limits {
		r := LimitResult{Limit: limit, Mode: c.Door.ModeOf(limit)}
		aside := 0
		for i, f := range v.Findings {
			if !selects(limit, c.Policy.Ladder, f) {
				continue
			}
			// Without base findings, what one change was allowed would shut the next.
			if limit.Count == policy.CountNew && limit.Most > 0 && f.Place != change.OnTouched && !onBase.CoversFinding(f.Tool, f.Path) {
				aside++
				continue
			}
			r.Findings = append(r.Findings, i)
		}
		if aside > 0 {
			v.Notices = append(v.Notices, fmt.Sprintf(
				"limit %q bears more than none and there are no base findings to compare with, so it counts touched findings only and leaves %s aside",
				limit.Name, finding.Count(aside)))
		}
		r.Found = len(r.Findings)
		r.Held = r.Found <= limit.Most
		results = append(results, r)
	}
	return results
}

// selects reports whether a limit counts a finding.
func selects(l policy.Limit, ladder policy.Ladder, f Finding) bool {
	return counts(l.Count, f) && l.TakesRung(ladder, f.Severity) && l.TakesRule(f.Rule) && l.TakesPath(f.Path)
}

func counts(count policy.Count, f Finding) bool {
	touched := f.Place == change.OnTouched
	switch count {
	case policy.CountNew:
		return f.Standing == New || f.Standing == Worsened || f.Standing == Lapsed && touched
	case policy.CountTouched:
		return touched && f.Standing != Waived && f.Standing != Accepted
	case policy.CountAll:
		return f.Standing != Waived
	case policy.CountLapsed:
		return f.Standing == Lapsed
	}
	return false
}

// remarks are the notices that only the finished verdict can give.
func remarks(c Case, v Verdict, lineRule []string) []string {
	var notices []string
	if len(lineRule) > 0 && !c.Change.Everything {
		notices = append(notices, fmt.Sprintf(
			"what is new of %s rests on the change's lines alone: no baseline covers it (see zincdoor baseline take)", strings.Join(lineRule, ", ")))
	}
	if n := v.untouchedNew(); n > 0 && v.Enforced == Shut && !c.Change.Everything {
		notices = append(notices, fmt.Sprintf(
			"on lines this change doesn't touch: %s of those that shut the door. What the change didn't cause can be accepted in a change of its own that alters only %s/",
			finding.Count(n), policy.Folder))
	}
	return notices
}

// untouchedNew counts the new findings on untouched lines among those that broke an enforcing limit.
func (v Verdict) untouchedNew() int {
	seen := map[int]bool{}
	for _, l := range v.Limits {
		if l.Held || l.Limit.Mode != policy.Enforce {
			continue
		}
		for _, i := range l.Findings {
			if f := v.Findings[i]; f.Standing == New && f.Place != change.OnTouched {
				seen[i] = true
			}
		}
	}
	return len(seen)
}
