package report

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// run is one run of a log on its way.
type run struct {
	sarif       *sarif
	Tool        toolObject
	Artifacts   []artifact
	Bases       map[string]artifactLocation
	Invocations []invocation
	Provenance  []provenance
	ColumnKind  string
	Taxonomies  []component
	External    struct {
		Results []struct {
			Location artifactLocation `json:"location"`
		} `json:"results"`
	}
	Automation struct {
		GUID string `json:"guid"`
	}
	hasResults bool
	inline     bool // some stand beside the run
	results    int  // how many there are
	rules      map[string]*descriptor

	own, end int  // where the run's findings begin and end in the report
	classed  bool // some rule names the class of faults that it is of by its place in a taxonomy
	toolRead bool // what a result says of its rule can be looked up
	late     []lateResult
	based    []basedFinding
	located  map[artifactKey]string // what was located before
	hashes   map[artifactKey]string // of the artifacts, where the run has them

	// The result that is read, with what its parts point to.
	one                      result
	place                    [1]location
	ruleIndex, artifactIndex int
	filled                   bool // one and place have no more than fill gives them
}

// artifactKey is a location's URI and base, as they are written.
type artifactKey struct{ uri, base string }

// lateResult is a result that needs a part of the run that wasn't read yet when it came, and where its finding goes.
type lateResult struct {
	at  int
	one result
}

// basedFinding is a finding whose path starts at a base that wasn't known yet when it came.
type basedFinding struct {
	at   int32
	base string
}

// result makes a result that ends at an offset of the report a finding.
func (r *run) result(q *plainResult, end int64) error {
	s := r.sarif
	r.results++
	res := &r.one
	if shown := s.all || s.remarks < mostRemarks; q.slow || q.details && shown {
		if err := r.readWhole(q, end); err != nil {
			return err
		}
		res.plain = !shown
		s.remarks += res.remarks()
	} else {
		r.fill(q)
	}
	if res.noFault() {
		return nil
	}
	report := s.report
	if r.early(res) {
		if res.plain { // whose parts point into the run
			if err := r.readWhole(q, end); err != nil {
				return err
			}
			res.plain = true
		}
		r.late = append(r.late, lateResult{len(report.Findings), r.one})
		return report.add(finding.Finding{})
	}
	if base := res.at().BaseID; base != "" && r.Bases == nil {
		r.based = append(r.based, basedFinding{int32(len(report.Findings)), base})
	}
	s.makeRoom(len(report.Findings), end)
	if err := report.add(finding.Finding{}); err != nil {
		return err
	}
	r.finding(&report.Findings[len(report.Findings)-1], res)
	r.noteOfClang()
	return nil
}

// remarks counts what there is to show of a result.
func (res *result) remarks() int {
	n := len(res.Related) + len(res.Fixes)
	for _, flow := range res.Flows {
		for _, thread := range flow.Threads {
			n += len(thread.Steps)
		}
	}
	return n
}

// readWhole takes a result apart as a whole.
func (r *run) readWhole(q *plainResult, end int64) error {
	r.one, r.filled = result{}, false
	return r.sarif.unmarshal(q.raw, &r.one, end-int64(len(q.raw)))
}

// at is the artifact that a result is about.
func (res *result) at() artifactLocation {
	if len(res.Locations) == 0 {
		return artifactLocation{}
	}
	return res.Locations[0].Physical.Artifact
}

// early reports whether a result came before a part of the run that it needs.
func (r *run) early(res *result) bool {
	at := res.at()
	return !r.toolRead || res.Provenance.Invocation != nil && r.Invocations == nil ||
		at.URI == "" && at.Index != nil && r.Artifacts == nil || (r.classed || len(res.Taxa) > 0) && r.Taxonomies == nil ||
		at.BaseID != "" && r.Bases == nil && (!res.plain || r.isClang()) // whose notes don't stay findings of their own
}

// noteOfClang makes the last finding a remark of the one before, where it is what clang calls a note.
func (r *run) noteOfClang() {
	report := r.sarif.report
	n := len(report.Findings)
	if !r.isClang() || n < r.own+2 || report.Findings[n-1].Level != finding.Note {
		return
	}
	note, last := &report.Findings[n-1], &report.Findings[n-2]
	last.Detail().Notes = append(last.Detail().Notes, finding.Remark{Message: note.Message, Path: note.Path, Region: note.Region})
	report.Findings = report.Findings[:n-1]
}

// finish settles what needed the whole run.
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
	r.noteCommit()
	r.end = len(report.Findings)
	r.fillLate()
	r.nameFlags()
}

