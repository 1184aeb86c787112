package render

import (
	"fmt"
	"io"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
)

// mostActs is how many acts are shown.
const mostActs = 30

// doneWords are what people read of an act: done, and to be done.
var doneWords = map[policy.HostAct][2]string{
	policy.SetStatus:      {"set", "set"},
	policy.CreateComment:  {"commented", "comment"},
	policy.UpdateComment:  {"updated", "update"},
	policy.ResolveComment: {"resolved", "resolve"},
	policy.ReopenComment:  {"reopened", "reopen"},
	policy.DeleteComment:  {"took back", "take back"},
	policy.CreateSummary:  {"posted", "post"},
	policy.UpdateSummary:  {"updated", "update"},
	policy.DeleteSummary:  {"took back", "take back"},
}

// SentReview says what was done at a pull request, or what would be.
type SentReview struct {
	Pull, Title string
	Acts        []review.Act
	DryRun      bool
	Whole       bool // it came to its end
}

// WriteReview writes it: what was done, a line each, and in a dry run the calls.
func WriteReview(w io.Writer, r SentReview) error {
	var s strings.Builder
	name := "pull request " + Safe(r.Pull)
	if r.Title != "" {
		name += ": " + Safe(r.Title)
	}
	fmt.Fprintf(&s, "\n  %s\n", name)
	switch {
	case len(r.Acts) == 0 && r.Whole:
		s.WriteString("  shows all of it already: nothing to do\n")
	case r.DryRun:
		fmt.Fprintf(&s, "  %s would be made\n", finding.CountOf(len(r.Acts), "call"))
	}
	shown, left := 0, 0
	for i, a := range r.Acts {
		words := doneWords[a.Kind]
		switch {
		case r.DryRun:
			fmt.Fprintf(&s, "  %-9s  %s\n             %s\n", words[1], Safe(a.About), Safe(a.Call))
		case i > 0 && a.Kind == policy.UpdateComment && a.Thread == r.Acts[i-1].Thread && r.Acts[i-1].Kind != policy.UpdateComment:
			// what a comment says once it is resolved or reopened goes without saying
		case shown == mostActs:
			left++
		default:
			fmt.Fprintf(&s, "  %-9s  %s\n", words[0], Safe(a.About))
			shown++
		}
	}
	if left > 0 {
		fmt.Fprintf(&s, "  and %d more\n", left)
	}
	_, err := io.WriteString(w, s.String())
	return err
}
