package policy

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml/ast"

	"zincdoor/internal/core/finding"
)

// notes reads what the team has to say of rules.
func (r *reader) notes(n ast.Node) {
	notes := maps.Clone(r.policy.Notes)
	if notes == nil {
		notes = map[string]string{}
	}
	for _, f := range r.fields(n, "notes") {
		notes[f.name] = r.text(f.value, "notes: "+f.name)
		r.origin("notes.")(f)
	}
	r.policy.Notes = notes
}

// link reads where a line can be looked at.
func (r *reader) link(n ast.Node) {
	s := r.text(n, "link")
	if s != "" && (!strings.Contains(s, "{path}") || !strings.HasPrefix(s, "https://") && !strings.HasPrefix(s, "http://")) {
		r.complain(n, "link is an address that begins with https:// and has {path} in it, and where it needs them {line} and {commit}, not %q", s)
	}
	r.policy.Link = s
}

// aliases reads the rules that their tools renamed. A name that was changed twice leads to the last one.
func (r *reader) aliases(n ast.Node) {
	names := maps.Clone(r.under.Aliases)
	for _, f := range r.fields(n, "aliases") {
		names[f.name] = r.text(f.value, "aliases: "+f.name)
		r.origin("aliases.")(f)
	}
	r.policy.Aliases = map[string]string{}
	for old, now := range names {
		for range names {
			next, renamed := names[now]
			if !renamed {
				break
			}
			now = next
		}
		if _, endless := names[now]; endless {
			r.complain(n, "aliases lead from %q back to itself", old)
			return
		}
		r.policy.Aliases[old] = now
	}
}

// same reads the sets of rules that mean the same fault.
func (r *reader) same(n ast.Node) {
	list, ok := r.list(n, "same must be a list of sets of rules, as in same: [[shadowed-name, -Wshadow]]")
	if !ok {
		return
	}
	r.policy.Same = nil
	for _, item := range list {
		set := r.globs(item, "same")
		if len(set) < 2 {
			r.complain(item, "a set of same rules has two or more of them")
		}
		r.policy.Same = append(r.policy.Same, set)
	}
	r.policy.Same = append(r.policy.Same, r.under.Same...)
}

// teams reads who answers for which files. One of the same name takes an inherited one's place.
func (r *reader) teams(n ast.Node) {
	r.policy.Teams = nil
	for _, f := range r.fields(n, "teams") {
		team := Team{Name: f.name, At: r.position(f.key)}
		r.checkName(f.key, "team", f.name, func(s *Selector) []string { return s.Teams })
		r.mapping(f.value, keys{
			what: "team " + f.name,
			need: []string{"path"},
			read: map[string]func(ast.Node){
				"path":    func(n ast.Node) { team.Paths = r.globs(n, "path") },
				"contact": func(n ast.Node) { team.Contact = r.text(n, "contact") },
			},
		})
		r.policy.Teams = append(r.policy.Teams, team)
	}
	own := len(r.policy.Teams)
	for _, t := range r.under.Teams {
		if !slices.ContainsFunc(r.policy.Teams[:own], func(o Team) bool { return o.Name == t.Name }) {
			r.policy.Teams = append(r.policy.Teams, t)
		}
	}
}

func (r *reader) measures(n ast.Node) {
	list, ok := r.list(n, "measures must be a list, as in measures: [{rule: complexity, number: 1}]")
	if !ok {
		return
	}
	r.policy.Measures = nil
	for _, item := range list {
		m := Measure{At: r.position(item)}
		r.mapping(item, keys{
			what: "a measure",
			need: []string{"rule", "number"},
			read: map[string]func(ast.Node){
				"rule":   func(n ast.Node) { m.Rules = r.globs(n, "rule") },
				"tool":   func(n ast.Node) { m.Tools = r.globs(n, "tool") },
				"number": func(n ast.Node) { m.Number = r.ordinal(n) },
				"worse":  func(n ast.Node) { m.Less = oneOf(r, n, "worse", []string{"more", "less"}) == "less" },
			},
		})
		r.policy.Measures = append(r.policy.Measures, m)
	}
	r.policy.Measures = append(r.policy.Measures, r.under.Measures...)
}

// ordinal reads which number of a message is meant: the first is 1; none says that no number is a measure.
func (r *reader) ordinal(n ast.Node) int {
	s := r.text(n, "number")
	if s == "none" || s == "" {
		return 0
	}
	number, err := strconv.Atoi(s)
	if err != nil || number < 1 || number > 99 {
		r.complain(n, `number is which number of the message is the measure (1 for the first), or none, not %q`, s)
	}
	return number
}

