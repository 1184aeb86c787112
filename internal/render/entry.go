package render

import (
	"cmp"
	"fmt"
	"io"
	"strconv"
	"strings"

	"zincdoor/internal/core/baseline"
)

// Entry tells an entry of the baseline in one line: where it is, what it is, and what it says.
func Entry(e baseline.Entry) string {
	at := cmp.Or(Safe(e.Path), "without a file")
	if e.Line > 0 {
		at += fmt.Sprintf(":%d", e.Line)
	}
	return strings.TrimSpace(fmt.Sprintf("%s  %s %s  %s", at, Safe(e.Severity), Safe(cmp.Or(e.Rule, e.Tool)), Safe(e.Message)))
}

// Entries lists entries of the baseline by file, each with its id and its reasons. Those of one file must follow one another,
// and those for which heading is the same, unless it is nil.
func Entries(w io.Writer, entries []baseline.Entry, ids []string, today string, heading func(baseline.Entry) string) error {
	s := &screen{look: lookFor(w), w: w}
	for i, e := range entries {
		begins := heading != nil && (i == 0 || heading(e) != heading(entries[i-1]))
		if begins {
			n := 1
			for i+n < len(entries) && heading(entries[i+n]) == heading(e) {
				n++
			}
			s.line("%s %s", s.zinc.Render(cmp.Or(Safe(heading(e)), "(none)")), s.faint.Render(strconv.Itoa(n)))
		}
		if i == 0 || begins || e.Path != entries[i-1].Path {
			s.line("%s", s.bold.Render(cmp.Or(Safe(e.Path), "without a file")))
		}
		line := ""
		if e.Line > 0 {
			line = fmt.Sprint(e.Line)
		}
		lead := strings.Repeat(" ", indent-1)
		s.line("%s %s %s", s.zinc.Render(fmt.Sprintf("%*s ", indent-3, line)), s.bold.Render(Safe(cmp.Or(e.Rule, e.Tool))), s.faint.Render(Safe(e.Severity)+"  "+ids[i]))
		s.wrapped(lead, Safe(e.Message), s.plain)
		style := s.faint
		if e.Expired(today) {
			style = s.signal
		}
		s.wrapped(lead, reasons(e, today), style)
		if i+1 < len(entries) && (entries[i+1].Path != e.Path || heading != nil && heading(entries[i+1]) != heading(e)) {
			s.line("")
		}
	}
	return s.err
}

// reasons tells in one line why a finding is accepted, by whom, and until when.
func reasons(e baseline.Entry, today string) string {
	parts := []string{string(e.Why)}
	if e.Reason != "" {
		parts[0] += ": " + Safe(e.Reason)
	}
	if who := strings.TrimSpace(Safe(e.By) + " " + e.On); who != "" {
		parts = append(parts, who)
	}
	switch {
	case e.Expired(today):
		parts = append(parts, "expired since "+e.Until)
	case e.Until != "":
		parts = append(parts, "until "+e.Until)
	}
	if e.Owner != "" {
		parts = append(parts, "owner "+Safe(e.Owner))
	}
	if e.Link != "" {
		parts = append(parts, Safe(e.Link))
	}
	return strings.Join(parts, ", ")
}
