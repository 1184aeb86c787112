package policy

import "zincdoor/internal/core/finding"

// Costs estimate how long it takes to put findings right, in minutes. They decide nothing: they tell a team what its findings weigh.
type Costs struct {
	Rules      []RuleCost     // the first that takes a finding's rule counts
	Severities map[string]int // of findings whose rule none takes
}

// RuleCost is the cost of one finding of a rule.
type RuleCost struct {
	Rule    string // a glob, or the name of a group
	Minutes int
	rule    Selector // Rule, once it is resolved
}

// CostOf estimates how many minutes it takes to put a finding of a severity right. It is 0 for one that is ignored, and where the
// policy doesn't say.
func (p *Policy) CostOf(f finding.Finding, severity string) int {
	if severity == Ignored {
		return 0
	}
	for i := range p.Costs.Rules {
		if c := &p.Costs.Rules[i]; c.rule.TakesRule(f) {
			return c.Minutes
		}
	}
	return p.Costs.Severities[severity]
}