// nameFlags gives clang's findings the flags that they are of, where the rule's name or the message has one: its rules' ids are
// numbers that differ from version to version.
func (r *run) nameFlags() {
	if !r.isClang() {
		return
	}
	report := r.sarif.report
	for i := r.own; i < min(r.end, len(report.Findings)); i++ {
		f := &report.Findings[i]
		if f.Rule == "" || strings.Trim(f.Rule, "0123456789") != "" {
			continue
		}
		text, flag := cutRule(f.Message)
		if rule := r.byID(f.Rule); rule != nil && isRule(rule.Name) {
			flag = rule.Name
		}
		if flag != "" {
			f.Rule, f.Message = flag, text
		} else if !r.sarif.numbered {
			r.sarif.numbered = true
			report.Notices = append(report.Notices, fmt.Sprintf("clang's SARIF names rules by numbers, such as %s, which differ between versions; if rules matter, use its text report", f.Rule))
		}
	}
}

// join takes over, for properties that stand beside their run, what they need of it: the run of their own id, else the only
// one there is.
func (r *run) join(runs []*run) {
	var of *run
	for _, other := range runs {
		if len(runs) == 1 || r.Automation.GUID != "" && strings.EqualFold(other.Automation.GUID, r.Automation.GUID) {
			of = other
		}
	}
	if of == nil {
		r.sarif.report.fail("results are beside the runs of the log, so their run isn't known")
		return
	}
	of.hasResults, of.results = of.hasResults || r.hasResults, of.results+r.results
	of.inline = of.inline || r.hasResults
	of.Invocations = append(of.Invocations, r.Invocations...)
	r.Bases, r.ColumnKind, r.Invocations = of.Bases, of.ColumnKind, of.Invocations
	if r.Tool.Driver.Name == "" {
		r.Tool = of.Tool
	}
	if r.Artifacts == nil {
		r.Artifacts = of.Artifacts
	}
	if r.Taxonomies == nil {
		r.Taxonomies = of.Taxonomies
	}
}

// fillLate makes findings of the results that waited for the whole run, and gives all of them their tool.
func (r *run) fillLate() {
	report, driver := r.sarif.report, r.Tool.Driver
	if r.Bases != nil {
		r.located = nil
		for _, b := range r.based {
			f := &report.Findings[b.at]
			f.Path = r.under(f.Path, b.base)
		}
	}
	for i := range r.late {
		r.finding(&report.Findings[r.late[i].at], &r.late[i].one)
	}
	if len(r.late) > 0 && r.isClang() && r.end == len(report.Findings) { // notes among them
		own := slices.Clone(report.Findings[r.own:])
		report.Findings = report.Findings[:r.own]
		for _, f := range own {
			report.Findings = append(report.Findings, f)
			r.noteOfClang()
		}
	}
	columns := source.UTF16
	if r.ColumnKind == "unicodeCodePoints" {
		columns = source.CodePoints
	}
	for i := r.own; i < min(r.end, len(report.Findings)); i++ {
		report.Findings[i].Tool, report.Findings[i].Columns = driver.Name, columns
	}
}

// noteRule keeps what is reported of a rule apart from it.
func (s *sarif) noteRule(d *descriptor) {
	rule := finding.Rule{Name: d.Name, Address: d.HelpURI}
	for _, part := range []struct {
		from *sarifText
		to   *string
	}{{d.Short, &rule.Short}, {d.Full, &rule.Full}, {d.Help, &rule.Help}} {
		if part.from != nil {
			*part.to = part.from.Text
		}
	}
	if d.Help != nil {
		rule.Markdown = d.Help.Markdown
	}
	if d.HelpURI != "" {
		d.details = &finding.Details{Help: d.HelpURI}
	}
	d.Short, d.Full, d.Help = nil, nil, nil
	if rule == (finding.Rule{Name: d.Name}) {
		return
	}
	if s.report.Rules == nil {
		s.report.Rules = map[string]finding.Rule{}
	}
	s.report.Rules[d.ID] = rule
}

// checkOutcome notes a run that says of itself that it failed, or that has no results to tell.
func (r *run) checkOutcome() {
	name := cmp.Or(r.Tool.Driver.Name, "the tool")
	if !r.hasResults {
		r.sarif.report.fail("the run of %s has no results (SARIF writes an empty array where nothing was found)", name)
	}
	for _, other := range r.External.Results {
		if r.inline && other.Location.URI == "" {
			continue
		}
		r.sarif.report.fail("the run of %s keeps results in other files; make the tool write one log", name)
	}
	for _, i := range r.Invocations {
		switch {
		case i.Successful != nil && !*i.Successful:
			r.sarif.report.fail("%s says that its run failed (executionSuccessful is false)%s", name, i.firstError())
		case i.Signal != "" || i.SignalNumber != 0:
			r.sarif.report.fail("%s was ended by the signal %s", name, cmp.Or(i.Signal, strconv.Itoa(i.SignalNumber)))
		case i.Code != nil && i.Successful == nil && (*i.Code != 0 && r.results == 0 || *i.Code < 0 || *i.Code > shellSignal && *i.Code <= shellSignal+lastSignal):
			r.sarif.report.fail("%s ended with code %d, and doesn't say that its run was good (executionSuccessful)", name, *i.Code)
		case i.StartFailure != "":
			r.sarif.report.fail("%s did not start: %s", name, clip(i.StartFailure))
		case i.firstError() != "":
			r.sarif.report.fail("%s says that its results are not complete%s", name, i.firstError())
		}
	}
}

