package verdictfile

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	fast "github.com/go-json-experiment/json"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
)

// Read reads a document, and beside its own findings those of further arrays. What the document leaves out, a verdict that was
// read lacks: the end columns, the tags, the notes and the fixes of findings, which entry recognised one, what a limit that
// holds counted, and which files a report covers for its tools.
func Read(data []byte, arrays ...[]byte) (judge.Verdict, error) {
	var d struct {
		verdictJSON
		Findings json.RawMessage `json:"findings"`
	}
	if err := json.Unmarshal(data, &d); err != nil {
		return judge.Verdict{}, fmt.Errorf("it is no verdict: %w", err)
	}
	if d.Version != Version {
		return judge.Verdict{}, fmt.Errorf("it is no verdict of the form %s: it calls itself %q", Version, d.Version)
	}
	v := d.verdict()
	for _, array := range append([][]byte{d.Findings}, arrays...) {
		findings, err := ReadFindings(array)
		if err != nil {
			return v, err
		}
		v.Findings = append(v.Findings, findings...)
	}
	slices.SortStableFunc(v.Findings, func(a, b judge.Finding) int { return finding.Order(*a.Finding, *b.Finding) })
	at := make(map[string]int, len(v.Findings))
	for i := range v.Findings {
		at[v.Findings[i].ID] = i
	}
	for i := range v.Limits {
		for _, id := range d.Limits[i].Findings {
			if n, ok := at[id]; ok {
				v.Limits[i].Findings = append(v.Limits[i].Findings, n)
			}
		}
	}
	return v, nil
}

// ReadFindings reads an array of findings.
func ReadFindings(data []byte) ([]judge.Finding, error) {
	if len(data) == 0 {
		return nil, nil
	}
	var read []findingJSON
	if err := fast.Unmarshal(data, &read); err != nil {
		return nil, fmt.Errorf("its findings can't be read: %w", err)
	}
	findings, all := make([]finding.Finding, len(read)), make([]judge.Finding, len(read))
	for i := range read {
		all[i] = read[i].finding(&findings[i])
	}
	return all, nil
}

type findingJSON struct {
	ID          string          `json:"id"`
	Entry       string          `json:"entry"`
	Tool        string          `json:"tool"`
	Rule        string          `json:"rule"`
	Level       finding.Level   `json:"level"`
	Severity    string          `json:"severity"`
	Path        string          `json:"path"`
	Line        int             `json:"line"`
	Column      int             `json:"column"`
	EndLine     int             `json:"end_line"`
	Message     string          `json:"message"`
	Place       change.Place    `json:"place"`
	Standing    judge.Standing  `json:"standing"`
	Owner       string          `json:"owner"`
	Team        string          `json:"team"`
	Occurrences int             `json:"occurrences"`
	Sources     []string        `json:"sources"`
	Also        []findingJSON   `json:"also"`
	Help        string          `json:"help"`
	Function    string          `json:"function"`
	Suggestion  string          `json:"suggestion"`
	Suppressed  string          `json:"suppressed"`
	Measure     json.RawMessage `json:"measure"`
	Accepted    json.RawMessage `json:"accepted_measure"`
	Cost        int             `json:"cost"`
}

// finding fills in f, and gives it as the judgement has it.
func (d *findingJSON) finding(f *finding.Finding) judge.Finding {
	*f = finding.Finding{
		Tool: d.Tool, Rule: d.Rule, Level: d.Level, Message: d.Message, Path: d.Path, Occurrences: d.Occurrences, Sources: d.Sources,
		Region: finding.Region{Line: d.Line, Column: d.Column}, Suppressed: d.Suppressed != "",
	}
	if d.EndLine > d.Line {
		f.Region.EndLine = d.EndLine
	}
	if d.Help != "" || d.Function != "" || d.Suppressed != "" || d.Suggestion != "" {
		f.Extra = &finding.Details{Help: d.Help, Logical: d.Function, Justification: d.Suppressed, Suggestion: d.Suggestion}
	}
	j := judge.Finding{Finding: f, ID: d.ID, Place: d.Place, Severity: d.Severity, Team: d.Team, Cost: d.Cost}
	j.Owner = cmp.Or(d.Owner, d.Team)
	j.Standing, j.EntryID, j.Measure, j.AcceptedMeasure = d.Standing, d.Entry, number(d.Measure), number(d.Accepted)
	for i := range d.Also {
		j.Also = append(j.Also, d.Also[i].finding(&finding.Finding{}))
	}
	return j
}

// number is a number as it was written; as a text where JSON doesn't take it for one.
func number(raw json.RawMessage) string {
	if text, err := strconv.Unquote(string(raw)); err == nil {
		return text
	}
	return string(raw)
}

