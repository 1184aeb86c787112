package render

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
)

// indent is the width of what is to the left of all text: line numbers and their gutter, or a word of state.
const indent = 10

func (s *screen) finding(f judge.Finding) {
	gutter := s.faint.Render(s.untouched)
	if f.Place == "touched" {
		gutter = s.signal.Render(s.touched)
	}
	blank := strings.Repeat(" ", indent-2)
	lead := blank + " " + gutter + " "
	if text := s.text(f.Path); text != nil && f.Region.Line > 0 {
		s.around(f, text, -s.Context, -1)
		code, marks := s.excerpt(near(text.Line(f.Region.Line), *f.Finding))
		s.line("%s %s %s", s.zinc.Render(fmt.Sprintf("%*d", indent-3, f.Region.Line)+" "), gutter, code)
		if marks != "" {
			s.line("%s%s", lead, s.signal.Render(marks))
		}
		s.around(f, text, 1, max(s.Context, extent(f)))
	} else if f.Region.Line > 0 {
		s.line("%s %s", s.zinc.Render(fmt.Sprintf("%*d", indent-3, f.Region.Line)+" "), gutter)
	}
	about := []string{string(f.Standing), where(f), Safe(f.Tool)}
	if f.Standing == judge.Worsened {
		about[0] += " " + f.AcceptedMeasure + s.arrow + f.Measure
	}
	for _, o := range f.Also {
		about = append(about, "also "+strings.TrimSpace(Safe(o.Tool)+" "+Safe(o.Rule)))
	}
	if f.Occurrences > 1 {
		about = append(about, fmt.Sprintf("%d times", f.Occurrences))
	}
	rule := ""
	if f.Rule != "" {
		rule = " " + s.bold.Render(Safe(f.Rule))
	}
	s.wrapped(lead, fmt.Sprintf("%s%s  %s", s.signal.Render(Safe(f.Severity)), rule, s.faint.Render(strings.Join(about, ", ")+"  "+ids(f))), s.plain)
	s.wrapped(lead, Safe(f.Message), s.plain)
	s.details(lead+"  ", f)
	s.line("")
}

// mostExtent is how many further lines of a stretch are shown.
const mostExtent = 7

// extent is how many lines after its first one are shown of a finding that is about all of them.
func extent(f judge.Finding) int {
	if !f.OfLines() {
		return 0
	}
	return min(f.Region.Last()-f.Region.Line, mostExtent)
}

// around shows lines near a finding, each with whether it is of the change.
func (s *screen) around(f judge.Finding, text *source.Text, from, to int) {
	for n := f.Region.Line + from; n <= f.Region.Line+to; n++ {
		if n < 1 || n > text.Len() {
			continue
		}
		gutter := s.faint.Render(s.untouched)
		if s.Touched != nil && s.Touched(f.Path, n) {
			gutter = s.signal.Render(s.touched)
		}
		s.line("%s %s %s", s.faint.Render(fmt.Sprintf("%*d", indent-3, n)+" "), gutter, s.faint.Render(s.fit(strings.TrimRight(untab(clipBytes(text.Line(n), longestLine)), " "), 0)))
	}
}

// details shows what a tool adds to a finding; the way to it and the whole of what it suggests where these are asked for.
func (s *screen) details(lead string, f judge.Finding) {
	details := f.Details()
	for _, n := range details.Notes {
		s.wrapped(lead, remark(f, n), s.faint)
	}
	for n, steps := range details.Flows {
		if !s.Verbose {
			s.wrapped(lead, fmt.Sprintf("%d steps to it (--verbose)", len(steps)), s.faint)
			break
		}
		if len(details.Flows) > 1 {
			s.wrapped(lead, fmt.Sprintf("way %d of %d:", n+1, len(details.Flows)), s.faint)
		}
		for i, step := range steps[:min(len(steps), mostSteps)] {
			s.wrapped(lead, fmt.Sprintf("%d. %s", i+1, remark(f, step)), s.faint)
		}
		if more := len(steps) - mostSteps; more > 0 {
			s.wrapped(lead, fmt.Sprintf("and %d steps more", more), s.faint)
		}
	}
	if text := details.Suggested(); text != "" {
		s.wrapped(lead, "suggested: "+Safe(text), s.faint)
	}
	if s.Verbose && details.Help != "" {
		s.wrapped(lead, "help: "+Safe(details.Help), s.faint)
	}
}

