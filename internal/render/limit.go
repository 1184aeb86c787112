package render

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// Limit writes a limit in one line: its name, what it allows, and whether it shuts the door.
func Limit(l policy.Limit, mode policy.Mode) string {
	text := fmt.Sprintf("%s: at most %d", Safe(l.Name), l.Most)
	switch {
	case l.Demands():
		text = Safe(l.Name) + ": " + demanded(*l.Demand)
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

// demanded says what a limit on a number about code allows.
func demanded(d policy.Demand) (text string) {
	least := d.Number.Limiting().Least
	switch {
	case d.NotWorse && least:
		text = "no less than before the change"
	case d.NotWorse:
		text = "no more than before the change"
	case least:
		text = "at least " + amount(d, d.Bound)
	default:
		text = "at most " + amount(d, d.Bound)
	}
	if d.Tolerance > 0 {
		text += ", by " + amount(d, d.Tolerance)
	}
	if d.FromLines > 0 {
		text += fmt.Sprintf(", from %d lines", d.FromLines)
	}
	return text
}

// amount writes a number in the unit of a demand. A part is whole only where it is all or nothing.
func amount(d policy.Demand, n float64) string {
	switch {
	case d.Number == measure.NumberDebt:
		return WorkTime(int(n))
	case d.Share && n > 99.9 && n < 100:
		return "99.9%"
	case d.Share && n > 0 && n < 0.1:
		return "0.1%"
	case d.Share && n == math.Trunc(n):
		return fmt.Sprintf("%.0f%%", n)
	case d.Share:
		return fmt.Sprintf("%.1f%%", n)
	case n == math.Trunc(n):
		return fmt.Sprintf("%.0f", n)
	}
	return fmt.Sprintf("%.1f", n)
}

// found says what a limit came to.
func found(l judge.LimitResult) string {
	m := l.Measured
	switch {
	case m == nil:
		return strconv.Itoa(l.Found)
	case l.Unknown && m.Lines == 0:
		return "not known"
	case l.Demand.Number.Limiting().Shares && m.Lines == 0 && m.Items == 0, m.Items == 0 && eachIsHeld(l):
		return "nothing to measure"
	}
	text := amount(*l.Demand, m.Number)
	if m.Estimated {
		text = "~" + text
	}
	switch {
	case m.Worst != "":
		text += " in " + Safe(strings.Replace(m.Worst, " in ", ", ", 1))
	case l.Demand.Number.Limiting().Shares:
		text += fmt.Sprintf(" of %s", counted(m.Lines, linesOf(*l.Demand)))
	}
	return text
}

// eachIsHeld reports whether a limit holds each file or function by itself.
func eachIsHeld(l judge.LimitResult) bool {
	return l.EachFile || l.Demand.Of == measure.OfFile || l.Demand.Of == measure.OfFunction
}

// linesOf is what a part is of.
func linesOf(d policy.Demand) string {
	if d.Number == measure.NumberBranches {
		return "branch"
	}
	return "line"
}

func counted(n int, one string) string {
	many := one + "s"
	if one == "branch" {
		many = "branches"
	}
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// allowed says what a limit allows.
func allowed(l judge.LimitResult) string {
	m := l.Measured
	switch {
	case m != nil && l.Demand.NotWorse && !l.Unknown && (m.Items > 0 || !eachIsHeld(l)):
		return "before the change " + amount(*l.Demand, m.Bound)
	case m != nil:
		return demanded(*l.Demand)
	case l.Unknown:
		return "and no report from before the change"
	case l.NoGrowth:
		return fmt.Sprintf("before the change %d", l.Bound)
	case l.EachFile:
		return fmt.Sprintf("at most %d in each file", l.Bound)
	}
	return fmt.Sprintf("at most %d", l.Bound)
}

// bound says what a limit came to and what it allows.
func bound(l judge.LimitResult) string {
	if l.Measured == nil && l.EachFile && !l.Unknown {
		return fmt.Sprintf("%d in one file, at most %d", l.Found, l.Bound)
	}
	return found(l) + ", " + allowed(l)
}

// used is how much of what a limit allows is used up, in percent.
func used(l judge.LimitResult) int {
	switch {
	case !l.Held:
		return 100
	case l.Unknown:
		return 0
	case l.Measured != nil:
		return l.Measured.Used(*l.Demand)
	case l.Bound > 0:
		return min(100*l.Found/l.Bound, 100)
	}
	return 0
}
