package policy

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
)

// Selector says which findings are meant. Each list that isn't empty must take the finding; the zero value takes all.
type Selector struct {
	Rules []string // globs in which * takes everything, and names of groups
	Tags  []string
	Tools []string // globs in which * takes everything
	Paths []string // globs from the repository's root, and names of sets
	Teams []string

	Levels   []finding.Level
	Message  *regexp.Regexp // nil takes every message
	Rank     float64        // the least rank, 0 to 100; 0 takes every finding (SARIF 2.1.0, 3.27.25)
	Security float64        // the least security severity, 0 to 10; 0 takes every finding

	Number   Comparison // of the finding's number; the zero value takes every finding
	Severity string     // this one or worse; "" takes every severity
	Exact    bool       // Severity alone, not what is worse

	Places    []change.Place
	Standings []string

	Except *Selector // what isn't meant though the rest takes it; nil for nothing

	groups  []*Group // those that Rules names
	numbers []Number // of the policy, which say what a finding's number is
	sets    []string // the globs of the sets that Paths names

	generated bool // Paths names the set of generated files
}

// Empty reports whether the selector takes everything.
func (s Selector) Empty() bool { return reflect.DeepEqual(s.Unresolved(), Selector{}) }

// Group is a named set of rules.
type Group struct {
	Rules  []string // globs
	Tags   []string
	Except []string // globs

	groups, except []*Group
}

// Judged is what a judgement adds to a finding, as far as selectors ask for it.
type Judged struct {
	Severity string
	Place    change.Place
	Standing string
}

// Takes reports whether a selector may mean a finding that a team answers for, as far as that can be told before it is
// judged: severities, places and standings aren't looked at.
func (s *Selector) Takes(f finding.Finding, team string) bool {
	return s.takes(f, team) && (s.Except == nil || s.Except.asksJudged() || !s.Except.takes(f, team))
}

// TakesJudged reports whether a selector means a finding that a team answers for.
func (s *Selector) TakesJudged(f finding.Finding, team string, ladder Ladder, is Judged) bool {
	return s.takes(f, team) && s.takesJudged(ladder, is) &&
		(s.Except == nil || !(s.Except.takes(f, team) && s.Except.takesJudged(ladder, is)))
}

// TakesBase reports whether a selector means a finding of the state before the change, which has no place and no standing.
func (s *Selector) TakesBase(f finding.Finding, team string, ladder Ladder, severity string) bool {
	return s.takes(f, team) && s.takesSeverity(ladder, severity) &&
		(s.Except == nil || !(s.Except.takes(f, team) && s.Except.takesSeverity(ladder, severity)))
}

// asksJudged reports whether the selector asks for what a judgement adds.
func (s *Selector) asksJudged() bool {
	return s.Severity != "" || len(s.Places) > 0 || len(s.Standings) > 0
}

func (s *Selector) takesJudged(ladder Ladder, is Judged) bool {
	return s.takesSeverity(ladder, is.Severity) &&
		(len(s.Places) == 0 || slices.Contains(s.Places, is.Place)) && (len(s.Standings) == 0 || slices.Contains(s.Standings, is.Standing))
}

func (s *Selector) takes(f finding.Finding, team string) bool {
	return s.TakesRule(f) && (s.TakesPath(f.Path) || s.generated && f.Generated) && anyTag(s.Tags, f.Weight().Tags, len(s.Tags) == 0) &&
		(len(s.Tools) == 0 || matchesAny(s.Tools, f.Tool, MatchRule)) &&
		(len(s.Teams) == 0 || slices.Contains(s.Teams, team)) &&
		(len(s.Levels) == 0 || slices.Contains(s.Levels, f.Level)) &&
		(s.Message == nil || s.Message.MatchString(f.Message)) &&
		f.Weight().Rank >= s.Rank && f.Weight().Security >= s.Security && (s.Number.Op == "" || s.Number.Holds(s.numberOf(f)))
}

func (s *Selector) numberOf(f finding.Finding) string {
	number, _ := measureOf(f, gauge(s.numbers, f.Tool, f.Rule))
	return number
}

// TakesRule reports whether the selector means a finding's rule.
func (s *Selector) TakesRule(f finding.Finding) bool {
	return len(s.Rules) == 0 || matchesAny(s.Rules, f.Rule, MatchRule) || inAny(s.groups, f)
}

// TakesPath reports whether the selector means a path. A finding without a file has the path "", which no glob takes.
func (s *Selector) TakesPath(path string) bool {
	return len(s.Paths) == 0 || MatchPath(s.Paths, path) || MatchPath(s.sets, path)
}

func (g *Group) takes(f finding.Finding) bool {
	in := matchesAny(g.Rules, f.Rule, MatchRule) || anyTag(g.Tags, f.Weight().Tags, false) || inAny(g.groups, f)
	return in && !matchesAny(g.Except, f.Rule, MatchRule) && !inAny(g.except, f)
}

