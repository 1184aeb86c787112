package policyfile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

func (r *reader) doors(n *yaml.Node) {
	doors := r.fields(n, "doors")
	if len(doors) == 0 {
		r.complain(n, "a policy needs at least one door")
	}
	for _, f := range doors {
		if under := r.under.door(f.name); under != nil {
			*r.file.door(f.name) = r.door(f, under)
		} else {
			r.file.Doors = append(r.file.Doors, r.door(f, nil))
		}
	}
	r.build()
	r.checkRefs()
	for _, f := range doors {
		door := r.file.door(f.name)
		r.checkSeverities(f.key, door)
		nameLimits(door.Limits)
	}
}

// likeness is a door that builds on another one, and where it says so.
type likeness struct {
	door, base string
	at         *yaml.Node
}

// build gives doors the limits of those they build on, before their own. A limit of their own takes the place of one of
// the same name, acceptances of their own that of the other's.
func (r *reader) build() {
	done := map[string]bool{}
	for len(r.alike) > 0 {
		waiting := r.alike[:0:0]
		for _, l := range r.alike {
			base := r.file.door(l.base)
			switch {
			case base == nil:
				r.complain(l.at, "door %s is like %q, which is no door; the doors are %s", l.door, l.base, r.doorNames())
			case !done[l.base] && slices.ContainsFunc(r.alike, func(o likeness) bool { return o.door == l.base }):
				waiting = append(waiting, l)
				continue
			default:
				r.file.door(l.door).buildOn(base)
			}
			done[l.door] = true
		}
		if len(waiting) == len(r.alike) {
			r.complain(waiting[0].at, "door %s is like itself", waiting[0].door)
			return
		}
		r.alike = waiting
	}
}

func (d *Door) buildOn(base *Door) {
	own := d.Limits
	d.Limits = nil
	for _, limit := range base.Limits {
		if limitNamed(values(own), limit.Value.Name) < 0 {
			d.Limits = append(d.Limits, limit)
		}
	}
	d.Limits = append(d.Limits, own...)
	if d.Value.Acceptances == nil {
		d.Value.Acceptances, d.Acceptances = base.Value.Acceptances, base.Acceptances
	}
}

func (r *reader) doorNames() string {
	var names []string
	for _, d := range r.file.Doors {
		names = append(names, d.Value.Name)
	}
	return strings.Join(names, ", ")
}

// door reads a door, on top of the inherited one of its name where there is one.
func (r *reader) door(f field, under *Door) Door {
	door := Door{Placed: Placed[policy.Door]{policy.Door{Name: f.name, Mode: policy.Enforce, Waivers: r.defaultWaivers()}, r.position(f.key)}}
	if under != nil {
		door = *under
		door.Limits = slices.Clone(under.Limits)
	}
	limits := under != nil
	var like, refs *yaml.Node
	is := &door.Value
	r.mapping(f.value, keys{
		what: "door " + f.name,
		seen: r.origin("doors." + f.name + "."),
		read: map[string]func(*yaml.Node){
			"judges": func(n *yaml.Node) { is.Judges = oneOf(r, n, "judges", policy.Kinds) },
			"into":   func(n *yaml.Node) { is.Into = r.text(n, "into") },
			"refs": func(n *yaml.Node) {
				refs = n
				is.Refs = r.globs(n, "a ref")
				if under == nil || slices.Equal(is.Refs, under.Value.Refs) {
					return
				}
				if at, firm := under.firmLimit(); firm {
					r.complain(n, "door %s can't have other refs, since a limit of it is firm in %s", f.name, at)
				}
			},
			"mode": func(n *yaml.Node) {
				is.Mode = oneOf(r, n, "mode", []policy.Mode{policy.Enforce, policy.Advise})
				if under == nil || under.Value.Mode == policy.Advise || is.Mode == policy.Enforce {
					return
				}
				if at, firm := under.firmLimit(); firm {
					r.complain(n, "door %s can't only advise, since a limit of it is firm in %s", f.name, at)
				}
			},
			"limits": func(n *yaml.Node) {
				limits = true
				door.Limits = r.layLimits(f.name, door.Limits, r.limits(n, f.name))
			},
			"fix":         func(n *yaml.Node) { is.Fix = r.boolean(n, "fix") },
			"needs":       func(n *yaml.Node) { r.needs(n, is, under) },
			"exceptions":  func(n *yaml.Node) { r.exceptions(n, is, under) },
			"like":        func(n *yaml.Node) { like = n },
			"waivers":     func(n *yaml.Node) { r.waivers(n, &door) },
			"acceptances": func(n *yaml.Node) { r.acceptances(n, &door) },
		},
	})
	if len(is.Refs) > 0 && is.Judges != policy.Push {
		r.complain(cmp.Or(refs, f.key), "refs: is for push doors; door %s has no judges: push", f.name)
	}
	if like != nil {
		r.alike = append(r.alike, likeness{f.name, r.text(like, "like"), like})
	} else if !limits {
		r.complain(f.key, "door %s has no limits, so nothing could shut it", f.name)
	}
	return door
}

