package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

// screen writes a verdict for people. Errors of writing are kept and told once.
type screen struct {
	look
	Options
	w   io.Writer
	err error

	parted bool // the last line was empty, or there is none yet
}

// line prints a line; of several empty ones the first, and none before all others.
func (s *screen) line(format string, args ...any) {
	text := strings.TrimRight(fmt.Sprintf(format, args...), " ")
	if s.err == nil && (text != "" || !s.parted) {
		_, s.err = fmt.Fprintln(s.w, text)
	}
	s.parted = text == ""
}

func writeTerminal(w io.Writer, v judge.Verdict, o Options) error {
	s := &screen{look: lookFor(w), w: w, Options: o, parted: true}
	if o.Like != nil {
		s.look = lookFor(o.Like)
	}
	if o.Plain {
		return s.plainly(v)
	}
	if o.Brief && v.Outcome == judge.Open {
		s.briefly(v)
		return s.err
	}
	if !o.Quiet {
		s.findings(v)
		s.notices(v)
		s.evidence(v)
		s.limits(v)
		s.fixable(v)
	} else if v.Outcome == judge.Unjudged { // which nobody can do anything about without
		for _, e := range v.Evidence {
			if !e.Sound() && !e.Optional {
				s.unsound(e)
			}
		}
	}
	s.outcome(v)
	return s.err
}

// briefly reports an open door in a line, and each notice in one.
func (s *screen) briefly(v judge.Verdict) {
	for _, n := range v.Notices {
		text := []rune(Safe(n))
		if room := max(s.columns-indent, 20); len(text) > room {
			text = append(text[:room-1], '…')
		}
		s.bullet("note", string(text))
	}
	left := ""
	if v.Exception != nil {
		left = fmt.Sprintf(" (by an exception of %s; else %s)", Safe(v.Exception.By), v.Enforced)
	} else if v.Enforced != judge.Open {
		left = fmt.Sprintf(" (it only advises; enforced, it would be %s: call it without --hook to see why)", v.Enforced)
	}
	s.line("%s %s%s", s.zinc.bold().Render(s.open+" OPEN"), s.faint.Render(atDoor(v, describe(v.Subject))), left)
}

// atDoor says at which door something was judged, where it was at one.
func atDoor(v judge.Verdict, about string) string {
	if v.Door == "" {
		return about
	}
	return fmt.Sprintf("door %s: %s", Safe(v.Door), about)
}

// findings shows those that were asked for, in their groups, and of what is gone a line each.
func (s *screen) findings(v judge.Verdict) {
	chosen, left := s.choose(&v)
	for _, g := range s.groups(&v, chosen) {
		if g.name != "" {
			s.line("%s", s.zinc.Render(fmt.Sprintf("%s, %s", g.name, finding.Count(len(g.findings)))))
			s.line("")
		}
		s.files(&v, g.findings)
	}
	if len(s.Part) > 0 {
		s.bullet("part", fmt.Sprintf("only findings in %s are shown; the verdict counts all", Safe(strings.Join(s.Part, ", "))))
		s.line("")
	}
	if left > 0 {
		s.bullet("more", fmt.Sprintf("%s not shown; --show %s shows them all", finding.Count(left), s.shows()))
		s.line("")
	}
	if s.Show == ShowGone || s.Show == ShowAll {
		for _, e := range v.Gone {
			s.bullet("gone", strings.TrimSpace(placeOf(e)+"  "+Safe(e.Tool)+" "+Safe(e.Rule)+"  "+Safe(e.Message)))
		}
		if len(v.Gone) > 0 {
			s.line("")
		}
	}
}

// files shows findings under the names of their files: those that count with their code, what was set aside in a line.
func (s *screen) files(v *judge.Verdict, findings []int) {
	file := "\x00"
	for n, i := range findings {
		f := v.Findings[i]
		if f.Path != file {
			file = f.Path
			name := Safe(file)
			if file == "" {
				name = "(no file)"
			}
			s.line("%s", s.bold.Render(name))
		}
		if !s.Verbose && (f.Standing == judge.Accepted || f.Standing == judge.Waived || f.Severity == policy.Ignored) {
			s.oneLine(f)
			if n+1 == len(findings) || v.Findings[findings[n+1]].Path != file {
				s.line("")
			}
			continue
		}
		s.finding(f)
	}
}

