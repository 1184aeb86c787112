package app

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/target"
)

// texts are what recognition may look into, and the first error of reading it.
type texts struct {
	judge.Texts
	unread error
}

// textsOf gives the texts of a target, as far as something accepted or found before is to be recognised there.
func textsOf(t *target.Target, in *judge.Input) (*texts, error) {
	all := &texts{}
	paths := map[string]bool{}
	renames := in.Whole.Renames()
	add := func(path string) {
		if path == "" || strings.HasPrefix(path, "/") {
			return
		}
		paths[path] = true
		if now, ok := renames[path]; ok {
			paths[now] = true
		}
	}
	for _, e := range in.Baseline.Entries {
		add(e.Path)
	}
	for _, f := range in.BaseFindings {
		add(f.Path)
	}
	for _, a := range in.Added {
		add(a.Entry.Path)
	}
	for _, w := range in.Waivers {
		add(w.Path)
	}
	if len(paths) == 0 {
		return all, nil
	}
	lacking, err := t.Tree.Lacking(slices.Sorted(maps.Keys(paths)))
	if err != nil {
		return nil, err
	}
	if tree, ok := t.Tree.(interface {
		Away(paths []string) (map[string]bool, error)
	}); ok {
		away, err := tree.Away(slices.Sorted(maps.Keys(paths)))
		if err != nil {
			return nil, err
		}
		all.Away = func(path string) bool { return away[path] }
	}
	text := func(data []byte, found bool, err error) *source.Text {
		if err != nil || !found {
			all.unread = cmp.Or(all.unread, err)
			return nil
		}
		return source.New(data)
	}
	all.Missing = func(path string) bool { return lacking[path] }
	all.New = func(path string) *source.Text { return text(t.Tree.Read(path)) }
	if t.Diff != nil {
		all.Old = func(path string) *source.Text { return text(t.Diff.ReadOld(path)) }
	}
	return all, nil
}
