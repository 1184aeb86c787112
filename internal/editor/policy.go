package editor

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"github.com/creachadair/jrpc2"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/source"
	"zincdoor/internal/evidence"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

// isPolicy reports whether a file is the policy of the folder that it is in.
func isPolicy(file string) bool {
	return strings.HasSuffix(filepath.ToSlash(file), "/"+policyfile.Path)
}

// checkedPolicy is a text of the policy, and what is wrong in it.
type checkedPolicy struct {
	text  string
	saved bool // it was the one on disk
	list  []diagnostic
}

// policyProblems are what is wrong in the text of a policy, and where that is the one on disk what of it never matters.
func (w *place) policyProblems(v version) []diagnostic {
	saved := w.isSaved(v)
	if w.policy != nil && w.policy.text == string(v.text) && w.policy.saved == saved {
		return w.policy.list
	}
	c := w.Request.Call
	c.Dir, c.Today = w.root, w.Today()
	list := []diagnostic{}
	_, err := app.CheckTypedPolicy(w.ctx, c, v.text)
	var wrong policyfile.Problems
	switch {
	case errors.As(err, &wrong):
		list = w.ofProblems(v, wrong, severityError)
	case err == nil && saved:
		if _, idle, err := app.CheckPolicy(w.ctx, c, evidence.Given{Dir: w.root}); err == nil {
			list = w.ofProblems(v, idle, severityInformation)
		}
	}
	w.policy = &checkedPolicy{string(v.text), saved, list}
	return list
}

// ofProblems are problems as they are shown.
func (w *place) ofProblems(v version, problems policyfile.Problems, as severity) (list []diagnostic) {
	x, lines := w.index(v.text), fix.NewIndex(v.text)
	for _, p := range problems {
		d := diagnostic{Severity: as, Source: "zincdoor: policy", Message: render.Safe(p.Text)}
		if strings.HasSuffix(p.File, policyfile.Path) {
			d.Range = spanOf(finding.Region{Line: p.Line, Column: p.Column}, source.CodePoints, x, lines)
		} else { // of one that it inherits
			d.Message = render.Safe(p.String())
		}
		list = append(list, d)
	}
	return list
}

// complete offers keys and values of the policy.
func (s *server) complete(_ context.Context, req *jrpc2.Request) (any, error) {
	x, at, ok := s.inPolicy(req)
	if !ok {
		return nil, nil
	}
	spot := policyfile.SpotAt(x.text, at)
	all := []completion{}
	for _, h := range policyfile.Hints(spot) {
		c := completion{Label: h.Name, Kind: completesKey, Documentation: aboutHint(h), Edit: textEdit{x.span(spot.From, spot.To), h.Name}}
		if spot.Value {
			c.Kind = completesValue
		} else if spot.To == len(x.text) || x.text[spot.To] != ':' {
			c.Edit.NewText += ": "
		}
		all = append(all, c)
	}
	return all, nil
}

// hoverOnKey says what a key of the policy is.
func (s *server) hoverOnKey(x *index, at int) any {
	spot := policyfile.SpotAt(x.text, at)
	keys := spot.Keys
	if !spot.Value {
		keys = append(keys, strings.Trim(string(x.text[spot.From:spot.To]), `"'`))
	}
	h, known := policyfile.HintOn(keys)
	if !known {
		return nil
	}
	text := aboutHint(h)
	if text == "" {
		return nil
	}
	where := x.span(spot.From, spot.To)
	return hover{Contents: s.markup("**"+strings.ReplaceAll(strings.Join(keys, ": "), ": "+policyfile.Item, "")+"**\n\n"+text, text), Range: &where}
}

func aboutHint(h policyfile.Hint) string {
	var parts []string
	if h.About != "" {
		parts = append(parts, h.About)
	}
	if len(h.Values) > 0 {
		parts = append(parts, "one of "+strings.Join(h.Values, ", "))
	}
	if len(h.Keys) > 0 {
		parts = append(parts, "keys: "+strings.Join(h.Keys, ", "))
	}
	return strings.Join(parts, "\n\n")
}

// inPolicy is the text of an open policy that a request is about, and the byte in it.
func (s *server) inPolicy(req *jrpc2.Request) (x *index, at int, ok bool) {
	var p textDocumentPosition
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, 0, false
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	d := s.documents[p.TextDocument.URI]
	if d == nil || !isPolicy(d.file) {
		return nil, 0, false
	}
	x = newIndex(d.text, s.unit)
	return x, x.offset(p.Position), true
}

// markup is a text for the user, as Markdown where the editor takes that.
func (s *server) markup(markdown, plain string) markup {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, format := range s.client.TextDocument.Hover.ContentFormat {
		switch format {
		case "markdown":
			return markup{"markdown", markdown}
		case "plaintext":
			return markup{"plaintext", plain}
		}
	}
	return markup{"markdown", markdown}
}

// isSaved reports whether a document is as it is on disk.
func (w *place) isSaved(v version) bool {
	data, err := readFile(filepath.Join(w.root, filepath.FromSlash(v.path)))
	return err == nil && string(data) == string(v.text)
}
