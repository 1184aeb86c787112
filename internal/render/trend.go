package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
)

// TrendOptions say how a trend is shown.
type TrendOptions struct {
	Title string // of what it is
	Cost  bool   // the work that findings are is shown, in the place of their number
	Most  int    // how many names are told apart: the others are counted together
	Plain bool   // without bars
	Like  io.Writer
}

// others is what names beyond those told apart are called.
const others = "others"

// series are the values of a trend by name and step; the last may be the others together.
type series struct {
	names  []string
	values [][]int // by name, then step
	totals []int   // by step
}

func seriesOf(t record.Trend, o TrendOptions) series {
	s := series{names: t.Names, totals: make([]int, len(t.Points))}
	if o.Most > 0 && len(s.names) > o.Most {
		s.names = append(slices.Clone(t.Names[:o.Most-1]), others)
	}
	value := func(tally record.Tally) int {
		if o.Cost {
			return tally.Cost
		}
		return tally.Findings
	}
	s.values = make([][]int, len(s.names))
	for i := range s.values {
		s.values[i] = make([]int, len(t.Points))
	}
	at := map[string]int{}
	for i, name := range t.Names {
		at[name] = min(i, len(s.names)-1)
	}
	for step, p := range t.Points {
		for _, tally := range p.Tallies {
			s.values[at[tally.Name]][step] += value(tally)
			if t.By != string(record.BySet) {
				s.totals[step] += value(tally)
			}
		}
	}
	return s
}

// Trend writes a trend in a format.
func Trend(w io.Writer, format string, t record.Trend, o TrendOptions) error {
	switch format {
	case JSON:
		return trendJSON(w, t)
	case CSV:
		return trendSpreadsheet(w, t)
	case SVG:
		return trendPicture(w, t, o)
	}
	return trendText(w, t, o)
}

type (
	trendDocument struct {
		Of    string       `json:"of,omitempty"`
		By    string       `json:"by"`
		Every record.Every `json:"every"`
		Steps []trendStep  `json:"steps"`
	}
	trendStep struct {
		Start  string       `json:"start"`
		Record string       `json:"record,omitempty"`
		Counts []trendCount `json:"counts"`
	}
	trendCount struct {
		Name     string                 `json:"name"`
		Findings int                    `json:"count"`
		Cost     int                    `json:"cost,omitempty"`
		By       map[judge.Standing]int `json:"standings,omitempty"`
	}
)

func trendJSON(w io.Writer, t record.Trend) error {
	d := trendDocument{By: t.By, Every: t.Every, Steps: []trendStep{}}
	for _, p := range t.Points {
		step := trendStep{Start: p.Start.Format(time.DateOnly), Record: p.ID, Counts: []trendCount{}}
		for _, name := range t.Names {
			if tally := p.Of(name); tally.Findings > 0 {
				step.Counts = append(step.Counts, trendCount(tally))
			}
		}
		d.Steps = append(d.Steps, step)
	}
	return indented(w, d)
}

func trendSpreadsheet(w io.Writer, t record.Trend) error {
	rows := [][]string{{string(t.Every), "record", t.By, "count", "cost"}}
	for _, p := range t.Points {
		for _, name := range t.Names {
			if tally := p.Of(name); tally.Findings > 0 {
				rows = append(rows, []string{p.Start.Format(time.DateOnly), p.ID, name, strconv.Itoa(tally.Findings), strconv.Itoa(tally.Cost)})
			}
		}
	}
	return spreadsheet(w, rows)
}

// barSigns are the cells of bars, by name: told apart without colours.
var barSigns = [2][]string{{"█", "▓", "▒", "░", "·"}, {"#", "=", "-", ":", "."}}

// sign is what bars of the n-th name are drawn with.
func (s *screen) sign(n int) string {
	signs := barSigns[0]
	if s.cut == "..." {
		signs = barSigns[1]
	}
	return signs[min(n, len(signs)-1)]
}

