// Package record knows what is kept of a verdict, and what many kept ones say together: how findings grow and shrink, which files
// and rules weigh most, what came and went between two points. It doesn't know where records are kept.
package record

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// Record is a verdict as it was kept, with when and of what it was reached.
type Record struct {
	ID         string // 16 hexadecimal digits, a hash of all the rest
	Repository string
	Branch     string        // the guarded ref whose state was judged, "" where it wasn't one's; of such a record every finding is kept
	Tree       string        // the git object id of the judged tree, "" where that isn't a tree
	Time       time.Time     // when the judging began, UTC, in whole milliseconds; of an imported record when its commit was made
	Took       time.Duration // how long it took, in whole milliseconds
	Imported   bool

	Verdict judge.Verdict // with the findings that are kept
	Apart   int           // how many more there were
	Tallies map[By][]Tally
	Reports []Report
}

// Report is a report that a verdict rests on.
type Report struct {
	Name   string // of the evidence
	Format string // as the policy calls it, "" where that was found out
	Digest string // the SHA-256 of its content, in hexadecimal digits
	Size   int64  // of its content, in bytes
}

// By is what findings are counted by.
type By string

// What findings are counted by. The first ones are counted when a record is made, the last ones only over findings that are kept.
const (
	BySeverity By = "severity"
	ByStanding By = "standing"
	ByRule     By = "rule"
	ByTool     By = "tool"
	ByTeam     By = "team"
	BySet      By = "set"
	ByFile     By = "file"
	ByFolder   By = "folder"
)

// counted is what findings are counted by when a record is made.
var counted = []By{BySeverity, ByRule, ByTool, ByTeam, BySet}

// Tally counts the findings that have something in common.
type Tally struct {
	Name     string // of what they have in common; "" for those that have none
	Findings int
	Cost     int // to put them right, in minutes
	By       map[judge.Standing]int
}

// Of makes the record of a verdict: the caller adds what isn't the verdict's. A state of the branch it is only where all evidence is
// there that the door needs, and looked at more than the change: what nobody looked for isn't gone. Our own checks, which look at a
// change alone, are left out of such a state. Of another record only those findings are kept that concern the change: on its lines, in
// its files, or of a standing that it has something to do with.
func Of(v judge.Verdict, branch string, p *policy.Policy) Record {
	if slices.ContainsFunc(v.Evidence, func(e judge.Evidence) bool {
		return !e.Before && (!e.Sound() && !e.Optional || e.Partly && e.Name != house.Tool)
	}) {
		branch = ""
	}
	all := v.Findings
	if branch != "" && slices.ContainsFunc(v.Evidence, func(e judge.Evidence) bool { return e.Partly }) {
		v.Findings, v.Limits = kept(v, func(f judge.Finding) bool { return !isOwn(f.Tool) })
	}
	r := Record{Branch: branch, Verdict: v, Tallies: map[By][]Tally{}}
	for _, by := range counted {
		if tallies := Count(v.Findings, Names(by, p.Sets)); len(tallies) > 0 {
			r.Tallies[by] = tallies
		}
	}
	if branch == "" {
		r.Verdict.Findings, r.Verdict.Limits = kept(v, func(f judge.Finding) bool {
			return f.Place != change.Elsewhere || f.Standing != judge.Existing && f.Standing != judge.Accepted
		})
	}
	r.Apart = len(all) - len(r.Verdict.Findings)
	return r
}

// isOwn reports whether a tool is our own, which looks at a change alone.
func isOwn(tool string) bool { return tool == house.Tool || tool == measure.Tool }

// kept are some of a verdict's findings, and the limits with these alone.
func kept(v judge.Verdict, keeps func(judge.Finding) bool) (some []judge.Finding, limits []judge.LimitResult) {
	place := make([]int, len(v.Findings))
	for i, f := range v.Findings {
		place[i] = -1
		if keeps(f) {
			place[i] = len(some)
			some = append(some, f)
		}
	}
	limits = slices.Clone(v.Limits)
	for i := range limits {
		var all []int
		for _, f := range limits[i].Findings {
			if place[f] >= 0 {
				all = append(all, place[f])
			}
		}
		limits[i].Findings = all
	}
	return some, limits
}

// Names gives what a finding has in common with others, by what they are counted by: one name mostly, of sets as many as take
// its file. Sets are the policy's, by their globs; nil where they don't matter.
func Names(by By, sets map[string][]string) func(f *judge.Finding, each func(name string)) {
	one := func(of func(f *judge.Finding) string) func(f *judge.Finding, each func(name string)) {
		return func(f *judge.Finding, each func(name string)) { each(of(f)) }
	}
	switch by {
	case BySeverity:
		return one(func(f *judge.Finding) string { return f.Severity })
	case ByStanding:
		return one(func(f *judge.Finding) string { return string(f.Standing) })
	case ByRule:
		return one(func(f *judge.Finding) string { return f.Rule })
	case ByTool:
		return one(func(f *judge.Finding) string { return f.Tool })
	case ByTeam:
		return one(func(f *judge.Finding) string { return f.Team })
	case BySet:
		return setsOf(sets)
	case ByFolder:
		return one(func(f *judge.Finding) string { return FolderOf(f.Path) })
	}
	return one(func(f *judge.Finding) string { return f.Path })
}

// setsOf gives the sets of paths that a finding's file is in; "" where there are some, and it is in none.
func setsOf(sets map[string][]string) func(f *judge.Finding, each func(name string)) {
	names, known := slices.Sorted(maps.Keys(sets)), map[string][]string{}
	return func(f *judge.Finding, each func(name string)) {
		in, ok := known[f.Path]
		if !ok && len(names) > 0 {
			for _, name := range names {
				if policy.MatchPath(sets[name], f.Path) {
					in = append(in, name)
				}
			}
			if len(in) == 0 {
				in = []string{""}
			}
			known[f.Path] = in
		}
		for _, name := range in {
			each(name)
		}
	}
}

// FolderOf is the folder of a file, "." for the topmost.
func FolderOf(path string) string {
	if at := strings.LastIndexByte(path, '/'); at >= 0 {
		return path[:at]
	}
	return "."
}

// Count counts findings by their names, most first. What the policy ignores isn't counted.
func Count(all []judge.Finding, names func(f *judge.Finding, each func(name string))) []Tally {
	at := map[string]int{}
	var tallies []Tally
	var f *judge.Finding
	count := func(name string) {
		n, ok := at[name]
		if !ok {
			n = len(tallies)
			at[name] = n
			tallies = append(tallies, Tally{Name: name, By: map[judge.Standing]int{}})
		}
		t := &tallies[n]
		t.Findings++
		t.Cost += f.Cost
		t.By[f.Standing]++
	}
	for i := range all {
		if f = &all[i]; f.Severity != policy.Ignored {
			names(f, count)
		}
	}
	slices.SortFunc(tallies, func(a, b Tally) int {
		return cmp.Or(cmp.Compare(b.Findings, a.Findings), strings.Compare(a.Name, b.Name))
	})
	return tallies
}

// Summary is what records are chosen by, and listed with.
type Summary struct {
	ID, Repository, Door, Kind, Ref, Branch, Base, Head, Tree string

	Mode              policy.Mode
	Outcome, Enforced judge.Outcome
	Policy            string // its digest
	Time              time.Time
	Took              time.Duration
	Findings, New     int
	Debt              int // in minutes
	State             State
}

// State says which state of a guarded branch a record has. The zero value is none.
type State struct {
	Stream   int64 // of the states of one branch as one door sees them; 0 for none
	Position int64 // in the stream: a later one is greater
}
