package render

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/spelling"
	"zincdoor/internal/verdictfile"
)

// List says how findings are listed without a verdict.
type List struct {
	Fields  []string
	Sort    []string // fields, one with a - before it backwards
	CountBy string
	Group   string // one of Groups; "" for no headings
	Unique  bool
	Null    bool
	Context bool // the line of each finding is shown with it
	Format  string
}

// The formats of lists, beside those that verdicts have.
const (
	Text      = "text"
	JSONLines = "jsonl" // an object a line
	CSV       = "csv"
)

// ListFormats are how findings can be listed.
var ListFormats = []string{Text, JSON, JSONLines, CSV, SARIF}

// field is something of a finding that can be asked for. Those that are numbers are sorted as such.
type field struct {
	name   string
	number bool
	of     func(f *judge.Finding) string
}

// fields are all that can be asked for, in the order of a spreadsheet.
var fields = []field{
	{"path", false, func(f *judge.Finding) string { return f.Path }},
	{"line", true, func(f *judge.Finding) string { return strconv.Itoa(f.Region.Line) }},
	{"column", true, func(f *judge.Finding) string { return strconv.Itoa(f.Region.Column) }},
	{"end_line", true, func(f *judge.Finding) string { return strconv.Itoa(f.Region.Last()) }},
	{"severity", false, func(f *judge.Finding) string { return f.Severity }},
	{"rule", false, func(f *judge.Finding) string { return f.Rule }},
	{"message", false, func(f *judge.Finding) string { return f.Message }},
	{"standing", false, func(f *judge.Finding) string { return string(f.Standing) }},
	{"place", false, func(f *judge.Finding) string { return string(f.Place) }},
	{"tool", false, func(f *judge.Finding) string { return f.Tool }},
	{"team", false, func(f *judge.Finding) string { return f.Team }},
	{"owner", false, func(f *judge.Finding) string { return f.Owner }},
	{"level", false, func(f *judge.Finding) string { return string(f.Level) }},
	{"id", false, func(f *judge.Finding) string { return f.ID }},
	{"entry", false, func(f *judge.Finding) string { return f.EntryID }},
	{"occurrences", true, func(f *judge.Finding) string { return strconv.Itoa(f.Occurrences) }},
	{"cost", true, func(f *judge.Finding) string { return strconv.Itoa(f.Cost) }},
	{"sources", false, func(f *judge.Finding) string { return strings.Join(f.Sources, ",") }},
	{"tags", false, func(f *judge.Finding) string { return strings.Join(f.Weight().Tags, ",") }},
	{"word", false, wordOf},
	{"help", false, func(f *judge.Finding) string { return f.Details().Help }},
}

// wordOf is the word that a finding about spelling is about, "" for any other one.
func wordOf(f *judge.Finding) string {
	if f.Tool != house.Tool || f.Rule != spelling.Rule {
		return ""
	}
	_, rest, _ := strings.Cut(f.Message, `"`)
	word, _, _ := strings.Cut(rest, `"`)
	return word
}

// FieldOwner is the field of who is to put a finding right. Of some findings only git knows.
const FieldOwner = "owner"

// Asks reports whether a list shows a field, or goes by it.
func (l List) Asks(field string) bool {
	return l.CountBy == field || slices.Contains(l.Fields, field) || slices.ContainsFunc(l.Sort, func(name string) bool { return strings.TrimPrefix(name, "-") == field })
}

// FieldNames lists the names of all fields.
func FieldNames() []string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.name
	}
	return names
}

func fieldOf(name string) *field {
	if i := slices.IndexFunc(fields, func(f field) bool { return f.name == name }); i >= 0 {
		return &fields[i]
	}
	return nil
}

