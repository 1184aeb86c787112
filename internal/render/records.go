package render

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
)

// SVG is the format of a plot as a picture.
const SVG = "svg"

// The formats of what records say.
var (
	RecordFormats  = []string{Text, JSONLines, CSV}
	TrendFormats   = []string{Text, SVG, CSV, JSON}
	WorstFormats   = []string{Text, CSV, JSON}
	CompareFormats = []string{Text, JSON}
)

const minuteForm = "2006-01-02 15:04"

// recordLine is a record in a list for programs.
type recordLine struct {
	ID         string        `json:"id"`
	Time       time.Time     `json:"time"`
	Took       int64         `json:"took_ms"`
	Repository string        `json:"repository"`
	Door       string        `json:"door"`
	Outcome    judge.Outcome `json:"outcome"`
	Enforced   judge.Outcome `json:"enforced"`
	Mode       string        `json:"mode"`
	Kind       string        `json:"kind"`
	Ref        string        `json:"ref"`
	Branch     string        `json:"branch"`
	Base       string        `json:"base"`
	Head       string        `json:"head"`
	Tree       string        `json:"tree"`
	Policy     string        `json:"policy"`
	Findings   int           `json:"findings"`
	New        int           `json:"new"`
	Debt       int           `json:"debt"`
}

func lineOf(r record.Summary) recordLine {
	return recordLine{
		r.ID, r.Time, r.Took.Milliseconds(), r.Repository, r.Door, r.Outcome, r.Enforced, string(r.Mode), r.Kind, r.Ref, r.Branch, r.Base, r.Head, r.Tree, r.Policy,
		r.Findings, r.New, r.Debt,
	}
}

// Records lists records in a format, the newest last.
func Records(w io.Writer, format string, all []record.Summary) error {
	switch format {
	case JSONLines:
		out := json.NewEncoder(w)
		out.SetEscapeHTML(false)
		for _, r := range all {
			if err := out.Encode(lineOf(r)); err != nil {
				return err
			}
		}
		return nil
	case CSV:
		rows := [][]string{{"time", "id", "outcome", "door", "kind", "branch", "base", "head", "findings", "new", "debt", "took_ms"}}
		for _, r := range all {
			rows = append(rows, []string{
				r.Time.Format(time.RFC3339), r.ID, string(r.Outcome), r.Door, r.Kind, r.Branch, r.Base, r.Head, strconv.Itoa(r.Findings), strconv.Itoa(r.New), strconv.Itoa(r.Debt),
				strconv.FormatInt(r.Took.Milliseconds(), 10),
			})
		}
		return spreadsheet(w, rows)
	}
	s := &screen{look: lookFor(w), w: w}
	t := table{left: []bool{true, true, true, true, true, true}}
	t.row(s.faint, "time (UTC)", "record", "outcome", "door", "of", "commit", "findings", "new", "work")
	for _, r := range all {
		style := s.zinc
		if r.Outcome != judge.Open {
			style = s.signal
		}
		t.add(plainCell(r.Time.Format(minuteForm)), cell{text: r.ID, style: s.faint}, cell{text: string(r.Outcome), style: style}, plainCell(r.Door), plainCell(OfWhat(r)), cell{text: shortCommit(r.Head), style: s.faint},
			plainCell(strconv.Itoa(r.Findings)), plainCell(strconv.Itoa(r.New)), cell{text: someWork(r.Debt), style: s.faint})
	}
	t.write(s)
	s.line("")
	s.line("%s", finding.CountOf(len(all), "record"))
	return s.err
}

// OfWhat is what a record's verdict was of, for people.
func OfWhat(r record.Summary) string {
	switch {
	case r.Branch != "":
		return strings.TrimPrefix(r.Branch, "refs/heads/")
	case r.Kind == "branch":
		return "into " + r.Ref
	case r.Ref != "":
		ends := strings.Split(strings.TrimPrefix(r.Ref, "refs/heads/"), "..")
		for i, end := range ends {
			if len(end) >= 40 && strings.Trim(end, "0123456789abcdef") == "" {
				ends[i] = shortCommit(end)
			}
		}
		return strings.Join(ends, "..")
	}
	return r.Kind
}

func shortCommit(commit string) string { return commit[:min(len(commit), 10)] }

func someWork(minutes int) string {
	if minutes == 0 {
		return ""
	}
	return WorkTime(minutes)
}

func indented(w io.Writer, v any) error {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.SetIndent("", " ")
	return out.Encode(v)
}

// RecordHeading writes when and of what a record is, for people.
func RecordHeading(w io.Writer, r record.Record) error {
	s := &screen{look: lookFor(w), w: w}
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "%s\n", s.faint.Render(fmt.Sprintf("record %s of %s (UTC), %s", r.ID, r.Time.Format(minuteForm), Safe(r.Repository))))
	if r.Apart > 0 {
		text := fmt.Sprintf("of %s, accepted or existing in files that the change leaves alone, only the number is kept", finding.Count(r.Apart))
		fmt.Fprintf(out, "%s\n", s.faint.Render(text))
	}
	return out.Flush()
}

// Pruned writes what was removed, or would be.
func Pruned(w io.Writer, records, reports int, bytes int64, rehearsal bool) error {
	word := "removed"
	if rehearsal {
		word = "would remove"
	}
	text := fmt.Sprintf("%s %s and %s", word, finding.CountOf(records, "record"), finding.CountOf(reports, "report"))
	if reports > 0 {
		text += fmt.Sprintf(" (%.1f MiB as stored)", float64(bytes)/(1<<20))
	}
	_, err := fmt.Fprintln(w, text)
	return err
}

// Imported writes what came of a past commit.
func Imported(w io.Writer, commit, subject string, findings int, known bool, problem string) error {
	s := &screen{look: lookFor(w), w: w}
	text, style := finding.Count(findings), s.zinc
	switch {
	case problem != "":
		text, style = "without", s.signal
	case known:
		text, style = "recorded before", s.faint
	}
	const room = 16
	s.line("%s  %s  %s", s.faint.Render(shortCommit(commit)), style.Render(fmt.Sprintf("%-*s", room, text)), truncate(Safe(subject), max(s.columns-room-14, 20), s.cut))
	if problem != "" {
		s.wrapped(strings.Repeat(" ", room+14), Safe(problem), s.faint)
	}
	return s.err
}
