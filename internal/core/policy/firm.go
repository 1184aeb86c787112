package policy

import (
	"slices"

	"github.com/goccy/go-yaml/ast"

	"zincdoor/internal/core/finding"
)

// What a policy marks as firm, those that inherit it can tighten but not loosen.

// firmable are the keys of a policy that can be firm as a whole.
var firmable = []string{"ladder", "levels", "baseline", "place", "paths", "groups", "aliases", "same", "measures", "teams", "reports", "recipes", "house"}

// firm reads which keys those that inherit this policy can't set.
func (r *reader) firm(n ast.Node) {
	for _, key := range listOf(r, n, "firm", firmable) {
		if _, already := r.policy.Firm[key]; !already {
			r.policy.Firm[key] = r.position(n)
		}
	}
}

// checkFirm complains of keys that an inherited policy has made firm.
func (r *reader) checkFirm() {
	for _, f := range r.fields(r.root, "the policy") {
		if at, firm := r.under.Firm[f.name]; firm {
			r.complain(f.key, "%s is firm in %s, so it can't be set here", f.name, at)
		}
	}
}

// checkLadder complains of a ladder that rungs of what is inherited aren't on, or that what is firm would mean something
// else on.
func (r *reader) checkLadder(n ast.Node) {
	if slices.Equal(r.policy.Ladder, r.under.Ladder) {
		return
	}
	if at, firm := r.under.anyFirm(); firm {
		r.complain(n, "the ladder can't be altered, since %s is firm on the inherited one", at)
		return
	}
	lacks := func(at Position, rungs ...string) {
		for _, rung := range rungs {
			if rung != "" && rung != Ignored && !slices.Contains(r.policy.Ladder, rung) {
				r.complain(n, "the ladder lacks the rung %q, which %s names", rung, at)
			}
		}
	}
	for _, s := range r.under.Severities {
		lacks(s.At, s.Is, s.Cap, s.Floor)
	}
	for _, d := range r.under.Doors {
		for _, l := range d.Limits {
			lacks(l.At, l.Severity)
		}
		if d.Acceptances != nil {
			lacks(d.Acceptances.At, d.Acceptances.Upto)
		}
		if d.Waivers.At.Line > 0 {
			lacks(d.Waivers.At, d.Waivers.Upto)
		}
	}
}

// anyFirm is where the first firm severity or limit stands.
func (p *Policy) anyFirm() (Position, bool) {
	for _, s := range p.Severities {
		if s.Firm {
			return s.At, true
		}
	}
	for _, d := range p.Doors {
		if at, firm := d.firmLimit(); firm {
			return at, true
		}
	}
	return Position{}, false
}

// firmLimit is where the door's first firm limit stands that shuts the door when it is broken.
func (d Door) firmLimit() (Position, bool) {
	i := slices.IndexFunc(d.Limits, func(l Limit) bool { return l.Firm && l.Mode == Enforce })
	if i < 0 {
		return Position{}, false
	}
	return d.Limits[i].At, true
}

// firmlyTakes reports whether a firm severity demands something of a finding.
func (p *Policy) firmlyTakes(f finding.Finding, team string) bool {
	return slices.ContainsFunc(p.Severities, func(s Severity) bool { return s.Firm && s.Takes(f, team) })
}

// checkName complains of a name that is given another meaning though something firm rests on it.
func (r *reader) checkName(at ast.Node, what, name string, named func(*Selector) []string) {
	check := func(s *Selector, firm bool, where Position) {
		if firm && slices.Contains(named(s), name) {
			r.complain(at, "the %s %q can't be given another meaning, since what is firm in %s rests on it", what, name, where)
		}
	}
	for i := range r.under.Severities {
		s := &r.under.Severities[i]
		check(&s.Selector, s.Firm, s.At)
	}
	for _, d := range r.under.Doors {
		for i := range d.Limits {
			check(&d.Limits[i].Selector, d.Limits[i].Firm, d.Limits[i].At)
		}
	}
}

// allGroups are names of rules with those that the groups among them name, however deep.
func (p *Policy) allGroups(names []string) []string {
	all := slices.Clone(names)
	for i := 0; i < len(all); i++ {
		if g := p.Groups[all[i]]; g != nil {
			for _, inner := range slices.Concat(g.Rules, g.Except) {
				if !slices.Contains(all, inner) {
					all = append(all, inner)
				}
			}
		}
	}
	return all
}

// layLimits puts a door's own limits after those it keeps. One of the same name takes the other's place, unless that is
// firm and bears less.
func (r *reader) layLimits(door string, kept, own []Limit, at []ast.Node) []Limit {
	var limits []Limit
	for _, k := range kept {
		i := limitNamed(own, k.Name)
		if i < 0 {
			limits = append(limits, k)
			continue
		}
		if !k.Firm {
			continue
		}
		own[i].Firm = true
		k.compare(door, own[i], func(tighter bool, format string, args ...any) {
			if !tighter {
				r.complain(at[i], "limit %q of door %s is firm in %s and can't be loosened here", k.Name, door, k.At)
			}
		})
	}
	return append(limits, own...)
}

// within reports whether waivers can set aside nothing that others can't.
func (w Waivers) within(o Waivers, ladder Ladder) bool {
	return (o.Code || !w.Code) && (o.Tool || !w.Tool) && ladder.Worse(o.Upto, w.Upto) && w.Most <= o.Most &&
		holdsAll(w.Rules, o.Rules) && holdsAll(w.Tags, o.Tags)
}

// within reports whether acceptances let in nothing that others don't. The others may be nil: none are honoured.
func (a *Acceptances) within(o *Acceptances, ladder Ladder) bool {
	switch {
	case a == nil:
		return true
	case o == nil:
		return false
	}
	return a.Most <= o.Most && holdsAll(a.Need, o.Need) && (o.Upto == "" || a.Upto != "" && ladder.Worse(o.Upto, a.Upto))
}

func holdsAll(list, wanted []string) bool {
	return !slices.ContainsFunc(wanted, func(s string) bool { return !slices.Contains(list, s) })
}