// Check complains of what can't be listed.
func (l List) Check() error {
	names := slices.Clone(l.Fields)
	for _, name := range l.Sort {
		names = append(names, strings.TrimPrefix(name, "-"))
	}
	if l.CountBy != "" {
		names = append(names, l.CountBy)
	}
	for _, name := range names {
		if fieldOf(name) == nil {
			return fmt.Errorf("a finding has no field %q; it has %s", name, strings.Join(FieldNames(), ", "))
		}
	}
	switch {
	case !slices.Contains(ListFormats, l.Format):
		return fmt.Errorf("--format is one of %s, not %q", strings.Join(ListFormats, ", "), l.Format)
	case l.Group != "" && !slices.Contains(Groups, l.Group):
		return fmt.Errorf("--group is one of %s, not %q", strings.Join(Groups, ", "), l.Group)
	case l.Group != "" && (l.Format != Text || len(l.Fields) > 0 || l.CountBy != "" || l.Unique || l.Null):
		return fmt.Errorf("--group is for people to read: it goes with no --fields, --count-by, --unique, --null or other format")
	case l.Format == SARIF && (len(l.Fields) > 0 || l.CountBy != "" || l.Unique):
		return fmt.Errorf("--format sarif has whole findings: it goes with no --fields, --count-by or --unique")
	case l.Context && (l.Format != Text || len(l.Fields) > 0 || l.CountBy != "" || l.Unique || l.Null):
		return fmt.Errorf("--context is for people to read: it goes with no --fields, --count-by, --unique, --null or other format")
	case l.CountBy != "" && len(l.Fields) > 0:
		return fmt.Errorf("--count-by and --fields don't go together")
	case l.CountBy != "" && (l.Format == JSON || l.Format == JSONLines):
		return fmt.Errorf("--count-by is listed as text or csv")
	case l.Null && l.Format == JSON:
		return fmt.Errorf("--null goes with --format text or jsonl")
	}
	return nil
}

// Write lists the findings of a verdict.
func (l List) Write(w io.Writer, v judge.Verdict, o Options) error {
	l.sort(v.Findings)
	switch {
	case l.CountBy != "":
		return l.count(w, v.Findings)
	case l.Format == SARIF:
		return writeSARIF(w, v, o)
	case l.Format == CSV:
		return l.spreadsheet(w, v.Findings)
	case l.Format == JSON:
		return l.array(w, v.Findings)
	case l.Format == JSONLines:
		return l.lines(w, v.Findings, l.object)
	case len(l.Fields) > 0:
		return l.lines(w, v.Findings, func(f *judge.Finding) string {
			return strings.Join(l.row(f, l.Fields, func(s string) string { return l.safe(s) }), "\t")
		})
	}
	return l.people(w, v, o)
}

// safe makes a field fit for a line. Between NULs nothing need be altered.
func (l List) safe(s string) string {
	if l.Null {
		return s
	}
	return Safe(s)
}

func (l List) row(f *judge.Finding, names []string, as func(string) string) []string {
	row := make([]string, len(names))
	for i, name := range names {
		row[i] = as(fieldOf(name).of(f))
	}
	return row
}

func (l List) sort(all []judge.Finding) {
	if len(l.Sort) == 0 {
		return
	}
	slices.SortStableFunc(all, func(a, b judge.Finding) int {
		for _, name := range l.Sort {
			f := fieldOf(strings.TrimPrefix(name, "-"))
			x, y := f.of(&a), f.of(&b)
			by := strings.Compare(x, y)
			if f.number {
				m, _ := strconv.Atoi(x)
				n, _ := strconv.Atoi(y)
				by = cmp.Compare(m, n)
			}
			if strings.HasPrefix(name, "-") {
				by = -by
			}
			if by != 0 {
				return by
			}
		}
		return 0
	})
}

// lines writes a text for each finding, each text once where that is asked for.
func (l List) lines(w io.Writer, all []judge.Finding, text func(f *judge.Finding) string) error {
	out := bufio.NewWriter(w)
	end := byte('\n')
	if l.Null {
		end = 0
	}
	seen := map[string]bool{}
	for i := range all {
		line := text(&all[i])
		if l.Unique && seen[line] {
			continue
		}
		seen[line] = l.Unique
		out.WriteString(line)
		out.WriteByte(end)
	}
	return out.Flush()
}

// people writes a line for people for each finding.
func (l List) people(w io.Writer, v judge.Verdict, o Options) error {
	s := &screen{look: lookFor(cmp.Or(o.Like, w)), w: w}
	if l.Group == "" {
		return l.lines(w, v.Findings, func(f *judge.Finding) string { return s.listed(f, 0, true) + l.context(s, f, o) })
	}
	if o.Group = Group(l.Group); o.Group == ByFile {
		o.Group = byPath
	}
	all := make([]int, len(v.Findings))
	for i := range all {
		all[i] = i
	}
	for n, g := range o.groups(&v, all) {
		if n > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s %s\n", s.bold.Render(g.name), s.faint.Render(finding.Count(len(g.findings))))
		for _, i := range g.findings {
			f := &v.Findings[i]
			if _, err := fmt.Fprintf(w, "  %s%s\n", s.listed(f, 2, o.Group != ByTeam), l.context(s, f, o)); err != nil {
				return err
			}
		}
	}
	return nil
}

