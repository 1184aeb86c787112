package policy

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml/ast"

	"zincdoor/internal/core/finding"
)

// Parse reads a policy file. file is its name in messages. The error is a Problems with everything that is wrong.
func Parse(file string, data []byte) (*Policy, error) {
	d, err := newDocument(file, data)
	if err != nil {
		return nil, err
	}
	r := reader{document: d, policy: defaults()}
	r.whole()
	if err := d.result(); err != nil {
		return nil, err
	}
	return r.policy, nil
}

// reader fills a policy from a document.
type reader struct {
	*document
	policy *Policy
}

func (r *reader) whole() {
	var levels, doors ast.Node
	r.mapping(r.root, keys{
		what: "the policy",
		need: []string{"zincdoor", "doors"},
		read: map[string]func(ast.Node){
			"zincdoor": r.form,
			"ladder":   r.ladder,
			"levels":   func(n ast.Node) { levels = n }, // needs the ladder
			"baseline": r.baseline,
			"place":    r.place,
			"aliases":  r.aliases,
			"teams":    r.teams,
			"measures": r.measures,
			"doors":    func(n ast.Node) { doors = n }, // needs the ladder
		},
		later: []string{"inherit", "paths", "groups", "same", "severities", "reports", "recipes", "notes"},
	})
	r.levels(levels)
	if doors != nil {
		r.doors(doors)
	}
}

func (r *reader) form(n ast.Node) {
	if s := r.text(n, "zincdoor"); s != "" && s != "1" {
		r.complain(n, "this program reads policies of form 1, not %q", s)
	}
}

func (r *reader) ladder(n ast.Node) {
	rungs := r.texts(n, "ladder")
	for i, rung := range rungs {
		if slices.Contains(rungs[:i], rung) {
			r.complain(n, "the ladder names %q twice", rung)
		}
		if rung == "ignored" {
			r.complain(n, `"ignored" is what a finding is that no rung takes; a rung needs another name`)
		}
	}
	if len(rungs) > 0 {
		r.policy.Ladder = rungs
	}
}

// levels gives every level of SARIF a rung: by the levels key, else the rung of the same name. "none" falls on the
// mildest rung unless it is given another.
func (r *reader) levels(n ast.Node) {
	given := map[finding.Level]string{finding.None: r.policy.Ladder[len(r.policy.Ladder)-1]}
	if n != nil {
		read := map[string]func(ast.Node){}
		for _, level := range finding.Levels {
			read[string(level)] = func(value ast.Node) { given[level] = r.rung(value, "levels: "+string(level)) }
		}
		r.mapping(n, keys{what: "levels", read: read})
	}
	for _, level := range finding.Levels {
		if given[level] != "" {
			continue
		}
		given[level] = string(level)
		if !slices.Contains(r.policy.Ladder, string(level)) && len(r.problems) == 0 {
			at := n
			if at == nil {
				at = r.root
			}
			r.complain(at, "the ladder has no rung %q, so levels must say on which rung that level falls, as in levels: {%s: %s}",
				level, level, r.policy.Ladder[0])
		}
	}
	r.policy.Levels = given
}

func (r *reader) rung(n ast.Node, what string) string {
	s := r.text(n, what)
	if s == "" || slices.Contains(r.policy.Ladder, s) {
		return s
	}
	hint := "; the ladder is " + strings.Join(r.policy.Ladder, ", ")
	if nearest := Nearest(s, r.policy.Ladder); nearest != "" {
		hint = fmt.Sprintf("; did you mean %q?", nearest)
	}
	r.complain(n, "%s: no rung %q%s", what, s, hint)
	return s
}

