package render

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// Show says which findings are shown.
type Show string

// What can be shown, beside each standing by its name.
const (
	ShowBroken  Show = "broken"  // those that broke a limit
	ShowTouched Show = "touched" // those on lines of the change
	ShowAll     Show = "all"
	ShowIgnored Show = "ignored"
	ShowGone    Show = "gone"
	ShowNone    Show = "none"
)

// Shows lists all that can be shown.
var Shows = func() []string {
	all := []string{string(ShowBroken), string(ShowTouched)}
	for _, standing := range judge.Standings {
		all = append(all, string(standing))
	}
	return append(all, string(ShowIgnored), string(ShowGone), string(ShowAll), string(ShowNone))
}()

// Group says by what findings are put together.
type Group string

// The groups. Within each, findings stand by file.
const (
	ByFile     Group = "file"
	ByRule     Group = "rule"
	ByTeam     Group = "team"
	ByTool     Group = "tool"
	byPath     Group = "path" // ByFile, where nothing else shows the file
	BySeverity Group = "severity"
)

// Groups lists all of them.
var Groups = []string{string(ByFile), string(ByRule), string(BySeverity), string(ByTeam), string(ByTool)}

// mostFindings is how many findings are shown of those that broke a limit, unless they are asked for: so that the outcome
// isn't far from what led to it.
const mostFindings = 25

func (o Options) shows() Show { return cmp.Or(o.Show, ShowBroken) }

// takes reports whether a finding is shown, apart from whether it broke a limit.
func (s Show) takes(f judge.Finding) bool {
	ignored := f.Severity == policy.Ignored
	switch s {
	case ShowAll:
		return true
	case ShowIgnored:
		return ignored
	case ShowTouched:
		return f.Place == change.OnTouched && !ignored
	}
	return string(f.Standing) == string(s) && !ignored
}

// choose picks the findings that are shown, and tells how many are left out for want of room.
func (o Options) choose(v *judge.Verdict) (chosen []int, left int) {
	if o.shows() == ShowBroken {
		chosen = v.Broken()
	} else {
		for i, f := range v.Findings {
			if o.Show.takes(f) {
				chosen = append(chosen, i)
			}
		}
	}
	if len(o.Part) > 0 {
		chosen = slices.DeleteFunc(chosen, func(i int) bool { return !policy.MatchPath(o.Part, v.Findings[i].Path) })
	}
	if o.Show == "" && len(chosen) > mostFindings {
		return chosen[:mostFindings], len(chosen) - mostFindings
	}
	return chosen, 0
}

// group is some findings with what they have in common; "" where that need not be said.
type group struct {
	name     string
	findings []int
}

// groups puts findings together: teams and severities in the policy's order, rules with the most findings first.
func (o Options) groups(v *judge.Verdict, findings []int) []group {
	of := func(judge.Finding) string { return "" }
	switch o.Group {
	case ByRule:
		of = func(f judge.Finding) string { return cmp.Or(Safe(f.Rule), "no rule") }
	case BySeverity:
		of = func(f judge.Finding) string { return Safe(f.Severity) }
	case ByTool:
		of = func(f judge.Finding) string { return Safe(f.Tool) }
	case byPath:
		of = func(f judge.Finding) string { return cmp.Or(Safe(f.Path), "no file") }
	case ByTeam:
		names := map[string]string{"": "no team"}
		for _, t := range v.Teams {
			names[t.Name] = "team " + strings.TrimSpace(Safe(t.Name)+" "+Safe(t.Contact))
		}
		of = func(f judge.Finding) string { return names[f.Team] }
	}
	var all []group
	at := map[string]int{}
	for _, i := range findings {
		name := of(v.Findings[i])
		n, known := at[name]
		if !known {
			n = len(all)
			at[name], all = n, append(all, group{name: name})
		}
		all[n].findings = append(all[n].findings, i)
	}
	rank := func(g group) int {
		f := v.Findings[g.findings[0]]
		switch o.Group {
		case BySeverity:
			return slices.Index(v.Ladder, f.Severity)
		case ByTeam:
			if n := slices.IndexFunc(v.Teams, func(t policy.Team) bool { return t.Name == f.Team }); n >= 0 {
				return n
			}
			return len(v.Teams)
		}
		return -len(g.findings)
	}
	if o.Group != "" && o.Group != ByFile && o.Group != byPath {
		slices.SortStableFunc(all, func(a, b group) int { return cmp.Compare(rank(a), rank(b)) })
	}
	return all
}

// plainly tells a verdict in sentences, a line each, for those who hear it read.
func (s *screen) plainly(v judge.Verdict) error {
	if !s.Quiet {
		chosen, left := s.choose(&v)
		for _, i := range chosen {
			f := v.Findings[i]
			at := "Without a file"
			if f.Path != "" {
				at = Safe(f.Path)
			}
			if f.Region.Line > 0 {
				at += fmt.Sprintf(", line %d", f.Region.Line)
			}
			if f.Region.Column > 0 {
				at += fmt.Sprintf(", column %d", f.Region.Column)
			}
			s.line("%s: %s %s: %s. It is %s, on a %s, reported by %s, with the id %s.", at, Safe(f.Severity), Safe(f.Rule), strings.TrimSuffix(Safe(f.Message), "."), f.Standing, where(f), Safe(f.Tool), f.ID)
			if text := s.text(f.Path); text != nil && f.Region.Line > 0 {
				s.line("  The line is: %s", strings.TrimSpace(Safe(clipBytes(text.Line(f.Region.Line), longestLine))))
			}
		}
		if left > 0 {
			s.line("%d more are not shown; --show %s shows them all.", left, s.shows())
		}
		for _, n := range v.Notices {
			s.line("Note: %s.", strings.TrimSuffix(Safe(n), "."))
		}
		for _, e := range v.Evidence {
			if e.Sound() {
				s.line("Evidence %s: %s, %s.", evidenceName(e), e.State, aboutEvidence(e))
			} else {
				s.line("Evidence %s: %s. %s.", evidenceName(e), e.State, strings.TrimSuffix(Safe(e.Problem), "."))
			}
		}
		for _, l := range v.Limits {
			s.line("Limit %s: %s, %s.%s", Safe(l.Name), stateOf(l), bound(l), sentence(l))
		}
	}
	s.line("Door %s, %s: %s. %s.", Safe(v.Door), describe(v.Subject), v.Outcome, reason(v))
	return s.err
}

// stateOf is a limit's state in a word.
func stateOf(l judge.LimitResult) string {
	switch {
	case l.Waiting:
		return "waits"
	case l.Unknown:
		return "unknown"
	case l.Held:
		return "held"
	}
	return "broken"
}

// sentence is what people are to be told of a limit, and whether it only advises.
func sentence(l judge.LimitResult) string {
	said := ""
	if l.Mode == policy.Advise {
		said += " It only advises."
	}
	if !l.Held && l.Say != "" {
		said += " " + Safe(l.Say)
	}
	return said
}
