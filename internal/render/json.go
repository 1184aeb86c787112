package render

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// The verdict/1 document. Its keys are a promise to scripts: some may be added within the version, none taken away or
// changed in meaning.
type (
	verdictJSON struct {
		Version     string           `json:"zincdoor"`
		Door        string           `json:"door"`
		Outcome     judge.Outcome    `json:"outcome"`
		Enforced    judge.Outcome    `json:"enforced"`
		Mode        string           `json:"mode"`
		Change      changeJSON       `json:"change"`
		Policy      policyJSON       `json:"policy"`
		Evidence    []evidenceJSON   `json:"evidence"`
		Totals      totalsJSON       `json:"totals"`
		Limits      []limitJSON      `json:"limits"`
		Findings    []findingJSON    `json:"findings"`
		Gone        []goneJSON       `json:"gone"`
		Acceptances []acceptanceJSON `json:"acceptances"`
		Waivers     []waiverJSON     `json:"waivers"`
		Teams       []teamJSON       `json:"teams"`
		Notices     []string         `json:"notices"`
	}
	changeJSON struct {
		Kind  string `json:"kind"`
		Ref   string `json:"ref"`
		Base  string `json:"base"`
		Head  string `json:"head"`
		Files int    `json:"files"`
	}
	policyJSON struct {
		From     string          `json:"from"`
		Digest   string          `json:"digest"`
		Inherits []inheritedJSON `json:"inherits"`
		Altered  []string        `json:"altered"` // by the change
	}
	inheritedJSON struct {
		Name   string `json:"name"`
		Digest string `json:"digest"`
	}
	evidenceJSON struct {
		Name     string      `json:"name"`
		Format   string      `json:"format"`
		Findings int         `json:"findings"`
		State    judge.State `json:"state"`
		Problem  string      `json:"problem"`
		Needed   bool        `json:"needed"`
	}
	teamJSON struct {
		Name    string `json:"name"`
		Contact string `json:"contact"`
	}
	totalsJSON struct {
		Findings  int `json:"findings"`
		New       int `json:"new"`
		Inherited int `json:"inherited"`
		Accepted  int `json:"accepted"`
		Worsened  int `json:"worsened"`
		Lapsed    int `json:"lapsed"`
		Waived    int `json:"waived"`
		Ignored   int `json:"ignored"`
		Gone      int `json:"gone"`
	}
	limitJSON struct {
		Name     string   `json:"name"`
		Count    string   `json:"count"`
		Severity string   `json:"severity"`
		Only     bool     `json:"only"`
		Most     int      `json:"most"`
		InForce  bool     `json:"in_force"`
		Kind     string   `json:"kind"`
		Found    int      `json:"found"`
		Held     bool     `json:"held"`
		Mode     string   `json:"mode"`
		Say      string   `json:"say"`
		Findings []string `json:"findings"`
	}
	findingJSON struct {
		ID          string         `json:"id"`
		Tool        string         `json:"tool"`
		Rule        string         `json:"rule"`
		Level       string         `json:"level"`
		Severity    string         `json:"severity"`
		Path        string         `json:"path"`
		Line        int            `json:"line"`
		Column      int            `json:"column"`
		EndLine     int            `json:"end_line"`
		Message     string         `json:"message"`
		Place       string         `json:"place"`
		Standing    judge.Standing `json:"standing"`
		Team        string         `json:"team"`
		Occurrences int            `json:"occurrences"`
		Sources     []string       `json:"sources"`
		Also        []alsoJSON     `json:"also,omitempty"`
		Help        string         `json:"help,omitempty"`
		Function    string         `json:"function,omitempty"`
		Suppressed  string         `json:"suppressed,omitempty"`

		// Of a worsened finding alone.
		Measure         json.Number `json:"measure,omitempty"`
		AcceptedMeasure json.Number `json:"accepted_measure,omitempty"`
	}
	alsoJSON struct {
		Tool     string         `json:"tool"`
		Rule     string         `json:"rule"`
		Message  string         `json:"message"`
		Severity string         `json:"severity"`
		Standing judge.Standing `json:"standing"`
	}
	acceptanceJSON struct {
		Change   string       `json:"change"`
		Tool     string       `json:"tool"`
		Rule     string       `json:"rule"`
		Path     string       `json:"path"`
		Message  string       `json:"message"`
		Why      baseline.Why `json:"why"`
		Reason   string       `json:"reason"`
		By       string       `json:"by"`
		Until    string       `json:"until"`
		Finding  string       `json:"finding"`
		Honoured bool         `json:"honoured"`
		Problem  string       `json:"problem"`
	}
	waiverJSON struct {
		Path     string   `json:"path"`
		Line     int      `json:"line"`
		Rules    []string `json:"rules"`
		Reason   string   `json:"reason"`
		Until    string   `json:"until"`
		Added    bool     `json:"added"`
		Findings []string `json:"findings"`
	}
	goneJSON struct {
		Tool    string `json:"tool"`
		Rule    string `json:"rule"`
		Path    string `json:"path"`
		Message string `json:"message"`
	}
)

