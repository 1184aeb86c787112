package app

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"

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
		in.Whole.DropTexts(false)
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
	all.Missing = func(path string) bool { return lacking[path] }
	all.New, all.News = all.reading(t.Tree.Read, t.Tree.ReadAll)
	if t.Diff != nil {
		all.Old, all.Olds = all.reading(t.Diff.ReadOld, t.Diff.ReadOlds)
	}
	return all, nil
}

// reading makes of what reads a file, and what reads many but may leave some out, what recognition asks for texts.
func (all *texts) reading(
	read func(path string) (data []byte, found bool, err error), readAll func(paths []string, see func(path string, data []byte)) error,
) (one func(path string) *source.Text, many func(paths []string, see func(path string, text *source.Text))) {
	one = func(path string) *source.Text {
		data, found, err := read(path)
		if err != nil || !found {
			all.unread = cmp.Or(all.unread, err)
			return nil
		}
		return source.New(data)
	}
	many = func(paths []string, see func(path string, text *source.Text)) {
		var mutex sync.Mutex
		seen := map[string]bool{}
		err := readAll(paths, func(path string, data []byte) {
			mutex.Lock()
			seen[path] = true
			mutex.Unlock()
			see(path, source.Glimpse(data))
		})
		all.unread = cmp.Or(all.unread, err)
		for _, path := range paths {
			if !seen[path] {
				if text := one(path); text != nil {
					see(path, text)
				}
			}
		}
	}
	return one, many
}
