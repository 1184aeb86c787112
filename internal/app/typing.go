package app

import (
	"context"
	"fmt"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/evidence"
	"zincdoor/internal/target"
)

// Type judges the work tree as it was at the last judgement, with files that have other texts, by their paths from the root.
func (l *Live) Type(ctx context.Context, texts map[string][]byte) (*Judgement, error) {
	saved, present, typed := map[string]*source.Text{}, map[string]*source.Text{}, map[string][]byte{}
	for path, data := range texts {
		old, found := l.saved[path]
		if !found {
			var err error
			if old, found, err = l.target.Tree.Read(path); err != nil {
				return nil, fmt.Errorf("reading %s: %w", path, err)
			}
		}
		if found && string(old) == string(data) {
			continue
		}
		typed[path], present[path] = data, source.New(data)
		if found {
			saved[path] = source.New(old)
		}
	}
	if len(typed) == 0 {
		return l.Judgement(), nil
	}
	t, err := l.target.WithTexts(typed)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	request := collecting(t, l.authority, l.request.Call, l.request.Reports, nil)
	request.Lines, request.Words = true, l.words
	e := evidence.NewEdited(saved, present)
	in := l.judged.Input
	takes, err := l.concerned(t, texts)
	if err != nil {
		return nil, err
	}
	in.Beside = l.beside(takes)
	collected, edited, err := l.collected.Again(ctx, request, e, takes)
	if err != nil {
		return nil, err
	}
	in.Change, in.Whole, in.Spaced, in.Waivers = collected.Change, collected.Whole, collected.Spaced, collected.Waivers
	in.Subject.Files = len(in.Change.Files)
	in.Findings, edited = l.withMeasures(&in, collected.Findings, e, edited)
	in.Texts, in.Baseline = typedTexts(in.Texts, present), entriesThatMatter(in.Baseline, in.Change, in.Findings)
	j := &Judged{Input: in, Policy: l.judged.Policy, Dir: l.judged.Dir, Root: l.judged.Root, Refused: l.judged.Refused, side: t.Side, texts: collected.Texts, rules: collected.Rules}
	j.Verdict = judge.Judge(in)
	before, again := e.Carry(l.edited)
	return &Judgement{Judged: j, Waiting: collected.Waiting, Edited: slices.Concat(before, again, edited)}, nil
}

// concerned says of which files findings are judged again: those of the change, and those that are open. There may be very many others,
// whose findings no typing alters. Where the door has a limit on what all findings come to, it is all files.
func (l *Live) concerned(t *target.Target, open map[string][]byte) (takes func(path string) bool, err error) {
	if slices.ContainsFunc(l.judged.Input.Door.Limits, func(limit policy.Limit) bool {
		return limit.Demands() && (limit.Demand.Number == measure.NumberDebt || limit.Demand.Number == measure.NumberReported)
	}) {
		return func(string) bool { return true }, nil
	}
	files, err := t.Files()
	paths := map[string]bool{"": true}
	for _, f := range files {
		paths[f.Path], paths[f.Old] = true, true
	}
	for _, f := range l.judged.Input.Change.Files { // and those that aren't of it any more
		paths[f.Path] = true
	}
	for path := range open {
		paths[path] = true
	}
	return func(path string) bool { return paths[path] }, err
}

// beside is how many findings of other files each limit of the door counts, as far as that matters to whether it holds.
func (l *Live) beside(takes func(path string) bool) map[int]int {
	all := map[int]int{}
	for n := range l.judged.Input.Door.Limits {
		limit, inFile := &l.judged.Limits[n], map[string]int{}
		for _, i := range limit.Findings {
			path := l.judged.Findings[i].Path
			switch {
			case takes(path):
			case limit.EachFile:
				inFile[path]++
				all[n] = max(all[n], inFile[path])
			default:
				all[n]++
			}
		}
	}
	return all
}

// withMeasures adds what was found about numbers, and brings the numbers to the lines of the texts: they are taken anew when files are saved.
func (l *Live) withMeasures(in *judge.Input, findings []finding.Finding, e *evidence.Edited, edited []finding.Finding) (all, lost []finding.Finding) {
	measured := slices.DeleteFunc(slices.Clone(in.Findings), func(f finding.Finding) bool { return !judge.IsMeasured(&f) })
	if len(measured) == 0 && len(in.Measures.Values) == 0 {
		return findings, edited
	}
	kept, gone := e.Carry(measured)
	carrier := change.Carrier{Between: e.Between}
	var values []measure.Value
	for _, v := range in.Measures.Values {
		if e.Texts[v.Path] != nil && v.Lines.First > 0 {
			_, at, there := carrier.CarryLine(v.Path, v.Lines.First)
			if !there {
				continue
			}
			v.Lines.Last += at - v.Lines.First
			v.Lines.First = at
		}
		values = append(values, v)
	}
	slices.SortFunc(values, measure.ByPlace)
	in.Measures.Values = values
	return finding.Merge(slices.Concat(findings, kept)), slices.Concat(edited, gone)
}

// entriesThatMatter leaves out of a list what lies in files that neither the change nor any finding has: there may be very many, and none
// recognises anything.
func entriesThatMatter(b *baseline.Baseline, c *change.Change, findings []finding.Finding) *baseline.Baseline {
	if b == nil || c.Everything {
		return b
	}
	paths := map[string]bool{"": true}
	for _, f := range c.Files {
		paths[f.Path], paths[f.Old] = true, true
	}
	for i := range findings {
		paths[findings[i].Path] = true
	}
	fewer := *b
	fewer.Entries = nil
	for _, e := range b.Entries {
		if paths[e.Path] {
			fewer.Entries = append(fewer.Entries, e)
		}
	}
	return &fewer
}

// typedTexts are the texts that recognition looks into, with some in the place of those on disk.
func typedTexts(saved judge.Texts, present map[string]*source.Text) judge.Texts {
	typed := saved
	if saved.New == nil {
		return typed
	}
	typed.Missing = func(path string) bool { return present[path] == nil && saved.Missing != nil && saved.Missing(path) }
	typed.New = func(path string) *source.Text {
		if text := present[path]; text != nil {
			return text
		}
		return saved.New(path)
	}
	typed.News = func(paths []string, see func(path string, text *source.Text)) {
		left := slices.DeleteFunc(slices.Clone(paths), func(path string) bool {
			text := present[path]
			if text != nil {
				see(path, text)
			}
			return text != nil
		})
		saved.News(left, see)
	}
	return typed
}
