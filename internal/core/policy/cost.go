package policy

import (
	"time"

	"zincdoor/internal/core/finding"
)

// Costs estimate how long it takes to put findings right. They decide nothing: they tell a team what its findings weigh.
type Costs struct {
	Rules      []RuleCost               // the first that takes a finding's rule counts
	Severities map[string]time.Duration // of findings whose rule none takes
}

// RuleCost is the cost of one finding of a rule, in whole minutes.
type RuleCost struct {
	Rule string // a glob, or the name of a group
	Time time.Duration
	rule Selector // Rule, once it is resolved
}

// CostOf estimates how long it takes to put a finding of a severity right. It is 0 for one that is ignored, and where the
// policy doesn't say.
func (p *Policy) CostOf(f finding.Finding, severity string) time.Duration {
	if severity == Ignored {
		return 0
	}
	for i := range p.Costs.Rules {
		if c := &p.Costs.Rules[i]; c.rule.TakesRule(f) {
			return c.Time
		}
	}
	return p.Costs.Severities[severity]
}