// selector gives the keys that select findings, as limits and severities have in common.
func (r *reader) selector(s *Selector) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"rule": func(n ast.Node) { s.Rules = r.globs(n, "rule") },
		"tag":  func(n ast.Node) { s.Tags = r.texts(n, "tag") },
		"tool": func(n ast.Node) { s.Tools = r.globs(n, "tool") },
		"path": func(n ast.Node) { s.Paths = r.globs(n, "path") },
		"team": func(n ast.Node) {
			s.Teams = r.texts(n, "team")
			r.teamNames = append(r.teamNames, named{n, s.Teams})
		},
	}
}

// list reads a list of whatever; otherwise is the complaint about anything else.
func (r *reader) list(n ast.Node, otherwise string) ([]ast.Node, bool) {
	list, ok := r.resolve(n).(*ast.SequenceNode)
	if !ok {
		r.complain(n, "%s", otherwise)
		return nil, false
	}
	return list.Values, true
}

// named are names that stand in the policy and are looked up when all of it is read.
type named struct {
	at    ast.Node
	names []string
}

// lookUp complains of names that aren't known, in the words of unknown, which takes the name.
func (r *reader) lookUp(all []named, known []string, unknown string) {
	for _, n := range all {
		for _, name := range n.names {
			if !slices.Contains(known, name) {
				r.complain(n.at, unknown+"%s", name, didYouMean(name, known, ""))
			}
		}
	}
}

// severities reads how findings are graded.
func (r *reader) severities(n ast.Node) {
	list, ok := r.list(n, "severities must be a list, as in severities: [{rule: unused, is: note}]")
	if !ok {
		return
	}
	own := make([]Severity, len(list))
	for i, item := range list {
		s := &own[i]
		s.At = r.position(item)
		read := r.selector(&s.Selector)
		maps.Copy(read, map[string]func(ast.Node){
			"level":    func(n ast.Node) { s.Levels = listOf(r, n, "level", finding.Levels) },
			"message":  func(n ast.Node) { s.Message = r.pattern(n, "message") },
			"rank":     func(n ast.Node) { s.Rank = r.atLeast(n, "rank", 100) },
			"security": func(n ast.Node) { s.Security = r.atLeast(n, "security", 10) },
			"is": func(n ast.Node) {
				if s.Is = r.plain(n); s.Is != Ignored {
					s.Is = r.rung(n, "is")
				}
			},
			"cap":   func(n ast.Node) { s.Cap = r.rung(n, "cap") },
			"floor": func(n ast.Node) { s.Floor = r.rung(n, "floor") },
			"firm":  func(n ast.Node) { s.Firm = r.boolean(n, "firm") },
		})
		complaints := len(r.problems)
		r.mapping(item, keys{what: "a severity", read: read})
		set := 0
		for _, rung := range []string{s.Is, s.Cap, s.Floor} {
			if rung != "" {
				set++
			}
		}
		if set != 1 && len(r.problems) == complaints {
			r.complain(item, "a severity says one of is, cap and floor")
		}
		if s.Firm && (s.Cap != "" || s.Is == Ignored) {
			r.complain(item, "firm goes with floor, and with is and a rung: a cap, and what is ignored, demand nothing that could be loosened")
		}
	}
	r.policy.Severities = layered(r.under.Severities, own)
}

// pattern reads a regular expression.
func (r *reader) pattern(n ast.Node, what string) *regexp.Regexp {
	s := r.text(n, what)
	pattern, err := regexp.Compile(s)
	if err != nil {
		r.complain(n, "%s is no regular expression: %v", what, err)
	}
	return pattern
}

// atLeast reads the least number that is meant.
func (r *reader) atLeast(n ast.Node, what string, most float64) float64 {
	s := r.text(n, what)
	number, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimPrefix(s, ">=")), 64)
	if s != "" && (err != nil || !(number > 0 && number <= most)) {
		r.complain(n, "%s is the least number that is meant, up to %g, not %q", what, most, s)
	}
	return number
}

// generatedSet is the set of paths that generated files are in.
const generatedSet = "generated"

// paths reads the sets of paths.
func (r *reader) paths(n ast.Node) {
	own := map[string]bool{}
	set := func(at, n ast.Node, name string) {
		if own[name] {
			r.complain(at, "the set %q is there already", name)
		}
		r.checkName(at, "set", name, func(s *Selector) []string { return s.Paths })
		own[name] = true
		r.policy.Sets[name] = r.globs(n, "path")
	}
	r.mapping(n, keys{
		what: "paths",
		seen: r.origin("paths."),
		read: map[string]func(ast.Node){
			"skip":      func(n ast.Node) { r.policy.Skip = slices.Concat(r.under.Skip, r.globs(n, "path")) },
			"generated": func(n ast.Node) { set(n, n, generatedSet) },
			"marker": func(n ast.Node) {
				r.policy.Marker = r.pattern(n, "marker")
				r.checkName(n, "set", generatedSet, func(s *Selector) []string { return s.Paths })
			},
			"sets": func(n ast.Node) {
				for _, f := range r.fields(n, "sets") {
					r.origin("paths.sets.")(f)
					set(f.key, f.value, f.name)
				}
			},
		},
	})
}

