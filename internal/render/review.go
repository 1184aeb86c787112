package render

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
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
		ID        string   `json:"id"` // the same as long as the finding is
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

// mostComments is how many comments a review has: nobody reads more.
const mostComments = 50

// writeReview writes a comment for each line of the change that findings stand on; several on one line are one comment.
func writeReview(w io.Writer, v judge.Verdict) error {
	shuts := map[int]bool{}
	for _, i := range v.Shutting() {
		shuts[i] = true
	}
	review := reviewJSON{
		Version: "review/1", Door: v.Door, Outcome: v.Outcome, Head: v.Subject.Head, Comments: []commentJSON{},
		Summary: fmt.Sprintf("%s: %s", strings.ToUpper(string(v.Outcome)), escapeMarkdown(reason(v))),
	}
	var all []commentJSON
	at := map[string]int{}
	for i, f := range v.Findings {
		if f.Place != change.OnTouched || f.Region.Line == 0 || f.Severity == policy.Ignored || f.Standing == judge.Accepted || f.Standing == judge.Waived {
			continue
		}
		where := fmt.Sprintf("%s\x00%d\x00%d", f.Path, f.Region.Line, f.Region.Last())
		n, known := at[where]
		if !known {
			n = len(all)
			at[where] = n
			all = append(all, commentJSON{ID: f.ID, Path: f.Path, Line: f.Region.Last(), StartLine: f.Region.Line, Side: "new", Severity: f.Severity})
		}
		c := &all[n]
		c.Findings, c.Shuts = append(c.Findings, f.ID), c.Shuts || shuts[i]
		if v.Ladder.Worse(f.Severity, c.Severity) {
			c.Severity = f.Severity
		}
		if c.Text != "" {
			c.Text += "\n\n"
		}
		c.Text += commentText(f)
	}
	for _, first := range []bool{true, false} { // those that shut the door first
		for _, c := range all {
			if c.Shuts != first {
				continue
			}
			if len(review.Comments) == mostComments {
				review.Left++
				continue
			}
			review.Comments = append(review.Comments, c)
		}
	}
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	return out.Encode(review)
}

func commentText(f judge.Finding) string {
	text := fmt.Sprintf("**%s** %s\n\n%s", escapeMarkdown(f.Severity), codeSpan(f.Rule), escapeMarkdown(f.Message))
	if fixes := f.Details().Fixes; len(fixes) > 0 {
		text += "\n\nSuggested: " + escapeMarkdown(suggestion(fixes[0]))
	}
	if help := f.Details().Help; strings.HasPrefix(help, "https://") || strings.HasPrefix(help, "http://") {
		text += "\n\n<" + strings.NewReplacer("<", "%3C", ">", "%3E", " ", "%20").Replace(Safe(help)) + ">"
	}
	return text
}
