// Package judge knows how a verdict comes about: findings are recognised, each gets its place, its severity and its
// standing, each limit of the door counts what it selects, and the door is open, shut, or can't be judged. It is a pure
// computation over values.
package judge

import (
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
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
	New      Standing = "new"
	Existing Standing = "existing" // found before the change too, or not the change's; never accepted
	Accepted Standing = "accepted" // in the baseline
	Worsened Standing = "worsened" // in the baseline or found before, but its number has grown
	Expired  Standing = "expired"  // its acceptance has ended
	Waived   Standing = "waived"   // set aside in the code
)

// Standings lists every standing, in the order in which people are shown them.
var Standings = []Standing{New, Worsened, Expired, Existing, Accepted, Waived}

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
	Forms    []string // of diagnostic text: those of policy.Forms that its findings are of
	State    State
	Problem  string // what is wrong and what to do, where the state isn't Read or Empty
	Findings int
	Version  string           // of the tool, "" where that isn't known
	Files    int              // how many the tool was asked about, where it was given them
	Optional bool             // the door doesn't need it
	Before   bool             // it is of the state before the change
	Sealed   string           // the name of the seal that it is believed by, "" where it needs none
	Pinned   bool             // the policy says of which tool it is
	Partly   bool             // it was asked about files of the change alone
	Along    bool             // our own checks where the door doesn't need them: judged along, and no evidence by themselves
	Covers   []baseline.Cover // the tools it speaks for and the files they looked at
	Lost     []string         // of these files, those that a tool gave up before it had seen all of them, sorted
	Trouble  string           // why it did, the first of them
}

// Sound reports whether the evidence can open a door.
func (e Evidence) Sound() bool {
	return e.State == Read || e.State == Empty || e.State == Cached || e.State == Skipped
}

