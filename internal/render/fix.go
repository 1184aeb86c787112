package render

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
)

// Fixed is what a call of fix did, or would do.
type Fixed struct {
	Rules         map[string]int // how many are fixed, by rule
	Linted        map[string]int // by rule: how many are on lines that linters alter by themselves
	Hunks         int            // how many pieces those alter
	None          map[string]int // by rule: nothing is suggested
	Left          []LeftOver
	Files         int
	Written       bool
	Before, After int // how many findings break a limit
	Untouched     int // lines beyond the change that are altered
	House         []finding.Finding
	Command       string // that writes it
}

// LeftOver is a suggestion that wasn't taken, and why.
type LeftOver struct {
	Finding judge.Finding
	Why     string
}

// Diff shows what a file becomes, as a unified diff.
func Diff(w io.Writer, path string, old, new []byte) error {
	s := &screen{look: lookFor(w), w: w}
	name := Safe(path)
	for line := range strings.Lines(udiff.Unified("a/"+name, "b/"+name, string(old), string(new))) {
		line = strings.TrimSuffix(line, "\n")
		text := line
		if len(line) > 0 {
			text = line[:1] + visible(line[1:])
		}
		switch {
		case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
			s.raw(s.bold.Render(text))
		case strings.HasPrefix(line, "+"):
			s.raw(s.zinc.Render(text))
		case strings.HasPrefix(line, "-"):
			s.raw(s.signal.Render(text))
		case strings.HasPrefix(line, "@@"):
			s.raw(s.faint.Render(text))
		default:
			s.raw(text)
		}
	}
	return s.err
}

// visible keeps tabs and makes the rest safe.
func visible(s string) string {
	parts := strings.Split(strings.TrimSuffix(s, "\r"), "\t")
	for i, part := range parts {
		parts[i] = Safe(part)
	}
	return strings.Join(parts, "\t")
}

// raw writes a line as it is, blanks at its end included: they may be what it is about.
func (s *screen) raw(line string) {
	if s.err == nil {
		_, s.err = io.WriteString(s.w, line+"\n")
	}
}

// Fix says what was done, what was left and why, and what comes next.
func Fix(w io.Writer, m Fixed) error {
	s := &screen{look: lookFor(w), w: w}
	if m.Files > 0 {
		s.line("")
	}
	if n := m.Hunks; n > 0 {
		s.bullet("fixes", finding.CountOf(n, "hunk")+" by linters")
	}
	s.byRule("fixes", m.Linted, " on these lines")
	s.byRule("fixes", m.Rules, "")
	const most = 10
	for i, l := range m.Left {
		if i == most {
			s.bullet("leaves", fmt.Sprintf("and %d more", len(m.Left)-most))
			break
		}
		s.bullet("leaves", fmt.Sprintf("%s %s: %s", Safe(place(l.Finding.Finding)), Safe(l.Finding.Rule), Safe(l.Why)))
	}
	s.byRule("leaves", m.None, ": no tool offers a fix")
	if m.Untouched > 0 {
		s.bullet("beware", fmt.Sprintf("%d lines outside of the change are edited", m.Untouched))
	}
	for _, f := range m.House {
		s.bullet("now", fmt.Sprintf("%s %s: %s", Safe(place(&f)), Safe(f.Rule), Safe(f.Message)))
	}
	switch {
	case m.Files == 0 && len(m.None)+len(m.Left) == 0:
		s.bullet("done", "there is nothing to fix")
	case m.Files == 0 && len(m.Left) > 0:
		s.bullet("done", "nothing is written")
	case m.Files == 0:
		s.bullet("done", "no tool offers a fix")
	case m.Written:
		s.bullet("written", fmt.Sprintf("%s; findings that break a limit: %d%s%d; to take it back: zincdoor fix --undo", finding.CountOf(m.Files, "file"), m.Before, s.arrow, m.After))
	default:
		s.bullet("next", fmt.Sprintf("nothing is written yet; findings that break a limit: %d%s%d with", m.Before, s.arrow, m.After))
		s.line("%s%s", strings.Repeat(" ", indent), m.Command)
	}
	return s.err
}

func (s *screen) byRule(word string, counts map[string]int, tail string) {
	var parts []string
	for _, rule := range slices.Sorted(maps.Keys(counts)) {
		parts = append(parts, fmt.Sprintf("%d %s", counts[rule], cmp.Or(Safe(rule), "without a rule")))
	}
	if len(parts) > 0 {
		s.bullet(word, strings.Join(parts, ", ")+tail)
	}
}
