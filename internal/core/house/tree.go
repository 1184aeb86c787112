package house

import (
	"path"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Tree is the paths of all files of a state.
type Tree struct {
	files   map[string]bool
	folders map[string]bool
	folded  map[string][]string // paths and folders, by their lower case
}

// NewTree learns the paths of a state.
func NewTree(paths []string) *Tree {
	t := &Tree{files: map[string]bool{}, folders: map[string]bool{".": true}, folded: map[string][]string{}}
	fold := func(p string) {
		lower := strings.ToLower(p)
		if !slices.Contains(t.folded[lower], p) {
			t.folded[lower] = append(t.folded[lower], p)
		}
	}
	for _, p := range paths {
		t.files[p] = true
		fold(p)
		for dir := path.Dir(p); dir != "." && !t.folders[dir]; dir = path.Dir(dir) {
			t.folders[dir] = true
			fold(dir)
		}
	}
	return t
}

// Check holds a file against what else is in the tree.
func (t *Tree) Check(f File, settings []Setting) (found []finding.Finding) {
	note := func(s Setting, message string) {
		found = append(found, finding.Finding{Tool: Tool, Rule: s.Name, Level: RuleOf(s.Kind).Level, Message: message, Path: f.Path, Columns: source.Bytes, Occurrences: 1})
	}
	for _, s := range settings {
		switch s.Kind {
		case "case-twins":
			for at := f.Path; at != "."; at = path.Dir(at) {
				for _, other := range t.folded[strings.ToLower(at)] {
					if other != at {
						note(s, at+" and "+other+" differ in upper and lower case alone")
					}
				}
			}
		case "broken-link":
			if f.Mode != Link {
				continue
			}
			target := string(f.Data)
			to := path.Join(path.Dir(f.Path), target)
			if !path.IsAbs(target) && !strings.HasPrefix(to, "../") && to != ".." && !t.files[to] && !t.folders[to] {
				note(s, "the symbolic link leads to "+target+", which isn't in the repository")
			}
		}
	}
	return found
}