// LooksAt reports whether the evidence covers a file, with whatever tool.
func (e Evidence) LooksAt(path string) bool {
	return slices.ContainsFunc(e.Covers, func(c baseline.Cover) bool { return c.Matches(path) })
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

// Texts gives the files that recognition looks into. Each function gives the same whenever it is asked; nil ones know
// nothing. Text that can't be read counts as not known: who made the functions knows of it.
type Texts struct {
	Old func(path string) *source.Text // of the state before the change
	New func(path string) *source.Text // of the judged state

	// Olds and News hand many of these to see, as recognise.View says.
	Olds, News func(paths []string, see func(path string, text *source.Text))

	Missing func(path string) bool // the judged state has no file at path
	Away    func(path string) bool // it has one that nobody looked at: it was left out of the work tree
}

// Input is everything a verdict depends on. Judge doesn't write to it.
type Input struct {
	Subject Subject
	Origin  Origin
	Policy  *policy.Policy
	Door    policy.Door
	Today   string   // YYYY-MM-DD, UTC
	Notices []string // what is to be said before judging

	Change *change.Change // what counts as the author's
	Whole  *change.Change // from the state that the baseline was read from, whatever others had of it; nil for Change
	Spaced *change.Change // Change where lines that differ in white space alone count as touched; nil where that makes no difference

	Findings []finding.Finding // merged, in finding.Order
	Measures Measures
	Evidence []Evidence
	Waivers  []waiver.Waiver // in the code, sorted by path and line
	Texts    Texts

	BaseFindings []finding.Finding // what was found before the change
	BaseCovers   []baseline.Cover  // what the reports of that state cover

	Baseline *baseline.Baseline  // nil for an empty one
	Added    []baseline.Addition // what the change puts into it
	Dropped  []baseline.Entry    // what the change takes out of it
	Uncovers []baseline.Cover    // what the list no longer covers after the change; Baseline does

	Exception *Exception // that opens the door whatever is found; nil for none

	WordsAdded int // to the team's own words by the change, which count as acceptances do

	// Beside is how many findings that aren't in the input limits count all the same, by the limits' places among the door's; of a limit
	// for each file, the most in one of them. It may be nil.
	Beside map[int]int

	AcceptAllEdits bool // Added and Dropped are in Baseline already, and are honoured as they are
	KeepApart      bool // what several tools say of one fault stays several findings
}

// Finding is a finding with all that the judgement added.
type Finding struct {
	*finding.Finding // one of the input's, which stays as it is
	ID               string
	Place            change.Place
	Severity         string
	Team             string // "" where no team answers for the file
	rival            string // another team that lays claim to the file just as well, "" for none
	Status

	Owner string // who is to put it right: whom its entry names, else its team; "" where neither is known

	Cost int // the minutes that it takes to put it right, by the policy; 0 where that says nothing

	Also []Finding // the same fault, as other tools report it
}

// Status is what a finding's standing is, and what it rests on.
type Status struct {
	Standing Standing
	Entry    *baseline.Entry // the entry that recognised it, nil where none did
	Base     *baseline.Entry // what it was before the change, nil where that isn't known
	EntryID  string          // of Entry, else of Base; "" where nothing recognised it

	Measure, AcceptedMeasure string // of one that has worsened: its number now, and when it was accepted
}

// Counted is what a limit's result counts.
type Counted string

// What is counted: findings that the policy's limit selects, or what a change does to the baseline and to waivers.
const (
	Findings    Counted = ""
	Acceptances Counted = "accepted by the change"
	WaiversMade Counted = "waivers the change adds"
)

// LimitResult is one limit with what it counted. Findings are those it counted, as indices of Verdict.Findings.
type LimitResult struct {
	policy.Limit // of the policy; of anything else than Findings only Name, Most and Mode are set
	Counted      Counted
	Mode         policy.Mode // in force at this door
	Bound        int         // how many it allows here
	Found        int         // of a limit for each file, the most in one of them
	Held         bool
	Waiting      bool // it is not in force on this day
	Unknown      bool // nothing is known of what was found before the change, so that it can't be held
	Findings     []int

	Measured *Measured // of a limit on a number about code; nil for one on findings
}

// CountName is what the limit counts, for people and programs: the policy's word, or what else is counted.
func (l LimitResult) CountName() string {
	switch {
	case l.Counted != Findings:
		return string(l.Counted)
	case l.Demands():
		return measure.Tool
	}
	return string(l.Count)
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

	Debt   int // the cost of all findings, in minutes
	DebtBy map[Standing]int
}

// Verdict is the answer of a door, with everything it rests on.
type Verdict struct {
	Subject   Subject
	Origin    Origin
	Door      string
	Mode      policy.Mode
	Today     string
	Outcome   Outcome
	Enforced  Outcome    // the outcome if the door enforced
	Exception *Exception // what opened it in the place of its limits and evidence; nil for nothing
	Evidence  []Evidence
	Totals    Totals
	Limits    []LimitResult
	Findings  []Finding        // in finding.Order
	Gone      []baseline.Entry // of the baseline first
	OfList    int              // how many of Gone are of the baseline
	Notices   []string

	Renamed     []Renamed    // tools that the baseline knows by another name
	Waivers     []WaiverUse  // those that set something aside
	Acceptances []Acceptance // what the change makes of the baseline

	Ladder policy.Ladder // worst first
	Teams  []policy.Team // those that answer for a finding, in the order of the policy
}

// Judge gives the verdict. The same input gives the same verdict.
func Judge(in Input) Verdict {
	j := recogniseAll(in)
	in.Evidence = j.Evidence
	v := Verdict{
		Subject: in.Subject, Origin: in.Origin, Door: in.Door.Name, Mode: in.Door.Mode, Today: in.Today,
		Evidence: in.Evidence, Notices: in.Notices, Ladder: in.Policy.Ladder,
	}
	v.Findings = j.grade()
	acceptances, honoured := j.accept(v.Findings)
	lineRule := j.stand(v.Findings, honoured)
	j.nameEntries(v.Findings, honoured)
	v.Acceptances, v.Limits = acceptances.all, acceptances.limits
	v.Renamed = j.renamed
	v.Gone, v.OfList = j.gone()
	v.addWaivers(j)
	if !in.KeepApart {
		v.join(j)
	}
	estimate(v.Findings, in.Policy)
	own(v.Findings)
	demanded := j.holdDemands(&v)
	v.Totals = count(v)
	for _, t := range in.Policy.Teams {
		if slices.ContainsFunc(v.Findings, func(f Finding) bool { return f.Team == t.Name }) {
			v.Teams = append(v.Teams, t)
		}
	}
	v.Limits = append(holdLimits(j, &v, demanded), v.Limits...)
	v.Enforced, v.Outcome = decide(in.Door, v)
	v.Notices = slices.Concat(v.Notices, j.known.Distrusted, remarks(in, v, lineRule), j.remarksOnTools())
	v.except(in.Exception)
	return v
}

// own says who is to put each finding right.
func own(all []Finding) {
	for i := range all {
		f := &all[i]
		if f.Owner = f.Team; f.Entry != nil && f.Entry.Owner != "" {
			f.Owner = f.Entry.Owner
		}
	}
}

// estimate gives every finding its cost. Of what several tools say of one fault the dearest counts: it is put right once.
func estimate(all []Finding, p *policy.Policy) {
	for i := range all {
		f := &all[i]
		f.Cost = p.CostOf(*f.Finding, f.Severity)
		for _, also := range f.Also {
			f.Cost = max(f.Cost, p.CostOf(*also.Finding, also.Severity))
		}
	}
}

func count(v Verdict) Totals {
	t := Totals{Findings: len(v.Findings), Gone: len(v.Gone), By: map[Standing]int{}, DebtBy: map[Standing]int{}}
	for _, f := range v.Findings {
		if f.Severity == policy.Ignored {
			t.Ignored++
			continue
		}
		t.By[f.Standing]++
		t.Debt += f.Cost
		t.DebtBy[f.Standing] += f.Cost
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
