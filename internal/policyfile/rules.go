package policyfile

import (
	"maps"
	"reflect"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// notes reads what the team has to say of rules.
func (r *reader) notes(n *yaml.Node) {
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

// cost reads what findings take to put right. Own costs count before inherited ones.
func (r *reader) cost(n *yaml.Node) {
	var own []policy.RuleCost
	under := r.under.Policy.Costs
	severities := maps.Clone(under.Severities)
	if severities == nil {
		severities = map[string]int{}
	}
	r.mapping(n, keys{what: "cost", read: map[string]func(*yaml.Node){
		"rule": func(n *yaml.Node) {
			for _, f := range r.fields(n, "cost: rule") {
				r.globs(f.key, "cost: rule")
				own = append(own, policy.RuleCost{Rule: f.name, Minutes: r.workTime(f.value, "cost: "+f.name)})
				r.origin("cost.rule.")(f)
			}
		},
		"severity": func(n *yaml.Node) {
			for _, f := range r.fields(n, "cost: severity") {
				severities[r.severity(f.key, "cost: severity")] = r.workTime(f.value, "cost: "+f.name)
				r.origin("cost.severity.")(f)
			}
		},
	}})
	for _, c := range under.Rules {
		if !slices.ContainsFunc(own, func(o policy.RuleCost) bool { return o.Rule == c.Rule }) {
			own = append(own, c)
		}
	}
	r.policy.Costs = policy.Costs{Rules: own, Severities: severities}
}

// history reads what is kept of verdicts. Each key counts before the inherited one.
func (r *reader) history(n *yaml.Node) {
	r.mapping(n, keys{what: "history", seen: r.origin("history."), read: map[string]func(*yaml.Node){
		"record": func(n *yaml.Node) { r.policy.History.Record = r.boolean(n, "history: record") },
		"keep": func(n *yaml.Node) {
			keep, err := policy.ParsePeriod(r.text(n, "history: keep"))
			if err != nil {
				r.complain(n, "history: keep: %v", err)
			}
			r.policy.History.Keep = keep
		},
	}})
}

// mostWork bounds a cost: what takes longer was mistyped.
const mostWork = 1000 * time.Hour

// workTime reads a time of work, in whole minutes from 0.
func (r *reader) workTime(n *yaml.Node, what string) (minutes int) {
	s := r.text(n, what)
	if s == "0" {
		return 0
	}
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d < 0 || d > mostWork || d%time.Minute != 0) {
		r.complain(n, "%s is a time of work in whole minutes, like 10m or 1h30m, at most %.0fh, not %q", what, mostWork.Hours(), s)
		return 0
	}
	return int(d.Minutes())
}

// link reads where a line can be looked at.
func (r *reader) link(n *yaml.Node) {
	s := r.text(n, "link")
	if s != "" && (!strings.Contains(s, "{path}") || !strings.HasPrefix(s, "https://") && !strings.HasPrefix(s, "http://")) {
		r.complain(n, "link is an https:// address with {path}, and where needed {line} and {commit}, not %q", s)
	}
	r.policy.Link = s
}

// aliases reads the rules that their tools renamed. A name that was changed twice leads to the last one.
func (r *reader) aliases(n *yaml.Node) {
	names := maps.Clone(r.under.Policy.Aliases)
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
func (r *reader) same(n *yaml.Node) {
	list, ok := r.list(n, "same must be a list of sets of rules, as in same: [[shadowed-name, -Wshadow]]")
	if !ok {
		return
	}
	r.policy.Same = nil
	for _, item := range list {
		set := r.globs(item, "same")
		if len(set) == 0 {
			r.complain(item, "a set of same rules has one or more of them")
		}
		r.policy.Same = append(r.policy.Same, set)
	}
	r.policy.Same = append(r.policy.Same, r.under.Policy.Same...)
}

// teams reads who answers for which files. One of the same name takes an inherited one's place.
func (r *reader) teams(n *yaml.Node) {
	r.file.Teams = nil
	for _, f := range r.fields(n, "teams") {
		team := Placed[policy.Team]{policy.Team{Name: f.name}, r.position(f.key)}
		r.checkName(f.key, "team", f.name, func(s *policy.Selector) []string { return s.Teams })
		r.mapping(f.value, keys{
			what: "team " + f.name,
			need: []string{"path"},
			read: map[string]func(*yaml.Node){
				"path":    func(n *yaml.Node) { team.Value.Paths = r.globs(n, "path") },
				"contact": func(n *yaml.Node) { team.Value.Contact = r.text(n, "contact") },
			},
		})
		r.file.Teams = append(r.file.Teams, team)
	}
	if firm := r.firmTeams(); len(firm) > 0 {
		r.policy.FirmTeams = &policy.FirmTeams{Names: firm, Under: &policy.Policy{Teams: values(r.under.Teams), FirmTeams: r.under.Policy.FirmTeams}}
	}
	own := len(r.file.Teams)
	for _, t := range r.under.Teams {
		if !slices.ContainsFunc(r.file.Teams[:own], func(o Placed[policy.Team]) bool { return o.Value.Name == t.Value.Name }) {
			r.file.Teams = append(r.file.Teams, t)
		}
	}
}

// firmTeams are the teams that what is firm of the inherited policy names.
func (r *reader) firmTeams() (all []string) {
	for parts := range r.under.firmSelectors() {
		for _, s := range parts {
			all = append(all, s.Teams...)
		}
	}
	if firm := r.under.Policy.FirmTeams; firm != nil {
		all = append(all, firm.Names...)
	}
	return all
}

// numbers reads which numbers of messages tell how bad a fault is.
func (r *reader) numbers(n *yaml.Node) {
	list, ok := r.list(n, "numbers must be a list, as in numbers: [{rule: complexity, number: 1}]")
	if !ok {
		return
	}
	if at := r.firmNumber(); at != nil {
		r.complain(n, "numbers can't be changed here, since what is firm in %s uses a number", *at)
	}
	r.file.Numbers = nil
	for _, item := range list {
		m := policy.Number{}
		r.mapping(item, keys{
			what: "a number",
			need: []string{"rule", "number"},
			read: map[string]func(*yaml.Node){
				"rule":   func(n *yaml.Node) { m.Rules = r.globs(n, "rule") },
				"tool":   func(n *yaml.Node) { m.Tools = r.globs(n, "tool") },
				"number": func(n *yaml.Node) { m.Number = r.ordinal(n) },
				"worse":  func(n *yaml.Node) { m.Less = oneOf(r, n, "worse", []string{"more", "less"}) == "less" },
			},
		})
		r.file.Numbers = append(r.file.Numbers, Placed[policy.Number]{m, r.position(item)})
	}
	r.file.Numbers = append(r.file.Numbers, r.under.Numbers...)
}

// firmNumber is where something firm of the inherited policy selects by a number, nil where nothing does.
func (r *reader) firmNumber() (at *Position) {
	for parts, where := range r.under.firmSelectors() {
		if slices.ContainsFunc(parts, func(s *policy.Selector) bool { return s.Number.Op != "" }) {
			at = &where
		}
	}
	return at
}

// ordinal reads which number of a message is meant: the first is 1; none says that no number is a measure.
func (r *reader) ordinal(n *yaml.Node) int {
	s := r.text(n, "number")
	if s == "none" || s == "" {
		return 0
	}
	number, err := strconv.Atoi(s)
	if err != nil || number < 1 || number > 99 {
		r.complain(n, `number is which number of the message counts (1 for the first), or none, not %q`, s)
	}
	return number
}

// selector gives the keys that select findings, as limits and severities have in common.
func (r *reader) selector(s *policy.Selector) map[string]func(*yaml.Node) {
	return map[string]func(*yaml.Node){
		"rule": func(n *yaml.Node) { s.Rules = r.globs(n, "rule") },
		"tag":  func(n *yaml.Node) { s.Tags = r.texts(n, "tag") },
		"tool": func(n *yaml.Node) { s.Tools = r.globs(n, "tool") },
		"path": func(n *yaml.Node) { s.Paths = r.globs(n, "path") },
		"team": func(n *yaml.Node) {
			s.Teams = r.texts(n, "team")
			r.teamNames = append(r.teamNames, named{n, s.Teams})
		},
		"number": func(n *yaml.Node) { s.Number = r.comparison(n) },
	}
}

// moreSelectors are the keys that select findings by what their report says of them.
func (r *reader) moreSelectors(s *policy.Selector) map[string]func(*yaml.Node) {
	return map[string]func(*yaml.Node){
		"level":    func(n *yaml.Node) { s.Levels = listOf(r, n, "level", finding.Levels) },
		"message":  func(n *yaml.Node) { s.Message = r.pattern(n, "message") },
		"rank":     func(n *yaml.Node) { s.Rank = r.atLeast(n, "rank", 100) },
		"security": func(n *yaml.Node) { s.Security = r.atLeast(n, "security", 10) },
	}
}

// judgedSelectors are the keys that select findings by what a judgement adds to them.
func (r *reader) judgedSelectors(s *policy.Selector) map[string]func(*yaml.Node) {
	return map[string]func(*yaml.Node){
		"severity": func(n *yaml.Node) { s.Severity = r.severity(n, "severity") },
		"exact":    func(n *yaml.Node) { s.Exact = r.boolean(n, "exact") },
		"place":    func(n *yaml.Node) { s.Places = listOf(r, n, "place", places) },
		"standing": func(n *yaml.Node) { s.Standings = listOf(r, n, "standing", standings) },
	}
}

// except gives the key that takes away findings from those that a selector means, with selectors of its own.
func (r *reader) except(s *policy.Selector, keysOf ...func(*policy.Selector) map[string]func(*yaml.Node)) map[string]func(*yaml.Node) {
	return map[string]func(*yaml.Node){"except": func(n *yaml.Node) {
		s.Except = &policy.Selector{}
		read := map[string]func(*yaml.Node){}
		for _, keys := range keysOf {
			maps.Copy(read, keys(s.Except))
		}
		complaints := len(r.problems)
		r.mapping(n, keys{what: "except", read: read})
		if len(r.problems) == complaints {
			switch {
			case reflect.DeepEqual(*s.Except, policy.Selector{}):
				r.complain(n, "except takes away what its selectors mean, and has none")
			case s.Except.Exact && s.Except.Severity == "":
				r.complain(n, "exact: true needs a severity")
			}
		}
	}}
}

// comparison reads what a number is held against.
func (r *reader) comparison(n *yaml.Node) policy.Comparison {
	c, err := policy.ParseComparison(r.text(n, "number"))
	if err != nil {
		r.complain(n, "number: %v", err)
	}
	return c
}

// list reads a list of whatever; otherwise is the complaint about anything else.
func (r *reader) list(n *yaml.Node, otherwise string) ([]*yaml.Node, bool) {
	list := resolve(n)
	if list.Kind != yaml.SequenceNode {
		r.complain(n, "%s", otherwise)
		return nil, false
	}
	return list.Content, true
}

// named are names that stand in the policy and are looked up when all of it is read.
type named struct {
	at    *yaml.Node
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
func (r *reader) severities(n *yaml.Node) {
	list, ok := r.list(n, "severities must be a list, as in severities: [{rule: unused, is: note}]")
	if !ok {
		return
	}
	own := make([]Placed[policy.Severity], len(list))
	for i, item := range list {
		own[i].At = r.position(item)
		s := &own[i].Value
		read := with(r.selector(&s.Selector), r.moreSelectors(&s.Selector))
		maps.Copy(read, r.except(&s.Selector, r.selector, r.moreSelectors))
		maps.Copy(read, map[string]func(*yaml.Node){
			"is": func(n *yaml.Node) {
				if s.Is = r.plain(n); s.Is != policy.Ignored {
					s.Is = r.severity(n, "is")
				}
			},
			"cap":   func(n *yaml.Node) { s.Cap = r.severity(n, "cap") },
			"floor": func(n *yaml.Node) { s.Floor = r.severity(n, "floor") },
			"firm":  func(n *yaml.Node) { s.Firm = r.boolean(n, "firm") },
		})
		complaints := len(r.problems)
		r.mapping(item, keys{what: "a severity", read: read})
		set := 0
		for _, severity := range []string{s.Is, s.Cap, s.Floor} {
			if severity != "" {
				set++
			}
		}
		if set != 1 && len(r.problems) == complaints {
			r.complain(item, "a severity says one of is, cap and floor")
		}
		if s.Firm && (s.Cap != "" || s.Is == policy.Ignored) {
			r.complain(item, "firm goes with floor, or with is and a severity: a cap, or ignored, demands nothing")
		}
	}
	r.file.Severities = layered(r.under.Severities, own)
}

// The bounds of a regular expression. Matching takes time in proportion to the text and at most to the steps.
const (
	longestPattern = 64 << 10 // bytes
	mostSteps      = 100_000  // of the machine that it becomes
)

// pattern reads a regular expression.
func (r *reader) pattern(n *yaml.Node, what string) *regexp.Regexp {
	s := r.text(n, what)
	if len(s) > longestPattern {
		r.complain(n, "%s is over %d bytes long, too long for a regular expression", what, longestPattern)
		return nil
	}
	parsed, err := syntax.Parse(s, syntax.Perl)
	if err == nil {
		var machine *syntax.Prog
		if machine, err = syntax.Compile(parsed.Simplify()); err == nil && len(machine.Inst) > mostSteps {
			r.complain(n, "%s is a regular expression that takes over %d steps; have it repeat less", what, mostSteps)
			return nil
		}
	}
	pattern, err := regexp.Compile(s)
	if err != nil {
		r.complain(n, "%s is no regular expression: %v", what, err)
	}
	return pattern
}

// atLeast reads the least number that is meant.
func (r *reader) atLeast(n *yaml.Node, what string, most float64) float64 {
	s := r.text(n, what)
	number, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimPrefix(s, ">=")), 64)
	if s != "" && (err != nil || !(number > 0 && number <= most)) {
		r.complain(n, "%s is the least number that is meant, up to %g, not %q", what, most, s)
	}
	return number
}

// paths reads the sets of paths.
func (r *reader) paths(n *yaml.Node) {
	own := map[string]bool{}
	set := func(at, n *yaml.Node, name string) {
		if own[name] {
			r.complain(at, "the set %q is there already", name)
		}
		r.checkName(at, "set", name, func(s *policy.Selector) []string { return s.Paths })
		own[name] = true
		r.policy.Sets[name] = r.globs(n, "path")
	}
	r.mapping(n, keys{
		what: "paths",
		seen: r.origin("paths."),
		read: map[string]func(*yaml.Node){
			"skip":      func(n *yaml.Node) { r.policy.Skip = slices.Concat(r.under.Policy.Skip, r.globs(n, "path")) },
			"generated": func(n *yaml.Node) { set(n, n, policy.GeneratedSet) },
			"marker": func(n *yaml.Node) {
				r.policy.Marker = r.pattern(n, "marker")
				r.checkName(n, "set", policy.GeneratedSet, func(s *policy.Selector) []string { return s.Paths })
			},
			"sets": func(n *yaml.Node) {
				for _, f := range r.fields(n, "sets") {
					r.origin("paths.sets.")(f)
					set(f.key, f.value, f.name)
				}
			},
		},
	})
}

// groups reads the named sets of rules. A group may name others, before or after it.
func (r *reader) groups(n *yaml.Node) {
	fields := r.fields(n, "groups")
	for _, f := range fields {
		r.origin("groups.")(f)
		g := &policy.Group{}
		r.policy.Groups[f.name] = g
		if resolve(f.value).Kind != yaml.MappingNode {
			g.Rules = r.globs(f.value, "groups: "+f.name)
			continue
		}
		r.mapping(f.value, keys{
			what: "group " + f.name,
			read: map[string]func(*yaml.Node){
				"rule":   func(n *yaml.Node) { g.Rules = r.globs(n, "rule") },
				"tag":    func(n *yaml.Node) { g.Tags = r.texts(n, "tag") },
				"except": func(n *yaml.Node) { g.Except = r.globs(n, "except") },
			},
		})
		if len(g.Rules)+len(g.Tags) == 0 {
			r.complain(f.value, "group %s needs a rule or a tag", f.name)
		}
	}
	for _, f := range fields {
		r.checkName(f.key, "group", f.name, func(s *policy.Selector) []string { return r.under.allGroups(s.Rules) })
		if holds(r.policy.Groups, f.name, f.name, len(fields)) {
			r.complain(f.key, "group %s holds itself", f.name)
		}
	}
}

// holds reports whether a group holds another one, looking so many groups deep.
func holds(groups map[string]*policy.Group, name, other string, deep int) bool {
	for _, inner := range slices.Concat(groups[name].Rules, groups[name].Except) {
		if groups[inner] != nil && (inner == other || deep > 0 && holds(groups, inner, other, deep-1)) {
			return true
		}
	}
	return false
}

// checkTeams complains of teams that selectors name and the policy hasn't.
func (r *reader) checkTeams() {
	var teams []string
	for _, t := range r.file.Teams {
		teams = append(teams, t.Value.Name)
	}
	r.lookUp(r.teamNames, teams, "there is no team %q")
}

func (r *reader) globs(n *yaml.Node, what string) []string {
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
