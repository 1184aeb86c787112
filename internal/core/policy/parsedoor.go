package policy

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
)

func (r *reader) doors(n ast.Node) {
	doors := r.fields(n, "doors")
	if len(doors) == 0 {
		r.complain(n, "a policy needs at least one door")
	}
	for _, f := range doors {
		i := slices.IndexFunc(r.under.Doors, func(d Door) bool { return d.Name == f.name })
		if i < 0 {
			r.policy.Doors = append(r.policy.Doors, r.door(f, nil))
		} else {
			r.policy.Doors[i] = r.door(f, &r.under.Doors[i])
		}
	}
	r.build()
	for _, f := range doors {
		door, _ := r.policy.Door(f.name)
		r.checkRungs(f.key, door)
		nameLimits(door.Limits)
	}
}

// likeness is a door that builds on another one, and where it says so.
type likeness struct {
	door, base string
	at         ast.Node
}

// build gives doors the limits of those they build on, before their own. A limit of their own takes the place of one of
// the same name, acceptances of their own that of the other's.
func (r *reader) build() {
	done := map[string]bool{}
	for len(r.alike) > 0 {
		waiting := r.alike[:0:0]
		for _, l := range r.alike {
			base, known := r.policy.Door(l.base)
			switch {
			case !known:
				r.complain(l.at, "door %s builds on %q, which is no door; the doors are %s", l.door, l.base, Names(r.policy.Doors))
			case !done[l.base] && slices.ContainsFunc(r.alike, func(o likeness) bool { return o.door == l.base }):
				waiting = append(waiting, l)
				continue
			default:
				i := slices.IndexFunc(r.policy.Doors, func(d Door) bool { return d.Name == l.door })
				door := &r.policy.Doors[i]
				own := door.Limits
				door.Limits = nil
				for _, limit := range base.Limits {
					if limitNamed(own, limit.Name) < 0 {
						door.Limits = append(door.Limits, limit)
					}
				}
				door.Limits = append(door.Limits, own...)
				if door.Acceptances == nil {
					door.Acceptances = base.Acceptances
				}
			}
			done[l.door] = true
		}
		if len(waiting) == len(r.alike) {
			r.complain(waiting[0].at, "door %s builds on itself", waiting[0].door)
			return
		}
		r.alike = waiting
	}
}

// door reads a door, laid over the inherited one of its name where there is one.
func (r *reader) door(f field, under *Door) Door {
	door := Door{Name: f.name, Mode: Enforce, Waivers: r.defaultWaivers(), At: r.position(f.key)}
	if under != nil {
		door = *under
		door.Limits = slices.Clone(under.Limits)
	}
	limits := under != nil
	var like ast.Node
	r.mapping(f.value, keys{
		what: "door " + f.name,
		seen: r.origin("doors." + f.name + "."),
		read: map[string]func(ast.Node){
			"judges":  func(n ast.Node) { door.Judges = oneOf(r, n, "judges", Kinds) },
			"against": func(n ast.Node) { door.Against = r.text(n, "against") },
			"mode": func(n ast.Node) {
				door.Mode = oneOf(r, n, "mode", []Mode{Enforce, Advise})
				if under == nil || under.Mode == Advise || door.Mode == Enforce {
					return
				}
				if at, firm := under.firmLimit(); firm {
					r.complain(n, "door %s can't only advise, since a limit of it is firm in %s", f.name, at)
				}
			},
			"limits": func(n ast.Node) {
				limits = true
				own, at := r.limits(n, f.name)
				door.Limits = r.layLimits(f.name, door.Limits, own, at)
			},
			"mend":        func(n ast.Node) { door.Mend = r.boolean(n, "mend") },
			"needs":       func(n ast.Node) { r.needs(n, &door) },
			"like":        func(n ast.Node) { like = n },
			"waivers":     func(n ast.Node) { r.waivers(n, &door.Waivers) },
			"acceptances": func(n ast.Node) { door.Acceptances = r.acceptances(n, door.Acceptances) },
		},
	})
	if like != nil {
		r.alike = append(r.alike, likeness{f.name, r.text(like, "like"), like})
	} else if !limits {
		r.complain(f.key, "door %s has no limits, so nothing could shut it", f.name)
	}
	return door
}

// mostWaivers is how many waivers a change may add where the door doesn't say.
const mostWaivers = 3

