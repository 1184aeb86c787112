package policyfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// Parse reads a policy file that stands alone. file is its name in messages. The error is a Problems with everything
// that is wrong, the first 200 of it. A file has the bounds of package syntax: 8 MiB, and 1,000 collections one in the other; its regular
// expressions have their own (longestPattern, mostSteps).
func Parse(file string, data []byte) (*File, error) { return Read(Text{Name: file, Data: data}) }

// reader lays a document over a policy.
type reader struct {
	*document
	file      *File
	policy    *policy.Policy // the file's
	under     *File          // what was there before
	inherited bool           // another policy inherits this one

	teamNames, reportNames, formatNames, namedSeals, doorNamesNeeded []named
	alike                                                            []likeness
}

func (r *reader) whole() {
	var levels, doors, severities, recipes, cost *yaml.Node
	need := []string{"zincdoor", "doors"}
	if r.inherited || len(r.under.Doors) > 0 {
		need = need[:1]
	}
	r.checkFirm()
	r.mapping(r.root, keys{
		what: "the policy",
		need: need,
		seen: r.origin(""),
		read: map[string]func(*yaml.Node){
			"zincdoor":    r.form,
			"inherit":     func(*yaml.Node) {}, // was read before
			"firm":        r.firm,
			"ladder":      r.ladder,
			"levels":      func(n *yaml.Node) { levels = n }, // needs the ladder
			"baseline":    r.baseline,
			"place":       r.place,
			"aliases":     r.aliases,
			"same":        r.same,
			"teams":       r.teams,
			"seals":       r.seals,
			"reports":     r.reports,
			"recipes":     func(n *yaml.Node) { recipes = n }, // needs the ladder
			"numbers":     r.numbers,
			"doors":       func(n *yaml.Node) { doors = n }, // needs the ladder
			"severities":  func(n *yaml.Node) { severities = n },
			"cost":        func(n *yaml.Node) { cost = n }, // needs the ladder
			"history":     r.history,
			"duplication": r.duplication,
			"paths":       r.paths,
			"groups":      r.groups,
			"house":       r.house,
			"notes":       r.notes,
			"link":        r.link,
			"hosts":       r.hosts,
		},
	})
	r.levels(levels)
	if recipes != nil {
		r.recipes(recipes)
	}
	if severities != nil {
		r.severities(severities)
	}
	if cost != nil {
		r.cost(cost)
	}
	if doors != nil {
		r.doors(doors)
	}
	r.checkTeams()
	r.checkReports()
	r.checkSeals()
	r.checkRecipes()
}

func (r *reader) form(n *yaml.Node) {
	if s := r.text(n, "zincdoor"); s != "" && s != "1" {
		r.complain(n, "this program reads policies of form 1, not %q", s)
	}
}

func (r *reader) ladder(n *yaml.Node) {
	severities := r.texts(n, "ladder")
	for i, severity := range severities {
		if slices.Contains(severities[:i], severity) {
			r.complain(n, "the ladder names %q twice", severity)
		}
		if severity == policy.Ignored {
			r.complain(n, `"ignored" is for findings that no limit counts; give this severity another name`)
		}
	}
	if len(severities) > 0 {
		r.policy.Ladder = severities
		r.checkLadder(n)
	}
}

// position is where a node stands.
func (r *reader) position(n *yaml.Node) Position { return Position{r.document.file, n.Line, n.Column} }

// origin notes where the values of a mapping were set, under their keys after those that lead to it.
func (r *reader) origin(path string) func(field) {
	return func(f field) { r.file.Origins[path+f.name] = r.position(f.key) }
}

// levels gives every level of SARIF a severity: by the levels key, else the one of the same name. "none" gets the
// mildest severity unless it is given another.
func (r *reader) levels(n *yaml.Node) {
	given := map[finding.Level]string{finding.None: r.policy.Ladder[len(r.policy.Ladder)-1]}
	for level, severity := range r.under.Policy.Levels {
		if slices.Contains(r.policy.Ladder, severity) {
			given[level] = severity
		}
	}
	if n != nil {
		read := map[string]func(*yaml.Node){}
		for _, level := range finding.Levels {
			read[string(level)] = func(value *yaml.Node) { given[level] = r.severity(value, "levels: "+string(level)) }
		}
		r.mapping(n, keys{what: "levels", read: read, seen: r.origin("levels.")})
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
			r.complain(at, "the ladder has no severity %q, so levels must say which severity that level gets, as in levels: {%s: %s}",
				level, level, r.policy.Ladder[0])
		}
	}
	r.policy.Levels = given
}

func (r *reader) severity(n *yaml.Node, what string) string {
	s := r.text(n, what)
	if s == "" || slices.Contains(r.policy.Ladder, s) {
		return s
	}
	r.complain(n, "%s: the ladder has no %q%s", what, s, didYouMean(s, r.policy.Ladder, "; it is "+strings.Join(r.policy.Ladder, ", ")))
	return s
}

func (r *reader) baseline(n *yaml.Node) {
	s := r.text(n, "baseline")
	if s == "" {
		return
	}
	r.checkInside(n, "baseline", s)
	r.policy.Baseline, r.policy.BaselineNamed = s, true
}

// place reads which differences make a line the author's.
func (r *reader) place(n *yaml.Node) {
	counts := func(what string, into *bool) func(*yaml.Node) {
		return func(n *yaml.Node) { *into = oneOf(r, n, what, []string{"ignored", "counts"}) == "counts" }
	}
	r.mapping(n, keys{
		what: "place",
		seen: r.origin("place."),
		read: map[string]func(*yaml.Node){
			"whitespace": counts("whitespace", &r.policy.Place.CountSpace),
			"moved":      counts("moved", &r.policy.Place.CountMoved),
			"seams":      func(n *yaml.Node) { r.policy.Place.Seams = r.boolean(n, "seams") },
			"flows":      func(n *yaml.Node) { r.policy.Place.Flows = r.boolean(n, "flows") },
		},
	})
}

// oneOf reads a word of a fixed list.
func oneOf[T ~string](r *reader, n *yaml.Node, what string, list []T) T {
	s := r.text(n, what)
	if s != "" {
		checkWord(r, n, what, s, list)
	}
	return T(s)
}

// listOf reads words of a fixed list, one or several.
func listOf[T ~string](r *reader, n *yaml.Node, what string, list []T) (all []T) {
	for _, s := range r.texts(n, what) {
		checkWord(r, n, what, s, list)
		all = append(all, T(s))
	}
	return all
}

// checkWord complains of a word that isn't of a fixed list.
func checkWord[T ~string](r *reader, n *yaml.Node, what, s string, list []T) {
	words := texts(list)
	if !slices.Contains(words, s) {
		r.complain(n, "%s is one of %s, not %q%s", what, strings.Join(words, ", "), s, didYouMean(s, words, ""))
	}
}

// didYouMean is the end of a complaint about a word: the one of the list that comes nearest, else what is given.
func didYouMean(word string, list []string, otherwise string) string {
	if nearest := Nearest(word, list); nearest != "" {
		return fmt.Sprintf("; did you mean %q?", nearest)
	}
	return otherwise
}

// plain reads a scalar without complaining; "" for anything else.
func (r *reader) plain(n *yaml.Node) string {
	s, _ := scalar(resolve(n))
	return s
}

func (r *reader) number(n *yaml.Node, what string) int {
	s := r.text(n, what)
	if s == "" {
		return 0
	}
	number, err := strconv.Atoi(s)
	if err != nil || number < 0 || s[0] == '+' {
		r.complain(n, "%s must be a whole number from 0, not %q", what, s)
		return 0
	}
	return number
}