// oneLine shows a finding that was set aside.
func (s *screen) oneLine(f judge.Finding) {
	state := string(f.Standing)
	if f.Severity == policy.Ignored {
		state = policy.Ignored
	}
	at := ""
	if f.Region.Line > 0 {
		at = fmt.Sprint(f.Region.Line)
	}
	lead := fmt.Sprintf("%*s %s ", indent-2, at, s.untouched)
	about := fmt.Sprintf("%s %s %s  %s", state, Safe(f.Severity), Safe(f.Rule), Safe(f.Message))
	s.line("%s%s", s.faint.Render(lead), truncate(about, max(s.columns-width(lead), 20), s.cut))
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
	for i, part := range Wrap(text, room) {
		lead := strings.Repeat(" ", indent)
		if i == 0 {
			lead = fmt.Sprintf("%-*s", indent, "  "+word)
		}
		s.line("%s%s", s.zinc.Render(lead), part)
	}
}

func (s *screen) evidence(v judge.Verdict) {
	for _, e := range v.Evidence {
		if e.Along && e.Findings == 0 && e.Sound() {
			continue // nobody asked
		}
		name := evidenceName(e)
		if e.Sound() {
			s.bullet(string(e.State), fmt.Sprintf("%s %s", name, s.faint.Render(aboutEvidence(e))))
			continue
		}
		s.unsound(e)
	}
	s.totals(v)
	s.own(v)
}

// unsound tells what is wrong with evidence, and what to do.
func (s *screen) unsound(e judge.Evidence) {
	style, aside := s.signal, ""
	if e.Optional {
		style, aside = s.zinc, s.faint.Render(" not needed at this door")
	}
	s.line("%s%s%s", style.Render(fmt.Sprintf("%-*s", indent, "  "+string(e.State))), s.bold.Render(evidenceName(e)), aside)
	s.wrapped(strings.Repeat(" ", indent), Safe(e.Problem), s.plain)
}

// asides tell what is behind the findings that were set aside.
var asides = map[judge.Standing]string{judge.Accepted: "in the baseline", judge.Waived: "by comments in the code, or by their tools"}

// totals counts the findings by their standings, and reports those set aside in a line each.
func (s *screen) totals(v judge.Verdict) {
	var counting []string
	counted := 0
	for _, standing := range judge.Standings {
		if n := v.Totals.By[standing]; n > 0 && asides[standing] == "" {
			counting = append(counting, fmt.Sprintf("%d %s", n, standing))
			counted += n
		}
	}
	if len(counting) > 0 {
		text := strings.Join(counting, ", ")
		list := ""
		if counted > len(v.Broken()) {
			list = s.List
		}
		switch hint := " (" + list + " lists them)"; {
		case list == "":
			s.bullet("total", text)
		case len(text)+len(hint) <= s.columns-indent:
			s.bullet("total", text+s.faint.Render(hint))
		default: // a call that is broken off can't be copied
			s.bullet("total", text+"; to list them:")
			s.line("%s%s", strings.Repeat(" ", indent), Safe(list))
		}
	}
	for _, standing := range judge.Standings {
		if n := v.Totals.By[standing]; n > 0 && asides[standing] != "" {
			s.bullet("aside", fmt.Sprintf("%d %s %s", n, standing, s.faint.Render(asides[standing])))
		}
	}
	if v.Totals.Ignored > 0 {
		s.bullet("aside", fmt.Sprintf("%d ignored %s", v.Totals.Ignored, s.faint.Render("by the policy")))
	}
	if v.Totals.Debt > 0 {
		s.bullet("cost", debtInWords(v.Totals))
	}
	if v.Totals.Gone > 0 {
		about := "no longer found (--show gone)"
		if v.OfList > 0 {
			about = "no longer found (--show gone; to drop them: zincdoor baseline sweep)"
		}
		s.bullet("gone", fmt.Sprintf("%d %s", v.Totals.Gone, s.faint.Render(about)))
	}
}