// mostSteps is how many steps of the way to a finding are shown.
const mostSteps = 50

// remark is what a tool adds to a finding, with its place.
func remark(f judge.Finding, n finding.Remark) string {
	at := ""
	if n.Path != "" && n.Path != f.Path {
		at = Safe(n.Path) + ":"
	}
	if n.Region.Line > 0 {
		at += strconv.Itoa(n.Region.Line) + ": "
	}
	return at + Safe(n.Message)
}

func where(f judge.Finding) string {
	switch {
	case f.Path == "":
		return "no file"
	case f.Place == "touched":
		return "changed line"
	case f.Place == "file" && f.Region.Line == 0:
		return "changed file"
	case f.Place == "file":
		return "unchanged line"
	}
	return "unchanged file"
}

// wrapped prints text within the columns, each line after the lead.
func (s *screen) wrapped(lead, text string, style style) {
	room := max(s.columns-width(lead), 20)
	for _, part := range Wrap(text, room) {
		s.line("%s%s", lead, style.Render(part))
	}
}

// longestLine is how many bytes of a line are looked at to show it.
const longestLine = 4000

// near cuts a line that is very long down to what is around a finding on it, with the columns that the finding has there.
func near(line string, f finding.Finding) (string, finding.Finding) {
	if len(line) <= longestLine {
		return line, f
	}
	from := source.Offset(line, f.Region.Column, f.Columns)
	to := len(line)
	if f.Region.EndColumn > f.Region.Column {
		to = source.Offset(line, f.Region.EndColumn, f.Columns)
	}
	begin := max(0, from-longestLine/2)
	for begin < len(line) && !utf8.RuneStart(line[begin]) {
		begin++
	}
	mark := ""
	if begin > 0 {
		mark = "…"
	}
	if f.Region.Column > 0 {
		f.Columns, f.Region.Column, f.Region.EndColumn = source.Bytes, from-begin+len(mark)+1, to-begin+len(mark)+1
	}
	return mark + line[begin:min(begin+longestLine, len(line))], f
}

// excerpt gives a line of code and the marks under a finding's columns, cut to the room around the marks.
func (s *screen) excerpt(line string, f finding.Finding) (code, marks string) {
	code = strings.TrimRight(untab(line), " ")
	if f.Region.Column == 0 {
		return s.fit(code, 0), ""
	}
	from := width(untab(line[:source.Offset(line, f.Region.Column, f.Columns)]))
	to := from + 1
	switch {
	case f.Region.EndLine > f.Region.Line:
		to = width(code)
	case f.Region.EndColumn > f.Region.Column:
		to = width(untab(line[:source.Offset(line, f.Region.EndColumn, f.Columns)]))
	}
	to = max(min(to, width(code)), from+1)
	start := 0
	if room := s.columns - indent - 1; width(code) > room && to > room {
		start = max(0, min(from-room/3, width(code)-room))
	}
	code = s.fit(code, start)
	if start > 0 {
		code = s.cut + cut(code, width(s.cut), width(code))
	}
	marks = strings.Repeat(" ", from-start) + "^" + strings.Repeat("~", to-from-1)
	return code, truncate(marks, s.columns-indent-1, "")
}

// fit is the part of a line from a cell on that the screen has room for.
func (s *screen) fit(code string, start int) string {
	room := s.columns - indent - 1
	if width(code)-start <= room {
		return cut(code, start, width(code))
	}
	return cut(code, start, start+room-width(s.cut)) + s.cut
}
