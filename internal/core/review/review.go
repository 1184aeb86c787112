// Package review knows what a pull request is to show of a verdict, and how what it shows already becomes that: which comments go
// on which lines, which posted comment speaks of which finding, and what is to be posted, updated, resolved and reopened. It is a
// computation over values; it knows no code host and sends nothing.
package review

import (
	"cmp"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// Comment is a comment that a verdict wants on lines of the change. Lines are 1-based.
type Comment struct {
	ID       string // of its first finding
	Path     string
	Line     int // the last of its lines
	Start    int // the first
	Severity string
	Shuts    bool  // one of its findings is among what broke a limit
	Findings []int // in Verdict.Findings, worst first
	Text     string
}

// Comments are the comments that a verdict wants, those that shut the door first, the worst first among them. Findings whose lines
// overlap share a comment. It stands on the first run of lines of them that the change touches; touched reports whether it touches
// one, nil where that isn't known.
func Comments(v judge.Verdict, touched func(path string, line int) bool) []Comment {
	shuts := map[int]bool{}
	for _, i := range v.Shutting() {
		shuts[i] = true
	}
	worth := func(i int) int { // less is shown earlier
		n := len(v.Ladder) - slices.Index(v.Ladder, v.Findings[i].Severity)
		if shuts[i] {
			n += len(v.Ladder) + 1
		}
		return -n
	}
	var all []Comment
	for i, f := range v.Findings {
		if !Commented(f) && !(shuts[i] && f.Place == change.OnTouched && f.Region.Line > 0) {
			continue
		}
		first, last := f.Region.Line, f.Region.Last()
		if n := len(all) - 1; n >= 0 && all[n].Path == f.Path && first <= all[n].Line {
			all[n].Line = max(all[n].Line, last)
			all[n].Findings = append(all[n].Findings, i)
			continue
		}
		all = append(all, Comment{Path: f.Path, Start: first, Line: last, Findings: []int{i}})
	}
	for n := range all {
		c := &all[n]
		slices.SortStableFunc(c.Findings, func(a, b int) int { return cmp.Compare(worth(a), worth(b)) })
		worst := v.Findings[c.Findings[0]]
		c.ID, c.Severity, c.Shuts = worst.ID, worst.Severity, shuts[c.Findings[0]]
		c.Start, c.Line = anchor(*c, touched)
	}
	slices.SortStableFunc(all, func(a, b Comment) int { return cmp.Compare(worth(a.Findings[0]), worth(b.Findings[0])) })
	return all
}

// Commented reports whether a finding gets a comment by itself, whatever the limits say: it is new, or as good as new, and stands on
// a line that the change touches.
func Commented(f judge.Finding) bool {
	return f.Place == change.OnTouched && f.Region.Line > 0 && f.Severity != policy.Ignored &&
		slices.Contains([]judge.Standing{judge.New, judge.Worsened, judge.Expired}, f.Standing)
}

// longestAnchor is how many lines a comment stands on at most.
const longestAnchor = 20

// anchor is the first run of lines of a comment that the change touches.
func anchor(c Comment, touched func(path string, line int) bool) (start, line int) {
	if touched == nil {
		return max(c.Start, c.Line-longestAnchor+1), c.Line
	}
	for start = c.Start; start < c.Line && !touched(c.Path, start); start++ {
	}
	if !touched(c.Path, start) {
		return c.Start, c.Start // by its file alone
	}
	for line = start; line < min(c.Line, start+longestAnchor-1) && touched(c.Path, line+1); line++ {
	}
	return start, line
}

// Posted is a comment that the code host has.
type Posted struct {
	ID, Thread string
	Author     string
	Text       string
	Resolved   bool
	Answered   bool // other comments follow it; true where that isn't known

	// Where it stands; zero values where the host doesn't say.
	Path        string
	Start, Line int
	Commit      string
}

// Status is what a commit is said to be by one door.
type Status struct {
	Name    string
	Outcome judge.Outcome // "" for one that isn't ours to know
	Text    string        // "" where the host doesn't say
	Link    string
}

// Pull is a pull request.
type Pull struct {
	Head   string // a commit
	State  string // in the host's words, "" where it doesn't say
	Target string
	Title  string
}

// Act is something to do at the code host. What it needs beside its kind is that of policy.HostActs.
type Act struct {
	Kind        policy.HostAct
	ID, Thread  string
	Text        string
	Path        string
	Start, Line int
	Commit      string
	Key         string // the same whenever the same thing is posted
	Status      string
	Outcome     judge.Outcome
	Link        string

	Comment Comment // that is posted; the zero value for other acts
	About   string  // what it is about, for people
	Call    string  // what it is at the host, for people; "" until that is known
}

// Name names an act by what it does, so that it is done once in a run.
func (a Act) Name() string {
	return string(a.Kind) + "\x00" + a.ID + "\x00" + a.Thread + "\x00" + a.Key + "\x00" + a.Text + "\x00" + a.Commit
}
