package policyfile

import (
	"fmt"
	"iter"
	"slices"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
)

// What a policy marks as firm, those that inherit it can tighten but not loosen.

// firmable are the keys of a policy that can be firm as a whole.
var firmable = []string{"ladder", "levels", "baseline", "place", "paths", "groups", "aliases", "same", "numbers", "teams", "seals", "reports", "recipes", "hosts", "house", "duplication"}

// firm reads which keys those that inherit this policy can't set.
func (r *reader) firm(n *yaml.Node) {
	for _, key := range listOf(r, n, "firm", firmable) {
		if _, already := r.file.Firm[key]; !already {
			r.file.Firm[key] = r.position(n)
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

// checkLadder complains of a ladder that severities of what is inherited aren't on, or that what is firm would mean something
// else on.
func (r *reader) checkLadder(n *yaml.Node) {
	if slices.Equal(r.policy.Ladder, r.under.Policy.Ladder) {
		return
	}
	if at, firm := r.under.anyFirm(); firm {
		r.complain(n, "the ladder can't be changed, since %s is firm on the inherited one", at)
		return
	}
	lacks := func(at Position, severities ...string) {
		for _, severity := range severities {
			if severity != "" && severity != policy.Ignored && !slices.Contains(r.policy.Ladder, severity) {
				r.complain(n, "the ladder lacks the severity %q, which %s names", severity, at)
			}
		}
	}
	for severity := range r.under.Policy.Costs.Severities {
		lacks(r.under.Origins["cost.severity."+severity], severity)
	}
	for _, s := range r.under.Severities {
		lacks(s.At, s.Value.Is, s.Value.Cap, s.Value.Floor)
	}
	for _, d := range r.under.Doors {
		for _, l := range d.Limits {
			lacks(l.At, l.Value.Severity)
		}
		if d.Value.Acceptances != nil {
			lacks(d.Acceptances, d.Value.Acceptances.Upto)
		}
		if d.Waivers.Line > 0 {
			lacks(d.Waivers, d.Value.Waivers.Upto)
		}
	}
}

// anyFirm is where the first firm severity or limit stands.
func (f *File) anyFirm() (Position, bool) {
	for _, s := range f.Severities {
		if s.Value.Firm {
			return s.At, true
		}
	}
	for _, d := range f.Doors {
		if at, firm := d.firmLimit(); firm {
			return at, true
		}
	}
	return Position{}, false
}

// firmLimit is where the door's first firm limit stands that shuts the door when it is broken.
func (d Door) firmLimit() (Position, bool) {
	i := slices.IndexFunc(d.Limits, func(l Placed[policy.Limit]) bool { return l.Value.Firm && l.Value.Mode == policy.Enforce })
	if i < 0 {
		return Position{}, false
	}
	return d.Limits[i].At, true
}

// checkName complains of a name that is given another meaning though something firm rests on it.
func (r *reader) checkName(at *yaml.Node, what, name string, named func(*policy.Selector) []string) {
	for parts, where := range r.under.firmSelectors() {
		if slices.ContainsFunc(parts, func(s *policy.Selector) bool { return slices.Contains(named(s), name) }) {
			r.complain(at, "the %s %q can't be redefined, since what is firm in %s uses it", what, name, where)
		}
	}
}

// firmSelectors are the selectors of firm severities and limits, each with that of its exception where it has one, and where they
// stand.
func (f *File) firmSelectors() iter.Seq2[[]*policy.Selector, Position] {
	return func(yield func([]*policy.Selector, Position) bool) {
		parts := func(s *policy.Selector) []*policy.Selector {
			if s.Except == nil {
				return []*policy.Selector{s}
			}
			return []*policy.Selector{s, s.Except}
		}
		for i := range f.Severities {
			if s := &f.Severities[i]; s.Value.Firm && !yield(parts(&s.Value.Selector), s.At) {
				return
			}
		}
		for _, d := range f.Doors {
			for i := range d.Limits {
				if l := &d.Limits[i]; l.Value.Firm && !yield(parts(&l.Value.Selector), l.At) {
					return
				}
			}
		}
	}
}

// allGroups are names of rules with those that the groups among them name, however deep.
func (f *File) allGroups(names []string) []string {
	all := slices.Clone(names)
	for i := 0; i < len(all); i++ {
		if g := f.Policy.Groups[all[i]]; g != nil {
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
// firm and allows less.
func (r *reader) layLimits(door string, kept, own []Placed[policy.Limit]) []Placed[policy.Limit] {
	var limits []Placed[policy.Limit]
	for _, k := range kept {
		i := limitNamed(values(own), k.Value.Name)
		if i < 0 {
			limits = append(limits, k)
			continue
		}
		if !k.Value.Firm {
			continue
		}
		own[i].Value.Firm = true
		compareLimits(door, k.Value, own[i].Value, func(tighter bool, format string, args ...any) {
			if !tighter {
				r.problems = append(r.problems, Problem{own[i].At.File, own[i].At.Line, own[i].At.Column,
					fmt.Sprintf("limit %q of door %s is firm in %s and can't be loosened here", k.Value.Name, door, k.At)})
			}
		})
	}
	return append(limits, own...)
}

// waiversWithin reports whether waivers can set aside nothing that others can't.
func waiversWithin(w, o policy.Waivers, ladder policy.Ladder) bool {
	return (o.Code || !w.Code) && (o.Tool || !w.Tool) && ladder.Worse(o.Upto, w.Upto) && w.Most <= o.Most &&
		holdsAll(w.Rules, o.Rules) && holdsAll(w.Tags, o.Tags)
}

// acceptancesWithin reports whether acceptances let in nothing that others don't. Nil ones honour none.
func acceptancesWithin(a, o *policy.Acceptances, ladder policy.Ladder) bool {
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
