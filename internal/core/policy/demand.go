package policy

import (
	"slices"
	"strconv"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
)

// Demand is what a limit asks of a number about code, in the place of counting findings.
type Demand struct {
	Number    measure.Number
	Of        measure.Scope
	Bound     float64 // of coverage, and with Share, in percent; of debt in minutes
	Share     bool    // the number is held as a part of the lines that count
	NotWorse  bool    // the bound is what the number was before the change
	Tolerance float64 // by how much it may be worse than the bound
	FromLines int     // where fewer lines count, the limit is held
}

// Holds reports whether a number keeps within a bound.
func (d Demand) Holds(number, bound float64) bool {
	const dust = 1e-9 // of computing with parts of two
	if d.Number.Limiting().Least {
		return number >= bound-d.Tolerance-dust
	}
	return number <= bound+d.Tolerance+dust
}

// NumberOf is a part as it is held against a bound.
func (d Demand) NumberOf(p measure.Parts) float64 {
	if d.Share {
		return d.Number.Share(p)
	}
	return float64(p.Part)
}

// Counts reports whether there are enough lines to be held against a bound.
func (d Demand) Counts(p measure.Parts) bool {
	return !d.Number.Limiting().Shares || p.Whole > 0 && p.Whole >= d.FromLines
}

// Demands reports whether a limit is on a number about code, and not on findings.
func (l Limit) Demands() bool { return l.Demand != nil }

// IsAbout reports whether a limit is about findings of a rule: one on a number about code about those that this number makes, or that
// make it up; any other one about all that aren't about such numbers.
func (l Limit) IsAbout(tool, rule string) bool {
	switch {
	case !l.Demands():
		return tool != measure.Tool
	case l.Demand.Number.Limiting().Of:
		return tool != measure.Tool
	}
	return tool == measure.Tool && rule == measure.Rule(l.Demand.Number, l.Demand.Of)
}

// NeedsOwn reports whether a door can be judged by our own checks, or by numbers about code, without a report: it needs them, or all of
// its limits are on such numbers.
func (d Door) NeedsOwn() bool { return slices.Contains(d.Needs, house.Tool) || d.NeedsMeasures() }

// NeedsMeasures reports whether numbers about code are evidence at the door.
func (d Door) NeedsMeasures() bool {
	only := len(d.Limits) > 0 && !slices.ContainsFunc(d.Limits, func(l Limit) bool { return !l.Demands() })
	return only || slices.Contains(d.Needs, measure.Tool)
}

// DemandsOnParts are the limits of all doors on numbers of files and functions, by themselves: what breaks them can be accepted.
func (p *Policy) DemandsOnParts() (limits []Limit) {
	for _, d := range p.Doors {
		for _, l := range d.Limits {
			if l.Demands() && (l.Demand.Of == measure.OfFunction || l.Demand.Of == measure.OfFile) && !l.Demand.NotWorse {
				limits = append(limits, l)
			}
		}
	}
	return limits
}

// Within reports whether what a demand lets pass, another one does too.
func (d Demand) Within(o Demand) bool {
	least := d.Number.Limiting().Least
	bounded := d.Bound <= o.Bound
	if least {
		bounded = d.Bound >= o.Bound
	}
	return d.Number == o.Number && d.Of == o.Of && d.Share == o.Share && d.NotWorse == o.NotWorse && bounded &&
		d.Tolerance <= o.Tolerance && d.FromLines <= o.FromLines
}

// Written is a bound as people write it: 70%, 12, no-drop.
func (d Demand) Written() string {
	switch {
	case d.NotWorse && d.Number.Limiting().Least:
		return NoDrop
	case d.NotWorse:
		return NoGrowth
	}
	return d.Amount(d.Bound)
}

// Amount writes a number in the unit of the demand: a part in percent, debt in minutes, else as it is.
func (d Demand) Amount(n float64) string {
	switch {
	case d.Share:
		return strconv.FormatFloat(n, 'f', -1, 64) + "%"
	case d.Number == measure.NumberDebt:
		return strconv.FormatFloat(n, 'f', -1, 64) + "m"
	}
	return strconv.FormatFloat(n, 'f', -1, 64)
}

// Words for a bound that is what was there before the change.
const (
	NoGrowth = "no-growth"
	NoDrop   = "no-drop"
)
