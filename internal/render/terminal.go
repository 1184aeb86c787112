package render

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// look is how a terminal shows things: greys of zinc, and one colour that says what shuts the door.
type look struct {
	plain, bold, faint, zinc, signal lipgloss.Style

	touched, untouched string // the gutter beside a line of code
	shut, open         string // the door
	cut, arrow         string // where something was left out; from a number to a greater one
	columns            int
}

const (
	defaultColumns = 100 // where output isn't a terminal
	leastColumns   = 40
	mostColumns    = 140 // beyond it lines get hard to read
)

func lookFor(w io.Writer) look {
	r := lipgloss.NewRenderer(w)
	l := look{
		plain: r.NewStyle(), bold: r.NewStyle().Bold(true), faint: r.NewStyle().Foreground(lipgloss.Color("243")),
		zinc: r.NewStyle().Foreground(lipgloss.Color("109")), signal: r.NewStyle().Bold(true).Foreground(lipgloss.Color("208")),
		touched: "┃", untouched: "┆", shut: "▐█▌", open: "▐ ▌", cut: "…", arrow: " → ", columns: defaultColumns,
	}
	if !unicodeLocale() {
		l.touched, l.untouched, l.shut, l.open, l.cut = "#", "|", "[#]", "[ ]", "..."
		l.arrow = " -> "
	}
	if f, ok := w.(*os.File); ok {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil {
			l.columns = columns
		}
	}
	l.columns = min(max(l.columns, leastColumns), mostColumns)
	return l
}

// unicodeLocale reports whether the environment says that characters beyond ASCII can be shown.
func unicodeLocale() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := strings.ToUpper(os.Getenv(name)); value != "" {
			return strings.Contains(value, "UTF-8") || strings.Contains(value, "UTF8")
		}
	}
	return false
}

func width(s string) int { return ansi.StringWidth(s) }

// screen writes a verdict for people. Errors of writing are kept and told once.
type screen struct {
	look
	Options
	w   io.Writer
	err error
}

func (s *screen) line(format string, args ...any) {
	if s.err == nil {
		_, s.err = fmt.Fprintln(s.w, strings.TrimRight(fmt.Sprintf(format, args...), " "))
	}
}

func writeTerminal(w io.Writer, v judge.Verdict, o Options) error {
	s := &screen{look: lookFor(w), w: w, Options: o}
	if o.Like != nil {
		s.look = lookFor(o.Like)
	}
	s.findings(v)
	s.notices(v)
	s.evidence(v)
	s.limits(v)
	s.outcome(v)
	return s.err
}

// findings shows those that broke a limit, by file, and where asked by team.
func (s *screen) findings(v judge.Verdict) {
	if !s.ByTeam {
		s.files(v, broken(v))
		return
	}
	of := map[string][]int{}
	for _, i := range broken(v) {
		of[v.Findings[i].Team] = append(of[v.Findings[i].Team], i)
	}
	for _, t := range append(slices.Clone(v.Teams), policy.Team{}) {
		if len(of[t.Name]) == 0 {
			continue
		}
		name := "no team"
		if t.Name != "" {
			name = "team " + strings.TrimSpace(Safe(t.Name)+" "+Safe(t.Contact))
		}
		s.line("%s", s.zinc.Render(fmt.Sprintf("%s, %s", name, finding.Count(len(of[t.Name])))))
		s.line("")
		s.files(v, of[t.Name])
	}
}

func (s *screen) files(v judge.Verdict, findings []int) {
	file := "\x00"
	for _, i := range findings {
		f := v.Findings[i]
		if f.Path != file {
			file = f.Path
			name := Safe(file)
			if file == "" {
				name = "(no file)"
			}
			s.line("%s", s.bold.Render(name))
		}
		s.finding(f)
	}
}

