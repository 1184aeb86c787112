package render

import (
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
	Estimated bool                   `json:"estimated"`
}

// Measures writes numbers about code in a format. The rows are in the order in which they are shown.
func Measures(w io.Writer, format string, rows []measure.Row, o MeasureOptions) error {
	shown := rows
	if o.Worst > 0 && len(rows) > o.Worst {
		shown = rows[:o.Worst]
	}
	switch format {
	case JSON:
		list := []measureJSON{}
		for _, r := range shown {
			list = append(list, measureJSON{r.Path, r.Language, r.Function, r.Lines.First, r.Lines.Last, r.Numbers, r.Estimated})
		}
		return indented(w, list)
	case CSV:
		return spreadsheet(w, measureSheet(shown, o.Of))
	}
	s := &screen{look: lookFor(w), w: w}
	if len(rows) == 0 {
		s.line("nothing to measure: no file here is in a language that is known (%s)", strings.Join(measure.Languages(), ", "))
		return s.err
	}
	measureTable(shown, rows, o, s)
	s.line("")
	if n := len(rows) - len(shown); n > 0 {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more (--worst 0 for all)", n)))
	}
	if slices.ContainsFunc(shown, func(r measure.Row) bool { return r.Estimated }) {
		s.wrapped("", "~ estimated: the text alone doesn't tell all of it, where the preprocessor chooses between lines, or in languages whose signs have several meanings", s.faint)
	}
	if o.Aside > 0 {
		s.line("%s", s.faint.Render(files(o.Aside)+" left out that the policy skips or says are generated"))
	}
	if o.Other > 0 {
		s.line("%s", s.faint.Render(files(o.Other)+" left out in languages that aren't known"))
	}
	return s.err
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// measureSheet is a spreadsheet of the rows.
func measureSheet(rows []measure.Row, of measure.Scope) [][]string {
	head := map[measure.Scope][]string{
		measure.OfFunction: {"path", "line", "end_line", "function", "language"},
		measure.OfFile:     {"path", "language"},
		measure.OfAll:      {"language"},
	}[of]
	for _, number := range of.Numbers() {
		head = append(head, string(number))
	}
	sheet := [][]string{append(head, "estimated")}
	for _, r := range rows {
		line := []string{r.Language}
		switch of {
		case measure.OfFunction:
			line = []string{r.Path, strconv.Itoa(r.Lines.First), strconv.Itoa(r.Lines.Last), r.Function, r.Language}
		case measure.OfFile:
			line = []string{r.Path, r.Language}
		}
		for _, number := range of.Numbers() {
			line = append(line, strconv.Itoa(r.Numbers[number]))
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
	}
	for _, number := range o.Of.Numbers() {
		name := string(number)
		if heading, ok := headings[number]; ok {
			name = heading
		}
		names = append(names, name)
	}
	t.row(s.faint, names...)
	add := func(style style, r measure.Row, first ...string) {
		var cells []cell
		for _, text := range first {
			cells = append(cells, cell{text: text, style: style})
		}
		for _, number := range o.Of.Numbers() {
			c := cell{text: strconv.Itoa(r.Numbers[number]), style: style}
			if r.Estimated && (number == measure.NumberDecisions || number == measure.NumberNesting) {
				c.text = "~" + c.text
			}
			if number == o.By && style == s.plain {
				c.style = s.bold
			}
			cells = append(cells, c)
		}
		t.add(cells...)
	}
	for _, r := range shown {
		switch o.Of {
		case measure.OfFunction:
			add(s.plain, r, r.Function, fmt.Sprintf("%s:%d", r.Path, r.Lines.First))
		case measure.OfFile:
			add(s.plain, r, r.Path)
		default:
			add(s.plain, r, r.Language)
		}
	}
	if o.Of != measure.OfFunction && len(rows) > 1 {
		add(s.faint, measure.Sum(rows), "all "+strconv.Itoa(len(rows)))
	}
	t.write(s)
}
