// Package policy knows what a team demands: its ladder of severities, its doors, the limits at each door, and how all of
// these select and grade findings. It doesn't know how a policy is written, nor where it comes from.
package policy

import (
	_ "embed"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
)

// Path is where a repository keeps its policy.
const Path = ".zincdoor/policy.yaml"

// Folder holds everything of the door's in a repository.
const Folder = ".zincdoor"

// Attributes is where fitting tells git how to merge the baseline.
const Attributes = Folder + "/.gitattributes"

// Own reports whether a file of the repository is the policy or the baseline. What else is beside them is code like any other.
func (p *Policy) Own(path string) bool { return path == Path || path == p.Baseline }

// Policy is a whole policy, with what it inherits. Once Resolve was called, it is immutable.
type Policy struct {
	Ladder Ladder
	Levels map[finding.Level]string // the severity of each level, total

	// Baseline is the path of the baseline from the repository's root; Named says that the policy names it.
	Baseline      string
	BaselineNamed bool

	Place change.Rules // which differences make a line the author's

	Severities []Severity          // how findings are graded, in the order of the file
	Groups     map[string]*Group   // named sets of rules
	Sets       map[string][]string // named sets of paths, by their globs
	Marker     *regexp.Regexp      // of a line that generated files have, which makes them part of the set generated
	Skip       []string            // globs of paths whose findings are ignored

	Teams     []Team     // in the order of the file
	FirmTeams *FirmTeams // nil where no team's files are settled

	Seals   []Seal   // whose keys seal reports, verdicts and exceptions
	Reports []Report // those that the doors are judged by
	Recipes []*Recipe

	Hosts []*Host // the code hosts that reviews are sent to

	Same    [][]string        // sets of rules, by globs, of several tools that mean the same fault
	Aliases map[string]string // the present names of rules that their tools renamed
	Numbers []Number          // the first that takes a rule counts

	Duplication measure.Duplication // what counts as duplicated code

	Costs   Costs   // what findings take to put right
	History History // what is kept of verdicts

	House []house.Setting // the house checks that are on

	Notes map[string]string // what the team has to say of rules, by globs, as Markdown
	Link  string            // the address of a line, with {path}, {line} and {commit} in it; "" for none

	Doors []Door // in the order of the file
}

// NotesOn gives what the team has to say of a rule, in the order of the globs that take it.
func (p *Policy) NotesOn(rule string) (all []string) {
	for _, glob := range slices.Sorted(maps.Keys(p.Notes)) {
		if glob == rule || MatchRule(glob, rule) {
			all = append(all, p.Notes[glob])
		}
	}
	return all
}

// SameSet names what the policy declares a rule to be the same as: the first set that it is in, or, where that is a single
// name, every rule just as that. It is "" where that is nothing.
func (p *Policy) SameSet(rule string) string {
	i := slices.IndexFunc(p.Same, func(set []string) bool { return matchesAny(set, rule, MatchRule) })
	switch {
	case i < 0:
		return ""
	case len(p.Same[i]) == 1:
		return fmt.Sprint(i, ":", rule)
	}
	return fmt.Sprint(i)
}

// EntryFor describes a finding of the given severity as an entry of the baseline, with its measure.
func (p *Policy) EntryFor(f finding.Finding, severity string) baseline.Entry {
	e := baseline.EntryFor(f, severity)
	e.Measure, _ = p.MeasureOf(f)
	return e
}

// MeasureOf is the number that tells how bad a finding is, "" where none does, and whether less of it is worse: the tool's
// own, else that of its message.
func (p *Policy) MeasureOf(f finding.Finding) (measure string, less bool) {
	return measureOf(f, p.Gauge(f.Tool, f.Rule))
}

func measureOf(f finding.Finding, gauge *finding.Gauge) (measure string, less bool) {
	if measured := f.Weight().Measured; measured != "" {
		return measured, gauge != nil && gauge.Less
	}
	return finding.Measure(f.Message, gauge)
}

