package verdictfile

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/inorder"
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
		Today       string           `json:"today"`
		Ladder      []string         `json:"ladder"` // worst first
		Change      changeJSON       `json:"change"`
		Policy      policyJSON       `json:"policy"`
		Evidence    []evidenceJSON   `json:"evidence"`
		Totals      totalsJSON       `json:"totals"`
		Debt        *debtJSON        `json:"debt,omitempty"` // where a cost is known
		Limits      []limitJSON      `json:"limits"`
		Findings    []struct{}       `json:"findings"` // written apart
		Gone        []goneJSON       `json:"gone"`
		Acceptances []acceptanceJSON `json:"acceptances"`
		Waivers     []waiverJSON     `json:"waivers"`
		Teams       []teamJSON       `json:"teams"`
		Notices     []string         `json:"notices"`
		Exception   *exceptionJSON   `json:"exception,omitempty"` // that opened the door
	}
	exceptionJSON struct {
		Seal   string `json:"seal"`
		By     string `json:"by"`
		Reason string `json:"reason"`
		Until  string `json:"until"`
		From   string `json:"from"`
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
		Version  string      `json:"version"` // of the tool, "" where that isn't known
		Files    int         `json:"files"`   // that the tool was asked about, where it was given them
		Forms    []string    `json:"forms,omitempty"`
		Tools    []string    `json:"tools,omitempty"` // that it speaks for
		Lost     []string    `json:"lost,omitempty"`  // files that a tool gave up on
		Sealed   string      `json:"sealed,omitempty"`
	}
	teamJSON struct {
		Name    string `json:"name"`
		Contact string `json:"contact"`
	}
	totalsJSON struct {
		Findings int `json:"findings"`
		standingsJSON
		Ignored int `json:"ignored"`
		Gone    int `json:"gone"`
	}
	standingsJSON struct {
		New      int `json:"new"`
		Existing int `json:"existing"`
		Accepted int `json:"accepted"`
		Worsened int `json:"worsened"`
		Expired  int `json:"expired"`
		Waived   int `json:"waived"`
	}
	// debtJSON are costs by standing, in minutes.
	debtJSON struct {
		All int `json:"all"`
		standingsJSON
	}
	limitJSON struct {
		Name     string   `json:"name"`
		Count    string   `json:"count"`
		Severity string   `json:"severity"`
		Exact    bool     `json:"exact"`
		Most     int      `json:"most"`
		InForce  bool     `json:"in_force"`
		Kind     string   `json:"kind"`
		Found    int      `json:"found"`
		Held     bool     `json:"held"`
		Mode     string   `json:"mode"`
		Say      string   `json:"say"`
		Unknown  bool     `json:"unknown,omitempty"` // nothing is known of what was found before the change
		Findings []string `json:"findings"`

		Measured *measuredJSON `json:"measured,omitempty"`
	}
	measuredJSON struct {
		Measure   measure.Number `json:"measure"`
		Of        measure.Scope  `json:"of"`
		Unit      string         `json:"unit"`
		Number    float64        `json:"number"`
		Bound     float64        `json:"bound"`
		Tolerance float64        `json:"tolerance"`
		Lines     int            `json:"lines"` // that count, of a part in percent
		Items     int            `json:"items"` // files or functions, where each is held by itself
		Worst     string         `json:"worst"` // of these, the one that keeps its bound least
		Estimated bool           `json:"estimated"`
		Paths     []string       `json:"paths"` // what the limit is on alone
		Teams     []string       `json:"teams"`
		Excepted  bool           `json:"excepted"` // the limit has exceptions
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
		Line    int    `json:"line"` // where it stood when it was accepted or found before; 0 where that isn't known
	}
)

// Write writes the verdict as one line. The findings are written one by one: there may be millions.
func Write(w io.Writer, v judge.Verdict) error {
	head, tail, err := around(v)
	if err != nil {
		return err
	}
	to := bufio.NewWriterSize(w, 1<<16)
	to.Write(head)
	to.WriteString(`"findings":[`)
	if err := inorder.Write(to, len(v.Findings), ",", func(one []byte, i int) ([]byte, error) {
		return AppendFinding(one, &v.Findings[i]), nil
	}); err != nil {
		return err
	}
	to.WriteString(`],"gone":`)
	to.Write(tail)
	return to.Flush()
}

// WithoutFindings is the document with an empty list in the place of the verdict's findings, which limits and waivers name all the
// same.
func WithoutFindings(v judge.Verdict) ([]byte, error) {
	head, tail, err := around(v)
	return slices.Concat(head, []byte(`"findings":[],"gone":`), bytes.TrimSuffix(tail, []byte("\n"))), err
}

