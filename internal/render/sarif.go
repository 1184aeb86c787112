package render

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/inorder"
	"zincdoor/internal/verdictfile"
)

// A SARIF 2.1.0 log, as far as verdicts need it. What is absent is left out, as the standard demands.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool struct {
			Driver sarifDriver `json:"driver"`
		} `json:"tool"`
		ColumnKind  string            `json:"columnKind"`
		Bases       map[string]any    `json:"originalUriBaseIds"`
		Provenance  []sarifProvenance `json:"versionControlProvenance,omitempty"`
		Invocations []sarifInvocation `json:"invocations,omitempty"`
		Properties  map[string]any    `json:"properties,omitempty"`
		Results     []struct{}        `json:"results"` // written apart

		results []sarifSource
	}
	// sarifSource is what a result is made of: a finding, or an entry that is no longer found.
	sarifSource struct {
		finding *judge.Finding
		rule    *int // in the run
		gone    *baseline.Entry
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifProvenance struct {
		Repository string `json:"repositoryUri"`
		Revision   string `json:"revisionId"`
	}
	sarifInvocation struct {
		Successful bool `json:"executionSuccessful"`
	}
	sarifRule struct {
		ID         string         `json:"id"`
		Name       string         `json:"name,omitempty"`
		Short      *sarifText     `json:"shortDescription,omitempty"`
		Full       *sarifText     `json:"fullDescription,omitempty"`
		Help       *sarifText     `json:"help,omitempty"`
		HelpURI    string         `json:"helpUri,omitempty"`
		Properties map[string]any `json:"properties,omitempty"`
	}
	sarifText struct {
		Text     string `json:"text"`
		Markdown string `json:"markdown,omitempty"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId,omitempty"`
		RuleIndex    *int               `json:"ruleIndex,omitempty"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations,omitempty"`
		Related      []sarifLocation    `json:"relatedLocations,omitempty"`
		Flows        []sarifFlow        `json:"codeFlows,omitempty"`
		Fixes        []sarifFix         `json:"fixes,omitempty"`
		Baseline     string             `json:"baselineState,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Prints       map[string]string  `json:"partialFingerprints,omitempty"`
		Occurrences  int                `json:"occurrenceCount,omitempty"`
		Rank         float64            `json:"rank,omitempty"`
		Properties   map[string]any     `json:"properties,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Status        string `json:"status"`
		Justification string `json:"justification,omitempty"`
	}
	sarifLocation struct {
		ID       *int           `json:"id,omitempty"`
		Physical *sarifPhysical `json:"physicalLocation,omitempty"`
		Message  *sarifText     `json:"message,omitempty"`
		Logical  []sarifLogical `json:"logicalLocations,omitempty"`
	}
	sarifOwn struct {
		Severity string `json:"severity"`
		Standing string `json:"standing"`
		Place    string `json:"place"`
		Team     string `json:"team,omitempty"`
		Given    string `json:"given_severity,omitempty"` // by a recipe
		Measured string `json:"measured,omitempty"`       // that the report gave it
	}
	sarifLogical struct {
		Qualified string `json:"fullyQualifiedName"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI  string `json:"uri"`
		Base string `json:"uriBaseId,omitempty"`
	}
	sarifRegion struct {
		StartLine   int        `json:"startLine"`
		StartColumn int        `json:"startColumn,omitempty"`
		EndLine     int        `json:"endLine,omitempty"`
		EndColumn   int        `json:"endColumn,omitempty"`
		Snippet     *sarifText `json:"snippet,omitempty"`
	}
	sarifFlow struct {
		Threads []sarifThread `json:"threadFlows"`
	}
	sarifThread struct {
		Steps []sarifStep `json:"locations"`
	}
	sarifStep struct {
		Location sarifLocation `json:"location"`
	}
	sarifFix struct {
		Description *sarifText    `json:"description,omitempty"`
		Changes     []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifRegion `json:"deletedRegion"`
		Inserted *sarifText  `json:"insertedContent,omitempty"`
	}
)

const (
	sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	// sarifRoot is what paths are relative to.
	sarifRoot = "ROOT"
)

// writeSARIF writes the verdict as a SARIF 2.1.0 log, a run for each tool.
func writeSARIF(w io.Writer, v judge.Verdict, o Options) error {
	b := sarifBuilder{v: v, o: o, runs: map[string]*sarifRun{}, rules: map[[2]string]int{}}
	for i := range v.Findings {
		b.add(&v.Findings[i])
	}
	for _, e := range v.Evidence { // also of tools that found nothing
		for _, c := range e.Covers {
			if e.Sound() && !e.Before {
				run := b.run(c.Tool)
				run.Tool.Driver.Version = cmp.Or(run.Tool.Driver.Version, e.Version)
			}
		}
	}
	if len(b.runs) == 0 {
		b.run("zincdoor")
	}
	for i := range v.Gone {
		run := b.run(v.Gone[i].Tool)
		run.results = append(run.results, sarifSource{gone: &v.Gone[i]})
	}
	b.runs[b.order[0]].Properties = map[string]any{"zincdoor": b.verdict()}
	return b.write(w)
}

// write writes the log, its results one by one: there may be millions.
func (b *sarifBuilder) write(w io.Writer) error {
	out := bufio.NewWriterSize(w, 1<<16)
	head, err := appendJSON(nil, sarifLog{Schema: sarifSchema, Version: "2.1.0", Runs: []sarifRun{}})
	if err != nil {
		return err
	}
	out.Write(bytes.TrimSuffix(head, []byte("]}")))
	for i, name := range b.order {
		run := b.runs[name]
		if i > 0 {
			out.WriteByte(',')
		}
		about, err := appendJSON(nil, run)
		if err != nil {
			return err
		}
		out.Write(bytes.TrimSuffix(about, []byte("]}")))
		if err := inorder.Write(out, len(run.results), ",", func(to []byte, i int) ([]byte, error) {
			return appendJSON(to, b.result(run.results[i]))
		}); err != nil {
			return err
		}
		out.WriteString("]}")
	}
	out.WriteString("]}\n")
	return out.Flush()
}

// appendJSON appends a value as JSON, on one line.
func appendJSON(to []byte, value any) ([]byte, error) {
	text := bytes.NewBuffer(to)
	encoder := json.NewEncoder(text)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(value)
	return bytes.TrimSuffix(text.Bytes(), []byte("\n")), err
}

// sarifBuilder gathers the runs by the names of their tools.
type sarifBuilder struct {
	v     judge.Verdict
	o     Options
	runs  map[string]*sarifRun
	order []string
	rules map[[2]string]int // by tool and id: which rule of the tool's run it is
}

// verdict is what the log's property bag says about the verdict.
func (b *sarifBuilder) verdict() map[string]any {
	v := b.v
	return map[string]any{
		"form": verdictfile.Version, "door": v.Door, "outcome": v.Outcome, "enforced": v.Enforced, "mode": v.Mode, "today": v.Today,
		"policy": map[string]any{"from": v.Origin.From, "digest": v.Origin.Digest},
		"limits": verdictfile.Limits(v),
	}
}

func (b *sarifBuilder) run(tool string) *sarifRun {
	if run := b.runs[tool]; run != nil {
		return run
	}
	run := &sarifRun{
		ColumnKind: "utf16CodeUnits", Results: []struct{}{},
		Bases: map[string]any{sarifRoot: map[string]any{"description": sarifText{Text: "The root of the repository."}}},
	}
	run.Tool.Driver = sarifDriver{Name: cmp.Or(tool, "unknown"), Rules: []sarifRule{}}
	if head := b.v.Subject.Head; len(head) >= 40 && strings.Trim(head, "0123456789abcdef") == "" {
		run.Provenance = []sarifProvenance{{repositoryOf(b.o.Link), head}}
	}
	b.runs[tool], b.order = run, append(b.order, tool)
	return run
}

// repositoryOf is the address of the repository, as far as that of its lines tells it.
func repositoryOf(link string) string {
	before, _, _ := strings.Cut(link, "{")
	if u, err := url.Parse(before); err == nil && u.Host != "" {
		return strings.TrimSuffix(u.String(), "/")
	}
	return "file:///"
}

// add adds a finding, and what other tools say about the same fault as results of their own.
func (b *sarifBuilder) add(f *judge.Finding) {
	run := b.run(f.Tool)
	run.results = append(run.results, sarifSource{finding: f, rule: b.rule(run, f)})
	for i := range f.Also {
		b.add(&f.Also[i])
	}
}

// result makes a result. It may be called by several goroutines at once.
func (b *sarifBuilder) result(from sarifSource) sarifResult {
	if from.gone != nil {
		return b.gone(from.gone)
	}
	f := from.finding
	r := sarifResult{
		RuleID: f.Rule, RuleIndex: from.rule, Level: string(f.Level), Message: sarifText{Text: f.Message}, Baseline: baselineStates[f.Standing],
		Prints: map[string]string{finding.OwnFingerprint: f.ID}, Rank: f.Weight().Rank,
		Properties: map[string]any{"zincdoor": sarifOwn{f.Severity, string(f.Standing), string(f.Place), f.Team, f.Weight().Severity, f.Weight().Measured}},
	}
	if r.Level == "" {
		r.Level = string(finding.Warning)
	}
	if f.Occurrences > 1 {
		r.Occurrences = f.Occurrences
	}
	for name, value := range f.Fingerprints.All() {
		r.Prints[name] = value
	}
	if f.Path != "" {
		at := b.location(f.Path, f.Region, f.Columns, "")
		if name := f.Details().Logical; name != "" {
			at.Logical = []sarifLogical{{name}}
		}
		r.Locations = []sarifLocation{at}
	}
	switch {
	case f.Suppressed:
		r.Suppressions = []sarifSuppression{{"external", "accepted", verdictfile.Suppression(f)}}
	case f.Standing == judge.Waived:
		r.Suppressions = []sarifSuppression{{Kind: "inSource", Status: "accepted"}}
	}
	b.details(&r, f)
	return r
}

var baselineStates = map[judge.Standing]string{
	judge.New: "new", judge.Existing: "unchanged", judge.Accepted: "unchanged", judge.Waived: "unchanged", judge.Expired: "unchanged", judge.Worsened: "updated",
}

// gone is what is no longer found.
func (b *sarifBuilder) gone(e *baseline.Entry) sarifResult {
	r := sarifResult{RuleID: e.Rule, Level: string(finding.None), Message: sarifText{Text: e.Message}, Baseline: "absent"}
	if e.Path != "" {
		r.Locations = []sarifLocation{b.location(e.Path, finding.Region{}, source.UTF16, "")}
	}
	return r
}

// rule finds the finding's rule in the run, putting it there where it is new.
func (b *sarifBuilder) rule(run *sarifRun, f *judge.Finding) *int {
	if f.Rule == "" {
		return nil
	}
	key := [2]string{f.Tool, f.Rule}
	index, known := b.rules[key]
	if !known {
		index = len(run.Tool.Driver.Rules)
		b.rules[key] = index
		rule := sarifRule{ID: f.Rule}
		if b.o.Rule != nil {
			text, _ := b.o.Rule(f.Finding)
			rule.Name, rule.HelpURI = text.Name, text.Address
			for _, part := range []struct {
				text, markdown string
				to             **sarifText
			}{{text.Short, "", &rule.Short}, {text.Full, "", &rule.Full}, {cmp.Or(text.Help, text.Markdown), text.Markdown, &rule.Help}} {
				if part.text != "" {
					*part.to = &sarifText{part.text, part.markdown}
				}
			}
		}
		rule.Properties = traitsOf(f)
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, rule)
	}
	return &index
}

// traitsOf are a rule's tags and its security severity, nil where it has none.
func traitsOf(f *judge.Finding) map[string]any {
	traits := map[string]any{}
	if tags := f.Weight().Tags; len(tags) > 0 {
		traits["tags"] = slices.Compact(slices.Sorted(slices.Values(tags)))
	}
	if security := f.Weight().Security; security > 0 {
		traits["security-severity"] = strconv.FormatFloat(security, 'f', -1, 64)
	}
	if len(traits) == 0 {
		return nil
	}
	return traits
}

// location is a place of the judged state, its columns in UTF-16 code units.
func (b *sarifBuilder) location(path string, r finding.Region, unit source.Columns, message string) sarifLocation {
	at := sarifLocation{Physical: &sarifPhysical{Artifact: artifactOf(path)}}
	if message != "" {
		at.Message = &sarifText{Text: message}
	}
	if r.Line > 0 {
		at.Physical.Region = b.region(path, r, unit)
	}
	return at
}

func (b *sarifBuilder) region(path string, r finding.Region, unit source.Columns) *sarifRegion {
	region := &sarifRegion{StartLine: r.Line, StartColumn: r.Column, EndColumn: r.EndColumn}
	if r.EndLine > r.Line {
		region.EndLine = r.EndLine
	}
	text := b.o.text(path)
	if text == nil || !text.Holds(r.Line) {
		if unit != source.UTF16 {
			region.StartColumn, region.EndColumn = 0, 0
		}
		return region
	}
	line := text.Line(r.Line)
	if len(line) <= longestLine {
		region.Snippet = &sarifText{Text: strings.ToValidUTF8(line, "\uFFFD")}
	}
	if unit != source.UTF16 {
		region.StartColumn = utf16Column(line, r.Column, unit)
		region.EndColumn = 0
		if region.EndLine == 0 {
			region.EndColumn = utf16Column(line, r.EndColumn, unit)
		}
	}
	return region
}

// utf16Column counts a column in UTF-16 code units; 0 stays unknown.
func utf16Column(line string, column int, unit source.Columns) int {
	if column == 0 {
		return 0
	}
	at := 1
	for _, r := range line[:source.Offset(line, column, unit)] {
		if at++; r > 0xFFFF {
			at++
		}
	}
	return at
}

func artifactOf(path string) sarifArtifact {
	if strings.HasPrefix(path, "/") {
		return sarifArtifact{URI: (&url.URL{Scheme: "file", Path: path}).String()}
	}
	return sarifArtifact{URI: (&url.URL{Path: path}).EscapedPath(), Base: sarifRoot}
}

// details adds what there is to show of a finding.
func (b *sarifBuilder) details(r *sarifResult, f *judge.Finding) {
	d := f.Details()
	place := func(n finding.Remark) sarifLocation {
		if n.Path == "" {
			return sarifLocation{Message: &sarifText{Text: n.Message}}
		}
		return b.location(n.Path, n.Region, f.Columns, n.Message)
	}
	for i, n := range d.Notes {
		at := place(n)
		at.ID = &i
		r.Related = append(r.Related, at)
	}
	for _, flow := range d.Flows {
		var steps []sarifStep
		for _, step := range flow {
			steps = append(steps, sarifStep{place(step)})
		}
		if len(steps) > 0 {
			r.Flows = append(r.Flows, sarifFlow{[]sarifThread{{steps}}})
		}
	}
	for _, fix := range d.Fixes {
		out := sarifFix{}
		if fix.Description != "" {
			out.Description = &sarifText{Text: fix.Description}
		}
		for _, e := range fix.Edits {
			if e.Region.Line == 0 {
				continue
			}
			replacement := sarifReplacement{Deleted: *b.region(e.Path, e.Region, f.Columns)}
			replacement.Deleted.Snippet = nil
			if e.Text != "" {
				replacement.Inserted = &sarifText{Text: e.Text}
			}
			out.Changes = append(out.Changes, sarifChange{artifactOf(e.Path), []sarifReplacement{replacement}})
		}
		if len(out.Changes) > 0 {
			r.Fixes = append(r.Fixes, out)
		}
	}
}
