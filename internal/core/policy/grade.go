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

// Step is one thing that the policy says of a finding's rung.
type Step struct {
	Line int    // of the severity in the policy's file, 0 where it isn't one
	What string // for people: "is note", "cap warning"
	Rung string // the rung after it
}

// Grade gives a finding its rung: that of the first severity with an Is that takes it, else that of its level; then every
// Cap and Floor that takes it applies, in order. A finding in a skipped path is ignored.
func (p *Policy) Grade(f finding.Finding, team string) string {
	rung := ""
	p.grade(f, team, func(_ int, _, _, now string) { rung = now })
	return rung
}

// Steps tells how a finding comes to its rung.
func (p *Policy) Steps(f finding.Finding, team string) (steps []Step) {
	p.grade(f, team, func(line int, key, value, now string) {
		steps = append(steps, Step{line, key + " " + value, now})
	})
	return steps
}

// grade hands every step to see: the line of the severity, its key and value, and the rung after it.
func (p *Policy) grade(f finding.Finding, team string, see func(line int, key, value, rung string)) {
	if f.Path != "" && matchesPath(p.Skip, f.Path) {
		see(0, "path", "skipped", Ignored)
		return
	}
	rung := p.Levels[f.Level]
	see(0, "level", string(f.Level), rung)
	first := slices.IndexFunc(p.Severities, func(s Severity) bool { return s.Is != "" && s.Takes(f, team) })
	if first >= 0 {
		rung = p.Severities[first].Is
		see(p.Severities[first].Line, "is", rung, rung)
	}
	if rung == Ignored {
		return
	}
	for i := range p.Severities {
		s := &p.Severities[i]
		switch {
		case s.Is != "" || !s.Takes(f, team):
		case s.Cap != "" && !p.Ladder.Worse(s.Cap, rung):
			rung = s.Cap
			see(s.Line, "cap", rung, rung)
		case s.Floor != "" && !p.Ladder.Worse(rung, s.Floor):
			rung = s.Floor
			see(s.Line, "floor", rung, rung)
		}
	}
}