// around is the document before its findings and after them.
func around(v judge.Verdict) (head, tail []byte, err error) {
	var document bytes.Buffer
	out := json.NewEncoder(&document)
	out.SetEscapeHTML(false)
	if err := out.Encode(documentOf(v)); err != nil {
		return nil, nil, err
	}
	head, tail, found := bytes.Cut(document.Bytes(), []byte(noFindings))
	if !found {
		return nil, nil, errors.New("the verdict's own document has no place for its findings")
	}
	return head, tail, nil
}

// noFindings is where the findings go in a document without any. No string of a document can hold it: its quotes would be
// escaped.
const noFindings = `"findings":null,"gone":`

// documentOf is the verdict without its findings.
func documentOf(v judge.Verdict) verdictJSON {
	return verdictJSON{
		Version: Version, Door: v.Door, Outcome: v.Outcome, Enforced: v.Enforced, Mode: string(v.Mode), Today: v.Today, Ladder: ListOf(v.Ladder, func(s string) string { return s }),
		Change: changeJSON(v.Subject),
		Policy: policyJSON{v.Origin.From, v.Origin.Digest, ListOf(v.Origin.Inherits, func(i policy.Inherited) inheritedJSON { return inheritedJSON(i) }), ListOf(v.Origin.Altered, func(a policy.Alteration) string { return a.What })},
		Evidence: ListOf(v.Evidence, func(e judge.Evidence) evidenceJSON {
			return evidenceJSON{e.Name, e.Format, e.Findings, e.State, e.Problem, !e.Optional, e.Version, e.Files, e.Forms, toolsOf(e), e.Lost, e.Sealed}
		}),
		Totals: totalsJSON{
			Findings: v.Totals.Findings, Ignored: v.Totals.Ignored, Gone: v.Totals.Gone,
			standingsJSON: byStanding(func(s judge.Standing) int { return v.Totals.By[s] }),
		},
		Debt:   debtOf(v.Totals),
		Limits: ListOf(v.Limits, func(l judge.LimitResult) limitJSON { return limitOf(l, v.Findings) }),
		Gone: ListOf(v.Gone, func(e baseline.Entry) goneJSON {
			return goneJSON{e.Tool, e.Rule, e.Path, e.Message, e.Line}
		}),
		Waivers: ListOf(v.Waivers, func(w judge.WaiverUse) waiverJSON {
			same := func(s string) string { return s }
			return waiverJSON{w.Path, w.Line, ListOf(w.Rules, same), w.Reason, w.Until, w.Added, ListOf(w.Findings, same)}
		}),
		Acceptances: ListOf(v.Acceptances, func(a judge.Acceptance) acceptanceJSON {
			e := a.Entry
			return acceptanceJSON{a.Change, e.Tool, e.Rule, e.Path, e.Message, e.Why, e.Reason, e.By, e.Until, a.Finding, a.Honoured, a.Problem}
		}),
		Teams:   ListOf(v.Teams, func(t policy.Team) teamJSON { return teamJSON{t.Name, t.Contact} }),
		Notices: ListOf(v.Notices, func(s string) string { return s }), Exception: (*exceptionJSON)(v.Exception),
	}
}

// toolsOf are the tools that evidence speaks for.
func toolsOf(e judge.Evidence) (tools []string) {
	for _, c := range e.Covers {
		if !slices.Contains(tools, c.Tool) {
			tools = append(tools, c.Tool)
		}
	}
	return tools
}

func debtOf(t judge.Totals) *debtJSON {
	if t.Debt == 0 {
		return nil
	}
	return &debtJSON{t.Debt, byStanding(func(s judge.Standing) int { return t.DebtBy[s] })}
}

func byStanding(of func(judge.Standing) int) standingsJSON {
	return standingsJSON{of(judge.New), of(judge.Existing), of(judge.Accepted), of(judge.Worsened), of(judge.Expired), of(judge.Waived)}
}

// ListOf maps a slice, giving an empty array rather than null.
func ListOf[A, B any](from []A, to func(A) B) []B {
	all := make([]B, len(from))
	for i, item := range from {
		all[i] = to(item)
	}
	return all
}

// kindOf says what a limit's bound is.
func kindOf(l judge.LimitResult) string {
	switch {
	case l.Demands() && l.Demand.NotWorse:
		return l.Demand.Written()
	case l.Demands() && l.Demand.Number.Limiting().Least:
		return "least"
	case l.NoGrowth:
		return policy.NoGrowth
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
		broke = ListOf(l.Findings, func(i int) string { return findings[i].ID })
	}
	return limitJSON{
		Name: l.Name, Count: l.CountName(), Severity: l.Severity, Exact: l.Exact, Most: l.Bound, Kind: kindOf(l), InForce: !l.Waiting,
		Found: l.Found, Held: l.Held, Mode: string(l.Mode), Say: l.Say, Unknown: l.Unknown, Findings: broke, Measured: measuredOf(l),
	}
}

// The units of numbers about code.
const (
	unitNumber  = "number"
	unitPercent = "percent"
	unitMinutes = "minutes"
)