// Team is who answers for some files.
type Team struct {
	Name    string
	Paths   []string // globs from the repository's root
	Contact string
}

// FirmTeams are teams that something firm of an inherited policy rests on: what they answer for there stays theirs, however much
// more specific the globs of other teams are.
type FirmTeams struct {
	Names []string
	Under *Policy // the inherited policy, as far as teams go
}

// TeamOf names the team that answers for a file, "" where none does: of several the one whose glob is most specific, by
// how much of it stands before its first wildcard, else the first.
func (p *Policy) TeamOf(path string) string {
	team, _ := p.ClaimOf(path)
	return team
}

// ClaimOf names the team that answers for a file, and the first other one whose glob is just as specific, "" where there
// is none.
func (p *Policy) ClaimOf(path string) (team, rival string) {
	if firm := p.FirmTeams; firm != nil {
		if team, rival := firm.Under.ClaimOf(path); slices.Contains(firm.Names, team) {
			return team, rival
		}
	}
	most := -1
	for _, t := range p.Teams {
		for _, glob := range t.Paths {
			part, _ := Literal(glob)
			plain := len(part)
			if plain < most || path == "" || !MatchPath([]string{glob}, path) {
				continue
			}
			switch {
			case plain > most:
				team, rival, most = t.Name, "", plain
			case rival == "" && t.Name != team:
				rival = t.Name
			}
		}
	}
	return team, rival
}

// Number says which number of some rules' messages tells how bad a fault is.
type Number struct {
	Rules []string // globs in which * takes everything
	Tools []string // the same; empty takes every tool
	finding.Gauge
}

// Gauge is what the policy says of a rule's measure, nil where it says nothing.
func (p *Policy) Gauge(tool, rule string) *finding.Gauge {
	return gauge(p.Numbers, tool, rule)
}

func gauge(numbers []Number, tool, rule string) *finding.Gauge {
	for i := range numbers {
		m := &numbers[i]
		if matchesAny(m.Rules, rule, MatchRule) && (len(m.Tools) == 0 || matchesAny(m.Tools, tool, MatchRule)) {
			return &m.Gauge
		}
	}
	return nil
}

// Ladder is the team's ordered list of severities, worst first.
type Ladder []string

// Worse reports whether severity a is worse than b or the same.
func (l Ladder) Worse(a, b string) bool { return slices.Index(l, a) <= slices.Index(l, b) }

// Kind is what a door judges.
type Kind string

// The kinds of change.
const (
	Staged   Kind = "staged"
	Worktree Kind = "worktree"
	Branch   Kind = "branch"
	Push     Kind = "push"
	Range    Kind = "range"
	Tree     Kind = "tree"
)

// Kinds lists every kind.
var Kinds = []Kind{Staged, Worktree, Branch, Push, Range, Tree}

// Local reports whether a change of this kind is found from the repository alone, without a name in the call.
func (k Kind) Local() bool { return k == Staged || k == Worktree || k == Tree }

// Mode says whether a broken limit shuts the door.
type Mode string

// The two modes.
const (
	Enforce Mode = "enforce"
	Advise  Mode = "advise"
)

// Door is a named point in the workflow with its own limits.
type Door struct {
	Name   string
	Judges Kind     // "" judges every kind
	Into   string   // what the fitting and the errors suggest to compare with; never what decides
	Refs   []string // of a push door: globs of the refs at which it stands; empty for all at which no other does
	Mode   Mode
	Needs  []string // names of reports; empty for all that aren't optional
	Fix    bool     // a commit hook fixes what it can before it judges

	Verdicts   []Sealed // those of doors that it needs, sealed
	Exceptions []string // names of seals, whose exceptions open it

	Limits []Limit

	Waivers     Waivers
	Acceptances *Acceptances // nil where a change can't accept anything for itself
}

// Waivers says what comments in the code, and the tools' own suppressions, may set aside.
type Waivers struct {
	Code, Tool bool
	Upto       string   // the worst severity that may be waived
	Most       int      // how many waivers a change may add
	Rules      []string // globs of rules that can't be waived
	Tags       []string // tags whose findings can't be waived
	Firm       bool     // those that inherit it can't loosen it
}

