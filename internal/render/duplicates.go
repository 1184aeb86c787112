package render

import (
	"fmt"
	"io"
	"slices"
	"strconv"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/measure"
)

// DuplicateOptions say how duplicated code is shown.
type DuplicateOptions struct {
	Worst   int  // how many are shown; 0 for all
	Counted int  // how many lines could be duplicates
	Touched bool // these are lines that a change touches
}

type copiedJSON struct {
	Path         string `json:"path"`
	Line         int    `json:"line"`
	EndLine      int    `json:"end_line"`
	Lines        int    `json:"lines"` // with code, of a change those that it touches
	OtherPath    string `json:"other_path"`
	OtherLine    int    `json:"other_line"`
	OtherEndLine int    `json:"other_end_line"`
}

// Duplicates writes duplicated code in a format, what is longest first, and of two places that are each other's copy one.
func Duplicates(w io.Writer, format string, all []measure.Copied, o DuplicateOptions) error {
	lines := 0
	for _, c := range byFile(all) {
		lines += measure.Copies(c).Count()
	}
	all = onceEach(all)
	slices.SortStableFunc(all, func(a, b measure.Copied) int { return b.Code.Count() - a.Code.Count() })
	shown := first(all, o.Worst)
	switch format {
	case JSON:
		list := []copiedJSON{}
		for _, c := range shown {
			list = append(list, copiedJSON{c.Path, c.Lines.First, c.Lines.Last, c.Code.Count(), c.Other, c.There.First, c.There.Last})
		}
		return indented(w, list)
	case CSV:
		sheet := [][]string{{"path", "line", "end_line", "lines", "other_path", "other_line", "other_end_line"}}
		for _, c := range shown {
			sheet = append(sheet, []string{c.Path, strconv.Itoa(c.Lines.First), strconv.Itoa(c.Lines.Last), strconv.Itoa(c.Code.Count()), c.Other, strconv.Itoa(c.There.First), strconv.Itoa(c.There.Last)})
		}
		return spreadsheet(w, sheet)
	}
	s := &screen{look: lookFor(w), w: w}
	what := map[bool]string{true: "changed lines", false: "lines"}[o.Touched]
	if o.Counted == 0 {
		s.line("no %s with code in a language that is known", what)
		return s.err
	}
	share := measure.NumberDuplicated.Share(measure.Parts{Part: lines, Whole: o.Counted})
	s.line("%s of %d %s are duplicates: %s", s.bold.Render(strconv.Itoa(lines)), o.Counted, what, s.bold.Render(fmt.Sprintf("%.1f%%", share)))
	if len(shown) == 0 {
		return s.err
	}
	s.line("")
	t := table{left: []bool{false, true, true}}
	t.row(s.faint, "lines", "at", "and at")
	for _, c := range shown {
		t.add(plainCell(strconv.Itoa(c.Code.Count())), plainCell(placeText(c.Path, c.Lines)), plainCell(placeText(c.Other, c.There)))
	}
	t.write(s)
	if n := len(all) - len(shown); n > 0 {
		s.line("")
		s.unshown(n)
	}
	return s.err
}

func placeText(path string, lines change.Span) string {
	return fmt.Sprintf("%s:%d-%d", path, lines.First, lines.Last)
}

func byFile(all []measure.Copied) map[string][]measure.Copied {
	files := map[string][]measure.Copied{}
	for _, c := range all {
		files[c.Path] = append(files[c.Path], c)
	}
	return files
}

// onceEach leaves out what another copy leads to that is led to by it.
func onceEach(all []measure.Copied) (left []measure.Copied) {
	meets := func(a, b change.Span) bool { return a.First <= b.Last && b.First <= a.Last }
	seen := map[string][]measure.Copied{} // by the file that they lead to
	for _, c := range all {
		if !slices.ContainsFunc(seen[c.Path], func(o measure.Copied) bool {
			return o.Path == c.Other && meets(o.Lines, c.There) && meets(o.There, c.Lines)
		}) {
			left = append(left, c)
			seen[c.Other] = append(seen[c.Other], c)
		}
	}
	return left
}