// placeOf is where an entry stands: its file, and its line where that is known.
func placeOf(e baseline.Entry) string {
	if e.Line == 0 {
		return Safe(e.Path)
	}
	return fmt.Sprintf("%s:%d", Safe(e.Path), e.Line)
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
			s.bullet("policy", "by this change: "+Safe(a.What))
		}
	}
	s.more("policy", shown)
	if shown > 0 && tighter {
		s.bullet("policy", "stricter than before")
	}
	if len(v.Acceptances) > 0 {
		s.bullet("accepts", "the change edits the baseline: "+editsOf(v.Acceptances))
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

// editsOf counts what a change makes of the baseline: "2 acceptances added, 1 altered".
func editsOf(all []judge.Acceptance) string {
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
	about := ""
	if e.Format == judge.SealedVerdict {
		return "sealed by " + Safe(e.Sealed)
	}
	if e.Format != "" && e.Format != e.Name {
		if about = e.Format; len(e.Forms) > 0 && !slices.Equal(e.Forms, []string{policy.GNU}) {
			about += " (" + strings.Join(e.Forms, ", ") + ")"
		}
		about += ", "
	}
	if e.Version != "" {
		about += Safe(e.Version) + ", "
	}
	if e.Sealed != "" {
		about += "sealed by " + Safe(e.Sealed) + ", "
	}
	switch {
	case e.Format == policy.Coverage, e.Format == measure.Tool:
		return about + files(e.Files)
	case e.Files > 0:
		about += fmt.Sprintf("asked about %d, ", e.Files)
	}
	about += finding.Count(e.Findings)
	switch n := len(e.Lost); {
	case n == 1:
		about += ", gave up " + Safe(e.Lost[0])
	case n > 1:
		about += fmt.Sprintf(", gave up %s and %d more", Safe(e.Lost[0]), n-1)
	}
	return about
}

func evidenceName(e judge.Evidence) string {
	if e.Name == "" {
		return "no report"
	}
	return Safe(e.Name)
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
		text := fmt.Sprintf("%s  %s", name, style.Render(bound(l)))
		if s.columns >= roomForBars {
			text = fmt.Sprintf("%s  %s %s", name, style.Render(s.bar(l)), style.Render(bound(l)))
		}
		if width(text)+width(advising) <= s.columns-indent {
			text, advising = text+s.faint.Render(advising), ""
		}
		s.line("%s%s", style.Render(fmt.Sprintf("  %-*s", indent-2, word)), truncate(text, s.columns-indent, s.cut))
		if advising != "" {
			s.wrapped(strings.Repeat(" ", indent), strings.TrimSpace(advising), s.faint)
		}
		if !l.Held && l.Say != "" {
			s.wrapped(strings.Repeat(" ", indent), Safe(l.Say), s.bold)
		}
	}
	s.line("")
}

const (
	barCells    = 8  // of a limit's bar
	roomForBars = 72 // columns of a terminal that has room for them
)

// bar shows how much of what a limit allows is used up: full when it allows no more.
func (s *screen) bar(l judge.LimitResult) string {
	cells := (used(l)*barCells + 99) / 100
	return strings.Repeat(s.full, cells) + strings.Repeat(s.empty, barCells-cells)
}

// fixable tells how much of what shut the door can be fixed by machine.
func (s *screen) fixable(v judge.Verdict) {
	if n := fixable(v); n > 0 && s.Fix != "" {
		s.bullet("fix", fmt.Sprintf("%d of the findings that shut it can be fixed:", n))
		s.line("%s%s", strings.Repeat(" ", indent), Safe(s.Fix))
		s.line("")
	}
}

// fixable counts what shut the door and comes with a fix.
func fixable(v judge.Verdict) (n int) {
	for _, i := range v.Shutting() {
		if f := v.Findings[i]; f.Place == change.OnTouched && len(f.Details().Fixes) > 0 {
			n++
		}
	}
	return n
}

// outcome is the last line: the answer and its reason.
func (s *screen) outcome(v judge.Verdict) {
	s.wrapped("  ", atDoor(v, circumstances(v)), s.faint)
	door, word, style := s.shut, "SHUT", s.signal
	switch v.Outcome {
	case judge.Open:
		door, word, style = s.open, "OPEN", s.zinc.bold()
	case judge.Unjudged:
		word = "CANNOT JUDGE"
	}
	for i, part := range Wrap(door+" "+word+" "+reason(v), s.columns) {
		if head := door + " " + word; i == 0 && strings.HasPrefix(part, head) {
			part = style.Render(head) + part[len(head):]
		}
		s.line("%s", part)
	}
}

// circumstances is what was judged, and by whose policy.
func circumstances(v judge.Verdict) string {
	about := describe(v.Subject)
	switch v.Origin.From {
	case "":
		return about
	case "built-in":
		about += ", built-in policy"
	default:
		about += ", policy of " + Safe(v.Origin.From)
	}
	if n := len(v.Origin.Inherits); n > 0 {
		about += ", on top of " + Safe(v.Origin.Inherits[n-1].Name)
		if n > 1 {
			about += fmt.Sprintf(" and %d more", n-1)
		}
	}
	return about
}

func describe(c judge.Subject) string {
	if c.Kind == string(policy.Push) && c.Head == "" { // of which nothing was judged
		return strings.TrimSuffix("push to "+Safe(strings.TrimPrefix(c.Ref, "refs/heads/")), " to ")
	}
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
		return "no evidence: " + strings.Join(names, ", ") + ""
	case v.Outcome == judge.Shut:
		return strings.Join(causes, "; ")
	case v.Exception != nil:
		return fmt.Sprintf("by an exception of %s; without it: %s", Safe(v.Exception.By), v.Enforced)
	case v.Enforced == judge.Shut:
		return "this door only advises; enforced, it would be shut: " + strings.Join(causes, "; ")
	}
	return "no limit is broken"
}
