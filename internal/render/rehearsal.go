package render

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"zincdoor/internal/core/judge"
)

// Rehearsals writes what two policies say of past changes, in a format.
func Rehearsals(w io.Writer, format string, all []judge.Rehearsal) error {
	if format == JSON {
		return rehearsalJSON(w, all)
	}
	s := &screen{look: lookFor(w), w: w}
	const commit, outcome = 10, 9
	s.line("%s", s.faint.Render(fmt.Sprintf("%-*s  %-*s  %-*s  %s", commit, "commit", outcome, "now", outcome, "new", "change, and what makes the difference")))
	for _, r := range all {
		words, styles := [2]string{"-", "-"}, [2]func(string) string{s.faint.Render, s.faint.Render}
		for i, v := range []*judge.Verdict{r.Now, r.New} {
			if v == nil {
				continue
			}
			words[i], styles[i] = string(v.Outcome), s.zinc.Render
			if v.Outcome != judge.Open {
				styles[i] = s.signal.Render
			}
		}
		room := max(s.columns-commit-2*outcome-6, 20)
		s.line("%s  %s  %s  %s", s.faint.Render(r.Commit[:commit]), styles[0](fmt.Sprintf("%-*s", outcome, words[0])),
			styles[1](fmt.Sprintf("%-*s", outcome, words[1])), truncate(Safe(r.Subject), room, s.cut))
		lead := strings.Repeat(" ", commit+2*outcome+6)
		if r.Problem != "" {
			s.wrapped(lead, Safe(r.Problem), s.faint)
		}
		for _, d := range differences(r) {
			s.wrapped(lead, d, s.bold)
		}
	}
	s.line("")
	s.line("%s", summary(all))
	return s.err
}

// differences tells which limits shut the door by one policy alone, and what is missing by one alone.
func differences(r judge.Rehearsal) (all []string) {
	if !r.Differs() {
		if r.New != nil && r.New.Outcome == judge.Unjudged {
			all = append(all, strings.Join(missing(*r.New), "; "))
		}
		return all
	}
	for _, side := range []struct {
		name     string
		of, than *judge.Verdict
	}{{"now", r.Now, r.New}, {"new", r.New, r.Now}} {
		if side.of.Outcome == judge.Unjudged {
			all = append(all, side.name+": "+strings.Join(missing(*side.of), "; "))
		}
		for _, l := range side.of.ShutsAlone(side.than) {
			all = append(all, fmt.Sprintf("%s: %s: %s", side.name, Safe(l.Name), bound(l)))
		}
	}
	return all
}

// missing tells what a verdict lacked to be one.
func missing(v judge.Verdict) (all []string) {
	for _, l := range v.Limits {
		if l.Unknown {
			all = append(all, fmt.Sprintf("%s: %s", Safe(l.Name), bound(l)))
		}
	}
	for _, e := range v.Evidence {
		if !e.Sound() && !e.Optional {
			all = append(all, fmt.Sprintf("%s: %s", evidenceName(e), Safe(e.Problem)))
		}
	}
	return all
}

func summary(all []judge.Rehearsal) string {
	judged, alike, alone := 0, 0, 0
	turned := map[judge.Outcome]int{}
	for _, r := range all {
		switch {
		case r.Differs():
			turned[r.New.Outcome]++
			judged++
		case r.Now != nil && r.New != nil:
			alike++
			judged++
		case r.New != nil:
			alone++
			judged++
		}
	}
	text := fmt.Sprintf("%d of %d changes judged: %d alike", judged, len(all), alike)
	for _, outcome := range []judge.Outcome{judge.Shut, judge.Open, judge.Unjudged} {
		if n := turned[outcome]; n > 0 {
			text += fmt.Sprintf(", %d newly %s", n, outcome)
		}
	}
	if alone > 0 {
		text += fmt.Sprintf(", %d by the new policy alone", alone)
	}
	return text
}

func rehearsalJSON(w io.Writer, all []judge.Rehearsal) error {
	type row struct {
		Commit      string   `json:"commit"`
		Subject     string   `json:"subject"`
		Now         string   `json:"now"` // an outcome, "" where it couldn't be judged
		New         string   `json:"new"`
		Problem     string   `json:"problem"`
		Differences []string `json:"differences"`
	}
	rows := []row{}
	for _, r := range all {
		one := row{Commit: r.Commit, Subject: r.Subject, Problem: r.Problem, Differences: append([]string{}, differences(r)...)}
		if r.Now != nil {
			one.Now = string(r.Now.Outcome)
		}
		if r.New != nil {
			one.New = string(r.New.Outcome)
		}
		rows = append(rows, one)
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(rows)
}
