package render

import (
	"cmp"
	"fmt"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/waiver"
)

// ExplainMarkdown tells a person about a rule or a finding, as Markdown: what Explain does, for who has it before their eyes.
func ExplainMarkdown(e Explanation) string {
	var s strings.Builder
	title := codeSpan(cmp.Or(e.Rule, "(no rule)"))
	if e.Text.Name != "" && e.Text.Name != e.Rule {
		title += " " + escapeMarkdown(e.Text.Name)
	}
	fmt.Fprintf(&s, "%s (%s)\n\n", title, escapeMarkdown(strings.Join(append([]string{e.Tool}, e.Tags...), ", ")))
	for _, text := range e.said() {
		s.WriteString(markdownProse(text) + "\n\n")
	}
	if webAddress.MatchString(e.Text.Address) {
		fmt.Fprintf(&s, "<%s>\n\n", e.Text.Address)
	}
	for _, note := range e.Notes {
		fmt.Fprintf(&s, "The team says: %s\n\n", markdownProse(strings.TrimSpace(note)))
	}
	line := "graded " + escapeMarkdown(e.Severity)
	if n := len(e.Steps); n > 0 {
		at := e.At(e.Steps[n-1].Index)
		line += fmt.Sprintf(" (%s: %s)", escapeMarkdown(cmp.Or(at, "its tool")), escapeMarkdown(e.Steps[n-1].What))
	}
	if e.Cost > 0 {
		line += ", about " + WorkTime(e.Cost) + " to put right"
	}
	fmt.Fprintf(&s, "- %s\n", line)
	if len(e.Limits) == 0 {
		s.WriteString("- no limit counts it\n")
	}
	doors := map[string][]string{} // by the limit
	var limits []string
	for _, l := range e.Limits {
		text := Limit(l.Limit, l.Mode)
		if doors[text] == nil {
			limits = append(limits, text)
		}
		doors[text] = append(doors[text], l.Door)
	}
	for _, text := range limits {
		fmt.Fprintf(&s, "- counted by %s (door %s)\n", escapeMarkdown(text), escapeMarkdown(strings.Join(doors[text], ", ")))
	}
	if e.Finding != nil {
		fmt.Fprintf(&s, "- %s, %s", e.Finding.Standing, placeInWords(e.Finding.Place))
		if e.Finding.Team != "" {
			fmt.Fprintf(&s, ", team %s", escapeMarkdown(e.Finding.Team))
		}
		fmt.Fprintf(&s, "; id %s\n", codeSpan(e.Finding.ID))
	}
	if e.MayWaive == "" {
		s.WriteString("- no door allows a waiver for it\n")
	} else {
		fmt.Fprintf(&s, "- may be waived with %s\n", codeSpan(waiver.For(e.Rule)+" the reason"))
	}
	return s.String()
}

// markdownProse is a text of several lines, whose paragraphs and indented lines stay such.
func markdownProse(text string) string {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, "    ") {
			lines[i] = "    " + Safe(strings.TrimPrefix(line, "    "))
			continue
		}
		lines[i] = escapeMarkdown(strings.TrimSpace(line))
	}
	return strings.Join(lines, "\n")
}

// placeInWords says where a finding stands.
func placeInWords(p change.Place) string {
	switch p {
	case change.OnTouched:
		return "on a touched line"
	case change.InFile:
		return "on a line that the change doesn't touch"
	}
	return "in a file that the change doesn't touch"
}
