package render

import (
	"fmt"
	"strings"

	"zincdoor/internal/core/judge"
)

// totalsInWords counts the findings by standing, and tells what they cost.
func totalsInWords(v judge.Verdict) string {
	var parts []string
	for _, standing := range judge.Standings {
		if n := v.Totals.By[standing]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, standing))
		}
	}
	if v.Totals.Ignored > 0 {
		parts = append(parts, fmt.Sprintf("%d ignored", v.Totals.Ignored))
	}
	if v.Totals.Gone > 0 {
		parts = append(parts, fmt.Sprintf("%d gone", v.Totals.Gone))
	}
	if v.Totals.Debt > 0 {
		parts = append(parts, debtInWords(v.Totals))
	}
	return strings.Join(parts, ", ")
}

// debtInWords tells how much work the findings are, and how much of it is new.
func debtInWords(t judge.Totals) string {
	text := "about " + WorkTime(t.Debt) + " of work"
	switch fresh := t.DebtBy[judge.New]; {
	case fresh == t.Debt:
		text += ", all of it new"
	case fresh > 0:
		text += ", " + WorkTime(fresh) + " of it new"
	}
	return text
}

// WorkTime writes a number of minutes in hours and minutes.
func WorkTime(n int) string {
	hours, minutes := n/60, n%60
	switch {
	case hours == 0:
		return fmt.Sprintf("%d min", minutes)
	case minutes == 0:
		return fmt.Sprintf("%d h", hours)
	}
	return fmt.Sprintf("%d h %d min", hours, minutes)
}