// A shell tells by code 128 and a signal's number that a program was ended by it (POSIX.1-2017, XCU 2.8.2 leaves the number
// open; shells agree on it).
const (
	shellSignal = 128
	lastSignal  = 31
)

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
			r.sarif.report.fail("the report speaks of two revisions, %s and %s", clip(r.sarif.report.Commit), clip(p.Revision))
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

// taxon is a class of faults that a result or a rule is said to be of, as a tag: the taxonomy's name and the class's
// (SARIF 2.1.0, 3.27.8 and 3.49.15).
func (r *run) taxon(ref reference) string {
	taxonomy := ""
	if c := ref.Component; c != nil {
		taxonomy = c.Name
		if c.Index != nil && *c.Index >= 0 && *c.Index < len(r.Taxonomies) {
			taxonomy = cmp.Or(taxonomy, r.Taxonomies[*c.Index].Name)
			if taxa := r.Taxonomies[*c.Index].Taxa; ref.ID == "" && ref.Index != nil && *ref.Index >= 0 && *ref.Index < len(taxa) {
				ref.ID = taxa[*ref.Index].ID
			}
		}
	}
	if taxonomy == "" || strings.HasPrefix(strings.ToLower(ref.ID), strings.ToLower(taxonomy)) {
		return ref.ID
	}
	return taxonomy + "-" + ref.ID
}

// traits are what a result and its rule say of how much it matters: the rule's own where the result adds nothing.
func (r *run) traits(res *result, rule *descriptor) *finding.Traits {
	var shared *finding.Traits
	if rule != nil {
		if rule.traits == nil {
			rule.traits = &finding.Traits{Tags: slices.Clone(rule.Properties.Tags), Security: rule.Properties.security()}
			for _, relation := range rule.Relations {
				rule.traits.Tags = append(rule.traits.Tags, r.taxon(relation.Target))
			}
		}
		shared = rule.traits
	}
	rank := min(max(res.Rank, 0), 100)
	if rank == 0 && len(res.Properties.Tags)+len(res.Taxa) == 0 && res.Properties.Own == (ownBag{}) {
		return shared
	}
	own := finding.Traits{}
	if shared != nil {
		own = *shared
	}
	own.Severity, own.Measured = res.Properties.Own.Given, res.Properties.Own.Measured
	own.Rank, own.Tags = rank, slices.Concat(own.Tags, res.Properties.Tags)
	for _, taxon := range res.Taxa {
		own.Tags = append(own.Tags, r.taxon(taxon))
	}
	return &own
}

// security reads a security severity, 0 where there is none.
func (p propertyBag) security() float64 {
	number, err := strconv.ParseFloat(strings.Trim(string(p.Security), `" `), 64)
	if err != nil || !(number > 0) {
		return 0
	}
	return min(number, 10)
}

// fingerprints are the fingerprints of a result, or, where it has none, those that are a part of one (SARIF 2.1.0, 3.27.16 and
// 3.27.17).
func fingerprints(res *result) finding.Fingerprints {
	delete(res.PartialFingerprints, finding.OwnFingerprint)
	if len(res.Fingerprints) > 0 {
		return finding.PackFingerprints(res.Fingerprints)
	}
	return finding.PackFingerprints(res.PartialFingerprints)
}

// noFault reports whether a result reports no fault (SARIF 2.1.0, 3.27.9) or one that is there no longer (3.27.24).
func (res *result) noFault() bool {
	return res.Kind == "pass" || res.Kind == "notApplicable" || res.Kind == "informational" || res.BaselineState == "absent"
}

// finding makes a result a finding.
func (r *run) finding(f *finding.Finding, res *result) {
	id, rule := r.rule(res)
	*f = finding.Finding{
		Rule:         id,
		Level:        r.level(res, id, rule),
		Message:      messageText(res.Message, rule),
		Occurrences:  max(res.Occurrences, 1),
		Fingerprints: res.fingerprints,
		Suppressed:   suppressed(res),
	}
	if !res.plain || res.fingerprints == "" && len(res.PartialFingerprints)+len(res.Fingerprints) > 0 {
		f.Fingerprints = fingerprints(res)
	}
	f.Traits = r.traits(res, rule)
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
	r.details(f, res, rule)
}

