package editor

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/creachadair/jrpc2"

	"zincdoor/internal/app"
	"zincdoor/internal/core/comment"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/render"
)

// codeActions offers what can be done about the findings on some lines.
func (s *server) codeActions(ctx context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		TextDocument textDocument `json:"textDocument"`
		Range        span         `json:"range"`
		Context      struct {
			Only []string `json:"only"`
		} `json:"context"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%v", err)
	}
	all := []codeAction{}
	v, j := s.judgedNow(ctx, p.TextDocument.URI)
	if j == nil {
		return all, nil
	}
	a := &actions{place: s.placeOfDocument(p.TextDocument.URI), uri: p.TextDocument.URI, version: v, judgement: j}
	if a.place == nil {
		return all, nil
	}
	wants := func(kind string) bool {
		return len(p.Context.Only) == 0 || slices.ContainsFunc(p.Context.Only, func(only string) bool {
			return kind == only || strings.HasPrefix(kind, only+".")
		})
	}
	if wants(quickFix) {
		for _, i := range findingsAt(j, v.path, s.sourceLine(v, p.Range.Start), s.sourceLine(v, p.Range.End)) {
			all = append(all, a.of(i)...)
		}
	}
	if wants(fixAll) {
		all = append(all, a.fixAll()...)
	}
	return all, nil
}

// actions are those on a document as it was judged.
type actions struct {
	*place
	uri string
	version
	judgement *app.Judgement
}

// of are the actions on one finding.
func (a *actions) of(i int) (all []codeAction) {
	f := a.judgement.Findings[i]
	about := []diagnostic{}
	a.judging.Lock()
	for _, d := range a.shown[a.uri].diagnostics {
		if d.Data != nil && d.Data.ID == f.ID {
			about = append(about, d)
		}
	}
	a.judging.Unlock()
	add := func(c codeAction) {
		c.Kind, c.Diagnostics = quickFix, about
		all = append(all, c)
	}
	rule := render.Safe(f.Rule)
	for n, one := range f.Details().Fixes {
		edit := a.edit([]fix.Suggestion{{Tool: f.Tool, Edits: one.Edits, Columns: f.Columns}}, func(string, int) bool { return true })
		if edit == nil {
			continue
		}
		title := "Fix " + rule
		if one.Description != "" {
			title += ": " + render.Truncate(render.Safe(strings.Join(strings.Fields(one.Description), " ")), longestTitle)
		}
		add(codeAction{Title: title, Edit: edit, Preferred: n == 0})
	}
	if edit := a.waive(f); edit != nil {
		add(codeAction{Title: "Waive " + rule + " here, with a comment", Edit: edit})
	}
	if f.Standing != judge.Accepted && f.Standing != judge.Waived {
		add(codeAction{Title: "Accept " + rule + " into the baseline…", Command: &command{"Accept", commandAccept, []any{map[string]string{"uri": a.uri, "id": f.ID}}}})
	}
	if _, ok := a.limitOf(i); ok {
		add(codeAction{Title: "Show the limit that counts " + rule, Command: &command{"Show the limit", commandLimit, []any{map[string]string{"uri": a.uri, "id": f.ID}}}})
	}
	if flows := f.Details().Flows; len(flows) > 0 && len(flows[0]) > 0 {
		add(codeAction{Title: fmt.Sprintf("Show the way to %s (%s)", rule, finding.CountOf(len(flows[0]), "step")), Command: &command{"Show the way", commandFlow, []any{map[string]string{"uri": a.uri, "id": f.ID}}}})
	}
	return all
}

// longestTitle is how many characters of a description a title has.
const longestTitle = 80

// fixAll puts right all that can be on the lines of the document that the change touches.
func (a *actions) fixAll() (all []codeAction) {
	var chosen []int
	for i, f := range a.judgement.Findings {
		aside := f.Standing == judge.Accepted || f.Standing == judge.Waived || f.Severity == policy.Ignored
		if f.Path == a.path && !f.Outside && !aside && a.judgement.TouchedWithSpace(f.Path, f.Region.Line) {
			chosen = append(chosen, i)
		}
	}
	edit := a.edit(a.judgement.Suggested(chosen), a.judgement.TouchedWithSpace)
	if edit == nil {
		return nil
	}
	return []codeAction{{Title: "Fix all that zincdoor can on the lines that the change touches", Kind: fixAll, Edit: edit}}
}

// edit is what suggestions come to, nil where none can be taken.
func (a *actions) edit(suggestions []fix.Suggestion, may func(path string, line int) bool) *workspaceEdit {
	open := map[string]version{}
	uris := map[string]string{}
	for uri, v := range a.open() {
		open[v.path], uris[v.path] = v, uri
	}
	open[a.path], uris[a.path] = a.version, a.uri
	texts := map[string][]byte{}
	text := func(path string) fix.Text {
		data, known := texts[path]
		if v, is := open[path]; is && !known {
			data = v.text
		} else if !known {
			var err error
			if data, err = a.read(path); err != nil {
				return fix.Text{Refused: err.Error()}
			}
		}
		texts[path] = data
		return fix.Text{Data: data}
	}
	plan := fix.Choose(suggestions, text, may)
	if len(plan.Pieces) == 0 {
		return nil
	}
	edits := map[string][]textEdit{}
	for path, pieces := range plan.Pieces {
		x := a.index(texts[path])
		for _, p := range pieces {
			edits[path] = append(edits[path], textEdit{x.span(p.From, p.To), p.With})
		}
	}
	return a.workspaceEdit(edits, open, uris)
}

// read is a file of the work tree that isn't open.
func (a *actions) read(path string) ([]byte, error) {
	if !filepath.IsLocal(filepath.FromSlash(path)) {
		return nil, fmt.Errorf("it lies outside of the repository")
	}
	return readFile(filepath.Join(a.root, filepath.FromSlash(path)))
}

// workspaceEdit writes edits by files as the editor takes them.
func (a *actions) workspaceEdit(edits map[string][]textEdit, open map[string]version, uris map[string]string) *workspaceEdit {
	a.mutex.Lock()
	versioned := a.client.Workspace.WorkspaceEdit.DocumentChanges
	a.mutex.Unlock()
	edit := &workspaceEdit{}
	for _, path := range slices.Sorted(maps.Keys(edits)) {
		uri := uris[path]
		if uri == "" {
			uri = uriOf(filepath.Join(a.root, filepath.FromSlash(path)))
		}
		if !versioned {
			if edit.Changes == nil {
				edit.Changes = map[string][]textEdit{}
			}
			edit.Changes[uri] = edits[path]
			continue
		}
		one := documentEdit{Edits: edits[path]}
		one.TextDocument.URI = uri
		if v, is := open[path]; is {
			one.TextDocument.Version = &v.number
		}
		edit.DocumentChanges = append(edit.DocumentChanges, one)
	}
	return edit
}

// waive writes a comment above a finding that sets it aside, once there is a reason in it; nil where none may, or can be written.
func (a *actions) waive(f judge.Finding) *workspaceEdit {
	j := a.judgement
	if f.Standing == judge.Waived || f.Standing == judge.Accepted || f.Region.Line == 0 || f.Rule == "" || f.Tool == waiver.Tool && f.Rule == waiver.Rule {
		return nil
	}
	if door := j.Input.Door; !door.Waivers.Code || !door.Waivers.MayWaive(j.Ladder, *f.Finding, f.Severity) {
		return nil
	}
	words, ok := comment.Write(a.path, waiver.For(f.Rule))
	if !ok {
		return nil
	}
	lines := fix.NewIndex(a.text)
	piece, err := lines.Resolve(finding.Edit{Region: finding.Region{Line: f.Region.Line}}, f.Columns)
	if err != nil {
		return nil
	}
	line := string(a.text[piece.From:piece.To])
	end := "\n"
	if strings.HasSuffix(line, "\r") {
		end = "\r\n"
	}
	indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
	edit := textEdit{a.index(a.text).span(piece.From, piece.From), indent + words + end}
	return a.workspaceEdit(map[string][]textEdit{a.path: {edit}}, map[string]version{a.path: a.version}, map[string]string{a.path: a.uri})
}