// writeJSON writes the verdict as one line. The findings are written one by one: there may be millions.
func writeJSON(w io.Writer, v judge.Verdict) error {
	var document bytes.Buffer
	out := json.NewEncoder(&document)
	out.SetEscapeHTML(false)
	if err := out.Encode(documentOf(v)); err != nil {
		return err
	}
	head, tail, found := bytes.Cut(document.Bytes(), []byte(noFindings))
	if !found {
		return errors.New("the verdict's own document has no place for its findings")
	}
	to := bufio.NewWriterSize(w, 1<<16)
	to.Write(head)
	to.WriteString(`"findings":[`)
	var one bytes.Buffer
	out = json.NewEncoder(&one)
	out.SetEscapeHTML(false)
	for i := range v.Findings {
		if i > 0 {
			to.WriteByte(',')
		}
		one.Reset()
		if err := out.Encode(findingOf(&v.Findings[i])); err != nil {
			return err
		}
		to.Write(bytes.TrimSuffix(one.Bytes(), []byte("\n")))
	}
	to.WriteString(`],"gone":`)
	to.Write(tail)
	return to.Flush()
}

// noFindings is where the findings go in a document without any. No string of a document can hold it: its quotes would be
// escaped.
const noFindings = `"findings":null,"gone":`

// documentOf is the verdict without its findings.
func documentOf(v judge.Verdict) verdictJSON {
	return verdictJSON{
		Version: "verdict/1", Door: v.Door, Outcome: v.Outcome, Enforced: v.Enforced, Mode: string(v.Mode),
		Change: changeJSON(v.Subject),
		Policy: policyJSON{v.Origin.From, v.Origin.Digest, list(v.Origin.Inherits, func(i policy.Inherited) inheritedJSON { return inheritedJSON(i) }), list(v.Origin.Altered, func(a policy.Alteration) string { return a.What })},
		Evidence: list(v.Evidence, func(e judge.Evidence) evidenceJSON {
			return evidenceJSON{e.Name, e.Format, e.Findings, e.State, e.Problem, !e.Optional}
		}),
		Totals: totalsJSON{
			Findings: v.Totals.Findings, Ignored: v.Totals.Ignored, Gone: v.Totals.Gone,
			New: v.Totals.By[judge.New], Inherited: v.Totals.By[judge.Inherited], Accepted: v.Totals.By[judge.Accepted],
			Worsened: v.Totals.By[judge.Worsened], Lapsed: v.Totals.By[judge.Lapsed], Waived: v.Totals.By[judge.Waived],
		},
		Limits: list(v.Limits, func(l judge.LimitResult) limitJSON { return limitOf(l, v.Findings) }),
		Gone: list(v.Gone, func(e baseline.Entry) goneJSON {
			return goneJSON{e.Tool, e.Rule, e.Path, e.Message}
		}),
		Waivers: list(v.Waivers, func(w judge.WaiverUse) waiverJSON {
			same := func(s string) string { return s }
			return waiverJSON{w.Path, w.Line, list(w.Rules, same), w.Reason, w.Until, w.Added, list(w.Findings, same)}
		}),
		Acceptances: list(v.Acceptances, func(a judge.Acceptance) acceptanceJSON {
			e := a.Entry
			return acceptanceJSON{a.Change, e.Tool, e.Rule, e.Path, e.Message, e.Why, e.Reason, e.By, e.Until, a.Finding, a.Honoured, a.Problem}
		}),
		Teams:   list(v.Teams, func(t policy.Team) teamJSON { return teamJSON{t.Name, t.Contact} }),
		Notices: list(v.Notices, func(s string) string { return s }),
	}
}

// list maps a slice, giving an empty array rather than null.
func list[A, B any](from []A, to func(A) B) []B {
	all := make([]B, len(from))
	for i, item := range from {
		all[i] = to(item)
	}
	return all
}

// kindOf says what a limit's bound is.
func kindOf(l judge.LimitResult) string {
	switch {
	case l.NoGrowth:
		return "no-growth"
	case l.EachFile:
		return "each file"
	case l.PerLines > 0:
		return fmt.Sprintf("per %d lines", l.PerLines)
	}
	return "number"
}

func limitOf(l judge.LimitResult, findings []judge.Finding) limitJSON {
	broke := []string{}
	if !l.Held {
		broke = list(l.Findings, func(i int) string { return findings[i].ID })
	}
	return limitJSON{
		Name: l.Name, Count: string(l.Count), Severity: l.Severity, Only: l.Only, Most: l.Bound, Kind: kindOf(l), InForce: !l.Waiting,
		Found: l.Found, Held: l.Held, Mode: string(l.Mode), Say: l.Say, Findings: broke,
	}
}

func findingOf(f *judge.Finding) findingJSON {
	var also []alsoJSON
	for _, o := range f.Also {
		also = append(also, alsoJSON{o.Tool, o.Rule, o.Message, o.Severity, o.Standing})
	}
	return findingJSON{
		ID: f.ID, Tool: f.Tool, Rule: f.Rule, Level: string(f.Level), Severity: f.Severity,
		Path: f.Path, Line: f.Region.Line, Column: f.Region.Column, EndLine: f.Region.Last(),
		Message: f.Message, Place: string(f.Place), Standing: f.Standing, Team: f.Team,
		Occurrences: f.Occurrences, Sources: list(f.Sources, func(s string) string { return s }), Also: also,
		Help: f.Details().Help, Function: f.Details().Logical, Suppressed: suppression(f),
		Measure: json.Number(f.Measure), AcceptedMeasure: json.Number(f.AcceptedMeasure),
	}
}

// suppression is why the tool suppressed a finding, "" where it didn't.
func suppression(f *judge.Finding) string {
	if !f.Suppressed {
		return ""
	}
	return cmp.Or(f.Details().Justification, "by its tool")
}
