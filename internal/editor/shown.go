package editor

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/creachadair/jrpc2"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/render"
)

// shown is what the editor is shown of a document.
type shown struct {
	version     version
	diagnostics []diagnostic
	id          string // the same for the same diagnostics
}

// present shows the editor what came of a judgement, which is nil where none came about.
func (w *place) present(open map[string]version, j *app.Judgement, problem error) {
	if j == nil && problem == nil && !w.lone {
		return // the first judgement is still to come
	}
	fresh := map[string]shown{}
	for uri, v := range open {
		list := []diagnostic{}
		if j != nil {
			list = append(list, w.diagnosticsOf(v, j)...)
		}
		if isPolicy(filepath.Join(w.root, v.path)) {
			list = append(list, w.policyProblems(v)...)
		}
		data, _ := json.Marshal(list) // of plain values
		sum := fnv.New64a()
		sum.Write(data)
		fresh[uri] = shown{v, list, strconv.FormatUint(sum.Sum64(), 16)}
	}
	w.mutex.Lock()
	pulls, refreshes := w.client.TextDocument.Diagnostic != nil, w.client.Workspace.Diagnostics.RefreshSupport
	w.mutex.Unlock()
	w.judging.Lock()
	differs := false
	for uri, is := range fresh {
		was, known := w.shown[uri]
		if known && was.id == is.id && (pulls || was.version.number == is.version.number || len(is.diagnostics) == 0) {
			continue
		}
		differs = differs || !known || was.id != is.id
		if !pulls {
			w.tell("textDocument/publishDiagnostics", map[string]any{"uri": uri, "version": is.version.number, "diagnostics": is.diagnostics})
		}
	}
	for uri, was := range w.shown {
		if _, is := fresh[uri]; !is && !pulls && len(was.diagnostics) > 0 {
			w.tell("textDocument/publishDiagnostics", map[string]any{"uri": uri, "diagnostics": []diagnostic{}})
		}
	}
	w.shown, w.judged = fresh, open
	close(w.changed)
	w.changed = make(chan struct{})
	w.judging.Unlock()
	if pulls && refreshes && differs {
		w.work.Go(func() { w.ask(w.ctx, prompt, "workspace/diagnostic/refresh", nil, nil) })
	}
	w.tellStatus(j, problem)
}

