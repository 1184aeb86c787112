package judge

import (
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
)

// join makes the findings of several tools that speak of one fault one finding. What is ignored or waived takes its source
// out; of those left the finding has the worst severity, answers to what selects any of them, and is accepted when one is and all
// others are or are of tools that the baseline doesn't cover.
func (v *Verdict) join(j *judgement) {
	groups := finding.Faults(len(v.Findings), func(i int) *finding.Finding { return v.Findings[i].Finding }, j.sameSet)
	if len(groups) == 0 {
		return
	}
	now := map[string]string{} // the IDs of joined findings, by those of their sources
	into := map[int]int{}      // by a source that goes into another one's place: that
	for _, group := range groups {
		if slices.ContainsFunc(group, func(i int) bool { return isOurs(v.Findings[i]) }) {
			continue
		}
		var sources []Finding
		for _, i := range group {
			now[v.Findings[i].ID] = v.Findings[group[0]].ID
			sources = append(sources, v.Findings[i])
			if i != group[0] {
				into[i] = group[0]
			}
		}
		v.Findings[group[0]] = j.joined(sources)
	}
	places := make([]int, len(v.Findings)) // where each finding is now
	left := 0
	for i := range v.Findings {
		if first, goes := into[i]; goes {
			places[i] = places[first]
			continue
		}
		v.Findings[left], places[i] = v.Findings[i], left
		left++
	}
	v.Findings = v.Findings[:left]
	for i := range v.Limits {
		for n, at := range v.Limits[i].Findings {
			v.Limits[i].Findings[n] = places[at]
		}
	}
	rename := func(id *string) {
		if joined, ok := now[*id]; ok {
			*id = joined
		}
	}
	for i := range v.Waivers {
		for n := range v.Waivers[i].Findings {
			rename(&v.Waivers[i].Findings[n])
		}
	}
	for i := range v.Acceptances {
		rename(&v.Acceptances[i].Finding)
	}
}

// joined is the finding that several sources are.
func (j *judgement) joined(sources []Finding) Finding {
	left := slices.DeleteFunc(slices.Clone(sources), func(f Finding) bool { return f.Severity == policy.Ignored || f.Standing == Waived })
	if len(left) == 0 {
		left = slices.DeleteFunc(slices.Clone(sources), func(f Finding) bool { return f.Severity == policy.Ignored })
	}
	if len(left) == 0 {
		left = sources
	}
	first := 0
	for i, f := range left {
		if f.Severity != left[first].Severity && j.Policy.Ladder.Worse(f.Severity, left[first].Severity) {
			first = i
		}
	}
	one := left[first]
	own := *one.Finding
	one.Finding = &own
	one.ID = sources[0].ID
	one.Also = append(slices.Clone(left[:first]), left[first+1:]...)
	for _, f := range sources {
		one.Sources = append(slices.Clone(one.Sources), f.Sources...)
	}
	slices.Sort(one.Sources)
	one.Sources = slices.Compact(one.Sources)
	one.Status = j.joinedStatus(left, one.Status)
	for _, f := range left {
		if placeRank(f) < placeRank(one) {
			one.Place = f.Place
		}
	}
	return one
}

// joinedStatus is the status of a fault of several sources, own being that of the worst of them.
func (j *judgement) joinedStatus(sources []Finding, own Status) Status {
	order := []Standing{Worsened, Expired, Accepted, Existing}
	accepted := slices.ContainsFunc(sources, func(f Finding) bool { return f.Standing == Accepted })
	if accepted && slices.ContainsFunc(sources, func(f Finding) bool { return f.Standing == New && j.cover.CoversFinding(f.Tool, f.Path) }) {
		order = []Standing{Worsened, Expired, New}
	}
	for _, standing := range order {
		if i := slices.IndexFunc(sources, func(f Finding) bool { return f.Standing == standing }); i >= 0 {
			return sources[i].Status
		}
	}
	return own
}

// placeRank orders places, the nearest to the change first.
func placeRank(f Finding) int {
	return slices.Index([]change.Place{change.OnTouched, change.InFile, change.Elsewhere}, f.Place)
}

// sameSet names what the policy declares a finding's rule to be the same as, "" where that is nothing. What is said of
// waivers is never a tool's fault.
func (in Input) sameSet(f *finding.Finding) string {
	if f.Tool == waiver.Tool {
		return ""
	}
	return in.Policy.SameSet(f.Rule)
}

// AnySource reports whether the finding, or another source of it, is as asked.
func (f Finding) AnySource(is func(Finding) bool) bool {
	return is(f) || slices.ContainsFunc(f.Also, is)
}