// checkRefs complains of two push doors of which nobody can tell which stands at a ref that both name.
func (r *reader) checkRefs() {
	type glob struct{ text, door string }
	stands := map[string]glob{} // by what is before the first wildcard
	for _, d := range r.file.Doors {
		for _, text := range d.Value.Refs {
			literal, whole := policy.Literal(policy.WholeRef(text))
			if !whole {
				literal += "*"
			}
			if other, taken := stands[literal]; taken && other.door != d.Value.Name {
				at := r.file.Origins["doors."+d.Value.Name+".refs"]
				r.problems = append(r.problems, Problem{at.File, at.Line, at.Column, fmt.Sprintf("doors %s and %s may both be for a ref of %s and %s; make one glob longer before its first wildcard", other.door, d.Value.Name, other.text, text)})
			}
			stands[literal] = glob{text, d.Value.Name}
		}
	}
}

// mostWaivers is how many waivers a change may add where the door doesn't say.
const mostWaivers = 3

func (r *reader) defaultWaivers() policy.Waivers {
	upto := r.policy.Levels[finding.Warning]
	if slices.Contains(r.policy.Ladder, string(finding.Warning)) {
		upto = string(finding.Warning)
	}
	return policy.Waivers{Code: true, Upto: upto, Most: mostWaivers}
}

func (r *reader) waivers(n *yaml.Node, door *Door) {
	w := &door.Value.Waivers
	under, at := *w, door.Waivers
	door.Waivers = r.position(n)
	r.mapping(n, keys{
		what: "waivers",
		read: map[string]func(*yaml.Node){
			"code": func(n *yaml.Node) { w.Code = r.boolean(n, "code") },
			"tool": func(n *yaml.Node) { w.Tool = r.boolean(n, "tool") },
			"upto": func(n *yaml.Node) { w.Upto = r.severity(n, "upto") },
			"most": func(n *yaml.Node) { w.Most = r.number(n, "most") },
			"firm": func(n *yaml.Node) { w.Firm = r.boolean(n, "firm") || under.Firm },
			"except": func(n *yaml.Node) {
				r.mapping(n, keys{what: "except", read: map[string]func(*yaml.Node){
					"rule": func(n *yaml.Node) { w.Rules = r.globs(n, "rule") },
					"tag":  func(n *yaml.Node) { w.Tags = r.texts(n, "tag") },
				}})
			},
		},
	})
	if under.Firm && !waiversWithin(*w, under, r.policy.Ladder) {
		r.complain(n, "waivers are firm in %s and can't be loosened here", at)
	}
}

func (r *reader) acceptances(n *yaml.Node, door *Door) {
	under, at := door.Value.Acceptances, door.Acceptances
	a, need := &policy.Acceptances{Need: []string{"why"}}, []string{"most"}
	if under != nil {
		*a, need = *under, nil
	}
	door.Value.Acceptances, door.Acceptances = a, r.position(n)
	r.mapping(n, keys{
		what: "acceptances",
		need: need,
		read: map[string]func(*yaml.Node){
			"upto": func(n *yaml.Node) { a.Upto = r.severity(n, "upto") },
			"most": func(n *yaml.Node) { a.Most = r.number(n, "most") },
			"firm": func(n *yaml.Node) { a.Firm = r.boolean(n, "firm") || a.Firm },
			"need": func(n *yaml.Node) {
				a.Need = r.texts(n, "need")
				for _, name := range a.Need {
					if !slices.Contains(policy.Needs, name) {
						r.complain(n, "need is a list of %s, not %q", strings.Join(policy.Needs, ", "), name)
					}
				}
			},
		},
	})
	if under != nil && under.Firm && !acceptancesWithin(a, under, r.policy.Ladder) {
		r.complain(n, "acceptances are firm in %s and can't be loosened here", at)
	}
}

