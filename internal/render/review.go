package render

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/review"
)

// The review/1 document: what a code host's client posts beside the lines of a change. Its keys are a promise as those
// of the verdict are.
type (
	reviewJSON struct {
		Version  string        `json:"zincdoor"`
		Door     string        `json:"door"`
		Outcome  judge.Outcome `json:"outcome"`
		Head     string        `json:"head"`
		Summary  string        `json:"summary"` // Markdown, a line
		Comments []commentJSON `json:"comments"`
		Left     int           `json:"left"` // how many comments there would be more
	}
	commentJSON struct {
		ID        string   `json:"id"` // of its worst finding
		Path      string   `json:"path"`
		Line      int      `json:"line"` // 1-based, the last where there are several
		StartLine int      `json:"start_line"`
		Side      string   `json:"side"`     // always "new": that of the change
		Severity  string   `json:"severity"` // the worst
		Shuts     bool     `json:"shuts"`    // it is among what broke a limit
		Text      string   `json:"text"`     // Markdown
		Findings  []string `json:"findings"` // ids in the verdict
	}
)

// MostComments is how many comments a review has where the call doesn't say: nobody reads more.
const MostComments = 50

// writeReview writes a comment for each group of lines of the change that findings stand on.
func writeReview(w io.Writer, v judge.Verdict, o Options) error {
	document := reviewJSON{
		Version: "review/1", Door: v.Door, Outcome: v.Outcome, Head: v.Subject.Head, Comments: []commentJSON{},
		Summary: fmt.Sprintf("%s: %s", strings.ToUpper(string(v.Outcome)), escapeMarkdown(reason(v))),
	}
	all := review.Comments(v, o.Touched)
	for _, c := range all[:min(len(all), MostComments)] {
		comment := commentJSON{ID: c.ID, Path: c.Path, Line: c.Line, StartLine: c.Start, Side: "new", Severity: c.Severity, Shuts: c.Shuts, Text: ReviewComment(v, c)}
		for _, i := range c.Findings {
			comment.Findings = append(comment.Findings, v.Findings[i].ID)
		}
		document.Comments = append(document.Comments, comment)
	}
	document.Left = len(all) - len(document.Comments)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	return out.Encode(document)
}

// longestMessage is how many characters of a message a comment has.
const longestMessage = 2000

// mostInComment is how many findings one comment shows.
const mostInComment = 10

// ReviewComment is what a comment on a pull request says, as Markdown.
func ReviewComment(v judge.Verdict, c review.Comment) string {
	var parts []string
	for n, i := range c.Findings {
		if n == mostInComment {
			parts = append(parts, fmt.Sprintf("*and %s more on these lines*", finding.Count(len(c.Findings)-n)))
			break
		}
		parts = append(parts, commentText(v.Findings[i], c))
	}
	return strings.Join(parts, "\n\n")
}

func commentText(f judge.Finding, c review.Comment) string {
	text := fmt.Sprintf("**%s** %s", escapeMarkdown(f.Severity), codeSpan(f.Rule))
	switch {
	case f.Standing == judge.Worsened && f.Measure != "":
		text += fmt.Sprintf(" (worsened: %s, accepted at %s)", escapeMarkdown(f.Measure), escapeMarkdown(f.AcceptedMeasure))
	case f.Standing != judge.New:
		text += fmt.Sprintf(" (%s)", f.Standing)
	}
	switch first, last := f.Region.Line, f.Region.Last(); {
	case first >= c.Start && last <= c.Line:
	case first == last:
		text += fmt.Sprintf(", line %d", first)
	default:
		text += fmt.Sprintf(", lines %d to %d", first, last)
	}
	text += "\n\n" + escapeMarkdown(clipRunes(f.Message, longestMessage))
	if suggested := f.Details().Suggested(); suggested != "" {
		text += "\n\n" + suggestedText(suggested)
	}
	if help := f.Details().Help; finding.IsWeb(help) {
		text += "\n\n<" + strings.NewReplacer("<", "%3C", ">", "%3E", " ", "%20").Replace(Safe(help)) + ">"
	}
	return text
}

// suggestedText is a suggestion: words as words, lines of code as such.
func suggestedText(text string) string {
	if !strings.Contains(text, "\n") {
		return "Suggested: " + escapeMarkdown(clipRunes(text, 1000))
	}
	lines := strings.Split(clipRunes(text, 2000), "\n")
	for i := range lines {
		lines[i] = "    " + Safe(strings.ReplaceAll(lines[i], "\t", "    "))
	}
	return "Suggested:\n\n" + strings.Join(lines, "\n")
}

// ReviewGone is what a comment says once what it spoke of is gone.
func ReviewGone(text string) string {
	const gone = "**Gone** from the latest verdict. It was:\n\n"
	return gone + strings.TrimPrefix(text, gone)
}

// ReviewStatus is what a status says of a verdict, in few words.
func ReviewStatus(v judge.Verdict) string {
	const most = 140 // what pages have room for
	return clipRunes(strings.Join(strings.Fields(reason(v)), " "), most-1)
}

// ReviewSummary is the comment that says the whole of a verdict, as Markdown: its limits, and the findings without a comment of their
// own. Notes are sentences about the review.
func ReviewSummary(v judge.Verdict, o Options, commented map[int]bool, notes []string) string {
	var listed []int
	for i, f := range v.Findings {
		if !commented[i] && review.Commented(f) {
			listed = append(listed, i)
		}
	}
	for _, i := range v.Broken() {
		if !commented[i] && !review.Commented(v.Findings[i]) {
			listed = append(listed, i)
		}
	}
	slices.Sort(listed)
	switch n := len(commented); {
	case n == 1:
		notes = append([]string{"1 finding has a comment at its line."}, notes...)
	case n > 1:
		notes = append([]string{fmt.Sprintf("%d findings have comments at their lines.", n)}, notes...)
	}
	return markdownOf(v, o, listed, notes)
}
