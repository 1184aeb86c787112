package render

import (
	"cmp"
	"fmt"
	"io"
	"strconv"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/verdictfile"
)

// CompareOptions say how a comparison is shown.
type CompareOptions struct {
	Title string
	Most  int                         // how many of each kind are shown to people; 0 for all
	Who   func(id string) (by string) // who brought a finding in, "" where that isn't known
}

type (
	comparisonJSON struct {
		From     recordLine   `json:"from"`
		To       recordLine   `json:"to"`
		Before   int          `json:"before"`
		After    int          `json:"after"`
		Came     []changeling `json:"came"`
		Went     []changeling `json:"went"`
		Moved    []changeling `json:"moved"`
		Worsened []changeling `json:"worsened"`
		Files    []shiftJSON  `json:"files"`
		Rules    []shiftJSON  `json:"rules"`
	}
	changeling struct {
		ID       string `json:"id"`
		Tool     string `json:"tool"`
		Rule     string `json:"rule"`
		Severity string `json:"severity"`
		Path     string `json:"path"`
		Line     int    `json:"line"`
		Message  string `json:"message"`
		From     string `json:"from,omitempty"`   // of one that moved: the file where it was
		Was      string `json:"was,omitempty"`    // of one that has worsened: its number then
		By       string `json:"author,omitempty"` // of one that came: who brought it in
	}
	shiftJSON struct {
		Name   string `json:"name"`
		Before int    `json:"before"`
		After  int    `json:"after"`
		Came   int    `json:"came"`
		Went   int    `json:"went"`
	}
)

// Compared writes a comparison of two states in a format.
func Compared(w io.Writer, format string, c record.Comparison, from, to record.Summary, o CompareOptions) error {
	plain := func(f judge.Finding) changeling {
		return changeling{ID: f.ID, Tool: f.Tool, Rule: f.Rule, Severity: f.Severity, Path: f.Path, Line: f.Region.Line, Message: f.Message}
	}
	came := func(f judge.Finding) changeling {
		is := plain(f)
		is.By = o.Who(f.ID)
		return is
	}
	moved := func(p record.Pair) changeling {
		is := plain(p.After)
		is.From = p.Before.Path
		return is
	}
	worsened := func(p record.Pair) changeling {
		is := plain(p.After)
		is.Was = p.After.AcceptedMeasure
		return is
	}
	d := comparisonJSON{
		From: lineOf(from), To: lineOf(to), Before: c.Before, After: c.After, Came: verdictfile.ListOf(c.Came, came), Went: verdictfile.ListOf(c.Went, plain), Moved: verdictfile.ListOf(c.Moved, moved), Worsened: verdictfile.ListOf(c.Worsened, worsened),
		Files: verdictfile.ListOf(c.Files, func(s record.Shift) shiftJSON { return shiftJSON(s) }), Rules: verdictfile.ListOf(c.Rules, func(s record.Shift) shiftJSON { return shiftJSON(s) }),
	}
	if format == JSON {
		return indented(w, d)
	}
	s := &screen{look: lookFor(w), w: w}
	s.line("%s", s.bold.Render(Safe(o.Title)))
	for _, side := range []struct {
		word string
		of   record.Summary
	}{{"from", from}, {"to", to}} {
		s.line("  %-4s  %s  %s  %s", side.word, side.of.Time.Format(minuteForm), s.faint.Render(shortCommit(side.of.Head)), s.faint.Render("record "+side.of.ID))
	}
	s.line("")
	text := fmt.Sprintf("%d%s%s: %d came, %d went", c.Before, s.arrow, finding.Count(c.After), len(c.Came), len(c.Went))
	if n := len(c.Moved); n > 0 {
		text += fmt.Sprintf(", %d moved to another file", n)
	}
	if n := len(c.Worsened); n > 0 {
		text += fmt.Sprintf(", %d worsened", n)
	}
	s.line("%s", s.bold.Render(text))
	if c.CostBefore+c.Costs > 0 {
		s.line("work: %s%s%s", WorkTime(c.CostBefore), s.arrow, WorkTime(c.Costs))
	}
	for _, part := range []struct {
		name   string
		shifts []shiftJSON
	}{{"rule", d.Rules}, {"file", d.Files}} {
		s.shifts(part.name, part.shifts, o.Most)
	}
	for _, part := range []struct {
		word  string
		style style
		all   []changeling
	}{{"worsened", s.signal, d.Worsened}, {"came", s.signal, d.Came}, {"moved", s.faint, d.Moved}, {"went", s.zinc, d.Went}} {
		s.changelings(part.word, part.style, part.all, o.Most)
	}
	return s.err
}

func (s *screen) shifts(name string, all []shiftJSON, most int) {
	if len(all) == 0 {
		return
	}
	s.line("")
	t := table{left: []bool{true}}
	t.row(s.faint, name, "before", "after", "came", "went")
	some := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	for i, x := range all {
		if most > 0 && i == most {
			break
		}
		t.add(plainCell(cmp.Or(x.Name, "none")), plainCell(strconv.Itoa(x.Before)), plainCell(strconv.Itoa(x.After)), cell{text: some(x.Came), style: s.signal}, cell{text: some(x.Went), style: s.zinc})
	}
	t.write(s)
	s.left(len(all), most)
}

func (s *screen) left(all, most int) {
	if most > 0 && all > most {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more (--most 0 for all)", all-most)))
	}
}

func (s *screen) changelings(word string, style style, all []changeling, most int) {
	if len(all) == 0 {
		return
	}
	s.line("")
	s.line("%s", style.Render(word))
	for i, x := range all {
		if most > 0 && i == most {
			break
		}
		at := Safe(x.Path)
		if x.Line > 0 {
			at += ":" + strconv.Itoa(x.Line)
		}
		tail := ""
		if x.From != "" {
			tail = ", was in " + Safe(x.From)
		}
		if x.Was != "" {
			tail = ", was " + Safe(x.Was)
		}
		if x.By != "" {
			tail = ", by " + Safe(x.By)
		}
		s.line("  %s  %s  %s%s", at, Safe(x.Severity), s.faint.Render(Safe(x.Rule)), s.faint.Render(tail))
		s.wrapped("    ", Safe(x.Message), "")
	}
	s.left(len(all), most)
}
