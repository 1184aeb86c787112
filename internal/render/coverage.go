package render

import (
	"cmp"
	"fmt"
	"io"
	"strconv"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/source"
)

// CoverOptions say how coverage is shown.
type CoverOptions struct {
	Of      measure.Scope
	Worst   int      // how many are shown; 0 for all
	Touched bool     // the lines are those that a change touches
	Notices []string // what people should know of how the coverage files were read

	Text func(path string) *source.Text // gives the files of a change, of which the uncovered lines are shown
}

type coveredJSON struct {
	Path        string   `json:"path,omitempty"`
	Language    string   `json:"language"`
	Function    string   `json:"function,omitempty"`
	Line        int      `json:"line,omitempty"`
	EndLine     int      `json:"end_line,omitempty"`
	Counted     int      `json:"counted"`
	Covered     int      `json:"covered"`
	Uncovered   [][2]int `json:"uncovered"`
	Unmentioned bool     `json:"unmentioned"`
}

// Coverage writes how much is covered in a format. The rows are in the order in which they are shown.
func Coverage(w io.Writer, format string, rows []measure.CoveredRow, o CoverOptions) error {
	shown := first(rows, o.Worst)
	switch format {
	case JSON:
		list := []coveredJSON{}
		for _, r := range shown {
			stretches := [][2]int{}
			for _, l := range r.Uncovered {
				stretches = append(stretches, [2]int{l.First, l.Last})
			}
			list = append(list, coveredJSON{r.Path, r.Language, r.Function, r.Lines.First, r.Lines.Last, r.Counted, r.Covered.Covered, stretches, r.Unmentioned})
		}
		return indented(w, list)
	case CSV:
		sheet := [][]string{{"path", "function", "language", "counted", "covered", "share", "uncovered"}}
		for _, r := range shown {
			sheet = append(sheet, []string{r.Path, r.Function, r.Language, strconv.Itoa(r.Counted), strconv.Itoa(r.Covered.Covered), strconv.FormatFloat(r.Share(), 'f', 1, 64), stretches(r.Uncovered, " ")})
		}
		return spreadsheet(w, sheet)
	}
	s := &screen{look: lookFor(w), w: w}
	coverTable(shown, rows, o, s)
	return s.err
}

// stretches are the lines from each first to last.
func stretches(all []change.Span, between string) string {
	texts := make([]string, len(all))
	for i, l := range all {
		if texts[i] = strconv.Itoa(l.First); l.Last > l.First {
			texts[i] += "-" + strconv.Itoa(l.Last)
		}
	}
	return strings.Join(texts, between)
}

func coverTable(shown, rows []measure.CoveredRow, o CoverOptions, s *screen) {
	what, sum := "lines", measure.SumCovered(rows)
	if o.Touched {
		what = "changed lines"
	}
	if sum.Counted == 0 {
		s.line("no %s that can be covered", what)
	} else {
		s.line("%s of %d %s covered: %s", s.bold.Render(strconv.Itoa(sum.Covered)), sum.Counted, what, s.bold.Render(percent(sum)))
		s.line("")
	}
	t := table{left: []bool{true, true, false, false, false, true}}
	name := map[measure.Scope]string{measure.OfFunction: "function", measure.OfAll: "language"}[o.Of]
	t.row(s.faint, cmp.Or(name, "file"), map[bool]string{true: "at"}[o.Of == measure.OfFunction], "covered", "of", "share", "not covered")
	for _, r := range shown {
		style := s.plain
		if r.Counted > r.Covered.Covered {
			style = s.signal
		}
		lines := stretches(r.Uncovered, ", ")
		if r.Unmentioned {
			lines = "no coverage file mentions it"
		}
		at := ""
		if r.Function != "" {
			at = fmt.Sprintf("%s:%d", r.Path, r.Lines.First)
		}
		t.add(plainCell(cmp.Or(r.Function, r.Path, r.Language)), plainCell(at), plainCell(strconv.Itoa(r.Covered.Covered)), plainCell(strconv.Itoa(r.Counted)), cell{text: percent(r.Covered), style: style}, plainCell(lines))
	}
	if len(rows) > 0 {
		t.write(s)
	}
	if n := len(rows) - len(shown); n > 0 {
		s.line("")
		s.unshown(n)
	}
	if o.Of == measure.OfTouched {
		s.uncovered(shown, o.Text)
	}
	for _, notice := range o.Notices {
		s.line("")
		s.wrapped("", Safe(notice), s.faint)
	}
}

// mostUncovered is how many uncovered lines are shown with their code.
const mostUncovered = 40

// uncovered shows the lines that no test came to, file by file.
func (s *screen) uncovered(rows []measure.CoveredRow, textOf func(path string) *source.Text) {
	left := 0
	for shown := 0; len(rows) > 0; rows = rows[1:] {
		r := rows[0]
		text := textOf(r.Path)
		if text == nil || r.Unmentioned {
			continue
		}
		for i, l := range r.Uncovered {
			if i == 0 && shown < mostUncovered {
				s.line("")
				s.line("%s", s.bold.Render(Safe(r.Path)))
			}
			for n := l.First; n <= l.Last; n++ {
				if shown++; shown > mostUncovered {
					left++
					continue
				}
				code := s.fit(strings.TrimRight(untab(clipBytes(text.Line(n), longestLine)), " "), 0)
				s.line("%s %s %s", s.zinc.Render(fmt.Sprintf("%*d", indent-3, n)+" "), s.signal.Render(s.touched), code)
			}
		}
	}
	if left > 0 {
		s.line("%s", s.faint.Render(fmt.Sprintf("and %d more lines", left)))
	}
}

// percent is a share that is whole only where all or nothing is covered.
func percent(c measure.Covered) string {
	switch share := c.Share(); {
	case share == 100 || share == 0:
		return fmt.Sprintf("%.0f%%", share)
	case share > 99.9:
		return "99.9%"
	default:
		return fmt.Sprintf("%.1f%%", share)
	}
}