// remark is a location with what it says.
func (r *run) remark(l location) finding.Remark {
	return finding.Remark{Message: l.Message.Text, Path: r.locate(l.Physical.Artifact), Region: l.Physical.Region.region()}
}

// mostRemarks bounds how many related places and steps of flows are kept of a report: they are there to be shown, and of a
// report with more findings than anyone looks at, those of the first are enough.
const mostRemarks = 10_000

// details keeps what there is to show of a result.
func (r *run) details(f *finding.Finding, res *result, rule *descriptor) {
	if rule != nil {
		f.Extra = rule.details
	}
	if res.plain {
		return
	}
	if f.Extra != nil {
		own := *f.Extra // the rule's is shared
		f.Extra = &own
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
			f.Detail().Flows = append(f.Detail().Flows, steps)
		}
	}
	for _, fix := range res.Fixes {
		f.Detail().Fixes = append(f.Detail().Fixes, r.fix(fix))
	}
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
}

// fix reads one way to fix a finding (3.55 to 3.57).
func (r *run) fix(fix sarifFix) finding.Fix {
	var edits []finding.Edit
	for _, change := range fix.Changes {
		for _, part := range change.Replacements {
			e := finding.Edit{Path: r.locate(change.Artifact), Region: part.Deleted.exactly(), Text: part.Inserted.Text, Was: part.Deleted.Snippet.Text, Hash: r.hashOf(change.Artifact)}
			if e.Region.Line == 0 {
				e.Offset = part.Deleted.offset()
			}
			if part.Inserted.Binary != "" {
				text, err := base64.StdEncoding.DecodeString(part.Inserted.Binary)
				if err != nil {
					return finding.Fix{Description: fix.Description.Text} // which can't be done
				}
				e.Text = string(text)
			}
			edits = append(edits, e)
		}
	}
	return finding.Fix{Description: fix.Description.Text, Edits: edits}
}

// hashOf is the SHA-256 that the run gives an artifact, "" where it gives none.
func (r *run) hashOf(l artifactLocation) string {
	if l.Index != nil && *l.Index >= 0 && *l.Index < len(r.Artifacts) && (l.URI == "" || r.Artifacts[*l.Index].Location.URI == l.URI) {
		return r.Artifacts[*l.Index].Hashes["sha-256"]
	}
	if len(r.hashes) == 0 && len(r.Artifacts) > 0 {
		r.hashes = make(map[artifactKey]string, len(r.Artifacts))
		for _, a := range r.Artifacts {
			r.hashes[artifactKey{a.Location.URI, a.Location.BaseID}] = a.Hashes["sha-256"]
		}
	}
	return r.hashes[artifactKey{l.URI, l.BaseID}]
}

// exactly is a region that is to be replaced: one that ends where it begins is empty, and text is put in there.
func (g sarifRegion) exactly() finding.Region {
	out := g.region()
	if out.Line > 0 && out.EndLine == out.Line && g.EndColumn > 0 && g.EndColumn == g.StartColumn {
		out.EndColumn = g.EndColumn
	}
	return out
}

// offset is a region that is counted from the file's beginning, nil where it isn't.
func (g sarifRegion) offset() *finding.Offset {
	switch {
	case g.CharOffset != nil && *g.CharOffset >= 0:
		return &finding.Offset{At: *g.CharOffset, Length: max(g.CharLength, 0)}
	case g.ByteOffset != nil && *g.ByteOffset >= 0:
		return &finding.Offset{At: *g.ByteOffset, Length: max(g.ByteLength, 0), Bytes: true}
	}
	return nil
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
	key := artifactKey{l.URI, l.BaseID}
	if path, known := r.located[key]; known && l.URI != "" {
		return path
	}
	path := r.lookUp(l)
	if l.URI != "" {
		if r.located == nil {
			r.located = map[artifactKey]string{}
		}
		r.located[key] = path
	}
	return path
}

func (r *run) lookUp(l artifactLocation) string {
	if l.URI == "" && l.Index != nil && *l.Index >= 0 && *l.Index < len(r.Artifacts) {
		l = r.Artifacts[*l.Index].Location
	}
	if l.URI == "" {
		return ""
	}
	return r.under(uriPath(l.URI), l.BaseID)
}

// under is a path below a base, as far as that is known.
func (r *run) under(own, base string) string {
	full := own
	for hops := 0; base != "" && hops < 8 && !isAbsolute(full); hops++ {
		parent, known := r.Bases[base]
		if !known || parent.URI == "" {
			break
		}
		full = path.Join(uriPath(parent.URI), full)
		base = parent.BaseID
	}
	if isAbsolute(full) && full != own {
		r.sarif.report.Relative[full] = own
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
