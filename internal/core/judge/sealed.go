package judge

import (
	"fmt"
	"time"

	"zincdoor/internal/core/policy"
)

// SealedVerdict is the format of evidence that is another door's verdict.
const SealedVerdict = "verdict"

// Exception is an operator's leave to pass the door all the same.
type Exception struct {
	Seal   string // whose it is, by the policy
	By     string
	Reason string
	Until  string // the last day, YYYY-MM-DD
	From   string // the file or ref that it came in
}

// except opens a door that isn't open, by an exception.
func (v *Verdict) except(e *Exception) {
	if e == nil || v.Outcome == Open {
		return
	}
	v.Notices = append(v.Notices, fmt.Sprintf("opened by an exception of %s (sealed by %s, until %s): %s", e.By, e.Seal, e.Until, e.Reason))
	v.Exception, v.Outcome = e, Open
}

// Passed reports whether the door was open by its own limits and evidence, and would have been shut otherwise.
func (v *Verdict) Passed() bool {
	return v.Outcome == Open && v.Enforced == Open && v.Mode == policy.Enforce && v.Exception == nil
}

// LastDay is the last day, YYYY-MM-DD, on which the same judging gives the same outcome: until an acceptance or a waiver that it
// rests on ends, or a limit of the door begins or ends. It is "" where that is never.
func (v *Verdict) LastDay() string {
	last := ""
	end := func(day string) {
		if day >= v.Today && (last == "" || day < last) {
			last = day
		}
	}
	for _, l := range v.Limits {
		if l.Until != "" {
			end(l.Until)
		}
		if from, err := time.Parse(time.DateOnly, l.From); err == nil && l.From > v.Today {
			end(from.AddDate(0, 0, -1).Format(time.DateOnly))
		}
	}
	for _, f := range v.Findings {
		for _, one := range append([]Finding{f}, f.Also...) { // each tool's own entry
			if one.Entry != nil && one.Entry.Until != "" {
				end(one.Entry.Until)
			}
		}
	}
	for _, w := range v.Waivers {
		if w.Until != "" {
			end(w.Until)
		}
	}
	return last
}