func inAny(groups []*Group, f finding.Finding) bool {
	return slices.ContainsFunc(groups, func(g *Group) bool { return g.takes(f) })
}

// TakesFile reports whether the selector means anything in a file that a team answers for, as far as its paths and teams say.
func (s *Selector) TakesFile(path, team string) bool {
	takes := func(s *Selector) bool {
		return s.TakesPath(path) && (len(s.Teams) == 0 || slices.Contains(s.Teams, team))
	}
	return takes(s) && !(s.Except != nil && s.Except.OfFiles() && takes(s.Except))
}

// OfFiles reports whether the selector selects by nothing else than paths and teams.
func (s Selector) OfFiles() bool {
	s.Paths, s.Teams = nil, nil
	return s.Empty()
}

// TakesName reports whether one of some globs takes a name: * stands for everything.
func TakesName(globs []string, name string) bool { return matchesAny(globs, name, MatchRule) }

// anyTag reports whether two lists of tags have one in common; none is the answer where nothing is wanted.
func anyTag(wanted, tags []string, none bool) bool {
	return none || slices.ContainsFunc(wanted, func(tag string) bool { return slices.Contains(tags, tag) })
}

// TakesSeverity reports whether the selector can mean findings of a severity.
func (s *Selector) TakesSeverity(ladder Ladder, severity string) bool {
	if e := s.Except; e != nil && e.Severity != "" && e.takesSeverity(ladder, severity) && reflect.DeepEqual(e.Unresolved(), Selector{Severity: e.Severity, Exact: e.Exact}) {
		return false
	}
	return s.takesSeverity(ladder, severity)
}

// takesSeverity reports whether a severity is the selector's or worse, or with Exact exactly it.
func (s *Selector) takesSeverity(ladder Ladder, severity string) bool {
	switch {
	case s.Severity == "":
		return true
	case s.Exact:
		return severity == s.Severity
	}
	return ladder.Worse(severity, s.Severity)
}

// MatchPath reports whether one of the globs takes a path from the root, in which * stops at slashes. A glob without a
// wildcard takes the file of that name, and the folder of that name with all that is in it.
func MatchPath(globs []string, path string) bool {
	return matchesAny(globs, path, func(glob, path string) bool {
		if folder, whole := Literal(glob); whole {
			return path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/")
		}
		return doublestar.MatchUnvalidated(glob, path)
	})
}

func matchesAny(globs []string, name string, match func(glob, name string) bool) bool {
	for _, glob := range globs {
		if match(glob, name) {
			return true
		}
	}
	return false
}

// MatchRule matches a rule glob, in which * takes slashes too: rules are names, not paths.
func MatchRule(glob, rule string) bool {
	return doublestar.MatchUnvalidated(hideSlashes.Replace(glob), hideSlashes.Replace(rule))
}

var hideSlashes = strings.NewReplacer("/", "\x00")

// GeneratedSet is the set of paths that generated files are in.
const GeneratedSet = "generated"

// Resolve looks up the groups and sets that groups, severities and limits name. A policy that was put together selects by
// names only after this. No group may hold itself.
func (p *Policy) Resolve() {
	if p.Duplication.Tokens == 0 {
		p.Duplication = measure.Usual
	}
	for _, g := range p.Groups {
		g.groups, g.except = p.groupsOf(g.Rules), p.groupsOf(g.Except)
	}
	for i := range p.Severities {
		p.resolve(&p.Severities[i].Selector)
	}
	for i := range p.Costs.Rules {
		c := &p.Costs.Rules[i]
		c.rule = Selector{Rules: []string{c.Rule}}
		p.resolve(&c.rule)
	}
	for _, d := range p.Doors {
		for i := range d.Limits {
			p.resolve(&d.Limits[i].Selector)
		}
	}
}

// Unresolved is the selector as it is written, without what its names were found to mean.
func (s Selector) Unresolved() Selector {
	s.groups, s.sets, s.generated, s.numbers = nil, nil, false, nil
	if s.Except != nil {
		except := s.Except.Unresolved()
		s.Except = &except
	}
	return s
}

// resolve looks up the groups and sets that a selector names.
func (p *Policy) resolve(s *Selector) {
	s.groups, s.sets, s.generated = p.groupsOf(s.Rules), nil, slices.Contains(s.Paths, GeneratedSet)
	for _, name := range s.Paths {
		s.sets = append(s.sets, p.Sets[name]...)
	}
	s.numbers = p.Numbers
	if s.Except != nil {
		p.resolve(s.Except)
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

func (p *Policy) groupsOf(names []string) (groups []*Group) {
	for _, name := range names {
		if g := p.Groups[name]; g != nil {
			groups = append(groups, g)
		}
	}
	return groups
}
