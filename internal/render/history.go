package render

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
)

// SVG is the format of a plot as a picture.
const SVG = "svg"

// The formats of what records say.
var (
	RecordFormats  = []string{Text, JSONLines, CSV}
	TrendFormats   = []string{Text, SVG, CSV, JSON}
	WorstFormats   = []string{Text, CSV, JSON}
	CompareFormats = []string{Text, JSON}
)

const minuteForm = "2006-01-02 15:04"

// recordLine is a record in a list for programs.
type recordLine struct {
	ID         string        `json:"id"`
	Time       time.Time     `json:"time"`
	Took       int64         `json:"took_ms"`
	Repository string        `json:"repository"`
	Door       string        `json:"door"`
	Outcome    judge.Outcome `json:"outcome"`
	Enforced   judge.Outcome `json:"enforced"`
	Mode       string        `json:"mode"`
	Kind       string        `json:"kind"`
	Ref        string        `json:"ref"`
	Branch     string        `json:"branch"`
	Base       string        `json:"base"`
	Head       string        `json:"head"`
	Tree       string        `json:"tree"`
	Policy     string        `json:"policy"`
	Findings   int           `json:"findings"`
	New        int           `json:"new"`
	Debt       int           `json:"debt"`
}

func lineOf(r record.Summary) recordLine {
	return recordLine{
		r.ID, r.Time, r.Took.Milliseconds(), r.Repository, r.Door, r.Outcome, r.Enforced, string(r.Mode), r.Kind, r.Ref, r.Branch, r.Base, r.Head, r.Tree, r.Policy,
		r.Findings, r.New, r.Debt,
	}
}

// Records lists records in a format, the newest last.
func Records(w io.Writer, format string, all []record.Summary) error {
	switch format {
	case JSONLines:
		out := json.NewEncoder(w)
		out.SetEscapeHTML(false)
		for _, r := range all {
			if err := out.Encode(lineOf(r)); err != nil {
				return err
			}
		}
		return nil
	case CSV:
		rows := [][]string{{"time", "id", "outcome", "door", "kind", "branch", "base", "head", "findings", "new", "debt", "took_ms"}}
		for _, r := range all {
			rows = append(rows, []string{
				r.Time.Format(time.RFC3339), r.ID, string(r.Outcome), r.Door, r.Kind, r.Branch, r.Base, r.Head, strconv.Itoa(r.Findings), strconv.Itoa(r.New), strconv.Itoa(r.Debt),
				strconv.FormatInt(r.Took.Milliseconds(), 10),
			})
		}
		return spreadsheet(w, rows)
	}
	s := &screen{look: lookFor(w), w: w}
	t := table{left: []bool{true, true, true, true, true, true}}
	t.row(s.faint, "time (UTC)", "record", "outcome", "door", "of", "commit", "findings", "new", "work")
	for _, r := range all {
		style := s.zinc
		if r.Outcome != judge.Open {
			style = s.signal
		}
		t.add(plainCell(r.Time.Format(minuteForm)), cell{r.ID, s.faint}, cell{string(r.Outcome), style}, plainCell(r.Door), plainCell(ofWhat(r)), cell{shortCommit(r.Head), s.faint},
			plainCell(strconv.Itoa(r.Findings)), plainCell(strconv.Itoa(r.New)), cell{someWork(r.Debt), s.faint})
	}
	t.write(s)
	s.line("")
	s.line("%s", finding.CountOf(len(all), "record"))
	return s.err
}

// ofWhat is what a record's verdict was of, for people.
func ofWhat(r record.Summary) string {
	switch {
	case r.Branch != "":
		return strings.TrimPrefix(r.Branch, "refs/heads/")
	case r.Kind == "branch":
		return "into " + r.Ref
	case r.Ref != "":
		return strings.TrimPrefix(r.Ref, "refs/heads/")
	}
	return r.Kind
}

func shortCommit(commit string) string { return commit[:min(len(commit), 10)] }

func someWork(minutes int) string {
	if minutes == 0 {
		return ""
	}
	return workTime(minutes)
}

// cell is a text of a table, and how it is coloured.
type cell struct {
	text  string
	style style
}

func plainCell(text string) cell { return cell{text, ""} }

// table is lines of cells under each other: those of a left column begin together, those of another end together. A column that is
// empty but for its heading is left out.
type table struct {
	left []bool
	rows [][]cell
}

func (t *table) add(cells ...cell) { t.rows = append(t.rows, cells) }

func (t *table) row(style style, texts ...string) {
	var cells []cell
	for _, text := range texts {
		cells = append(cells, cell{text, style})
	}
	t.add(cells...)
}

// write writes the table, its first row as headings. What doesn't fit loses the middle of its widest left column.
func (t *table) write(s *screen) {
	if len(t.rows) == 0 {
		return
	}
	widths, total := t.widths()
	if over := total - s.columns; over > 0 {
		widest := 0
		for i, width := range widths {
			if i < len(t.left) && t.left[i] && width > widths[widest] {
				widest = i
			}
		}
		widths[widest] = max(widths[widest]-over, 12)
	}
	for _, row := range t.rows {
		var line strings.Builder
		for i, c := range row {
			if widths[i] == 0 {
				continue
			}
			text := Safe(c.text)
			if width(text) > widths[i] {
				text = s.middle(text, widths[i])
			}
			pad := strings.Repeat(" ", widths[i]-width(text))
			if line.Len() > 0 {
				line.WriteString("  ")
			}
			if i < len(t.left) && t.left[i] {
				line.WriteString(c.style.Render(text) + pad)
			} else {
				line.WriteString(pad + c.style.Render(text))
			}
		}
		s.line("%s", strings.TrimRight(line.String(), " "))
	}
}

