package render

import (
	"fmt"

	"zincdoor/internal/core/policy"
)

// Limit writes a limit in one line: its name, what it allows, and whether it shuts the door.
func Limit(l policy.Limit, mode policy.Mode) string {
	text := fmt.Sprintf("%s: at most %d", Safe(l.Name), l.Most)
	switch {
	case l.NoGrowth:
		text = Safe(l.Name) + ": no more than before the change"
	case l.EachFile:
		text += " in each file"
	case l.PerLines > 0:
		text += fmt.Sprintf(" for each %d changed lines", l.PerLines)
	}
	if l.From != "" {
		text += ", from " + l.From
	}
	if l.Until != "" {
		text += ", until " + l.Until
	}
	if mode == policy.Advise {
		text += ", only advises"
	}
	return text
}
