package policyfile

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// idle gathers what of a policy can never matter.
type idle struct {
	*File
	problems Problems
}

func (i *idle) note(at Position, format string, args ...any) {
	i.problems = append(i.problems, Problem{at.File, at.Line, at.Column, fmt.Sprintf(format, args...)})
}

// Idle lists what of a policy can never matter: in a repository of these files, teams and sets without files and
// selectors of paths that no file has; where any findings were seen, globs of rules that none of them is of; and limits
// that another one of their door always breaks with.
func (f *File) Idle(files []string, seen []finding.Finding) Problems {
	i := &idle{File: f}
	if len(files) > 0 {
		i.paths(files)
	}
	if len(seen) > 0 {
		i.rules(seen)
	}
	i.tools()
	i.seals()
	i.limits()
	return i.problems.sorted()
}

// paths notes what no file is in.
func (p *idle) paths(files []string) {
	none := func(globs []string) bool {
		return !slices.ContainsFunc(files, func(path string) bool { return policy.MatchPath(globs, path) })
	}
	for _, t := range p.Teams {
		if none(t.Value.Paths) {
			p.note(t.At, "team %s has no file", t.Value.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Policy.Sets)) {
		if none(p.Policy.Sets[name]) {
			at := p.Origins["paths.sets."+name]
			if at.Line == 0 {
				at = p.Origins["paths."+name]
			}
			p.note(at, "the set %s of paths has no file", name)
		}
	}
	for _, glob := range p.Policy.Skip {
		if none([]string{glob}) {
			p.note(p.Origins["paths.skip"], "no file matches %q", glob)
		}
	}
	idlePath := func(s *policy.Selector) bool {
		return len(s.Paths) > 0 && !(slices.Contains(s.Paths, policy.GeneratedSet) && p.Policy.Marker != nil) && !slices.ContainsFunc(files, s.TakesPath)
	}
	for i := range p.Severities {
		if s := &p.Policy.Severities[i]; idlePath(&s.Selector) {
			p.note(p.Severities[i].At, "no file is in %s", strings.Join(s.Paths, ", "))
		}
	}
	for n, d := range p.Policy.Doors {
		for i := range d.Limits {
			if l := &d.Limits[i]; idlePath(&l.Selector) {
				p.note(p.Doors[n].Limits[i].At, "limit %q of door %s: no file is in %s", l.Name, d.Name, strings.Join(l.Paths, ", "))
			}
		}
	}
}

// tools notes reports whose findings nobody tells apart: they are of tools without a name.
func (p *idle) tools() {
	first := map[string]string{} // a report of each format in which tools don't name themselves
	for _, r := range p.Reports {
		switch as := r.Value.As; {
		case r.Value.Tool != "" || as == "" || as == policy.SARIF:
		case first[as] != "":
			p.note(r.At, "the reports %s and %s are both of a tool called %s; tool: in each tells them apart", first[as], r.Value.Name, as)
		default:
			first[as] = r.Value.Name
		}
	}
}

// rules notes globs and groups that take no rule of what was seen.
func (p *idle) rules(seen []finding.Finding) {
	check := func(at Position, names []string) {
		for _, name := range names {
			s, err := p.Policy.Choose(policy.Selector{Rules: []string{name}})
			if err == nil && !slices.ContainsFunc(seen, s.TakesRule) {
				p.note(at, "no report here has shown a rule that %q takes", name)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Policy.Groups)) {
		check(p.Origins["groups."+name], p.Policy.Groups[name].Rules)
	}
	for _, m := range p.Numbers {
		check(m.At, m.Value.Rules)
	}
	for _, c := range p.Policy.Costs.Rules {
		check(p.Origins["cost.rule."+c.Rule], []string{c.Rule})
	}
	for _, s := range p.Severities {
		check(s.At, s.Value.Rules)
	}
	for _, d := range p.Doors {
		for _, l := range d.Limits {
			check(l.At, l.Value.Rules)
		}
	}
}

// limits notes those that never decide.
func (p *idle) limits() {
	for n, d := range p.Policy.Doors {
		for i := range d.Limits {
			l := &d.Limits[i]
			for k := range d.Limits {
				if o := &d.Limits[k]; k != i && overrules(o, l, p.Policy.Ladder, k < i) {
					p.note(p.Doors[n].Limits[i].At, "limit %q of door %s never decides, since %q counts all of that and allows no more", l.Name, d.Name, o.Name)
					break
				}
			}
		}
	}
}

// overrules reports whether a limit is broken whenever another one is: it counts the same and more, and allows no more.
// Of two equal ones the earlier overrules.
func overrules(l, o *policy.Limit, ladder policy.Ladder, earlier bool) bool {
	plain := func(l *policy.Limit) bool {
		return !l.Demands() && !l.NoGrowth && !l.EachFile && l.PerLines == 0 && l.From == "" && l.Until == ""
	}
	wide := reflect.DeepEqual(l.Selector.Unresolved(), policy.Selector{Severity: l.Severity, Exact: l.Exact})
	severities := l.Severity == "" || !l.Exact && o.Severity != "" && ladder.Worse(o.Severity, l.Severity)
	same := wide && reflect.DeepEqual(l.Selector.Unresolved(), o.Selector.Unresolved())
	return plain(l) && plain(o) && wide && severities && l.Count == o.Count && l.Most <= o.Most && l.Mode == o.Mode && (!same || l.Most < o.Most || earlier)
}