func (r *reader) defaultWaivers() Waivers {
	upto := r.policy.Levels[finding.Warning]
	if slices.Contains(r.policy.Ladder, string(finding.Warning)) {
		upto = string(finding.Warning)
	}
	return Waivers{Code: true, Upto: upto, Most: mostWaivers}
}

func (r *reader) waivers(n ast.Node, w *Waivers) {
	under := *w
	w.At = r.position(n)
	r.mapping(n, keys{
		what: "waivers",
		read: map[string]func(ast.Node){
			"code": func(n ast.Node) { w.Code = r.boolean(n, "code") },
			"tool": func(n ast.Node) { w.Tool = r.boolean(n, "tool") },
			"upto": func(n ast.Node) { w.Upto = r.rung(n, "upto") },
			"most": func(n ast.Node) { w.Most = r.number(n, "most") },
			"firm": func(n ast.Node) { w.Firm = r.boolean(n, "firm") || under.Firm },
			"except": func(n ast.Node) {
				r.mapping(n, keys{what: "except", read: map[string]func(ast.Node){
					"rule": func(n ast.Node) { w.Rules = r.globs(n, "rule") },
					"tag":  func(n ast.Node) { w.Tags = r.texts(n, "tag") },
				}})
			},
		},
	})
	if under.Firm && !w.within(under, r.policy.Ladder) {
		r.complain(n, "waivers are firm in %s and can't be loosened here", under.At)
	}
}

func (r *reader) acceptances(n ast.Node, under *Acceptances) *Acceptances {
	a, need := &Acceptances{Need: []string{"why"}}, []string{"most"}
	if under != nil {
		*a, need = *under, nil
	}
	a.At = r.position(n)
	r.mapping(n, keys{
		what: "acceptances",
		need: need,
		read: map[string]func(ast.Node){
			"upto": func(n ast.Node) { a.Upto = r.rung(n, "upto") },
			"most": func(n ast.Node) { a.Most = r.number(n, "most") },
			"firm": func(n ast.Node) { a.Firm = r.boolean(n, "firm") || a.Firm },
			"need": func(n ast.Node) {
				a.Need = r.texts(n, "need")
				for _, name := range a.Need {
					if !slices.Contains(Needs, name) {
						r.complain(n, "need is a list of %s, not %q", strings.Join(Needs, ", "), name)
					}
				}
			},
		},
	})
	if under != nil && under.Firm && !a.within(under, r.policy.Ladder) {
		r.complain(n, "acceptances are firm in %s and can't be loosened here", under.At)
	}
	return a
}

// limits reads a door's own limits, with their places.
func (r *reader) limits(n ast.Node, door string) (limits []Limit, at []ast.Node) {
	list, ok := r.resolve(n).(*ast.SequenceNode)
	if !ok || len(list.Values) == 0 {
		r.complain(n, "limits of door %s must be a list with at least one limit", door)
		return nil, nil
	}
	for _, item := range list.Values {
		limits = append(limits, r.limit(item))
	}
	return limits, list.Values
}

func (r *reader) limit(n ast.Node) Limit {
	limit := Limit{Mode: Enforce, At: r.position(n)}
	read := r.selector(&limit.Selector)
	maps.Copy(read, map[string]func(ast.Node){
		"name":     func(n ast.Node) { limit.Name = r.text(n, "name") },
		"count":    func(n ast.Node) { limit.Count = oneOf(r, n, "count", counts) },
		"severity": func(n ast.Node) { limit.Severity = r.rung(n, "severity") },
		"only":     func(n ast.Node) { limit.Only = r.boolean(n, "only") },
		"place":    func(n ast.Node) { limit.Places = listOf(r, n, "place", places) },
		"standing": func(n ast.Node) { limit.Standings = listOf(r, n, "standing", standings) },
		"most": func(n ast.Node) {
			if limit.NoGrowth = r.plain(n) == "no-growth"; !limit.NoGrowth {
				limit.Most = r.number(n, "most")
			}
		},
		"each":  func(n ast.Node) { limit.EachFile = oneOf(r, n, "each", []string{"file"}) == "file" },
		"per":   func(n ast.Node) { limit.PerLines = r.perLines(n) },
		"say":   func(n ast.Node) { limit.Say = r.text(n, "say") },
		"mode":  func(n ast.Node) { limit.Mode = oneOf(r, n, "mode", []Mode{Enforce, Advise}) },
		"from":  func(n ast.Node) { limit.From = r.date(n, "from") },
		"until": func(n ast.Node) { limit.Until = r.date(n, "until") },
		"firm":  func(n ast.Node) { limit.Firm = r.boolean(n, "firm") },
	})
	r.mapping(n, keys{what: "a limit", need: []string{"count", "most"}, read: read})
	switch {
	case limit.Only && limit.Severity == "":
		r.complain(n, "only: true needs a severity")
	case limit.NoGrowth && limit.Count != CountAll:
		r.complain(n, "most: no-growth goes with count: all, not with %s", limit.Count)
	case limit.NoGrowth && (limit.EachFile || limit.PerLines > 0), limit.EachFile && limit.PerLines > 0:
		r.complain(n, "no-growth, each and per don't go together: a limit has one bound")
	case limit.From != "" && limit.Until != "" && limit.Until < limit.From:
		r.complain(n, "until %s is before from %s, so the limit is never in force", limit.Until, limit.From)
	case !limit.possible():
		r.complain(n, "this limit can count nothing: %s findings never are %s", limit.Count, strings.Join(limit.Standings, " or "))
	}
	return limit
}

