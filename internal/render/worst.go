package render

import (
	"cmp"
	"fmt"
	"io"
	"strconv"

	"zincdoor/internal/core/record"
)

// WorstOptions say how what is worst is shown.
type WorstOptions struct {
	Title, Since string
	By           record.By
	Most         int // how many are shown to people; 0 for all
}

type worstJSON struct {
	Name     string `json:"name"`
	Findings int    `json:"findings"`
	Before   int    `json:"before"`
	Cost     int    `json:"cost"`
	Changes  *int   `json:"changes,omitempty"`
}

// WorstOff writes what is worst off in a format.
func WorstOff(w io.Writer, format string, all []record.Worst, o WorstOptions) error {
	switch format {
	case JSON:
		list := []worstJSON{}
		for _, x := range all {
			j := worstJSON{Name: x.Name, Findings: x.Findings, Before: x.Before, Cost: x.Cost}
			if !x.ChangesUnknown {
				j.Changes = &x.Changes
			}
			list = append(list, j)
		}
		return indented(w, list)
	case CSV:
		rows := [][]string{{string(o.By), "findings", "before", "cost", "changes"}}
		for _, x := range all {
			changes := ""
			if !x.ChangesUnknown {
				changes = strconv.Itoa(x.Changes)
			}
			rows = append(rows, []string{x.Name, strconv.Itoa(x.Findings), strconv.Itoa(x.Before), strconv.Itoa(x.Cost), changes})
		}
		return spreadsheet(w, rows)
	}
	s := &screen{look: lookFor(w), w: w}
	s.line("%s", s.bold.Render(Safe(o.Title)))
	s.line("")
	shown := all
	if o.Most > 0 && len(all) > o.Most {
		shown = all[:o.Most]
	}
	t := table{left: []bool{true}}
	t.row(s.faint, string(o.By), "findings", "since then", "work", "commits")
	for _, x := range shown {
		grown, style := "", s.faint
		if n := x.Growth(); n > 0 {
			grown, style = fmt.Sprintf("%+d", n), s.signal
		} else if n < 0 {
			grown, style = fmt.Sprintf("%+d", n), s.zinc
		}
		changes := ""
		if !x.ChangesUnknown {
			changes = strconv.Itoa(x.Changes)
		}
		t.add(plainCell(cmp.Or(x.Name, "none")), plainCell(strconv.Itoa(x.Findings)), cell{text: grown, style: style}, plainCell(someWork(x.Cost)), plainCell(changes))
	}
	t.write(s)
	s.line("")
	if n := len(all) - len(shown); n > 0 {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more (--most 0 for all)", n)))
	}
	s.wrapped("", o.Since, s.faint)
	return s.err
}
