// Package judge knows how a verdict comes about: each finding gets its place, its standing and its rung, each limit of
// the door counts what it selects, and the door is open, shut, or can't be judged. It is a pure computation over
// values.
package judge

import (
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/waiver"
)

// Outcome is what a door answers.
type Outcome string

// The three outcomes.
const (
	Open     Outcome = "open"
	Shut     Outcome = "shut"
	Unjudged Outcome = "unjudged"
)

// Standing is what is known of a finding beside the present reports.
type Standing string

// The standings.
const (
	New       Standing = "new"
	Inherited Standing = "inherited" // not the change's, never accepted
	Accepted  Standing = "accepted"  // in the baseline
	Worsened  Standing = "worsened"  // in the baseline, but its measure has grown
	Lapsed    Standing = "lapsed"    // its acceptance has run out
	Waived    Standing = "waived"    // set aside in the code
)

// Standings lists every standing, in the order in which people are told of them.
var Standings = []Standing{New, Worsened, Lapsed, Inherited, Accepted, Waived}

// State is what became of one piece of evidence.
type State string

// The states. Only the first four can open a door.
const (
	Read    State = "read"
	Empty   State = "empty"   // the tool ran and found nothing
	Cached  State = "cached"  // the tool's answer was known, for all files it was asked about
	Skipped State = "skipped" // there was nothing to ask the tool about
	Missing State = "missing" // there is no report
	Failed  State = "failed"  // the report is broken, or says that its tool failed
	Foreign State = "foreign" // the report speaks of another tree
)

// Evidence is one report a door was judged by.
type Evidence struct {
	Name     string
	Format   string
	State    State
	Problem  string // what is wrong and what to do, where the state isn't Read or Empty
	Findings int
	Version  string           // of the tool, "" where that isn't known
	Files    int              // how many the tool was asked about, where it was given them
	Optional bool             // the door doesn't need it
	Before   bool             // it is of the state before the change
	Along    bool             // our own checks where the door doesn't need them: judged along, and no evidence by themselves
	Covers   []baseline.Cover // the tools it speaks for and the files they looked at
}

// Sound reports whether the evidence can open a door.
func (e Evidence) Sound() bool {
	return e.State == Read || e.State == Empty || e.State == Cached || e.State == Skipped
}

// Subject is what was judged, as the verdict tells it.
type Subject struct {
	Kind  string
	Ref   string
	Base  string // a commit, "index", "worktree" or ""
	Head  string
	Files int
}

// Origin is where the policy came from.
type Origin struct {
	From   string
	Digest string // "sha256:" and 64 hexadecimal digits

	Inherits []policy.Inherited
	Altered  []policy.Alteration // what the change makes of the policy
}

// Case is everything a verdict depends on.
type Case struct {
	Subject  Subject
	Origin   Origin
	Change   *change.Change
	Spaced   *change.Change    // the same where lines that differ in white space alone count as touched; nil where that makes no difference
	Findings []finding.Finding // merged and sorted by finding.Order
	Evidence []Evidence
	Policy   *policy.Policy
	Door     policy.Door
	Today    string   // YYYY-MM-DD, UTC
	Notices  []string // told before judging

	Baseline       *baseline.Baseline // nil for an empty one
	Recognised     recognise.Matches  // of the findings and the baseline's entries
	BaseFindings   []finding.Finding  // what was found before the change
	Base           []baseline.Entry   // the same as entries, in the same order
	BaseRecognised recognise.Matches  // of the findings and Base
	BaseCovers     []baseline.Cover   // what the reports of that state cover

	Offers  []Offer          // what the change accepts for itself
	Dropped []baseline.Entry // what it takes out of the baseline
	Whole   bool             // both are in Baseline already, which is honoured whole
	Waivers []waiver.Waiver  // in the code, sorted by path and line

	Apart bool // what several tools say of one fault stays apart
}

// Finding is a finding with all that the judgement added.
type Finding struct {
	*finding.Finding // one of the case's, which stays as it is
	ID               string
	Place            change.Place
	Standing         Standing
	Severity         string
	Team             string          // "" where no team answers for the file
	rival            string          // another team that lays claim to the file just as well, "" for none
	Entry            *baseline.Entry // the entry that recognised it, nil where none did
	Base             *baseline.Entry // what it was before the change, nil where that isn't known

	Measure, AcceptedMeasure string // of one that has worsened: what it measures now, and when it was accepted

	Also []Finding // the same fault, as other tools tell it
}