// limits reads a door's own limits.
func (r *reader) limits(n *yaml.Node, door string) (limits []Placed[policy.Limit]) {
	list := resolve(n)
	if list.Kind != yaml.SequenceNode || len(list.Content) == 0 {
		r.complain(n, "limits of door %s must be a list with at least one limit", door)
		return nil
	}
	for _, item := range list.Content {
		limits = append(limits, Placed[policy.Limit]{r.limit(item), r.position(item)})
	}
	return limits
}

// limitKeys are the keys of every limit.
func (r *reader) limitKeys(limit *policy.Limit) map[string]func(*yaml.Node) {
	read := with(r.selector(&limit.Selector), r.judgedSelectors(&limit.Selector))
	maps.Copy(read, map[string]func(*yaml.Node){
		"name":  func(n *yaml.Node) { limit.Name = r.text(n, "name") },
		"each":  func(n *yaml.Node) { limit.EachFile = oneOf(r, n, "each", []string{"file"}) == "file" },
		"say":   func(n *yaml.Node) { limit.Say = r.text(n, "say") },
		"mode":  func(n *yaml.Node) { limit.Mode = oneOf(r, n, "mode", []policy.Mode{policy.Enforce, policy.Advise}) },
		"from":  func(n *yaml.Node) { limit.From = r.date(n, "from") },
		"until": func(n *yaml.Node) { limit.Until = r.date(n, "until") },
		"firm":  func(n *yaml.Node) { limit.Firm = r.boolean(n, "firm") },
	})
	return read
}

func (r *reader) limit(n *yaml.Node) policy.Limit {
	if r.demandsNumber(n) {
		return r.demand(n)
	}
	limit := policy.Limit{Mode: policy.Enforce}
	read := r.limitKeys(&limit)
	maps.Copy(read, r.except(&limit.Selector, r.selector, r.judgedSelectors))
	maps.Copy(read, map[string]func(*yaml.Node){
		"count": func(n *yaml.Node) { limit.Count = oneOf(r, n, "count", policy.Counts) },
		"most": func(n *yaml.Node) {
			if limit.NoGrowth = r.plain(n) == policy.NoGrowth; !limit.NoGrowth {
				limit.Most = r.number(n, "most")
			}
		},
		"per": func(n *yaml.Node) { limit.PerLines = r.perLines(n) },
	})
	r.mapping(n, keys{what: "a limit", need: []string{"count", "most"}, read: read})
	switch {
	case limit.Exact && limit.Severity == "":
		r.complain(n, "exact: true needs a severity")
	case limit.NoGrowth && limit.Except != nil && len(limit.Except.Places)+len(limit.Except.Standings) > 0:
		r.complain(n, "most: no-growth goes with no except by place or standing: what was found before the change has neither")
	case limit.NoGrowth && limit.Count != policy.CountAll:
		r.complain(n, "most: no-growth goes with count: all, not with %s", limit.Count)
	case limit.NoGrowth && (limit.EachFile || limit.PerLines > 0), limit.EachFile && limit.PerLines > 0:
		r.complain(n, "no-growth, each and per don't go together: a limit has one bound")
	case limit.From != "" && limit.Until != "" && limit.Until < limit.From:
		r.complain(n, "until %s is before from %s, so the limit is never in force", limit.Until, limit.From)
	case !possible(limit):
		r.complain(n, "this limit can count nothing: %s findings never are %s", limit.Count, strings.Join(limit.Standings, " or "))
	}
	return limit
}

