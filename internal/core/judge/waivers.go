package judge

import (
	"zincdoor/internal/core/policy"
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

// waive sets findings aside that the code or their tool waives, as the door lets them, and measures how many waivers the
// change adds.
func (v *Verdict) waive(c Case) {
	rules := c.Door.Waivers
	matches := make([]int, len(v.Findings))
	waivers := append([]waiver.Waiver(nil), c.Waivers...)
	if rules.Code {
		matches = waiver.Match(c.Findings, waivers, policy.MatchRule)
	}
	uses := make([]WaiverUse, len(waivers))
	for i, w := range waivers {
		uses[i] = WaiverUse{Waiver: w, Added: !c.Change.Everything && c.Change.Touches(w.Path, w.Line)}
	}
	for i := range v.Findings {
		f := &v.Findings[i]
		if f.Standing == Accepted || f.Tool == waiver.Tool || !rules.MayWaive(c.Policy.Ladder, *f.Finding, f.Severity) {
			continue
		}
		n := -1
		if rules.Code && len(waivers) > 0 {
			n = matches[i]
		}
		switch {
		case n >= 0 && waivers[n].Valid(c.Today):
			f.Standing = Waived
			uses[n].Findings = append(uses[n].Findings, f.ID)
		case rules.Tool && f.Suppressed:
			f.Standing = Waived
		}
	}
	result := LimitResult{Limit: policy.Limit{Name: waiversLimit, Count: "waivers the change adds", Most: rules.Most, Mode: policy.Enforce}, Mode: c.Door.Mode, Bound: rules.Most}
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
