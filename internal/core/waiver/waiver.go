// Package waiver knows the comments in code that set a finding aside: how they are written, which finding each of them
// means, and what is wrong with one.
//
// A waiver stands in a comment of any language, as the first words of it, on the finding's line or on a line of its own above
// it:
//
//	door waiver(RULE): REASON
//	door waiver(RULE, RULE) until 2027-02-01: REASON
//
// Rules are globs in which * takes everything.
package waiver

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/comment"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/source"
)

// Tool is the tool that findings about waivers come from, Rule their rule.
const (
	Tool = "zincdoor"
	Rule = "waiver"
)

// Text is what there is to say of the rule.
func Text() finding.Rule {
	return finding.Rule{
		Short: "A waiver in the code is flawed, has ended, or sets nothing aside.",
		Full: `A waiver is a comment that sets findings aside, on their line or on the line above:

    // door waiver(-Wshadow): the driver needs this name
    // door waiver(-Wunused*) until 2027-02-01: used by the spring timetable

In the brackets are rules, or globs of rules, separated by commas; after the colon is the reason. It must be the first thing in its comment. A door honours waivers as its policy says (waivers: in the door).

To put it right: write the reason, correct the date or the rule, or take the comment out.`,
	}
}

// Sign is what every waiver begins with.
const Sign = "door waiver("

// For is a waiver for a rule, without a reason.
func For(rule string) string { return Sign + rule + "):" }

// In reports whether a waiver may stand in a text. It looks for the rarest letter of the sign, which takes a third of the time of
// looking for its first.
func In(text []byte) bool {
	const rarest = 'v'
	ahead := strings.IndexByte(Sign, rarest)
	for at := 0; ; at++ {
		next := bytes.IndexByte(text[at:], rarest)
		if next < 0 {
			return false
		}
		if at += next; at >= ahead && bytes.HasPrefix(text[at-ahead:], []byte(Sign)) {
			return true
		}
	}
}

// Waiver is one comment.
type Waiver struct {
	Path   string
	Line   int      // where it stands
	Target int      // the line it speaks of
	Rules  []string // globs
	Until  string   // the last day, YYYY-MM-DD; "" for no end
	Reason string

	Used bool // a finding was waived by it
}

// Order sorts waivers by path and line.
func Order(a, b Waiver) int { return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Line, b.Line)) }

var form = pattern.Of(`^door waiver\(([^()]*)\)(?:\s+until\s+([^\s:]+))?(?:\s*:\s*(.*)|.*)$`)

// Find lists the waivers of a text, by their lines.
func Find(path string, text *source.Text) []Waiver {
	var all []Waiver
	for n := 1; n <= text.Len(); n++ {
		line := text.Line(n)
		if !strings.Contains(line, Sign) {
			continue
		}
		words, own := comment.Of(path, line, Sign)
		m := form.FindStringSubmatch(words)
		if m == nil {
			continue
		}
		w := Waiver{Path: path, Line: n, Target: n, Until: m[2], Reason: trimReason(m[3])}
		for rule := range strings.SplitSeq(m[1], ",") {
			if rule = strings.TrimSpace(rule); rule != "" {
				w.Rules = append(w.Rules, rule)
			}
		}
		if own {
			w.Target = nextLine(path, text, n)
		}
		all = append(all, w)
	}
	return all
}

// nextLine is the next line that holds something else than a waiver with a line of its own.
func nextLine(path string, text *source.Text, n int) int {
	for n++; n <= text.Len(); n++ {
		line := text.Line(n)
		if _, own := comment.Of(path, line, Sign); strings.TrimSpace(line) != "" && !own {
			return n
		}
	}
	return n
}

// trimReason takes the end of the comment off a reason.
func trimReason(s string) string {
	s = strings.TrimRight(s, " \t\r")
	for _, end := range []string{"*/", "-->", "#}", "%>", "}}", "*)", "--]]", "|#", "#>"} {
		s = strings.TrimSuffix(s, end)
	}
	if source.Weight(s) == 0 {
		return ""
	}
	return strings.TrimSpace(s)
}

// Expired reports whether the waiver's time is over on the day today.
func (w Waiver) Expired(today string) bool { return w.Until != "" && w.Until < today }

// Valid reports whether the waiver sets anything aside on the day today.
func (w Waiver) Valid(today string) bool { return w.flaw(today) == "" }

// flaw says what is wrong with a waiver, "" where nothing is.
func (w Waiver) flaw(today string) string {
	_, err := time.Parse(time.DateOnly, w.Until)
	switch {
	case len(w.Rules) == 0:
		return "names no rule; write door waiver(RULE): reason"
	case w.Reason == "":
		return "gives no reason; write it after a colon"
	case w.Until != "" && err != nil:
		return fmt.Sprintf("ends on %q, which is no date like 2027-02-01", w.Until)
	case w.Expired(today):
		return "ended on " + w.Until
	}
	return ""
}

// Match gives for each finding the index of the first waiver that means it, -1 where none does, and notes which waivers
// are used. takes compares a glob with a rule.
func Match(findings []finding.Finding, waivers []Waiver, takes func(glob, rule string) bool) []int {
	type spot struct {
		path string
		line int
	}
	at := map[spot][]int{}
	for i, w := range waivers {
		at[spot{w.Path, w.Target}] = append(at[spot{w.Path, w.Target}], i)
	}
	match := make([]int, len(findings))
	for i, f := range findings {
		match[i] = -1
		for _, n := range at[spot{f.Path, f.Region.Line}] {
			if f.Region.Line > 0 && slices.ContainsFunc(waivers[n].Rules, func(glob string) bool { return takes(glob, f.Rule) }) {
				waivers[n].Used = true
				if match[i] < 0 {
					match[i] = n
				}
			}
		}
	}
	return match
}

// Problems are findings about waivers: about those that are flawed, and about those that set nothing aside though their tool
// looked: rules are all that the reports, or the baseline, speak of; whole says that every tool looked at a file.
func Problems(waivers []Waiver, rules []string, whole func(path string) bool, today string, takes func(glob, rule string) bool) []finding.Finding {
	var all []finding.Finding
	for _, w := range waivers {
		what := w.flaw(today)
		known := whole(w.Path) || slices.ContainsFunc(w.Rules, func(glob string) bool {
			return slices.ContainsFunc(rules, func(rule string) bool { return takes(glob, rule) })
		})
		if what == "" && !w.Used && known {
			what = "waives nothing: there is no such finding here; remove it"
		}
		if what == "" {
			continue
		}
		all = append(all, finding.Finding{
			Tool: Tool, Rule: Rule, Level: finding.Warning, Path: w.Path, Region: finding.Region{Line: w.Line},
			Message: fmt.Sprintf("the waiver of %s %s", strings.Join(w.Rules, ", "), what), Occurrences: 1, Sources: []string{"waivers"},
		})
	}
	return all
}
