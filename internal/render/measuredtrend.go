package render

import (
	"cmp"
	"fmt"
	"io"
	"strconv"
	"time"

	"zincdoor/internal/core/record"
)

type (
	measuredStep struct {
		Start   string           `json:"start"`
		Record  string           `json:"record,omitempty"`
		Numbers []measuredNumber `json:"numbers"`
	}
	measuredNumber struct {
		Limit  string  `json:"limit"`
		Number float64 `json:"number"`
		Bound  float64 `json:"bound"`
		Held   bool    `json:"held"`
	}
)

// MeasuredTrendFormats are the formats of a trend of numbers about code.
var MeasuredTrendFormats = []string{Text, CSV, JSON}

// MeasuredTrend writes a trend of numbers about code in a format.
func MeasuredTrend(w io.Writer, format string, t record.MeasuredTrend, o TrendOptions) error {
	switch format {
	case JSON:
		steps := []measuredStep{}
		for _, p := range t.Points {
			step := measuredStep{Start: p.Start.Format(time.DateOnly), Record: p.ID, Numbers: []measuredNumber{}}
			for _, l := range p.Limits {
				step.Numbers = append(step.Numbers, measuredNumber{l.Name, l.Measured.Number, l.Measured.Bound, l.Held})
			}
			steps = append(steps, step)
		}
		return indented(w, struct {
			Every record.Every   `json:"every"`
			Steps []measuredStep `json:"steps"`
		}{t.Every, steps})
	case CSV:
		rows := [][]string{{string(t.Every), "record", "limit", "number", "bound", "held"}}
		for _, p := range t.Points {
			for _, l := range p.Limits {
				rows = append(rows, []string{p.Start.Format(time.DateOnly), p.ID, l.Name, strconv.FormatFloat(l.Measured.Number, 'f', -1, 64), strconv.FormatFloat(l.Measured.Bound, 'f', -1, 64), strconv.FormatBool(l.Held)})
			}
		}
		return spreadsheet(w, rows)
	}
	s := &screen{look: lookFor(cmp.Or(o.Like, w)), w: w}
	s.line("%s", s.bold.Render(Safe(o.Title)))
	s.line("")
	if t = t.Trimmed(); len(t.Points) == 0 {
		s.line("no number about code was recorded in this time: a limit with measure: at a door that records has one")
		return s.err
	}
	grid := table{left: []bool{true}}
	heading := []string{map[record.Every]string{record.Day: "day", record.Week: "week of", record.Month: "month"}[t.Every]}
	wide := len(heading[0])
	for _, name := range t.Names {
		wide += width(Safe(name)) + 2
	}
	for n, name := range t.Names {
		if wide > s.columns { // long names stand above
			s.line("(%d) %s", n+1, truncate(Safe(name), s.columns-5, s.cut))
			name = fmt.Sprintf("(%d)", n+1)
		}
		heading = append(heading, name)
	}
	if wide > s.columns {
		s.line("")
	}
	grid.row(s.faint, heading...)
	for _, p := range t.Points {
		cells := []cell{plainCell(stepName(p.Start, t.Every))}
		for _, name := range t.Names {
			is := plainCell("-")
			if l, known := p.Of(name); known {
				if is = plainCell(amount(*l.Demand, l.Measured.Number)); !l.Held {
					is.style = s.signal
				}
			}
			cells = append(cells, is)
		}
		grid.add(cells...)
	}
	grid.write(s)
	return s.err
}
