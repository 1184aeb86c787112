package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/measure"
)

// MeasureFormats are the formats of numbers about code.
var MeasureFormats = []string{Text, CSV, JSON}

// MeasureOptions say how numbers about code are shown.
type MeasureOptions struct {
	Of    measure.Scope
	By    measure.Number
	Worst int // how many are shown; 0 for all
	Other int // files that were left out, since their languages aren't known
	Aside int // files that were left out by the policy

	Change bool // the rows are those of a change
}

// headings are what columns are called whose numbers have other names.
var headings = map[measure.Number]string{measure.NumberCode: "with code"}

type measureJSON struct {
	Path      string                 `json:"path,omitempty"`
	Language  string                 `json:"language"`
	Function  string                 `json:"function,omitempty"`
	Line      int                    `json:"line,omitempty"`
	EndLine   int                    `json:"end_line,omitempty"`
	Numbers   map[measure.Number]int `json:"numbers"`
	Before    map[measure.Number]int `json:"before,omitempty"`
	Estimated bool                   `json:"estimated"`
}

// Measures writes numbers about code in a format. The rows are in the order in which they are shown.
func Measures(w io.Writer, format string, rows []measure.Row, o MeasureOptions) error {
	shown := first(rows, o.Worst)
	switch format {
	case JSON:
		list := []measureJSON{}
		for _, r := range shown {
			list = append(list, measureJSON{r.Path, r.Language, r.Function, r.Lines.First, r.Lines.Last, r.Numbers, r.Before, r.Estimated})
		}
		return indented(w, list)
	case CSV:
		return spreadsheet(w, measureSheet(shown, o))
	}
	s := &screen{look: lookFor(w), w: w}
	if len(rows) == 0 && o.Change {
		s.line("nothing to measure: the change alters no %s in a language that is known", map[bool]string{true: "function", false: "file"}[o.Of == measure.OfFunction])
		return s.err
	}
	if len(rows) == 0 && o.Of == measure.OfTouched {
		s.line("nothing to measure: the change touches no line in a language that is known")
		return s.err
	}
	if len(rows) == 0 {
		s.line("nothing to measure: no file here is in a language that is known (%s)", strings.Join(measure.Languages(), ", "))
		return s.err
	}
	measureTable(shown, rows, o, s)
	s.line("")
	s.unshown(len(rows) - len(shown))
	if slices.ContainsFunc(shown, func(r measure.Row) bool { return r.Estimated }) {
		s.wrapped("", "~ estimated: the text alone doesn't tell all of it, where the preprocessor chooses between lines, or in languages whose signs have several meanings", s.faint)
	}
	if o.Aside > 0 {
		s.line("%s", s.faint.Render(files(o.Aside)+" left out that the policy skips or says are generated"))
	}
	if o.Other > 0 {
		s.line("%s", s.faint.Render(files(o.Other)+" left out that are in no language that is known"))
	}
	return s.err
}

// first are the first of some rows, all of them where most is 0.
func first[row any](rows []row, most int) []row {
	if most == 0 {
		return rows
	}
	return rows[:min(most, len(rows))]
}

// unshown says how many rows aren't shown.
func (s *screen) unshown(n int) {
	if n > 0 {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more (--worst 0 for all)", n)))
	}
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// measureSheet is a spreadsheet of the rows.
func measureSheet(rows []measure.Row, o MeasureOptions) [][]string {
	of := o.Of
	head := map[measure.Scope][]string{
		measure.OfFunction: {"path", "line", "end_line", "function", "language"},
		measure.OfFile:     {"path", "language"},
		measure.OfTouched:  {"path", "language"},
		measure.OfAll:      {"language"},
	}[of]
	for _, number := range of.Numbers() {
		head = append(head, string(number))
	}
	if o.Change {
		for _, number := range of.Numbers() {
			head = append(head, string(number)+"_before")
		}
	}
	sheet := [][]string{append(head, "estimated")}
	for _, r := range rows {
		line := []string{r.Language}
		switch of {
		case measure.OfFunction:
			line = []string{r.Path, strconv.Itoa(r.Lines.First), strconv.Itoa(r.Lines.Last), r.Function, r.Language}
		case measure.OfFile, measure.OfTouched:
			line = []string{r.Path, r.Language}
		}
		for _, number := range of.Numbers() {
			line = append(line, strconv.Itoa(r.Numbers[number]))
		}
		for _, number := range of.Numbers() {
			switch before, known := r.Before[number]; {
			case known:
				line = append(line, strconv.Itoa(before))
			case o.Change:
				line = append(line, "")
			}
		}
		sheet = append(sheet, append(line, strconv.FormatBool(r.Estimated)))
	}
	return sheet
}

// measureTable writes the rows as a table, with the sum of all where there are several.
func measureTable(shown, rows []measure.Row, o MeasureOptions, s *screen) {
	t := table{left: []bool{true}}
	names := []string{string(o.Of)}
	switch o.Of {
	case measure.OfFunction:
		t.left, names = []bool{true, true}, []string{"function", "at"}
	case measure.OfAll:
		names = []string{"language"}
	case measure.OfTouched:
		names = []string{"file"}
	}
	for _, number := range o.Of.Numbers() {
		name := string(number)
		if heading, ok := headings[number]; ok {
			name = heading
		}
		names, t.left = append(names, name, ""), append(t.left, false, true)
	}
	t.row(s.faint, append(names, "")...)
	for _, r := range shown {
		first := []cell{plainCell(cmp.Or(r.Function, r.Path, r.Language))}
		if r.Function != "" {
			first = append(first, plainCell(fmt.Sprintf("%s:%d", r.Path, r.Lines.First)))
		}
		cells := append(first, s.numbers(r, o, s.plain)...)
		if o.Change && r.Before == nil {
			cells = append(cells, cell{text: "new", style: s.signal})
		} else {
			cells = append(cells, cell{})
		}
		t.add(cells...)
	}
	if o.Of != measure.OfFunction && len(rows) > 1 {
		t.add(append(append([]cell{{text: "all " + strconv.Itoa(len(rows)), style: s.faint}}, s.numbers(measure.Sum(rows), o, s.faint)...), cell{})...)
	}
	t.write(s)
}

// numbers are the cells of a row's numbers, each with how much more or less it is than before.
func (s *screen) numbers(r measure.Row, o MeasureOptions, style style) (cells []cell) {
	for _, number := range o.Of.Numbers() {
		c := cell{text: strconv.Itoa(r.Numbers[number]), style: style}
		if r.Estimated && (number == measure.NumberDecisions || number == measure.NumberNesting) {
			c.text = "~" + c.text
		}
		if number == o.By && r.Path != "" {
			c.style = s.bold
		}
		grown := cell{style: s.zinc}
		if by, known := r.Growth(number); known && by != 0 {
			if grown.text = fmt.Sprintf("%+d", by); by > 0 {
				grown.style = s.signal
			}
		}
		cells = append(cells, c, grown)
	}
	return cells
}
