package render

import (
	"fmt"
	"io"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
)

// SentAct is an act of a review with the call that it was.
type SentAct struct {
	review.Act
	Call string
}

// doneWords are what people read of an act: done, and to be done.
var doneWords = map[policy.HostAct][2]string{
	policy.SetStatus:      {"set the status", "set the status"},
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
	Pull, Address string
	Title         string
	Acts          []SentAct
	DryRun        bool
	Whole         bool // it came to its end
}

// WriteReview writes it: what was done, a line each, and in a dry run the calls.
func WriteReview(w io.Writer, r SentReview) error {
	var s strings.Builder
	name := "pull request " + Safe(r.Pull)
	if r.Title != "" {
		name += " (" + Safe(r.Title) + ")"
	}
	switch {
	case len(r.Acts) == 0 && r.Whole:
		fmt.Fprintf(&s, "%s shows all of it already: nothing to do\n", name)
	case r.DryRun:
		fmt.Fprintf(&s, "%s: %s would be made\n", name, finding.CountOf(len(r.Acts), "call"))
	case len(r.Acts) == 0:
		fmt.Fprintf(&s, "%s: nothing was done\n", name)
	default:
		fmt.Fprintf(&s, "%s:\n", name)
	}
	const most = 30
	for i, a := range r.Acts {
		if i == most && !r.DryRun && len(r.Acts) > most+1 {
			fmt.Fprintf(&s, "  and %d more\n", len(r.Acts)-most)
			break
		}
		words := doneWords[a.Kind]
		if r.DryRun {
			fmt.Fprintf(&s, "  %s %s\n      %s\n", words[1], Safe(a.About), Safe(a.Call))
			continue
		}
		fmt.Fprintf(&s, "  %s %s\n", words[0], Safe(a.About))
	}
	_, err := io.WriteString(w, s.String())
	return err
}