// possible reports whether any finding can be what the limit counts and have the standings that it selects.
func possible(l policy.Limit) bool {
	able := map[policy.Count][]string{
		policy.CountNew: {"new", "worsened", "expired"}, policy.CountExpired: {"expired"},
		policy.CountTouched: {"new", "existing", "worsened", "expired"}, policy.CountAll: {"new", "existing", "worsened", "expired", "accepted"},
	}
	return len(l.Standings) == 0 || slices.ContainsFunc(l.Standings, func(s string) bool { return slices.Contains(able[l.Count], s) })
}

// The words of places and standings.
var (
	places    = []change.Place{change.OnTouched, change.InFile, change.Elsewhere}
	standings = []string{"new", "existing", "accepted", "worsened", "expired", "waived"}
)

// perLines reads how many touched lines a bound is for, as 100-lines.
func (r *reader) perLines(n *yaml.Node) int {
	s := r.text(n, "per")
	lines, err := strconv.Atoi(strings.TrimSuffix(s, "-lines"))
	if err != nil || lines < 1 || !strings.HasSuffix(s, "-lines") {
		r.complain(n, "per is for so many changed lines, as 100-lines, not %q", s)
		return 0
	}
	return lines
}

func (r *reader) date(n *yaml.Node, what string) string {
	s := r.text(n, what)
	if _, err := time.Parse(time.DateOnly, s); err != nil && s != "" {
		r.complain(n, "%s is a date like 2027-02-01, not %q", what, s)
	}
	return s
}

// checkSeverities complains of a door that lets a severity pass though it holds a milder one to a number: among the limits
// that enforce by their own mode, every severity above the mildest counted one must be counted too.
func (r *reader) checkSeverities(at *yaml.Node, door *Door) {
	if len(r.problems) > 0 {
		return
	}
	counted := map[string]bool{}
	mildest := -1
	for _, l := range door.Limits {
		if l.Value.Mode == policy.Advise || l.Value.Demands() {
			continue
		}
		for i, severity := range r.policy.Ladder {
			if l.Value.TakesSeverity(r.policy.Ladder, severity) {
				counted[severity] = true
				mildest = max(mildest, i)
			}
		}
	}
	for i := range mildest {
		if severity := r.policy.Ladder[i]; !counted[severity] {
			r.complain(at, "door %s: no limit counts %q, though one counts the milder %q", door.Value.Name, severity, r.policy.Ladder[mildest])
			return
		}
	}
}

// nameLimits gives every limit without a name one made of what it counts, and equal names a number.
func nameLimits(limits []Placed[policy.Limit]) {
	seen := map[string]int{}
	for i := range limits {
		limit := &limits[i].Value
		if limit.Name == "" {
			limit.Name = describe(*limit)
		}
		name := limit.Name
		seen[name]++
		if seen[name] > 1 {
			limit.Name = fmt.Sprintf("%s %d", name, seen[name])
		}
	}
}

func describe(l policy.Limit) string {
	if l.Demands() {
		return describeDemand(l)
	}
	words := append([]string{string(l.Count)}, describeSelector(l)...)
	if l.EachFile {
		words = append(words, "in each file")
	}
	return strings.Join(words, " ")
}

// describeSelector says in words what a limit selects.
func describeSelector(l policy.Limit) (words []string) {
	if l.Severity != "" {
		words = append(words, l.Severity)
	}
	for _, part := range []struct {
		word string
		list []string
	}{{"of", l.Rules}, {"tagged", l.Tags}, {"by", l.Tools}, {"in", l.Paths}, {"for", l.Teams}, {"that are", l.Standings}} {
		if len(part.list) > 0 {
			words = append(words, part.word, strings.Join(part.list, ", "))
		}
	}
	if l.Number.Op != "" {
		words = append(words, "with", l.Number.String())
	}
	if l.Except != nil {
		words = append(words, "with exceptions")
	}
	for _, place := range l.Places {
		words = append(words, "at", string(place))
	}
	return words
}

// limitNamed is the place of the limit of that name, -1 where there is none. A limit without a name is none.
func limitNamed(limits []policy.Limit, name string) int {
	return slices.IndexFunc(limits, func(l policy.Limit) bool { return name != "" && l.Name == name })
}