// groups reads the named sets of rules. A group may name others, before or after it.
func (r *reader) groups(n ast.Node) {
	fields := r.fields(n, "groups")
	for _, f := range fields {
		r.origin("groups.")(f)
		g := &Group{}
		r.policy.Groups[f.name] = g
		if _, long := r.resolve(f.value).(*ast.MappingNode); !long {
			g.Rules = r.globs(f.value, "groups: "+f.name)
			continue
		}
		r.mapping(f.value, keys{
			what: "group " + f.name,
			read: map[string]func(ast.Node){
				"rule":   func(n ast.Node) { g.Rules = r.globs(n, "rule") },
				"tag":    func(n ast.Node) { g.Tags = r.texts(n, "tag") },
				"except": func(n ast.Node) { g.Except = r.globs(n, "except") },
			},
		})
		if len(g.Rules)+len(g.Tags) == 0 {
			r.complain(f.value, "group %s needs a rule or a tag", f.name)
		}
	}
	for _, g := range r.policy.Groups {
		g.groups, g.except = r.policy.groupsOf(g.Rules), r.policy.groupsOf(g.Except)
	}
	for _, f := range fields {
		r.checkName(f.key, "group", f.name, func(s *Selector) []string { return r.under.allGroups(s.Rules) })
		if r.policy.Groups[f.name].holds(r.policy.Groups[f.name], len(fields)) {
			r.complain(f.key, "group %s holds itself", f.name)
			r.policy.Groups[f.name].groups, r.policy.Groups[f.name].except = nil, nil
		}
	}
}

func (p *Policy) groupsOf(names []string) (groups []*Group) {
	for _, name := range names {
		if g := p.Groups[name]; g != nil {
			groups = append(groups, g)
		}
	}
	return groups
}

// holds reports whether a group holds another one, looking so many groups deep.
func (g *Group) holds(other *Group, deep int) bool {
	for _, inner := range slices.Concat(g.groups, g.except) {
		if inner == other || deep > 0 && inner.holds(other, deep-1) {
			return true
		}
	}
	return false
}

// resolveSelectors looks up the groups, sets and teams that selectors name.
func (r *reader) resolveSelectors() {
	resolve := r.policy.resolve
	for i := range r.policy.Severities {
		resolve(&r.policy.Severities[i].Selector)
	}
	for _, d := range r.policy.Doors {
		for i := range d.Limits {
			resolve(&d.Limits[i].Selector)
		}
	}
	var teams []string
	for _, t := range r.policy.Teams {
		teams = append(teams, t.Name)
	}
	r.lookUp(r.teamNames, teams, "there is no team %q")
}

// resolve looks up the groups and sets that a selector names.
func (p *Policy) resolve(s *Selector) {
	s.groups, s.sets, s.generated = p.groupsOf(s.Rules), nil, slices.Contains(s.Paths, generatedSet)
	for _, name := range s.Paths {
		s.sets = append(s.sets, p.Sets[name]...)
	}
}

// Choose readies a selector that a call gives: its groups and sets are those of the policy. It complains of globs that
// are none, and of teams that there aren't.
func (p *Policy) Choose(s Selector) (Selector, error) {
	for _, glob := range slices.Concat(s.Rules, s.Paths, s.Tools) {
		if !doublestar.ValidatePattern(glob) {
			return s, fmt.Errorf("%q is no valid glob", glob)
		}
	}
	for _, name := range s.Teams {
		if !slices.ContainsFunc(p.Teams, func(t Team) bool { return t.Name == name }) {
			return s, fmt.Errorf("the policy has no team %q", name)
		}
	}
	p.resolve(&s)
	return s, nil
}

func (r *reader) globs(n ast.Node, what string) []string {
	globs := r.texts(n, what)
	for _, glob := range globs {
		if !doublestar.ValidatePattern(glob) {
			r.complain(n, "%s: %q is no valid glob", what, glob)
		}
		if what == "path" && (strings.HasPrefix(glob, "/") || strings.HasPrefix(glob, "./")) {
			r.complain(n, "path: %q can't match: globs start at the repository's root, without a slash", glob)
		}
	}
	return globs
}
