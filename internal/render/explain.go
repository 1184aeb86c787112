package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
)

// Explanation is what is shown of a rule, or of a finding and its rule.
type Explanation struct {
	*judge.Explanation
	At func(index int) string // where one of the policy's severities is set, "" where that isn't known
}

// mostPlaces is how many places of a rule are listed.
const mostPlaces = 10

// Explain tells a person about a rule.
func Explain(w io.Writer, e Explanation, o Options) error {
	o.Verbose, o.Context = true, 2
	s := &screen{look: lookFor(w), Options: o, w: w}
	if e.Finding != nil {
		s.files(&judge.Verdict{Findings: []judge.Finding{*e.Finding}}, []int{0})
	}
	title := s.bold.Render(cmp.Or(Safe(e.Rule), "(no rule)"))
	if e.Text.Name != "" && e.Text.Name != e.Rule {
		title += " " + Safe(e.Text.Name)
	}
	s.line("%s  %s", title, s.faint.Render(strings.Join(append([]string{Safe(e.Tool)}, safeAll(e.Tags)...), ", ")))
	s.line("")
	s.paragraphs(e)
	s.here(e)
	s.severity(e)
	s.options(e)
	return s.err
}

func safeAll(list []string) []string {
	all := make([]string, len(list))
	for i, text := range list {
		all[i] = Safe(text)
	}
	return all
}

// said is what the tool says of its rule, each text once.
func (e Explanation) said() (all []string) {
	for _, text := range []string{e.Text.Short, e.Text.Full, cmp.Or(e.Text.Markdown, e.Text.Help)} {
		if text = strings.TrimSpace(text); text != "" && !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

// paragraphs are the words of the tool, and those of the team.
func (s *screen) paragraphs(e Explanation) {
	said := false
	for _, text := range e.said() {
		said = true
		s.prose(text)
	}
	if e.Text.Address != "" {
		said = true
		s.bullet("more", Safe(e.Text.Address))
		s.line("")
	}
	if !said {
		s.bullet("note", fmt.Sprintf("%s says nothing about it in its reports", cmp.Or(Safe(e.Tool), "its tool")))
		s.line("")
	}
	for _, note := range e.Notes {
		s.line("%s", s.zinc.Render("  The team says"))
		s.prose(note)
	}
}

// prose shows a text of several lines, indented; its own line ends stay.
func (s *screen) prose(text string) {
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if strings.TrimSpace(line) == "" {
			s.line("")
			continue
		}
		lead := "  " + line[:len(line)-len(strings.TrimLeft(line, " "))]
		s.wrapped(lead, Safe(strings.TrimSpace(line)), s.plain)
	}
	s.line("")
}

// here tells where the rule stands in the code.
func (s *screen) here(e Explanation) {
	counts := map[judge.Standing]int{}
	for _, f := range e.Found {
		counts[f.Standing]++
	}
	var parts []string
	for _, standing := range judge.Standings {
		if counts[standing] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[standing], standing))
		}
	}
	if e.Off {
		s.bullet("here", fmt.Sprintf("this check is off; to turn it on: house: {%s: on} in the policy", Safe(e.Rule)))
		s.line("")
		return
	}
	if len(e.Found) == 0 {
		s.bullet("here", "not found in the work tree")
		s.line("")
		return
	}
	s.bullet("here", fmt.Sprintf("%s in the work tree: %s", finding.Count(len(e.Found)), strings.Join(parts, ", ")))
	for _, f := range e.Found[:min(len(e.Found), mostPlaces)] {
		s.line("%s%s", strings.Repeat(" ", indent), truncate(fmt.Sprintf("%s  %s  %s", cmp.Or(Safe(place(f.Finding)), "(no file)"), f.ID, Safe(f.Message)), s.columns-indent, s.cut))
	}
	if more := len(e.Found) - mostPlaces; more > 0 {
		s.line("%sand %d more: zincdoor findings --rule %s", strings.Repeat(" ", indent), more, ShellWords([]string{Safe(e.Rule)}))
	}
	s.line("")
}

// severity tells how the rule is graded, and what counts it.
func (s *screen) severity(e Explanation) {
	s.bullet("graded", Safe(e.Severity))
	for _, step := range e.Steps {
		s.wrapped(strings.Repeat(" ", indent), fmt.Sprintf("%s: %s", Safe(cmp.Or(e.At(step.Index), "its tool")), Safe(step.What)), s.faint)
	}
	if e.Cost > 0 {
		about := "about " + WorkTime(e.Cost) + " to put right"
		if n := len(e.Found); n > 1 {
			about += fmt.Sprintf(", %s for all %d", WorkTime(e.Cost*n), n)
		}
		s.bullet("cost", about)
	}
	if len(e.Limits) == 0 {
		s.bullet("limits", "no limit counts it")
	}
	for _, l := range e.Limits {
		about := fmt.Sprintf("door %s: %s, at most %d", Safe(l.Door), Safe(l.Limit.Name), l.Limit.Most)
		switch {
		case l.Limit.Demands():
			about = fmt.Sprintf("door %s: %s, %s", Safe(l.Door), Safe(l.Limit.Name), demanded(*l.Limit.Demand))
		case l.Limit.NoGrowth:
			about = fmt.Sprintf("door %s: %s, no growth", Safe(l.Door), Safe(l.Limit.Name))
		}
		if l.Mode == policy.Advise {
			about += ", only advises"
		}
		s.bullet("limit", about)
	}
	s.line("")
}

// options tell what can be done with a finding that isn't fixed.
func (s *screen) options(e Explanation) {
	id := "ID"
	if e.Finding != nil {
		id = e.Finding.ID
	} else if len(e.Found) > 0 {
		id = e.Found[0].ID
		if i := slices.IndexFunc(e.Found, func(f *judge.Finding) bool { return f.Standing == judge.New }); i >= 0 {
			id = e.Found[i].ID
		}
	}
	lead := strings.Repeat(" ", indent)
	s.bullet("accept", "with a reason and an end:")
	s.line(`%szincdoor baseline accept %s --reason "…" --until 90d`, lead, id)
	if e.MayWaive == "" {
		s.bullet("waive", "no door allows a waiver for it")
		return
	}
	s.bullet("waive", "with a comment on its line or the line above:")
	s.line("%s%s the reason", lead, waiver.For(Safe(e.Rule)))
}
