package editor

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"github.com/creachadair/jrpc2"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// hover explains what was found where the pointer is, and tells the numbers of a function that the change touches on its first line.
func (s *server) hover(ctx context.Context, req *jrpc2.Request) (any, error) {
	if x, at, ok := s.inPolicy(req); ok {
		if found := s.hoverOnKey(x, at); found != nil {
			return found, nil
		}
	}
	var p textDocumentPosition
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%v", err)
	}
	v, j := s.judgedNow(ctx, p.TextDocument.URI)
	if j == nil {
		return nil, nil
	}
	line := s.sourceLine(v, p.Position)
	var parts []string
	for _, i := range findingsAt(j, v.path, line, line) {
		e, err := j.Explain(j.Findings[i].ID, j.Input.Policy, j)
		if err != nil || e == nil {
			continue
		}
		parts = append(parts, render.ExplainMarkdown(render.Explanation{Explanation: e, At: j.GradedAt}))
	}
	if about := aboutFunction(j, v, line); about != "" {
		parts = append(parts, about)
	}
	if len(parts) == 0 {
		return nil, nil
	}
	text := strings.Join(parts, "\n---\n\n")
	return hover{Contents: s.markup(text, text)}, nil
}

// judgedNow is a document with the judgement on it as it is now, nil where there is none.
func (s *server) judgedNow(ctx context.Context, uri string) (version, *app.Judgement) {
	w := s.placeOfDocument(uri)
	if w == nil || w.lone {
		return version{}, nil
	}
	v, ok := w.waitForJudged(ctx, uri)
	if !ok {
		return v, nil
	}
	w.judging.Lock()
	defer w.judging.Unlock()
	return v, w.judgement
}

// sourceLine is the line, 1-based, that a position is on for tools, which know no end of a line but \n.
func (s *server) sourceLine(v version, p position) int {
	return 1 + bytes.Count(v.text[:s.index(v.text).offset(p)], []byte("\n"))
}

// findingsAt are the findings of a file on some lines, by their places in the verdict.
func findingsAt(j *app.Judgement, path string, first, last int) (all []int) {
	for i, f := range j.Findings {
		if f.Path == path && !f.Outside && f.Severity != policy.Ignored && f.Region.Line <= last && f.Region.Last() >= first && f.Region.Line > 0 {
			all = append(all, i)
		}
	}
	return all
}

// aboutFunction tells the numbers of the function that begins on a line, where the change touches it, and the limits on them.
func aboutFunction(j *app.Judgement, v version, line int) string {
	if !measure.Knows(v.path) {
		return ""
	}
	file := measure.Of(v.path, v.text)
	for _, fn := range file.Functions {
		if fn.First != line || !j.Input.Change.TouchesAny(v.path, fn.Span) {
			continue
		}
		code := 0
		for n := fn.First; n <= fn.Last; n++ {
			if file.Code.Has(n) {
				code++
			}
		}
		text := fmt.Sprintf("`%s`: %d lines, %d of code; %d decisions, nesting %d, %d parameters", strings.ReplaceAll(render.Safe(fn.Name), "`", ""), fn.Count(), code, fn.Decisions, fn.Nesting, fn.Parameters)
		if fn.Estimated {
			text += " (estimated)"
		}
		for _, l := range j.Limits {
			if l.Demands() && l.Counted == judge.Findings && l.Demand.Of == measure.OfFunction {
				text += "\n- " + render.Limit(l.Limit, l.Mode)
			}
		}
		return text
	}
	return ""
}