// possible reports whether any finding can be what the limit counts and have the standings that it selects.
func (l Limit) possible() bool {
	able := map[Count][]string{
		CountNew: {"new", "worsened", "lapsed"}, CountLapsed: {"lapsed"},
		CountTouched: {"new", "inherited", "worsened", "lapsed"}, CountAll: {"new", "inherited", "worsened", "lapsed", "accepted"},
	}
	return len(l.Standings) == 0 || slices.ContainsFunc(l.Standings, func(s string) bool { return slices.Contains(able[l.Count], s) })
}

// The words of places and standings.
var (
	places    = []change.Place{change.OnTouched, change.InFile, change.Elsewhere}
	standings = []string{"new", "inherited", "accepted", "worsened", "lapsed", "waived"}
)

// perLines reads how many touched lines a bound is for, as 100-lines.
func (r *reader) perLines(n ast.Node) int {
	s := r.text(n, "per")
	lines, err := strconv.Atoi(strings.TrimSuffix(s, "-lines"))
	if err != nil || lines < 1 || !strings.HasSuffix(s, "-lines") {
		r.complain(n, "per is for so many touched lines, as 100-lines, not %q", s)
		return 0
	}
	return lines
}

func (r *reader) date(n ast.Node, what string) string {
	s := r.text(n, what)
	if _, err := time.Parse(time.DateOnly, s); err != nil && s != "" {
		r.complain(n, "%s is a date like 2027-02-01, not %q", what, s)
	}
	return s
}

// checkRungs complains of a door that lets a rung pass though it holds a milder one to a number: among the limits that
// enforce by their own mode, every rung above the mildest counted one must be counted too.
func (r *reader) checkRungs(at ast.Node, door Door) {
	if len(r.problems) > 0 {
		return
	}
	counted := map[string]bool{}
	mildest := -1
	for _, l := range door.Limits {
		if l.Mode == Advise {
			continue
		}
		for i, rung := range r.policy.Ladder {
			if l.TakesRung(r.policy.Ladder, rung) {
				counted[rung] = true
				mildest = max(mildest, i)
			}
		}
	}
	for i := range mildest {
		if rung := r.policy.Ladder[i]; !counted[rung] {
			r.complain(at, "door %s: no limit counts %q, though one counts the milder %q", door.Name, rung, r.policy.Ladder[mildest])
			return
		}
	}
}

// nameLimits gives every limit without a name one made of what it counts, and equal names a number.
func nameLimits(limits []Limit) {
	seen := map[string]int{}
	for i := range limits {
		if limits[i].Name == "" {
			limits[i].Name = limits[i].describe()
		}
		name := limits[i].Name
		seen[name]++
		if seen[name] > 1 {
			limits[i].Name = fmt.Sprintf("%s %d", name, seen[name])
		}
	}
}

func (l Limit) describe() string {
	words := []string{string(l.Count)}
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
	for _, place := range l.Places {
		words = append(words, "at", string(place))
	}
	if l.EachFile {
		words = append(words, "in each file")
	}
	return strings.Join(words, " ")
}