// LimitResult is one limit with what it counted. Findings are those it counted, as indices of Verdict.Findings.
type LimitResult struct {
	policy.Limit
	Mode     policy.Mode // in force at this door
	Bound    int         // how many it bears here
	Found    int         // of a limit for each file, the most in one of them
	Held     bool
	Waiting  bool // it is not in force on this day
	Unknown  bool // nothing is known of what was found before the change, so that it can't be held
	Findings []int
}

// Shuts reports whether the limit, by its own mode and its dates, shuts the door.
func (l LimitResult) Shuts() bool {
	return !l.Held && !l.Waiting && l.Limit.Mode == policy.Enforce
}

// Totals counts the findings by standing, and what is gone.
type Totals struct {
	Findings int
	By       map[Standing]int
	Ignored  int
	Gone     int
}

// Verdict is the answer of a door, with everything it rests on.
type Verdict struct {
	Subject  Subject
	Origin   Origin
	Door     string
	Mode     policy.Mode
	Today    string
	Outcome  Outcome
	Enforced Outcome // the outcome if the door enforced
	Evidence []Evidence
	Totals   Totals
	Limits   []LimitResult
	Findings []Finding // in finding.Order
	Gone     []baseline.Entry
	Notices  []string

	Waivers     []WaiverUse  // those that set something aside
	Acceptances []Acceptance // what the change makes of the baseline

	Ladder policy.Ladder // worst first
	Teams  []policy.Team // those that answer for a finding, in the order of the policy
}

// Judge gives the verdict of a case. The same case gives the same verdict.
func Judge(c Case) Verdict {
	if c.Baseline == nil {
		c.Baseline = &baseline.Baseline{}
		c.Recognised = recognise.Recognise(c.Findings, nil, recognise.View{})
	}
	v := Verdict{
		Subject: c.Subject, Origin: c.Origin, Door: c.Door.Name, Mode: c.Door.Mode, Today: c.Today,
		Evidence: c.Evidence, Notices: c.Notices, Ladder: c.Policy.Ladder,
	}
	var lineRule []string
	v.Findings, v.Gone, lineRule = stand(c)
	v.settleOffers(c)
	v.waive(c)
	if !c.Apart {
		v.join(c)
	}
	v.Totals = count(v)
	for _, t := range c.Policy.Teams {
		if slices.ContainsFunc(v.Findings, func(f Finding) bool { return f.Team == t.Name }) {
			v.Teams = append(v.Teams, t)
		}
	}
	v.Limits = append(measure(c, &v), v.Limits...)
	v.Enforced, v.Outcome = decide(c.Door, v)
	v.Notices = slices.Concat(v.Notices, c.Recognised.Distrusted, remarks(c, v, lineRule))
	return v
}

func count(v Verdict) Totals {
	t := Totals{Findings: len(v.Findings), Gone: len(v.Gone), By: map[Standing]int{}}
	for _, f := range v.Findings {
		if f.Severity == policy.Ignored {
			t.Ignored++
			continue
		}
		t.By[f.Standing]++
	}
	return t
}

// decide gives the outcome as if the door enforced, and the outcome itself. A limit broken by what was read shuts the
// door whatever else is missing; evidence that isn't sound can't open one, advising or not.
func decide(door policy.Door, v Verdict) (enforced, outcome Outcome) {
	sound := len(v.Evidence) == 0 || slices.ContainsFunc(v.Evidence, func(e Evidence) bool { return e.Sound() && !e.Before && !e.Along })
	for _, e := range v.Evidence {
		sound = sound && (e.Sound() || e.Optional)
	}
	enforced = Open
	if !sound {
		enforced = Unjudged
	}
	for _, l := range v.Limits {
		if l.Unknown && !l.Waiting && l.Limit.Mode == policy.Enforce {
			sound = false
			enforced = Unjudged
		}
	}
	for _, l := range v.Limits {
		if l.Shuts() {
			enforced = Shut
		}
	}
	switch {
	case door.Mode == policy.Enforce:
		return enforced, enforced
	case !sound:
		return enforced, Unjudged
	}
	return enforced, Open
}