func (r *reader) baseline(n ast.Node) {
	s := r.text(n, "baseline")
	if s == "" {
		return
	}
	if path.IsAbs(s) || path.Clean(s) != s || s == ".." || strings.HasPrefix(s, "../") || strings.Contains(s, `\`) {
		r.complain(n, "baseline must be a plain path from the repository's root, not %q", s)
	}
	r.policy.Baseline, r.policy.BaselineNamed = s, true
}

// aliases reads the rules that their tools renamed. A name that was changed twice leads to the last one.
func (r *reader) aliases(n ast.Node) {
	names := map[string]string{}
	for _, f := range r.fields(n, "aliases") {
		names[f.name] = r.text(f.value, "aliases: "+f.name)
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

func (r *reader) teams(n ast.Node) {
	for _, f := range r.fields(n, "teams") {
		team := Team{Name: f.name}
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
}

func (r *reader) measures(n ast.Node) {
	list, ok := r.resolve(n).(*ast.SequenceNode)
	if !ok {
		r.complain(n, "measures must be a list, as in measures: [{rule: complexity, number: 1}]")
		return
	}
	for _, item := range list.Values {
		m := Measure{}
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

// place reads which differences make a line the author's.
func (r *reader) place(n ast.Node) {
	counts := func(what string, into *bool) func(ast.Node) {
		return func(n ast.Node) { *into = oneOf(r, n, what, []string{"ignored", "counts"}) == "counts" }
	}
	r.mapping(n, keys{
		what: "place",
		read: map[string]func(ast.Node){
			"whitespace": counts("whitespace", &r.policy.Place.CountSpace),
			"moved":      counts("moved", &r.policy.Place.CountMoved),
			"seams":      func(n ast.Node) { r.policy.Place.Seams = r.boolean(n, "seams") },
		},
		later: []string{"flows"},
	})
}

func (r *reader) doors(n ast.Node) {
	doors := r.fields(n, "doors")
	if len(doors) == 0 {
		r.complain(n, "a policy needs at least one door")
	}
	for _, f := range doors {
		r.policy.Doors = append(r.policy.Doors, r.door(f))
	}
}

func (r *reader) door(f field) Door {
	door := Door{Name: f.name, Mode: Enforce, Waivers: r.defaultWaivers()}
	limits := false
	r.mapping(f.value, keys{
		what: "door " + f.name,
		read: map[string]func(ast.Node){
			"judges":  func(n ast.Node) { door.Judges = oneOf(r, n, "judges", Kinds) },
			"against": func(n ast.Node) { door.Against = r.text(n, "against") },
			"mode":    func(n ast.Node) { door.Mode = oneOf(r, n, "mode", []Mode{Enforce, Advise}) },
			"limits": func(n ast.Node) {
				limits = true
				door.Limits = r.limits(n, f.name)
			},
			"waivers":     func(n ast.Node) { r.waivers(n, &door.Waivers) },
			"acceptances": func(n ast.Node) { door.Acceptances = r.acceptances(n) },
		},
		later: []string{"needs", "like", "mend"},
	})
	if !limits {
		r.complain(f.key, "door %s has no limits, so nothing could shut it", f.name)
	}
	r.checkRungs(f.key, door)
	nameLimits(door.Limits)
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
	r.mapping(n, keys{
		what: "waivers",
		read: map[string]func(ast.Node){
			"code": func(n ast.Node) { w.Code = r.boolean(n, "code") },
			"tool": func(n ast.Node) { w.Tool = r.boolean(n, "tool") },
			"upto": func(n ast.Node) { w.Upto = r.rung(n, "upto") },
			"most": func(n ast.Node) { w.Most = r.number(n, "most") },
			"except": func(n ast.Node) {
				r.mapping(n, keys{what: "except", read: map[string]func(ast.Node){
					"rule": func(n ast.Node) { w.Rules = r.globs(n, "rule") },
					"tag":  func(n ast.Node) { w.Tags = r.texts(n, "tag") },
				}})
			},
		},
	})
}

func (r *reader) acceptances(n ast.Node) *Acceptances {
	a := &Acceptances{Need: []string{"why"}}
	r.mapping(n, keys{
		what: "acceptances",
		need: []string{"most"},
		read: map[string]func(ast.Node){
			"upto": func(n ast.Node) { a.Upto = r.rung(n, "upto") },
			"most": func(n ast.Node) { a.Most = r.number(n, "most") },
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
	return a
}

// oneOf reads a word of a fixed list.
func oneOf[T ~string](r *reader, n ast.Node, what string, list []T) T {
	s := r.text(n, what)
	words := make([]string, len(list))
	for i, word := range list {
		words[i] = string(word)
	}
	if s != "" && !slices.Contains(words, s) {
		hint := ""
		if nearest := Nearest(s, words); nearest != "" {
			hint = fmt.Sprintf("; did you mean %q?", nearest)
		}
		r.complain(n, "%s is one of %s, not %q%s", what, strings.Join(words, ", "), s, hint)
	}
	return T(s)
}

func (r *reader) limits(n ast.Node, door string) []Limit {
	list, ok := r.resolve(n).(*ast.SequenceNode)
	if !ok || len(list.Values) == 0 {
		r.complain(n, "limits of door %s must be a list with at least one limit", door)
		return nil
	}
	var limits []Limit
	for _, item := range list.Values {
		limits = append(limits, r.limit(item))
	}
	return limits
}

func (r *reader) limit(n ast.Node) Limit {
	limit := Limit{Mode: Enforce}
	r.mapping(n, keys{
		what: "a limit",
		need: []string{"count", "most"},
		read: map[string]func(ast.Node){
			"name":     func(n ast.Node) { limit.Name = r.text(n, "name") },
			"count":    func(n ast.Node) { limit.Count = oneOf(r, n, "count", counts) },
			"severity": func(n ast.Node) { limit.Severity = r.rung(n, "severity") },
			"only":     func(n ast.Node) { limit.Only = r.boolean(n, "only") },
			"rule":     func(n ast.Node) { limit.Rules = r.globs(n, "rule") },
			"path":     func(n ast.Node) { limit.Paths = r.globs(n, "path") },
			"most":     func(n ast.Node) { limit.Most = r.number(n, "most") },
			"say":      func(n ast.Node) { limit.Say = r.text(n, "say") },
			"mode":     func(n ast.Node) { limit.Mode = oneOf(r, n, "mode", []Mode{Enforce, Advise}) },
		},
		later: []string{"tag", "tool", "team", "place", "standing", "from", "until", "each", "per"},
	})
	if limit.Only && limit.Severity == "" {
		r.complain(n, "only: true needs a severity")
	}
	return limit
}

func (r *reader) number(n ast.Node, what string) int {
	s := r.text(n, what)
	if s == "" {
		return 0
	}
	if s == "no-growth" {
		r.complain(n, "%s: no-growth is not understood by this version of zincdoor; give a number", what)
		return 0
	}
	number, err := strconv.Atoi(s)
	if err != nil || number < 0 || s[0] == '+' {
		r.complain(n, "%s must be a whole number from 0, not %q", what, s)
		return 0
	}
	return number
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
	if len(l.Rules) > 0 {
		words = append(words, "of", strings.Join(l.Rules, ", "))
	}
	if len(l.Paths) > 0 {
		words = append(words, "in", strings.Join(l.Paths, ", "))
	}
	return strings.Join(words, " ")
}
