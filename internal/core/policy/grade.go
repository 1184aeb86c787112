package policy

import (
	"slices"

	"zincdoor/internal/core/finding"
)

// Ignored is the rung of findings that the policy leaves out. They are counted and listed, and no limit counts them.
const Ignored = "ignored"

// Severity is one rule of how findings are graded. One of Is, Cap and Floor is set.
type Severity struct {
	Selector
	Is    string // this rung, or Ignored
	Cap   string // no worse than this rung
	Floor string // no milder than this rung
	Line  int    // where it stands in the policy's file
}

// Grade gives a finding its rung: that of the first severity with an Is that takes it, else that of its level; then every
// Cap and Floor that takes it applies, in order. A finding in a skipped path is ignored.
func (p *Policy) Grade(f finding.Finding, team string) string {
	if f.Path != "" && matchesPath(p.Skip, f.Path) {
		return Ignored
	}
	rung := p.Levels[f.Level]
	first := slices.IndexFunc(p.Severities, func(s Severity) bool { return s.Is != "" && s.Takes(f, team) })
	if first >= 0 {
		rung = p.Severities[first].Is
	}
	if rung == Ignored {
		return rung
	}
	for i := range p.Severities {
		s := &p.Severities[i]
		switch {
		case s.Is != "" || !s.Takes(f, team):
		case s.Cap != "" && !p.Ladder.Worse(s.Cap, rung):
			rung = s.Cap
		case s.Floor != "" && !p.Ladder.Worse(rung, s.Floor):
			rung = s.Floor
		}
	}
	return rung
}