func trendText(w io.Writer, t record.Trend, o TrendOptions) error {
	s := &screen{look: lookFor(cmp.Or(o.Like, w)), w: w}
	s.line("%s", s.bold.Render(Safe(o.Title)))
	s.line("")
	if t = t.Trimmed(); len(t.Points) == 0 {
		s.line("nothing was recorded in this time")
		return s.err
	}
	shown := seriesOf(t, o)
	number, fewer := strconv.Itoa, "fewer"
	if o.Cost {
		number, fewer = WorkTime, "less"
	}
	sums := t.By != string(record.BySet) && len(shown.names) > 1
	grid := table{left: []bool{true}}
	heading := []string{map[record.Every]string{record.Day: "day", record.Week: "week of", record.Month: "month"}[t.Every]}
	heading = append(heading, s.headings(shown.names, o)...)
	if sums {
		heading = append(heading, "all")
	}
	grid.row(s.faint, heading...)
	for i, p := range t.Points {
		cells := []cell{plainCell(stepName(p.Start, t.Every))}
		for n := range shown.names {
			text := "-"
			if p.Known() {
				text = number(shown.values[n][i])
			}
			cells = append(cells, plainCell(text))
		}
		if sums {
			text := "-"
			if p.Known() {
				text = number(shown.totals[i])
			}
			cells = append(cells, cell{text: text, style: s.bold})
		}
		grid.add(cells...)
	}
	s.bars(&grid, t, shown, o)
	grid.write(s)
	if text := growth(t, shown, number, fewer); text != "" && sums && t.Points[0].ID != "" {
		s.line("")
		s.line("%s", text)
	}
	return s.err
}

// leastBars is how much of a line headings leave for bars.
const leastBars = 30

// headings are those of columns of numbers, and the signs of their bars. Where names are long they stand above, and signs or numbers in
// the columns.
func (s *screen) headings(names []string, o TrendOptions) (all []string) {
	wide := 0
	for n, name := range names {
		sign := s.sign(n) + " "
		if o.Plain {
			sign = ""
		}
		all = append(all, sign+cmp.Or(name, "none"))
		wide += width(Safe(all[n])) + 2
	}
	if wide <= s.columns-leastBars {
		return all
	}
	for n, name := range names {
		all[n] = s.sign(n)
		if o.Plain {
			all[n] = fmt.Sprintf("(%d)", n+1)
		}
		s.line("%s %s", all[n], truncate(Safe(cmp.Or(name, "none")), s.columns-4, s.cut))
	}
	s.line("")
	return all
}

// bars adds a bar to each step that something is known of, as wide as the room beside the numbers lets the greatest be.
func (s *screen) bars(grid *table, t record.Trend, shown series, o TrendOptions) {
	_, used := grid.widths()
	room := min(s.columns-used-2, 60)
	most := 0
	for _, total := range shown.totals {
		most = max(most, total)
	}
	if o.Plain || room < 12 || most == 0 {
		return
	}
	grid.left = make([]bool, len(grid.rows[0])+1)
	grid.left[0], grid.left[len(grid.rows[0])] = true, true
	grid.rows[0] = append(grid.rows[0], plainCell(" "))
	for i, p := range t.Points {
		bar := cell{parts: []cell{}}
		sum, drawn := 0, 0
		for n := range shown.names {
			sum += shown.values[n][i]
			to := (sum*room + most/2) / most
			part := cell{text: strings.Repeat(s.sign(n), to-drawn), style: s.zinc}
			if n == 0 && t.By == string(record.BySeverity) && len(shown.names) > 1 {
				part.style = s.signal
			}
			bar.text += part.text
			bar.parts = append(bar.parts, part)
			drawn = to
		}
		if !p.Known() {
			bar = cell{}
		}
		grid.rows[i+1] = append(grid.rows[i+1], bar)
	}
}

func stepName(start time.Time, every record.Every) string {
	if every == record.Month {
		return start.Format("2006-01")
	}
	return start.Format(time.DateOnly)
}

// growth tells how much there is more or less at the end than at the beginning, "" where these are one step.
func growth(t record.Trend, shown series, number func(int) string, fewer string) string {
	last := len(t.Points) - 1
	if last == 0 {
		return ""
	}
	from, to := shown.totals[0], shown.totals[last]
	since := map[record.Every]string{record.Day: "on ", record.Week: "in the week of ", record.Month: "in "}[t.Every] + stepName(t.Points[0].Start, t.Every)
	switch {
	case to == from:
		return fmt.Sprintf("the same as %s: %s", since, number(to))
	case to > from:
		return fmt.Sprintf("%s more than %s", number(to-from), since)
	}
	return fmt.Sprintf("%s %s than %s", number(from-to), fewer, since)
}