func measuredOf(l judge.LimitResult) *measuredJSON {
	if l.Measured == nil {
		return nil
	}
	same := func(s string) string { return s }
	m := &measuredJSON{
		Measure: l.Demand.Number, Of: l.Demand.Of, Unit: unitNumber, Number: l.Measured.Number, Bound: l.Measured.Bound, Tolerance: l.Demand.Tolerance,
		Lines: l.Measured.Lines, Items: l.Measured.Items, Worst: l.Measured.Worst, Estimated: l.Measured.Estimated,
		Paths: ListOf(l.Paths, same), Teams: ListOf(l.Teams, same), Excepted: !l.Measured.Alone,
	}
	switch {
	case l.Demand.Share:
		m.Unit = unitPercent
	case l.Demand.Number == measure.NumberDebt:
		m.Unit = unitMinutes
	}
	return m
}

// Members writes an object, member by member.
type Members struct {
	out   []byte
	comma bool
}

// Object begins an object at the end of out, which it takes over.
func Object(out []byte) *Members { return &Members{out: append(out, '{')} }

// End ends the object, and gives what was there before it and the object.
func (m *Members) End() []byte { return append(m.out, '}') }

// Key begins a member, whose value comes next.
func (m *Members) Key(name string) {
	if m.comma {
		m.out = append(m.out, ',')
	}
	m.comma = true
	m.out = append(append(append(m.out, '"'), name...), `":`...)
}

// Text writes a text. What of it isn't UTF-8 comes out as U+FFFD.
func (m *Members) Text(name, value string) {
	m.Key(name)
	m.out = appendText(m.out, value)
}

// Number writes a number.
func (m *Members) Number(name string, value int) {
	m.Key(name)
	m.out = strconv.AppendInt(m.out, int64(value), 10)
}

// measure writes a number as it was read; what JSON doesn't take for a number becomes a text.
func (m *Members) measure(name, value string) {
	if !jsontext.Value(value).IsValid() {
		m.Text(name, value)
		return
	}
	m.Key(name)
	m.out = append(m.out, value...)
}

// appendText writes a text in quotes. Most have nothing that JSON writes otherwise.
func appendText(out []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			out, _ = jsontext.AppendQuote(out, text)
			return out
		}
	}
	return append(append(append(out, '"'), text...), '"')
}

// some writes a text unless it is empty.
func (m *Members) some(name, value string) {
	if value != "" {
		m.Text(name, value)
	}
}

// Limits are a verdict's limits as the document has them.
func Limits(v judge.Verdict) any {
	return ListOf(v.Limits, func(l judge.LimitResult) limitJSON { return limitOf(l, v.Findings) })
}

// AppendFinding appends a finding as an object. It is written by hand since a verdict may have millions of them.
func AppendFinding(out []byte, f *judge.Finding) []byte {
	m := Object(out)
	m.Text("id", f.ID)
	m.some("entry", f.EntryID)
	m.Text("tool", f.Tool)
	m.Text("rule", f.Rule)
	m.Text("level", string(f.Level))
	m.Text("severity", f.Severity)
	m.Text("path", f.Path)
	m.Number("line", f.Region.Line)
	m.Number("column", f.Region.Column)
	m.Number("end_line", f.Region.Last())
	m.Text("message", f.Message)
	m.Text("place", string(f.Place))
	m.Text("standing", string(f.Standing))
	m.Text("team", f.Team)
	if f.Owner != f.Team {
		m.some("owner", f.Owner)
	}
	m.Number("occurrences", f.Occurrences)
	m.Key("sources")
	m.out = append(m.out, '[')
	for i, source := range f.Sources {
		if i > 0 {
			m.out = append(m.out, ',')
		}
		m.out = appendText(m.out, source)
	}
	m.out = append(m.out, ']')
	if len(f.Also) > 0 {
		m.Key("also")
		m.out = append(m.out, '[')
		for i, o := range f.Also {
			if i > 0 {
				m.out = append(m.out, ',')
			}
			also := Object(m.out)
			also.Text("tool", o.Tool)
			also.Text("rule", o.Rule)
			also.Text("message", o.Message)
			also.Text("severity", o.Severity)
			also.Text("standing", string(o.Standing))
			m.out = also.End()
		}
		m.out = append(m.out, ']')
	}
	details := f.Details()
	m.some("help", details.Help)
	m.some("function", details.Logical)
	m.some("suggestion", details.Suggested())
	m.some("suppressed", Suppression(f))
	if f.Measure != "" {
		m.measure("measure", f.Measure)
		m.measure("accepted_measure", f.AcceptedMeasure)
	}
	if f.Cost > 0 {
		m.Number("cost", f.Cost)
	}
	return m.End()
}

// Suppression is why the tool suppressed a finding, "" where it didn't.
func Suppression(f *judge.Finding) string {
	if !f.Suppressed {
		return ""
	}
	return cmp.Or(f.Details().Justification, "by its tool")
}
