package render

import (
	"cmp"
	"fmt"
	"strings"

	"zincdoor/internal/core/baseline"
)

// Entry tells an entry of the baseline in one line: where it is, what it is, and what it says.
func Entry(e baseline.Entry) string {
	at := cmp.Or(Safe(e.Path), "without a file")
	if e.Line > 0 {
		at += fmt.Sprintf(":%d", e.Line)
	}
	return at + "  " + about(e)
}

// EntryInFile is the same under the heading of its file.
func EntryInFile(e baseline.Entry) string {
	if e.Line > 0 {
		return fmt.Sprintf("line %d  %s", e.Line, about(e))
	}
	return about(e)
}

func about(e baseline.Entry) string {
	return strings.TrimSpace(fmt.Sprintf("%s %s  %s", Safe(e.Severity), Safe(cmp.Or(e.Rule, e.Tool)), Safe(e.Message)))
}

// Reasons tells in one line why a finding is accepted, by whom, and until when.
func Reasons(e baseline.Entry, today string) string {
	parts := []string{string(e.Why)}
	if e.Reason != "" {
		parts[0] += ": " + Safe(e.Reason)
	}
	who := strings.TrimSpace(Safe(e.By) + " " + e.On)
	if who != "" {
		parts = append(parts, who)
	}
	switch {
	case e.Lapsed(today):
		parts = append(parts, "lapsed since "+e.Until)
	case e.Until != "":
		parts = append(parts, "until "+e.Until)
	}
	if e.Link != "" {
		parts = append(parts, Safe(e.Link))
	}
	return strings.Join(parts, ", ")
}