// pull gives the editor what there is to show of a document as it is now.
func (s *server) pull(ctx context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		TextDocument textDocument `json:"textDocument"`
		Previous     string       `json:"previousResultId"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%v", err)
	}
	is := shown{diagnostics: []diagnostic{}}
	if w := s.placeOfDocument(p.TextDocument.URI); w != nil {
		w.waitForJudged(ctx, p.TextDocument.URI)
		w.judging.Lock()
		if known, ok := w.shown[p.TextDocument.URI]; ok {
			is = known
		}
		w.judging.Unlock()
	}
	if err := ctx.Err(); err != nil {
		return nil, jrpc2.Errorf(serverCancelled, "called off")
	}
	if is.id != "" && is.id == p.Previous {
		return map[string]any{"kind": "unchanged", "resultId": is.id}, nil
	}
	return map[string]any{"kind": "full", "resultId": is.id, "items": is.diagnostics}, nil
}

// diagnosticsOf are the findings of a document, those that shut the door at their severity.
func (w *place) diagnosticsOf(v version, j *app.Judgement) (all []diagnostic) {
	w.mutex.Lock()
	set := w.settings
	w.mutex.Unlock()
	shutting := map[int][]judge.LimitResult{}
	for _, l := range j.Limits {
		if l.Held || l.Waiting {
			continue
		}
		for _, i := range l.Findings {
			shutting[i] = append(shutting[i], l)
		}
	}
	x, lines := w.index(v.text), fix.NewIndex(v.text)
	for i, f := range j.Findings {
		if f.Path != v.path || f.Outside || f.Severity == policy.Ignored {
			continue
		}
		one := *f.Finding
		if one.Region.Column == 0 && !f.OfLines() { // it is about what begins there
			one.Region.EndLine = 0
		}
		d := w.diagnosticOf(&one, x, lines)
		d.Data = &named{f.ID}
		if rule, known := j.Rule(f.Finding); known && finding.IsWeb(rule.Address) {
			d.About = &about{rule.Address}
		} else if help := f.Details().Help; finding.IsWeb(help) {
			d.About = &about{help}
		}
		notes := []string{d.Message}
		d.Severity = severityInformation
		switch {
		case len(shutting[i]) > 0:
			d.Severity = severityOf(j.Ladder, f.Severity)
			for _, l := range shutting[i] {
				notes = append(notes, breaks(j, l))
			}
		case f.Standing == judge.Accepted || f.Standing == judge.Waived:
			if set.Accepted == asHidden {
				continue
			}
			d.Severity = severityHint
			notes = append(notes, standingOf(f))
		case f.Standing == judge.Existing:
			if set.Existing == asHidden {
				continue
			}
			d.Severity = severityHint
			notes = append(notes, standingOf(f))
		}
		for _, also := range f.Also {
			notes = append(notes, fmt.Sprintf("%s says so too: %s", also.Tool, render.Safe(also.Message)))
		}
		d.Message = strings.Join(notes, "\n")
		all = append(all, d)
	}
	for _, f := range j.Edited {
		if f.Path != v.path {
			continue
		}
		d := w.diagnosticOf(&f, x, lines)
		d.Severity, d.Tags, d.Related = severityHint, []int{unnecessary}, nil
		d.Message += fmt.Sprintf("\n%s said so of an earlier text", f.Tool)
		all = append(all, d)
	}
	slices.SortStableFunc(all, func(a, b diagnostic) int {
		return cmp.Or(cmp.Compare(a.Range.Start.Line, b.Range.Start.Line), cmp.Compare(a.Range.Start.Character, b.Range.Start.Character))
	})
	return all
}

// breaks says which limit a finding breaks.
func breaks(j *app.Judgement, l judge.LimitResult) string {
	if !l.Shuts() || j.Mode == policy.Advise {
		return "advised against by " + render.Limit(l.Limit, l.Mode)
	}
	return "shuts the door: " + render.Limit(l.Limit, l.Mode)
}

// standingOf says why a finding doesn't count.
func standingOf(f judge.Finding) string {
	switch e := f.Entry; {
	case f.Standing == judge.Waived:
		return "waived by a comment"
	case f.Standing == judge.Existing:
		return "there before the change"
	case e == nil:
		return "accepted"
	default:
		text := "accepted"
		if e.Why != "" {
			text += fmt.Sprintf(" (%s)", e.Why)
		}
		if e.Until != "" {
			text += " until " + e.Until
		}
		if e.Reason != "" {
			text += ": " + render.Safe(e.Reason)
		}
		return text
	}
}

// severityOf is how the editor is to show a severity: the worst two have colours of their own.
func severityOf(ladder policy.Ladder, name string) severity {
	switch slices.Index(ladder, name) {
	case 0:
		return severityError
	case 1:
		return severityWarning
	}
	return severityInformation
}

// diagnosticOf is a finding as its tool tells it.
func (w *place) diagnosticOf(f *finding.Finding, x *index, lines *fix.Index) diagnostic {
	d := diagnostic{Range: spanOf(f.Region, f.Columns, x, lines), Code: f.Rule, Source: "zincdoor: " + f.Tool, Message: render.Safe(f.Message)}
	add := func(r finding.Remark, lead string) {
		if r.Path == "" || r.Region.Line == 0 || strings.HasPrefix(r.Path, "/") {
			return
		}
		d.Related = append(d.Related, related{w.locationOf(r), cmp.Or(lead+render.Safe(r.Message), lead+r.Path)})
	}
	for _, r := range f.Details().Notes {
		add(r, "")
	}
	if flows := f.Details().Flows; len(flows) > 0 {
		for n, r := range flows[0] {
			add(r, fmt.Sprintf("step %d: ", n+1))
		}
	}
	return d
}

// locationOf is the line that a remark is about.
func (w *place) locationOf(r finding.Remark) location {
	at := position{Line: max(r.Region.Line-1, 0)}
	return location{uriOf(filepath.Join(w.root, filepath.FromSlash(r.Path))), span{at, at}}
}

// spanOf is where a region stands in a text. Without columns it is the words of its lines; with a first one alone, the word there.
func spanOf(r finding.Region, unit source.Columns, x *index, lines *fix.Index) span {
	if r.Line == 0 {
		return x.span(0, 0)
	}
	piece, err := lines.Resolve(finding.Edit{Region: r}, unit)
	if err != nil {
		r = finding.Region{Line: r.Line}
		if piece, err = lines.Resolve(finding.Edit{Region: r}, unit); err != nil {
			return x.span(len(x.text), len(x.text))
		}
	}
	from, to := piece.From, piece.To
	for to > from && (x.text[to-1] == '\r' || x.text[to-1] == '\n') {
		to--
	}
	switch {
	case r.Column == 0:
		for from < to && (x.text[from] == ' ' || x.text[from] == '\t') {
			from++
		}
	case r.EndColumn == 0 && r.Last() == r.Line:
		end := from
		for end < to {
			c, size := utf8.DecodeRune(x.text[end:to])
			if end > from && !source.InName(c) {
				break
			}
			if end += size; !source.InName(c) {
				break
			}
		}
		to = end
	}
	return x.span(from, to)
}

// doorStatus is the state of the door as the editor gets it (zincdoor/door).
type doorStatus struct {
	URI      string   `json:"uri"`      // of the work tree
	Door     string   `json:"door"`     // "" where none was found
	Outcome  string   `json:"outcome"`  // open, shut or unjudged
	Enforced string   `json:"enforced"` // what it would be if the door enforced
	Why      string   `json:"why"`      // in a line
	Unsaved  bool     `json:"unsaved"`  // the verdict is on texts that aren't saved
	Waiting  []string `json:"waiting"`  // linters that weren't asked since files were saved
	Broken   []string `json:"broken"`   // the names of the limits that are
}

// statusOf is the state of the door by a judgement.
func (w *place) statusOf(j *app.Judgement, problem error) doorStatus {
	s := doorStatus{URI: uriOf(w.root), Outcome: string(judge.Unjudged), Enforced: string(judge.Unjudged), Waiting: []string{}, Broken: []string{}}
	if problem != nil {
		s.Why = render.Safe(strings.ReplaceAll(app.Said(problem), "\n", "; "))
		return s
	}
	s.Door, s.Outcome, s.Enforced, s.Why = j.Door, string(j.Outcome), string(j.Enforced), render.ReviewStatus(j.Verdict)
	if j.Outcome == judge.Unjudged {
		for _, e := range j.Evidence {
			if e.Name != "" && !e.Sound() && !e.Optional && !slices.Contains(j.Waiting, e.Name) {
				s.Why = render.Safe(e.Name + ": " + e.Problem)
				break
			}
		}
	}
	s.Waiting = append(s.Waiting, j.Waiting...)
	for _, l := range j.Limits {
		if !l.Held && !l.Waiting {
			s.Broken = append(s.Broken, l.Name)
		}
	}
	return s
}

// tellStatus tells the editor of the door where something of that has changed, and the user where its answer has, as far as it is saved.
func (w *place) tellStatus(j *app.Judgement, problem error) {
	if w.lone {
		return
	}
	status := w.statusOf(j, problem)
	w.judging.Lock()
	saved := w.live.Judgement()
	status.Unsaved = j != nil && saved != nil && j.Judged != saved.Judged
	if problem == nil && saved != nil {
		said := w.statusOf(saved, nil)
		w.sayOutcome(said, saved)
	} else if problem != nil && w.said != status.Why {
		w.said = status.Why
		w.message(messageError, "zincdoor can't judge: "+status.Why)
	}
	differs := !reflect.DeepEqual(w.status, status)
	w.status = status
	w.judging.Unlock()
	if differs {
		w.tell("zincdoor/door", status)
	}
}

// sayOutcome tells the user what the door answers, if that is another answer than before. An open door is nothing to say at first; nor is one
// that only waits for linters that weren't asked.
func (w *place) sayOutcome(s doorStatus, j *app.Judgement) {
	said := s.Outcome
	if said == string(judge.Unjudged) && onlyWaits(j) || said == w.said {
		return
	}
	first := w.said == ""
	w.said = said
	switch {
	case said == string(judge.Open) && !first:
		w.message(messageInfo, fmt.Sprintf("zincdoor: door %s is open", s.Door))
	case said == string(judge.Shut):
		w.message(messageWarning, fmt.Sprintf("zincdoor: door %s is shut: %s", s.Door, s.Why))
	case said == string(judge.Unjudged):
		w.message(messageWarning, fmt.Sprintf("zincdoor: door %s can't judge: %s", s.Door, s.Why))
	}
}

// onlyWaits reports whether linters that weren't asked are all that lacks.
func onlyWaits(j *app.Judgement) bool {
	for _, e := range j.Evidence {
		if !e.Sound() && !e.Optional && !slices.Contains(j.Waiting, e.Name) {
			return false
		}
	}
	return len(j.Waiting) > 0
}