// context is the line that a finding stands on, below it, where that is asked for.
func (l List) context(s *screen, f *judge.Finding, o Options) string {
	text := o.text(f.Path)
	if !l.Context || text == nil || f.Region.Line == 0 || !text.Holds(f.Region.Line) {
		return ""
	}
	return "\n    " + s.faint.Render(s.fit(strings.TrimSpace(untab(clipBytes(text.Line(f.Region.Line), longestLine))), 0))
}

// listed is a finding in a line for people, indented by so many columns, with its team where that isn't said elsewhere.
func (s *screen) listed(f *judge.Finding, indented int, team bool) string {
	about := []string{string(f.Standing)}
	if f.Place != "touched" {
		about = append(about, where(*f))
	}
	if f.Team != "" && team {
		about = append(about, Safe(f.Team))
	}
	line := fmt.Sprintf("%s  %s %s  %s", s.bold.Render(cmp.Or(Safe(place(f.Finding)), "(no file)")), s.zinc.Render(Safe(f.Severity)), Safe(f.Rule), Safe(f.Message))
	tail := s.faint.Render("  " + strings.Join(about, ", ") + "  " + ids(*f))
	if s.live {
		line = truncate(line, max(s.columns-width(tail)-indented, 30), s.cut)
	}
	return line + tail
}

func (l List) spreadsheet(w io.Writer, all []judge.Finding) error {
	names := l.Fields
	if len(names) == 0 {
		names = FieldNames()
	}
	out := csv.NewWriter(w)
	if err := out.Write(names); err != nil {
		return err
	}
	seen := map[string]bool{}
	for i := range all {
		row := l.row(&all[i], names, spreadsheetText)
		if key := strings.Join(row, "\x00"); l.Unique {
			if seen[key] {
				continue
			}
			seen[key] = true
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// flagName is the name of a rule that begins with a dash. It stays as it is, for programs that read the list.
var flagName = pattern.Of(`^-[A-Za-z][\w=+-]*$`)

// spreadsheetText makes text one that a spreadsheet doesn't take for a formula that does something.
func spreadsheetText(s string) string {
	if strings.TrimLeft(s, "=+-@\t\r") != s && !flagName.MatchString(s) {
		s = "'" + s
	}
	return Safe(s)
}

// object is a finding as a JSON object: whole as the verdict has it, or the fields that are asked for.
func (l List) object(f *judge.Finding) string {
	if len(l.Fields) == 0 {
		return string(verdictfile.AppendFinding(nil, f))
	}
	m := verdictfile.Object(nil)
	for _, name := range l.Fields {
		field := fieldOf(name)
		if n, err := strconv.Atoi(field.of(f)); err == nil && field.number {
			m.Number(name, n)
		} else {
			m.Text(name, field.of(f))
		}
	}
	return string(m.End())
}

// array writes findings as a JSON array, an object a line.
func (l List) array(w io.Writer, all []judge.Finding) error {
	out := bufio.NewWriter(w)
	out.WriteString("[")
	seen := map[string]bool{}
	for i := range all {
		object := l.object(&all[i])
		if l.Unique && seen[object] {
			continue
		}
		seen[object] = l.Unique
		if i > 0 {
			out.WriteByte(',')
		}
		out.WriteByte('\n')
		out.WriteString(object)
	}
	out.WriteString("\n]\n")
	return out.Flush()
}

// count counts findings by a field, most first.
func (l List) count(w io.Writer, all []judge.Finding) error {
	of := fieldOf(l.CountBy).of
	counts := map[string]int{}
	for i := range all {
		counts[of(&all[i])]++
	}
	names := make([]string, 0, len(counts))
	for name := range counts {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	if l.Format == CSV {
		out := csv.NewWriter(w)
		out.Write([]string{l.CountBy, "count"})
		for _, name := range names {
			out.Write([]string{spreadsheetText(name), strconv.Itoa(counts[name])})
		}
		out.Flush()
		return out.Error()
	}
	wide := len(strconv.Itoa(len(all)))
	for _, name := range names {
		if _, err := fmt.Fprintf(w, "%*d  %s\n", wide, counts[name], cmp.Or(Safe(name), "(none)")); err != nil {
			return err
		}
	}
	return nil
}
