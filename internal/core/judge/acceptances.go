package judge

import (
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
)

// Acceptance is what became of one entry that the change puts into the baseline or takes out of it.
type Acceptance struct {
	Entry    baseline.Entry
	Change   string // "added", "altered", "dropped", or "uncovered" for what the list no longer covers, of which the entry has tool and path
	Finding  string // the ID of the finding it accepts, "" where there is none
	Honoured bool
	Problem  string // why it isn't honoured, or breaks the limit
}

// acceptancesLimit is the name of the limit that holds a change to what it may accept for itself.
const acceptancesLimit = "acceptances"

// addition is an entry that the change puts into the baseline, and the finding it accepts.
type addition struct {
	baseline.Addition
	finding int // index of the findings, or none
}

// recogniseAdded finds the findings that the change accepts for itself. An entry that only notes anew where an accepted
// finding stands is left out.
func (j *judgement) recogniseAdded(view recognise.View) (left []addition) {
	if len(j.Added) == 0 {
		return nil
	}
	findingOf := map[baseline.Entry][]int{} // by the entry that recognises them
	free := make([]bool, len(j.Findings))   // what an added entry may be for
	for f, e := range j.known.EntryOf {
		free[f] = e == recognise.None || j.AcceptAllEdits
		if e != recognise.None {
			entry := j.Baseline.Entries[e]
			findingOf[entry] = append(findingOf[entry], f)
		}
	}
	var entries []baseline.Entry
	for _, a := range j.Added {
		if j.AcceptAllEdits && a.SameReasons() && a.Entry.Measure == a.Was.Measure {
			continue
		}
		if a.Was != nil {
			at := findingOf[*a.Was]
			if a.SameReasons() && slices.ContainsFunc(at, func(f int) bool { return j.refreshes(a, f) }) {
				continue
			}
			for _, f := range at {
				free[f] = true
			}
		}
		left, entries = append(left, addition{a, none}), append(entries, a.Entry)
	}
	var findings []finding.Finding
	var index []int
	for f := range j.Findings {
		if free[f] {
			findings, index = append(findings, j.Findings[f]), append(index, f)
		}
	}
	view.Change = nil // the entries are of the judged state
	for f, e := range recognise.Recognise(findings, j.today(entries), view).EntryOf {
		if e != recognise.None {
			left[e].finding = index[f]
		}
	}
	return left
}

// refreshes reports whether an entry says of a finding what can be seen of it, and no worse number than was accepted.
func (j *judgement) refreshes(a baseline.Addition, f int) bool {
	_, less := j.Policy.MeasureOf(j.Findings[f])
	return a.Entry.Describes(baseline.EntryFor(j.Findings[f], "")) && !finding.Worsened(a.Was.Measure, a.Entry.Measure, less)
}

// comesIn reports whether what is judged comes into a branch, so that what it does to the list counts for whatever comes after.
func (j *judgement) comesIn() bool {
	return slices.Contains([]policy.Kind{policy.Branch, policy.Push, policy.Range}, policy.Kind(j.Subject.Kind)) && !j.AcceptAllEdits
}

// acceptances are what became of what the change does to the baseline, and the limit that holds it, where there is one.
type acceptances struct {
	all    []Acceptance
	limits []LimitResult
}

// accept settles what the door lets the change accept for itself, and gives the entries that are honoured, by finding.
func (j *judgement) accept(findings []Finding) (made acceptances, honoured map[int]*baseline.Entry) {
	rules := j.Door.Acceptances
	honoured = map[int]*baseline.Entry{}
	result := LimitResult{Limit: policy.Limit{Name: acceptancesLimit, Mode: policy.Enforce}, Counted: Acceptances, Mode: j.Door.Mode, Held: true}
	for _, added := range j.added {
		a := Acceptance{Entry: added.Entry, Change: "added"}
		if added.Was != nil {
			a.Change = "altered"
		}
		var f *Finding
		if added.finding != none {
			f = &findings[added.finding]
			a.Finding = f.ID
		}
		switch {
		case j.AcceptAllEdits:
			a.Honoured = true
			made.all = append(made.all, a)
			continue
		case f == nil && (j.comesIn() || rules != nil && rules.Lacks(added.Entry) == ""):
			a.Problem = "it accepts nothing: there is no such finding"
			covered := j.coveredNow(j.toolOf(added.Entry.Tool), added.Entry.Path)
			if !covered {
				a.Problem += fmt.Sprintf(", and no report of %s here that could show one", added.Entry.Tool)
			}
			if covered || j.comesIn() {
				result.Held = false
				result.Found++
			}
		case rules == nil:
			a.Problem = "this door doesn't let a change accept findings (acceptances: in the door)"
		case rules.Lacks(added.Entry) != "":
			a.Problem = fmt.Sprintf("it has no %q, which this door requires", rules.Lacks(added.Entry))
		case j.own || j.onBase.EntryOf[added.finding] != recognise.None:
			a.Honoured = true
		case rules.Upto != "" && !j.Policy.Ladder.Worse(rules.Upto, f.Severity):
			a.Problem = fmt.Sprintf("its severity is %s, and this door lets a change accept %s or milder", f.Severity, rules.Upto)
		default:
			a.Honoured = true
			result.Found++
			result.Findings = append(result.Findings, added.finding)
		}
		if a.Honoured {
			entry := added.Entry
			honoured[added.finding] = &entry
		}
		made.all = append(made.all, a)
	}
	for _, e := range j.Dropped {
		a := Acceptance{Entry: e, Change: "dropped", Honoured: j.AcceptAllEdits}
		if !a.Honoured {
			a.Problem = "the target's baseline still has it"
		}
		made.all = append(made.all, a)
	}
	for _, c := range j.Uncovers {
		a := Acceptance{Entry: baseline.Entry{Tool: c.Tool, Path: strings.Join(c.Paths, ", ")}, Change: "uncovered", Honoured: j.own || !j.comesIn()}
		if !a.Honoured {
			a.Problem = "the target's baseline still covers it; a change that edits only the policy and the baseline can remove it"
			result.Held = false
			result.Found++
		}
		made.all = append(made.all, a)
	}
	result.Found += j.WordsAdded
	if rules != nil {
		result.Most, result.Bound = rules.Most, rules.Most
		result.Held = result.Held && result.Found <= result.Most
	}
	if rules != nil && len(j.added)+j.WordsAdded > 0 || !result.Held {
		made.limits = append(made.limits, result)
	}
	return made, honoured
}
