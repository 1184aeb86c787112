package demo

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/recordfile"
)

// Name is what the repository is called in records.
const Name = "tideboard"

// HalfYearFile is where Remember leaves its records.
const HalfYearFile = "build/half-year.jsonl"

// weeks is how many weeks the made-up past has, from firstWeek on.
const weeks = 26

var firstWeek = time.Date(2026, 3, 30, 14, 5, 0, 0, time.UTC)

// HalfYearEnd is a day after the made-up half year.
var HalfYearEnd = firstWeek.AddDate(0, 0, 7*weeks)

// Remember writes the records of the made-up half year before the repository's first commit, as an export has them.
func (r *Repository) Remember() error {
	found, err := readHalfYear()
	if err != nil {
		return err
	}
	all, err := halfYear(Name, found)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	err = writeLines(&out, all)
	return errors.Join(err, r.write(HalfYearFile, out.Bytes()))
}

func writeLines(w io.Writer, all []*record.Record) error {
	for _, made := range all {
		line, err := recordfile.Line(made)
		if err != nil {
			return err
		}
		if _, err := w.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// Fleet are the operator's repositories, of all of which there are records of half a year.
var Fleet = []string{Name, "crewroster", "farebox", "harbourlog", "quayside", "timetable"}

// RememberFleet writes the records of all of the operator's repositories, as an export has them. What each of them had is part of what
// tideboard had, at other times.
func RememberFleet(w io.Writer) error {
	found, err := readHalfYear()
	if err != nil {
		return err
	}
	for n, name := range Fleet {
		var its []lasting
		for i, f := range found {
			if n > 0 && (i+n)%len(Fleet) < n {
				continue
			}
			f.from, f.to = max(f.from-n, 0), f.to+n*i%(3*n+1)
			its = append(its, f)
		}
		all, err := halfYear(name, its)
		if err == nil {
			err = writeLines(w, all)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// lasting is a finding, and the weeks that had it.
type lasting struct {
	finding.Finding
	from, to int
}

// halfYear makes the records of half a year: each week's push to main, judged by the demo's policy. What a week had is accepted in the
// next one.
func halfYear(name string, found []lasting) ([]*record.Record, error) {
	text, err := scenes.ReadFile("scenes/policy.yaml")
	if err != nil {
		return nil, err
	}
	file, err := policyfile.Read(policyfile.Text{Name: policy.Path, Data: text})
	if err != nil {
		return nil, err
	}
	door, _ := file.Policy.Door("push")
	in := judge.Input{Policy: file.Policy, Door: door, Origin: judge.Origin{From: "main"}}
	for _, report := range []string{"compiler", "farecheck", "boardcheck"} {
		in.Evidence = append(in.Evidence, judge.Evidence{Name: report, State: judge.Read, Covers: []baseline.Cover{{Tool: tools[report], Paths: []string{baseline.Everywhere}}}})
		in.Baseline = &baseline.Baseline{Covers: append(coversOf(in.Baseline), in.Evidence[len(in.Evidence)-1].Covers...)}
	}
	var all []*record.Record
	for week := range weeks {
		in.Findings = nil
		files := []change.File{{Path: "docs/tides.md", Status: change.Modified}}
		for _, f := range found {
			if f.from <= week && week <= f.to {
				in.Findings = append(in.Findings, f.Finding)
			}
			if (f.from == week || f.to == week-1) && f.Path != files[len(files)-1].Path {
				files = append(files, change.File{Path: f.Path, Status: change.Modified})
			}
		}
		in.Change = change.New(files, file.Policy.Place)
		in.Findings = finding.Merge(in.Findings)
		if week == 0 { // the past before it is accepted
			in.Baseline.Entries = entriesOf(in.Findings, file.Policy)
		}
		in.Today = firstWeek.AddDate(0, 0, 7*week).Format(time.DateOnly)
		in.Subject = judge.Subject{Kind: string(policy.Push), Ref: "refs/heads/main", Base: madeUp(name, week-1), Head: madeUp(name, week), Files: len(files)}
		made := record.Of(judge.Judge(in), "refs/heads/main", file.Policy)
		made.Repository, made.Imported = name, true
		made.Time, made.Took = firstWeek.AddDate(0, 0, 7*week).Add(time.Duration(week*37%240)*time.Minute), time.Duration(38+week*13%30)*time.Millisecond
		if err := recordfile.Name(&made); err != nil {
			return nil, err
		}
		all = append(all, &made)
		in.Baseline = &baseline.Baseline{Covers: in.Baseline.Covers, Entries: entriesOf(in.Findings, file.Policy)}
	}
	return all, nil
}

// tools are what the reports of the demo come from.
var tools = map[string]string{"compiler": "gcc", "farecheck": "farecheck", "boardcheck": "boardcheck"}

func coversOf(b *baseline.Baseline) []baseline.Cover {
	if b == nil {
		return nil
	}
	return b.Covers
}

func entriesOf(all []finding.Finding, p *policy.Policy) (entries []baseline.Entry) {
	for _, f := range all {
		entries = append(entries, p.EntryFor(f, p.Levels[f.Level]))
	}
	return entries
}

// madeUp is the id of a commit that never was.
func madeUp(name string, week int) string {
	sum := sha1.Sum([]byte(fmt.Sprintf("%s, week %d", name, week)))
	return hex.EncodeToString(sum[:])
}

// readHalfYear reads the findings: a line each, with the week that brought it, the last that had it, and what it is.
func readHalfYear() (all []lasting, err error) {
	data, err := scenes.ReadFile("scenes/half-year.txt")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		fields := strings.Split(strings.TrimSpace(line), "\t")
		if len(fields) != 8 {
			return nil, fmt.Errorf("half-year.txt: %q has %d fields", line, len(fields))
		}
		f := lasting{to: weeks}
		f.Finding = finding.Finding{Level: finding.Level(fields[2]), Tool: fields[3], Rule: fields[4], Path: fields[5], Message: fields[7], Occurrences: 1}
		if f.from, err = strconv.Atoi(fields[0]); err != nil {
			return nil, err
		}
		if fields[1] != "-" {
			if f.to, err = strconv.Atoi(fields[1]); err != nil {
				return nil, err
			}
		}
		if f.Region.Line, err = strconv.Atoi(fields[6]); err != nil {
			return nil, err
		}
		for report, tool := range tools {
			if tool == f.Tool {
				f.Sources = []string{report}
			}
		}
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b lasting) int { return finding.Order(a.Finding, b.Finding) })
	return all, nil
}