// broken lists, in order, the findings of broken limits: all of those that shut the door, and of a limit that only
// advises those that are the change's own doing.
func broken(v judge.Verdict) []int {
	var all []int
	for _, l := range v.Limits {
		for _, i := range l.Findings {
			f := v.Findings[i]
			own := f.Standing != judge.Accepted && f.Standing != judge.Inherited
			if !l.Held && !l.Waiting && (l.Limit.Mode == policy.Enforce || own) {
				all = append(all, i)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// indent is the width of what stands left of all text: line numbers and their gutter, or a word of state.
const indent = 10

func (s *screen) finding(f judge.Finding) {
	gutter := s.faint.Render(s.untouched)
	if f.Place == "touched" {
		gutter = s.signal.Render(s.touched)
	}
	blank := strings.Repeat(" ", indent-2)
	if text := s.Text(f.Path); text != nil && f.Region.Line > 0 {
		code, marks := s.excerpt(text.Line(f.Region.Line), f)
		s.line("%s %s %s", s.zinc.Render(fmt.Sprintf("%*d", indent-3, f.Region.Line)+" "), gutter, code)
		if marks != "" {
			s.line("%s %s %s", blank+"", gutter, s.signal.Render(marks))
		}
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
	s.line("%s %s %s%s  %s", blank, gutter, s.signal.Render(Safe(f.Severity)), rule, s.faint.Render(strings.Join(about, ", ")+"  "+f.ID))
	s.wrapped(blank+" "+gutter+" ", Safe(f.Message), s.plain)
	details := f.Details()
	for _, n := range details.Notes {
		s.wrapped(blank+" "+gutter+"   ", remark(f, n), s.faint)
	}
	if len(details.Flows) > 0 {
		steps := details.Flows[0]
		for i, step := range steps[:min(len(steps), mostSteps)] {
			s.wrapped(blank+" "+gutter+"   ", fmt.Sprintf("%d. %s", i+1, remark(f, step)), s.faint)
		}
		if more := len(steps) - mostSteps; more > 0 {
			s.wrapped(blank+" "+gutter+"   ", fmt.Sprintf("and %d steps more", more), s.faint)
		}
	}
	if len(details.Fixes) > 0 && details.Fixes[0].Description != "" {
		s.wrapped(blank+" "+gutter+"   ", "suggested: "+Safe(details.Fixes[0].Description), s.faint)
	}
	s.line("")
}

// mostSteps is how many steps of the way to a finding are shown.
const mostSteps = 12

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
		return "touched line"
	case f.Place == "file":
		return "untouched line"
	}
	return "file not in the change"
}

// wrapped prints text within the columns, each line after the lead.
func (s *screen) wrapped(lead, text string, style lipgloss.Style) {
	room := max(s.columns-width(lead), 20)
	for part := range strings.SplitSeq(ansi.Wrap(text, room, " /"), "\n") {
		s.line("%s%s", lead, style.Render(part))
	}
}

// excerpt gives a line of code and the marks under a finding's columns, cut to the room around the marks.
func (s *screen) excerpt(line string, f judge.Finding) (code, marks string) {
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
		code = s.cut + ansi.Cut(code, width(s.cut), width(code))
	}
	marks = strings.Repeat(" ", from-start) + "^" + strings.Repeat("~", to-from-1)
	return code, ansi.Truncate(marks, s.columns-indent-1, "")
}

// fit is the part of a line from a cell on that the screen has room for.
func (s *screen) fit(code string, start int) string {
	room := s.columns - indent - 1
	if width(code)-start <= room {
		return ansi.Cut(code, start, width(code))
	}
	return ansi.Cut(code, start, start+room-width(s.cut)) + s.cut
}

func (s *screen) notices(v judge.Verdict) {
	for _, n := range v.Notices {
		s.bullet("note", Safe(n))
	}
	if len(v.Notices) > 0 {
		s.line("")
	}
}

func (s *screen) bullet(word, text string) {
	room := max(s.columns-indent, 20)
	for i, part := range strings.Split(ansi.Wrap(text, room, " /"), "\n") {
		lead := strings.Repeat(" ", indent)
		if i == 0 {
			lead = fmt.Sprintf("%-*s", indent, "  "+word)
		}
		s.line("%s%s", s.zinc.Render(lead), part)
	}
}

func (s *screen) evidence(v judge.Verdict) {
	for _, e := range v.Evidence {
		name := evidenceName(e)
		if e.Sound() {
			s.bullet(string(e.State), fmt.Sprintf("%s %s", name, s.faint.Render(aboutEvidence(e))))
			continue
		}
		style, aside := s.signal, ""
		if e.Optional {
			style, aside = s.zinc, s.faint.Render(" not needed at this door")
		}
		s.line("%s%s%s", style.Render(fmt.Sprintf("%-*s", indent, "  "+string(e.State))), s.bold.Render(name), aside)
		s.wrapped(strings.Repeat(" ", indent), Safe(e.Problem), s.plain)
	}
	about := []string{}
	for _, standing := range judge.Standings {
		if n := v.Totals.By[standing]; n > 0 {
			about = append(about, fmt.Sprintf("%d %s", n, standing))
		}
	}
	if v.Totals.Ignored > 0 {
		about = append(about, fmt.Sprintf("%d ignored", v.Totals.Ignored))
	}
	if v.Totals.Gone > 0 {
		about = append(about, fmt.Sprintf("%d gone", v.Totals.Gone))
	}
	if len(about) > 0 {
		s.bullet("total", strings.Join(about, ", "))
	}
	s.own(v)
}

// mostOwn is how many waivers, and how many entries of the baseline, of the change's own are shown.
const mostOwn = 5

// own tells what the change sets aside for itself: waivers it adds, and what it makes of the baseline.
func (s *screen) own(v judge.Verdict) {
	shown := 0
	for _, w := range v.Waivers {
		if !w.Added {
			continue
		}
		if shown++; shown <= mostOwn {
			about := fmt.Sprintf("%s:%d  %s: %s", Safe(w.Path), w.Line, Safe(strings.Join(w.Rules, ", ")), Safe(w.Reason))
			if w.Until != "" {
				about += ", until " + Safe(w.Until)
			}
			s.bullet("waives", about)
		}
	}
	s.more("waives", shown)
	shown = 0
	tighter := true
	for _, a := range v.Origin.Altered {
		tighter = tighter && a.Tighter
		if shown++; shown <= mostOwn {
			s.bullet("policy", "the change alters "+Safe(a.What))
		}
	}
	s.more("policy", shown)
	if shown > 0 && tighter {
		s.bullet("policy", "which only tightens it")
	}
	if len(v.Acceptances) > 0 {
		s.bullet("accepts", "the change alters the baseline: "+offered(v.Acceptances))
	}
	shown = 0
	for _, a := range v.Acceptances {
		if shown++; shown > mostOwn {
			continue
		}
		about := fmt.Sprintf("%s  %s", a.Change, Entry(a.Entry))
		if a.Problem != "" {
			about += "  not honoured: " + Safe(a.Problem)
		}
		s.bullet("accepts", about)
	}
	s.more("accepts", shown)
}

func (s *screen) more(word string, shown int) {
	if shown > mostOwn {
		s.bullet(word, fmt.Sprintf("and %d more", shown-mostOwn))
	}
}

// offered counts what a change makes of the baseline: "2 acceptances added, 1 altered".
func offered(all []judge.Acceptance) string {
	var parts []string
	for _, kind := range []string{"added", "altered", "dropped"} {
		n := 0
		for _, a := range all {
			if a.Change == kind {
				n++
			}
		}
		switch {
		case n == 0:
		case len(parts) > 0:
			parts = append(parts, fmt.Sprintf("%d %s", n, kind))
		case n == 1:
			parts = append(parts, "1 acceptance "+kind)
		default:
			parts = append(parts, fmt.Sprintf("%d acceptances %s", n, kind))
		}
	}
	return strings.Join(parts, ", ")
}

// aboutEvidence tells how evidence was read, from which version of a tool, and what it holds.
func aboutEvidence(e judge.Evidence) string {
	if e.State == judge.Skipped {
		return "nothing for it"
	}
	about := e.Format + ", "
	if e.Version != "" {
		about += Safe(e.Version) + ", "
	}
	if e.Files > 0 {
		about += fmt.Sprintf("asked about %d, ", e.Files)
	}
	return about + finding.Count(e.Findings)
}

func evidenceName(e judge.Evidence) string {
	if e.Name == "" {
		return "no report"
	}
	return Safe(e.Name)
}

// bound tells what a limit counted and how many it bears.
func bound(l judge.LimitResult) string {
	switch {
	case l.Unknown:
		return fmt.Sprintf("%d, and no report of the state before", l.Found)
	case l.NoGrowth:
		return fmt.Sprintf("%d, before the change %d", l.Found, l.Bound)
	case l.EachFile:
		return fmt.Sprintf("%d in one file, at most %d", l.Found, l.Bound)
	}
	return fmt.Sprintf("%d, at most %d", l.Found, l.Bound)
}

// limits shows each limit with its count.
func (s *screen) limits(v judge.Verdict) {
	s.line("")
	widest := 0
	for _, l := range v.Limits {
		widest = max(widest, width(Safe(l.Name)))
	}
	for _, l := range v.Limits {
		word, style := "held", s.zinc
		if !l.Held {
			word, style = "broken", s.signal
		}
		if l.Unknown {
			word = "unknown"
		}
		advising := ""
		if l.Mode == policy.Advise {
			advising = "  only advises"
			if !l.Held {
				style = s.bold
			}
		}
		if l.Waiting {
			word, style, advising = "waits", s.faint, "  was in force until "+l.Until
			if l.From > v.Today {
				advising = "  in force from " + l.From
			}
		}
		name := Safe(l.Name) + strings.Repeat(" ", widest-width(Safe(l.Name)))
		s.line("%s%s  %s%s", style.Render(fmt.Sprintf("  %-*s", indent-2, word)), name,
			style.Render(bound(l)), s.faint.Render(advising))
		if !l.Held && l.Say != "" {
			s.wrapped(strings.Repeat(" ", indent), Safe(l.Say), s.bold)
		}
	}
	s.line("")
}

// outcome is the last line: the answer and its reason.
func (s *screen) outcome(v judge.Verdict) {
	where := fmt.Sprintf("%s: %s, policy of %s", Safe(v.Door), describe(v.Subject), Safe(v.Origin.From))
	if v.Origin.From == "built-in" {
		where = fmt.Sprintf("%s: %s, built-in policy", Safe(v.Door), describe(v.Subject))
	}
	if n := len(v.Origin.Inherits); n > 0 {
		where += ", laid over " + Safe(v.Origin.Inherits[n-1].Name)
		if n > 1 {
			where += fmt.Sprintf(" and %d more", n-1)
		}
	}
	s.line("%s", s.faint.Render("  door "+where))
	door, word, style := s.shut, "SHUT", s.signal
	switch v.Outcome {
	case judge.Open:
		door, word, style = s.open, "OPEN", s.zinc.Bold(true)
	case judge.Unjudged:
		word = "CANNOT JUDGE"
	}
	s.line("%s %s", style.Render(door+" "+word), s.plain.Render(reason(v)))
}

func describe(c judge.Subject) string {
	files := fmt.Sprintf("%d files", c.Files)
	if c.Files == 1 {
		files = "1 file"
	}
	switch {
	case c.Kind == string(policy.Tree):
		return "the whole tree"
	case c.Kind == string(policy.Push):
		return fmt.Sprintf("%s pushed to %s", files, Safe(strings.TrimPrefix(c.Ref, "refs/heads/")))
	case c.Kind == "branch":
		return fmt.Sprintf("%s since %s", files, Safe(c.Ref))
	case c.Ref != "":
		return fmt.Sprintf("%s in %s", files, Safe(c.Ref))
	}
	return fmt.Sprintf("%s, %s", c.Kind, files)
}

// reason says in a few words what decided.
func reason(v judge.Verdict) string {
	var causes []string
	for _, l := range v.Limits {
		if l.Shuts() {
			causes = append(causes, fmt.Sprintf("%s: %s", Safe(l.Name), bound(l)))
		}
	}
	switch {
	case v.Outcome == judge.Unjudged:
		var names []string
		for _, l := range v.Limits {
			if l.Unknown {
				names = append(names, "for "+Safe(l.Name))
			}
		}
		for _, e := range v.Evidence {
			if !e.Sound() && (!e.Optional || !slices.ContainsFunc(v.Evidence, judge.Evidence.Sound)) {
				names = append(names, evidenceName(e))
			}
		}
		return "no evidence: " + strings.Join(names, ", ") + "; what to do stands above"
	case v.Outcome == judge.Shut:
		return strings.Join(causes, "; ")
	case v.Enforced == judge.Shut:
		return "but it only advises; enforced, it would be shut: " + strings.Join(causes, "; ")
	}
	return "nothing stands in the way"
}
