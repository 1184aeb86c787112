package policy

import (
	"slices"

	"zincdoor/internal/core/finding"
)

// Ignored is the severity of findings that the policy leaves out. They are counted and listed, and no limit counts them.
const Ignored = "ignored"

// Severity is one rule of how findings are graded. One of Is, Cap and Floor is set.
type Severity struct {
	Selector
	Is    string // this severity, or Ignored
	Cap   string // no worse than this severity
	Floor string // no milder than this severity
	Firm  bool   // those that inherit it can't loosen it
}

// Step is one thing that the policy says of a finding's severity.
type Step struct {
	Index    int    // of the one of Policy.Severities that says it, -1 where none does
	What     string // for people: "is note", "cap warning"
	Severity string // the severity after it
}

// Grade gives a finding its severity: that of the first rule with an Is that takes it, else that of its level; then every
// Cap and Floor that takes it applies, in order. A finding in a skipped path is ignored. What is firm goes first, and is
// softened by nothing else.
func (p *Policy) Grade(f finding.Finding, team string) string {
	severity := ""
	p.grade(f, team, func(_ int, _, _, now string) { severity = now })
	return severity
}

// Steps tells how a finding comes to its severity.
func (p *Policy) Steps(f finding.Finding, team string) (steps []Step) {
	p.grade(f, team, func(index int, key, value, now string) {
		steps = append(steps, Step{index, key + " " + value, now})
	})
	return steps
}

// grade hands every step to see: the index of the rule, its key and value, and the severity after it.
func (p *Policy) grade(f finding.Finding, team string, see func(index int, key, value, severity string)) {
	if f.Path != "" && MatchPath(p.Skip, f.Path) && !p.firmlyTakes(f, team) {
		see(-1, "path", "skipped", Ignored)
		return
	}
	severity := p.Levels[f.Level]
	if given := f.Weight().Severity; slices.Contains(p.Ladder, given) { // a report that was written by another policy may have others
		severity = given
	}
	see(-1, "level", string(f.Level), severity)
	first := slices.IndexFunc(p.Severities, func(s Severity) bool { return s.Is != "" && s.Takes(f, team) })
	firm := false
	if first >= 0 {
		severity, firm = p.Severities[first].Is, p.Severities[first].Firm
		see(first, "is", severity, severity)
	}
	for i := range p.Severities {
		s := &p.Severities[i]
		switch {
		case s.Is != "" || severity == Ignored && !s.Firm || !s.Takes(f, team):
		case s.Cap != "" && !firm && !p.Ladder.Worse(s.Cap, severity):
			severity = s.Cap
			see(i, "cap", severity, severity)
		case s.Floor != "" && (severity == Ignored || !p.Ladder.Worse(severity, s.Floor)):
			severity = s.Floor
			see(i, "floor", severity, severity)
		}
	}
}

// firmlyTakes reports whether a firm severity demands something of a finding.
func (p *Policy) firmlyTakes(f finding.Finding, team string) bool {
	return slices.ContainsFunc(p.Severities, func(s Severity) bool { return s.Firm && s.Takes(f, team) })
}
