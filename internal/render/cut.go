package render

import (
	"fmt"
	"strings"
)

// footRows is how many of the last lines are kept of what is cut: the limits and the outcome.
const footRows = 12

// Cut fits a verdict in so many rows: its beginning and its end stay, and a line between them tells how much is left out
// and how to see it.
func Cut(text string, rows int, how string) string {
	lines := strings.Split(strings.Trim(text, "\n"), "\n")
	if len(lines) <= rows {
		return strings.Join(lines, "\n")
	}
	foot := min(footRows, rows/2)
	head := max(rows-foot-1, 0)
	left := fmt.Sprintf("  … %d lines left out; %s", len(lines)-head-foot, how)
	return strings.Join(append(append(lines[:head:head], left), lines[len(lines)-foot:]...), "\n")
}