// verdict is the document's verdict without its findings.
func (d *verdictJSON) verdict() judge.Verdict {
	v := judge.Verdict{
		Subject: judge.Subject(d.Change), Door: d.Door, Mode: policy.Mode(d.Mode), Today: d.Today, Outcome: d.Outcome, Enforced: d.Enforced,
		Origin: judge.Origin{
			From: d.Policy.From, Digest: d.Policy.Digest,
			Inherits: ListOf(d.Policy.Inherits, func(i inheritedJSON) policy.Inherited { return policy.Inherited(i) }),
			Altered:  ListOf(d.Policy.Altered, func(s string) policy.Alteration { return policy.Alteration{What: s} }),
		},
		Evidence: ListOf(d.Evidence, func(e evidenceJSON) judge.Evidence {
			read := judge.Evidence{Name: e.Name, Format: e.Format, Findings: e.Findings, State: e.State, Problem: e.Problem, Optional: !e.Needed, Version: e.Version, Files: e.Files, Forms: e.Forms, Lost: e.Lost, Sealed: e.Sealed}
			for _, tool := range e.Tools { // which files of it aren't said
				read.Covers = append(read.Covers, baseline.Cover{Tool: tool, Paths: []string{baseline.Everywhere}})
			}
			return read
		}),
		Limits: ListOf(d.Limits, limitJSON.result),
		Gone: ListOf(d.Gone, func(g goneJSON) baseline.Entry {
			return baseline.Entry{Tool: g.Tool, Rule: g.Rule, Path: g.Path, Message: g.Message, Line: g.Line}
		}),
		Waivers: ListOf(d.Waivers, func(w waiverJSON) judge.WaiverUse {
			return judge.WaiverUse{Waiver: waiver.Waiver{Path: w.Path, Line: w.Line, Rules: w.Rules, Reason: w.Reason, Until: w.Until}, Added: w.Added, Findings: w.Findings}
		}),
		Acceptances: ListOf(d.Acceptances, func(a acceptanceJSON) judge.Acceptance {
			e := baseline.Entry{Tool: a.Tool, Rule: a.Rule, Path: a.Path, Message: a.Message, Why: a.Why, Reason: a.Reason, By: a.By, Until: a.Until}
			return judge.Acceptance{Entry: e, Change: a.Change, Finding: a.Finding, Honoured: a.Honoured, Problem: a.Problem}
		}),
		Teams:   ListOf(d.Teams, func(t teamJSON) policy.Team { return policy.Team{Name: t.Name, Contact: t.Contact} }),
		Notices: d.Notices, Ladder: d.Ladder, Totals: d.totals(),
	}
	v.OfList, v.Exception = len(v.Gone), (*judge.Exception)(d.Exception)
	return v
}

func (l limitJSON) result() judge.LimitResult {
	r := judge.LimitResult{Bound: l.Most, Found: l.Found, Held: l.Held, Waiting: !l.InForce, Unknown: l.Unknown, Mode: policy.Mode(l.Mode)}
	r.Limit = policy.Limit{Name: l.Name, Most: l.Most, NoGrowth: l.Kind == "no-growth", EachFile: l.Kind == "each file", Say: l.Say, Mode: r.Mode}
	r.Limit.Severity, r.Limit.Exact = l.Severity, l.Exact
	if lines, ok := strings.CutPrefix(l.Kind, "per "); ok {
		r.PerLines, _ = strconv.Atoi(strings.TrimSuffix(lines, " lines"))
	}
	if c := judge.Counted(l.Count); slices.Contains([]judge.Counted{judge.Acceptances, judge.WaiversMade}, c) {
		r.Counted = c
	} else if m := l.Measured; m != nil {
		r.Limit.NoGrowth, r.Limit.Paths, r.Limit.Teams = false, m.Paths, m.Teams
		r.Limit.Demand = &policy.Demand{Number: m.Measure, Of: m.Of, Share: m.Unit == unitPercent, NotWorse: l.Kind == policy.NoGrowth || l.Kind == policy.NoDrop, Tolerance: m.Tolerance, Bound: m.Bound}
		r.Measured = &judge.Measured{Number: m.Number, Bound: m.Bound, Lines: m.Lines, Worst: m.Worst, Items: m.Items, Estimated: m.Estimated, Alone: !m.Excepted}
	} else {
		r.Count = policy.Count(l.Count)
	}
	return r
}

func (d *verdictJSON) totals() judge.Totals {
	t := judge.Totals{Findings: d.Totals.Findings, Ignored: d.Totals.Ignored, Gone: d.Totals.Gone, By: d.Totals.by(), DebtBy: map[judge.Standing]int{}}
	if d.Debt != nil {
		t.Debt, t.DebtBy = d.Debt.All, d.Debt.by()
	}
	return t
}

func (s standingsJSON) by() map[judge.Standing]int {
	all := map[judge.Standing]int{
		judge.New: s.New, judge.Existing: s.Existing, judge.Accepted: s.Accepted, judge.Worsened: s.Worsened, judge.Expired: s.Expired, judge.Waived: s.Waived,
	}
	for standing, n := range all {
		if n == 0 {
			delete(all, standing)
		}
	}
	return all
}
