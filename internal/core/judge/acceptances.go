package judge

import (
	"fmt"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
)

// Offer is an entry that the change puts into the baseline, and the finding it accepts.
type Offer struct {
	baseline.Offer
	Finding int // index of Case.Findings, or recognise.None
}

// Acceptance is what became of one entry that the change puts into the baseline or takes out of it.
type Acceptance struct {
	Entry    baseline.Entry
	Change   string // "added", "altered" or "dropped"
	Finding  string // the ID of the finding it accepts, "" where there is none
	Honoured bool
	Problem  string // why it isn't honoured, or breaks the limit
}

// acceptancesLimit is the name of the limit that holds a change to what it may accept for itself.
const acceptancesLimit = "acceptances"

// settleOffers honours what the door lets the change accept for itself, and measures it.
func (v *Verdict) settleOffers(c Case) {
	rules := c.Door.Acceptances
	proven := c.Change.Within(policy.Folder)
	result := LimitResult{Limit: policy.Limit{Name: acceptancesLimit, Count: "accepted by the change", Mode: policy.Enforce}, Mode: c.Door.Mode, Held: true}
	for _, o := range c.Offers {
		a := Acceptance{Entry: o.Entry, Change: "added"}
		if o.Was != nil {
			a.Change = "altered"
		}
		var f *Finding
		if o.Finding != recognise.None {
			f = &v.Findings[o.Finding]
			a.Finding = f.ID
		}
		switch {
		case c.Whole:
			a.Honoured = true
			v.Acceptances = append(v.Acceptances, a)
			continue
		case rules == nil:
			a.Problem = "this door lets no change accept findings for itself"
		case rules.Lacks(o.Entry) != "":
			a.Problem = fmt.Sprintf("it has no %q, which this door asks for", rules.Lacks(o.Entry))
		case f == nil:
			a.Problem = "it accepts nothing: there is no such finding"
			if c.coveredNow(o.Entry.Tool, o.Entry.Path) {
				result.Held = false
				result.Found++
			}
		case proven || c.wasOnBase(o.Finding):
			a.Honoured = true
		case rules.Upto != "" && !c.Policy.Ladder.Worse(rules.Upto, f.Severity):
			a.Problem = fmt.Sprintf("it is of rung %s, and this door lets a change accept %s or milder", f.Severity, rules.Upto)
		default:
			a.Honoured = true
			result.Found++
			result.Findings = append(result.Findings, o.Finding)
		}
		if a.Honoured {
			entry := o.Entry
			f.Entry, f.Standing, f.Measure, f.AcceptedMeasure = &entry, Accepted, "", ""
			if entry.Lapsed(c.Today) {
				f.Standing = Lapsed
			}
			if f.grown(c.Policy, f.Entry) {
				f.Standing = Worsened
			}
		}
		v.Acceptances = append(v.Acceptances, a)
	}
	for _, e := range c.Dropped {
		a := Acceptance{Entry: e, Change: "dropped", Honoured: c.Whole}
		if !c.Whole {
			a.Problem = "the list that counts still has it"
		}
		v.Acceptances = append(v.Acceptances, a)
	}
	if rules != nil && len(c.Offers) > 0 {
		result.Most, result.Bound = rules.Most, rules.Most
		result.Held = result.Held && result.Found <= result.Most
		v.Limits = append(v.Limits, result)
	}
}