func (t *table) widths() (widths []int, total int) {
	widths = make([]int, len(t.rows[0]))
	filled := make([]bool, len(widths))
	for n, row := range t.rows {
		for i, c := range row {
			widths[i] = max(widths[i], width(Safe(c.text)))
			filled[i] = filled[i] || n > 0 && c.text != "" || len(t.rows) == 1
		}
	}
	for i := range widths {
		if !filled[i] {
			widths[i] = 0
		} else {
			total += widths[i] + 2
		}
	}
	return widths, total - 2
}

// middle shortens a text in its middle: of a path the beginning and the name stay.
func (s *screen) middle(text string, room int) string {
	tail := (room - width(s.cut)) * 2 / 3
	letters := []rune(text)
	return truncate(text, max(room-tail, 1), s.cut) + string(letters[max(len(letters)-tail, 0):])
}

func spreadsheet(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	for _, row := range rows {
		for i := range row {
			row[i] = spreadsheetText(row[i])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

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

func indented(w io.Writer, v any) error {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.SetIndent("", " ")
	return out.Encode(v)
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
		number, fewer = workTime, "less"
	}
	sums := t.By != string(record.BySet) && len(shown.names) > 1
	grid := table{left: []bool{true}}
	heading := []string{map[record.Every]string{record.Day: "day", record.Week: "week of", record.Month: "month"}[t.Every]}
	for n, name := range shown.names {
		heading = append(heading, strings.TrimSpace(s.sign(n)+" "+cmp.Or(name, "none")))
	}
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
			cells = append(cells, cell{text, s.bold})
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
	grid.rows[0] = append(grid.rows[0], cell{" ", ""})
	for i, p := range t.Points {
		var bar strings.Builder
		sum, drawn := 0, 0
		for n := range shown.names {
			sum += shown.values[n][i]
			to := (sum*room + most/2) / most
			bar.WriteString(strings.Repeat(s.sign(n), to-drawn))
			drawn = to
		}
		if !p.Known() {
			bar.Reset()
		}
		grid.rows[i+1] = append(grid.rows[i+1], cell{bar.String(), s.zinc})
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
	since := stepName(t.Points[0].Start, t.Every)
	switch {
	case to == from:
		return fmt.Sprintf("the same as in %s: %s", since, number(to))
	case to > from:
		return fmt.Sprintf("%s more than in %s", number(to-from), since)
	}
	return fmt.Sprintf("%s %s than in %s", number(from-to), fewer, since)
}

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
		t.add(plainCell(cmp.Or(x.Name, "none")), plainCell(strconv.Itoa(x.Findings)), cell{grown, style}, plainCell(someWork(x.Cost)), plainCell(changes))
	}
	t.write(s)
	s.line("")
	if n := len(all) - len(shown); n > 0 {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more (--most 0 for all)", n)))
	}
	s.wrapped("", o.Since, s.faint)
	return s.err
}

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
		From: lineOf(from), To: lineOf(to), Before: c.Before, After: c.After, Came: listOf(c.Came, came), Went: listOf(c.Went, plain), Moved: listOf(c.Moved, moved), Worsened: listOf(c.Worsened, worsened),
		Files: listOf(c.Files, func(s record.Shift) shiftJSON { return shiftJSON(s) }), Rules: listOf(c.Rules, func(s record.Shift) shiftJSON { return shiftJSON(s) }),
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
		s.line("work: %s%s%s", workTime(c.CostBefore), s.arrow, workTime(c.Costs))
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
		t.add(plainCell(cmp.Or(x.Name, "none")), plainCell(strconv.Itoa(x.Before)), plainCell(strconv.Itoa(x.After)), cell{some(x.Came), s.signal}, cell{some(x.Went), s.zinc})
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

// listOf maps a slice, giving an empty array rather than null.
func listOf[A, B any](from []A, to func(A) B) []B {
	all := make([]B, len(from))
	for i, item := range from {
		all[i] = to(item)
	}
	return all
}

// RecordHeading writes when and of what a record is, for people.
func RecordHeading(w io.Writer, r record.Record) error {
	s := &screen{look: lookFor(w), w: w}
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "%s\n", s.faint.Render(fmt.Sprintf("record %s of %s (UTC), %s", r.ID, r.Time.Format(minuteForm), Safe(r.Repository))))
	if r.Apart > 0 {
		text := fmt.Sprintf("of %s, accepted or existing in files that the change leaves alone, only the number is kept", finding.Count(r.Apart))
		fmt.Fprintf(out, "%s\n", s.faint.Render(text))
	}
	return out.Flush()
}

// Pruned writes what was removed, or would be.
func Pruned(w io.Writer, records, reports int, bytes int64, rehearsal bool) error {
	word := "removed"
	if rehearsal {
		word = "would remove"
	}
	text := fmt.Sprintf("%s %s and %s", word, finding.CountOf(records, "record"), finding.CountOf(reports, "report"))
	if reports > 0 {
		text += fmt.Sprintf(" (%.1f MiB as stored)", float64(bytes)/(1<<20))
	}
	_, err := fmt.Fprintln(w, text)
	return err
}

// Imported writes what came of a past commit.
func Imported(w io.Writer, commit, subject string, findings int, known bool, problem string) error {
	s := &screen{look: lookFor(w), w: w}
	text, style := finding.Count(findings), s.zinc
	switch {
	case problem != "":
		text, style = "without", s.signal
	case known:
		text, style = "recorded before", s.faint
	}
	const room = 16
	s.line("%s  %s  %s", s.faint.Render(shortCommit(commit)), style.Render(fmt.Sprintf("%-*s", room, text)), truncate(Safe(subject), max(s.columns-room-14, 20), s.cut))
	if problem != "" {
		s.wrapped(strings.Repeat(" ", room+14), Safe(problem), s.faint)
	}
	return s.err
}