// Acceptances says what a change may accept for itself in the baseline.
type Acceptances struct {
	Upto string // the worst severity that may be accepted; "" for any
	Most int    // how many findings
	Need []string
	Firm bool // those that inherit it can't loosen it
}

// Needs are the fields that an acceptance may be asked for.
var Needs = []string{"why", "reason", "by", "until", "link"}

// Lacks names the first needed field that an entry lacks, "" where it has all.
func (a Acceptances) Lacks(e baseline.Entry) string {
	fields := map[string]string{"why": string(e.Why), "reason": e.Reason, "by": e.By, "until": e.Until, "link": e.Link}
	for _, name := range a.Need {
		if fields[name] == "" {
			return name
		}
	}
	return ""
}

// MayWaive reports whether a finding of a severity may be waived.
func (w Waivers) MayWaive(ladder Ladder, f finding.Finding, severity string) bool {
	tagged := slices.ContainsFunc(f.Weight().Tags, func(tag string) bool { return slices.Contains(w.Tags, tag) })
	return ladder.Worse(w.Upto, severity) && !tagged && !matchesAny(w.Rules, f.Rule, MatchRule)
}

// Count is which findings a limit counts.
type Count string

// The four counts.
const (
	CountNew     Count = "new"     // new, worsened, or expired and touched
	CountTouched Count = "touched" // on touched lines, neither waived nor accepted
	CountAll     Count = "all"     // everything but waived
	CountExpired Count = "expired" // whose acceptance has run out
)

// Counts lists every count.
var Counts = []Count{CountNew, CountTouched, CountAll, CountExpired}

// Limit is one threshold at a door: which findings it counts and how many it allows.
type Limit struct {
	Selector
	Name     string
	Count    Count
	Most     int
	NoGrowth bool    // Most is what was found before the change
	EachFile bool    // Most is for each file on its own
	PerLines int     // Most is for each so many touched lines, started ones included; 0 for the whole change
	Demand   *Demand // in the place of Count, Most, NoGrowth and PerLines: what is asked of a number about code; nil for none
	Say      string  // a sentence for people, shown when the limit is broken
	Mode     Mode
	From     string // the day from which it is in force, YYYY-MM-DD; "" for always
	Until    string // the last day on which it is
	Firm     bool   // those that inherit it can't loosen it
}

// InForce reports whether a limit holds on the day today.
func (l Limit) InForce(today string) bool {
	return (l.From == "" || l.From <= today) && (l.Until == "" || l.Until >= today)
}

// ModeOf is the mode in force for a limit at the door: a limit's mode can only soften its door's.
func (d Door) ModeOf(l Limit) Mode {
	if d.Mode == Advise || l.Mode == Advise {
		return Advise
	}
	return Enforce
}

// Door returns the door of that name.
func (p *Policy) Door(name string) (Door, bool) {
	i := slices.IndexFunc(p.Doors, func(d Door) bool { return d.Name == name })
	if i < 0 {
		return Door{}, false
	}
	return p.Doors[i], true
}

// DoorsFor lists the doors that judge changes of a kind.
func (p *Policy) DoorsFor(kind Kind) []Door {
	var doors []Door
	for _, d := range p.Doors {
		if d.Judges == "" || d.Judges == kind {
			doors = append(doors, d)
		}
	}
	return doors
}

// Names joins the doors' names for a message.
func Names(doors []Door) string {
	names := make([]string, len(doors))
	for i, d := range doors {
		names[i] = d.Name
	}
	return strings.Join(names, ", ")
}

// Inherited is a policy that another one is laid over, and the digest of its bytes: "sha256:" and 64 hexadecimal digits.
type Inherited struct{ Name, Digest string }

// Alteration is one thing that a new policy does otherwise than an old one.
type Alteration struct {
	What    string // for people: "merge: new warning 3 → 10"
	Tighter bool   // nothing passes by it that didn't before
}
