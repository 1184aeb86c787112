package intake

import (
	"cmp"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// run is one run of a log, read but for its results' meaning, which may need parts that come after them.
type run struct {
	sarif       *sarif
	Tool        toolObject
	Artifacts   []artifact
	Bases       map[string]artifactLocation
	Invocations []invocation
	Provenance  []provenance
	ColumnKind  string
	results     []result
	hasResults  bool
	rules       map[string]*descriptor
}

// finish makes the run's results findings of the report.
func (r *run) finish() {
	report := r.sarif.report
	driver := r.Tool.Driver
	tool := Tool{Name: driver.Name, Version: cmp.Or(driver.SemanticVersion, driver.Version)}
	for _, a := range r.Artifacts {
		if slices.Contains(a.Roles, "analysisTarget") {
			tool.Targets = append(tool.Targets, r.locate(a.Location))
		}
	}
	report.Tools = append(report.Tools, tool)
	r.checkOutcome()
	r.noteCommit()
	r.noteRules()

	columns := source.UTF16
	if r.ColumnKind == "unicodeCodePoints" {
		columns = source.CodePoints
	}
	own := len(report.Findings)
	for i := range r.results {
		f, ok := r.finding(&r.results[i])
		if !ok {
			continue
		}
		f.Tool, f.Columns = driver.Name, columns
		if n := len(report.Findings); r.isClang() && f.Level == finding.Note && n > own {
			last := &report.Findings[n-1]
			last.Detail().Notes = append(last.Detail().Notes, finding.Remark{Message: f.Message, Path: f.Path, Region: f.Region})
			continue
		}
		report.Findings = append(report.Findings, f)
	}
}

// noteRules keeps what is told of the rules.
func (r *run) noteRules() {
	for _, c := range slices.Concat(r.Tool.Extensions, []component{r.Tool.Driver}) {
		for _, d := range c.Rules {
			rule := Rule{d.Name, d.Short.Text, d.Full.Text, d.Help.Text, d.Help.Markdown, d.HelpURI}
			if rule == (Rule{Name: d.Name}) {
				continue
			}
			if r.sarif.report.Rules == nil {
				r.sarif.report.Rules = map[string]Rule{}
			}
			r.sarif.report.Rules[d.ID] = rule
		}
	}
}

// checkOutcome notes a run that says of itself that it failed, or that has no results to tell.
func (r *run) checkOutcome() {
	name := cmp.Or(r.Tool.Driver.Name, "the tool")
	if !r.hasResults {
		r.sarif.fail("the run of %s has no results (SARIF writes an empty array where nothing was found)", name)
	}
	for _, i := range r.Invocations {
		switch {
		case i.Successful != nil && !*i.Successful:
			r.sarif.fail("%s says that its run failed (executionSuccessful is false)%s", name, i.firstError())
		case i.Signal != "":
			r.sarif.fail("%s was ended by the signal %s", name, i.Signal)
		case i.StartFailure != "":
			r.sarif.fail("%s did not start: %s", name, clip(i.StartFailure))
		case i.firstError() != "":
			r.sarif.fail("%s says that its results are not complete%s", name, i.firstError())
		}
	}
}

// firstError is the first notification of level error, which by the standard means results that are wrong or
// incomplete; with ": " before it.
func (i invocation) firstError() string {
	for _, n := range slices.Concat(i.Execution, i.Setting) {
		if n.Level == "error" {
			return ": " + clip(cmp.Or(n.Message.Text, n.Message.ID, "an error without a text"))
		}
	}
	return ""
}

// noteCommit keeps the revision the run was made at. Two revisions in one report can't both be the tree's.
func (r *run) noteCommit() {
	for _, p := range r.Provenance {
		switch {
		case p.Revision == "":
		case r.sarif.report.Commit == "":
			r.sarif.report.Commit = p.Revision
		case r.sarif.report.Commit != p.Revision:
			r.sarif.fail("the report speaks of two revisions, %s and %s", clip(r.sarif.report.Commit), clip(p.Revision))
		}
	}
}

// suppressed reports whether a result is suppressed, by every word on it (SARIF 2.1.0, 3.27.23 and 3.35.3: no status
// means accepted).
func suppressed(res *result) bool {
	for _, s := range res.Suppressions {
		if s.Status != "" && s.Status != "accepted" {
			return false
		}
	}
	return len(res.Suppressions) > 0
}

// security reads a rule's security severity, 0 where it has none.
func (p propertyBag) security() float64 {
	number, err := strconv.ParseFloat(strings.Trim(string(p.Security), `" `), 64)
	if err != nil || !(number > 0) {
		return 0
	}
	return min(number, 10)
}

// prints are the fingerprints of a result, or, where it has none, those that are a part of one (SARIF 2.1.0, 3.27.16 and
// 3.27.17).
func prints(res *result) finding.Prints {
	if len(res.Fingerprints) > 0 {
		return res.Fingerprints
	}
	return res.PartialFingerprints
}

// finding makes a result a finding; false for results that tell of no fault (SARIF 2.1.0, 3.27.9) or of one that is
// there no longer (3.27.24).
func (r *run) finding(res *result) (finding.Finding, bool) {
	if slices.Contains([]string{"pass", "notApplicable", "informational"}, res.Kind) || res.BaselineState == "absent" {
		return finding.Finding{}, false
	}
	id, rule := r.rule(res)
	f := finding.Finding{
		Rule:        id,
		Level:       r.level(res, id, rule),
		Message:     messageText(res.Message, rule),
		Occurrences: max(res.Occurrences, 1),
		Prints:      prints(res),
		Suppressed:  suppressed(res),
	}
	f.Rank = min(max(res.Rank, 0), 100)
	if rule != nil {
		f.Tags, f.Security = rule.Properties.Tags, rule.Properties.security()
	}
	if len(res.Properties.Tags) > 0 {
		f.Tags = slices.Concat(f.Tags, res.Properties.Tags)
	}
	at := 0
	if r.isClang() {
		at = len(res.Locations) - 1
	}
	for i, l := range res.Locations {
		if i == at {
			f.Path, f.Region = r.locate(l.Physical.Artifact), l.Physical.Region.region()
			f.Snippet, _, _ = strings.Cut(l.Physical.Region.Snippet.Text, "\n")
		}
	}
	r.details(&f, res, rule)
	return f, true
}

// remark is a location with what it says.
func (r *run) remark(l location) finding.Remark {
	return finding.Remark{Message: l.Message.Text, Path: r.locate(l.Physical.Artifact), Region: l.Physical.Region.region()}
}

// mostRemarks bounds how many related places and steps of flows are kept of a report: they are there to be shown, and of a
// report with more findings than anyone looks at, those of the first are enough.
const mostRemarks = 200_000

// details keeps what there is to show of a result.
func (r *run) details(f *finding.Finding, res *result, rule *descriptor) {
	if r.sarif.remarks >= mostRemarks {
		return
	}
	for _, l := range res.Related {
		f.Detail().Notes = append(f.Detail().Notes, r.remark(l))
	}
	for _, flow := range res.Flows {
		for _, thread := range flow.Threads {
			var steps []finding.Remark
			for _, step := range thread.Steps {
				steps = append(steps, r.remark(step.Location))
			}
			r.sarif.remarks += len(steps)
			f.Detail().Flows = append(f.Detail().Flows, steps)
		}
	}
	for _, fix := range res.Fixes {
		f.Detail().Fixes = append(f.Detail().Fixes, r.fix(fix))
	}
	r.sarif.remarks += len(res.Related) + len(res.Fixes)
	if len(res.Locations) > 0 && len(res.Locations[0].Logical) > 0 {
		logical := res.Locations[0].Logical[0]
		if name := cmp.Or(logical.Qualified, logical.Name); name != "" {
			f.Detail().Logical = name
		}
	}
	for _, s := range res.Suppressions {
		if s.Justification != "" {
			f.Detail().Justification = s.Justification
			break
		}
	}
	if rule != nil && rule.HelpURI != "" {
		f.Detail().Help = rule.HelpURI
	}
}

// fix reads one way to mend a finding (3.55 to 3.57).
func (r *run) fix(fix sarifFix) finding.Fix {
	var edits []finding.Edit
	for _, change := range fix.Changes {
		for _, part := range change.Replacements {
			edits = append(edits, finding.Edit{Path: r.locate(change.Artifact), Region: part.Deleted.region(), Text: part.Inserted.Text})
		}
	}
	return finding.Fix{Description: fix.Description.Text, Edits: edits}
}

func (g sarifRegion) region() finding.Region {
	out := finding.Region{Line: max(g.StartLine, 0), Column: max(g.StartColumn, 0), EndLine: max(g.EndLine, g.StartLine)}
	if g.EndColumn > out.Column || out.EndLine > out.Line {
		out.EndColumn = max(g.EndColumn, 0)
	}
	if out.Line == 0 {
		return finding.Region{}
	}
	return out
}

// rule finds the rule's id and its descriptor, which may be nil. By the standard the index goes before the id, since
// ids may repeat; a hierarchical id ("a/b/c") falls back on its beginnings (3.52.4).
func (r *run) rule(res *result) (string, *descriptor) {
	id, index := res.RuleID, res.RuleIndex
	component := &r.Tool.Driver
	if ref := res.Rule; ref != nil {
		id = cmp.Or(id, ref.ID)
		if index == nil {
			index = ref.Index
		}
		if c := ref.Component; c != nil && c.Index != nil && *c.Index >= 0 && *c.Index < len(r.Tool.Extensions) {
			component = &r.Tool.Extensions[*c.Index]
		}
	}
	if index != nil && *index >= 0 && *index < len(component.Rules) {
		rule := &component.Rules[*index]
		return cmp.Or(id, rule.ID), rule
	}
	for prefix := id; prefix != ""; {
		if rule := r.byID(prefix); rule != nil {
			return id, rule
		}
		cut := strings.LastIndexByte(prefix, '/')
		prefix = prefix[:max(cut, 0)]
	}
	return id, nil
}

func (r *run) byID(id string) *descriptor {
	if r.rules == nil {
		r.rules = map[string]*descriptor{}
		for _, c := range slices.Concat(r.Tool.Extensions, []component{r.Tool.Driver}) {
			for i := range c.Rules {
				r.rules[c.Rules[i].ID] = &c.Rules[i]
			}
		}
	}
	return r.rules[id]
}

// level follows SARIF 2.1.0, 3.27.10: the result's own, "none" where its kind isn't a failure, the invocation's
// override, the rule's default, else "warning". A word that isn't a level counts as an error.
func (r *run) level(res *result, id string, rule *descriptor) finding.Level {
	word := res.Level
	if word == "" && res.Kind != "" && res.Kind != "fail" {
		word = string(finding.None)
	}
	if i := res.Provenance.Invocation; word == "" && i != nil && *i >= 0 && *i < len(r.Invocations) {
		for _, o := range r.Invocations[*i].Overrides {
			byIndex := o.Descriptor.Index != nil && res.RuleIndex != nil && *o.Descriptor.Index == *res.RuleIndex
			if byIndex || o.Descriptor.ID != "" && o.Descriptor.ID == id {
				word = o.Configuration.Level
			}
		}
	}
	if word == "" && rule != nil {
		word = rule.Default.Level
	}
	if word == "" {
		word = string(finding.Warning)
	}
	if level := finding.Level(word); slices.Contains(finding.Levels, level) {
		return level
	}
	return finding.Error
}

// messageText gives a message's text, looked up in the rule's strings where the result names one, with its arguments
// filled in (3.11.5).
func messageText(m sarifText, rule *descriptor) string {
	text := m.Text
	if text == "" && m.ID != "" && rule != nil {
		text = rule.MessageStrings[m.ID].Text
	}
	if text == "" {
		return m.ID
	}
	for i, argument := range m.Arguments {
		text = strings.ReplaceAll(text, "{"+strconv.Itoa(i)+"}", argument)
	}
	return text
}

// locate gives a location's path: absolute where its URI or its base is, else relative; "" where there is none.
func (r *run) locate(l artifactLocation) string {
	if l.URI == "" && l.Index != nil && *l.Index >= 0 && *l.Index < len(r.Artifacts) {
		l = r.Artifacts[*l.Index].Location
	}
	if l.URI == "" {
		return ""
	}
	own := uriPath(l.URI)
	if isAbsolute(own) {
		return own
	}
	full := own
	for base, hops := l.BaseID, 0; base != "" && hops < 8; hops++ {
		parent, known := r.Bases[base]
		if !known || parent.URI == "" {
			break
		}
		full = path.Join(uriPath(parent.URI), full)
		base = parent.BaseID
	}
	if isAbsolute(full) {
		r.sarif.report.Relative[full] = own
		return full
	}
	return full
}

// uriPath makes a URI, or what tools write in its place, a path with slashes.
func uriPath(uri string) string {
	if rest, ok := strings.CutPrefix(uri, "file:"); ok {
		if host, ok := strings.CutPrefix(rest, "//"); ok {
			slash := max(strings.IndexByte(host, '/'), 0)
			rest = host[slash:]
		}
		uri = rest
		if len(uri) > 3 && uri[0] == '/' && uri[2] == ':' {
			uri = uri[1:] // file:///C:/x
		}
	} else if strings.Contains(uri, "://") {
		return uri
	}
	if plain, err := url.PathUnescape(uri); err == nil {
		uri = plain
	}
	return cleanLocation(uri)
}

// isAbsolute knows the roots of every system, since a report may come from another one.
func isAbsolute(p string) bool {
	return strings.HasPrefix(p, "/") || len(p) > 2 && p[1] == ':' && p[2] == '/' || strings.Contains(p, "://")
}
