package report

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Mapping leads paths of another machine or another folder to those of a repository: Strip is taken off their
// beginning, Add is put there instead. The zero value leads every path to itself.
type Mapping struct{ Strip, Add string }

// RootMapping is the mapping for reports whose paths start from root: an absolute path is the repository's root on the
// machine that made the report, a relative one a folder of the repository.
func RootMapping(root string) Mapping {
	if root = cleanLocation(root); isAbsolute(root) {
		return Mapping{Strip: strings.TrimSuffix(root, "/")}
	}
	if root = path.Clean(root); root == "." {
		root = ""
	}
	return Mapping{Add: root}
}

// String is the mapping as people read it: the folder that paths start from.
func (m Mapping) String() string { return cmp.Or(m.Strip, m.Add, ".") }

// Apply leads a path; false where the mapping isn't for it.
func (m Mapping) Apply(p string) (string, bool) {
	if m.Strip == "" && isAbsolute(p) {
		return "", false
	}
	rest := path.Clean(p)
	if m.Strip != "" {
		var under bool
		if rest, under = strings.CutPrefix(rest, m.Strip+"/"); !under {
			return "", false
		}
	}
	return path.Join(m.Add, rest), true
}

// sampled is how many paths are looked at to find a mapping; all of them are held against it.
const sampled = 300

// Mapped is how the paths of a report that are found nowhere lead into a repository.
type Mapped struct {
	Mapping
	Files int // how many of the paths are files by it
	Depth int // the most components that a path and its file have in common at their end

	Rivals []Mapping // other mappings by which as many are files; the first is Mapping itself where it is no shorter than another
}

// depth is how many folders a mapping takes off or puts before.
func (m Mapping) depth() int { return strings.Count(m.Strip, "/") + strings.Count(m.Add, "/") }

// FindMapping finds how paths that are found nowhere lead to these files, by what both end in. It is false where no
// beginning fits.
//
// Either a beginning is taken off (another machine's root) or one is added (the folder that the linter ran in), never
// both: a bare file name isn't enough to tell one tree from another. Of several that fit as well the one of the fewest folders
// is taken, the others are its rivals. Paths of which outside says that they may lie anywhere count where they fit, and else not.
func FindMapping(unknown, files []string, outside func(path string) bool) (Mapped, bool) {
	byName := map[string][]string{}
	for _, f := range files {
		byName[path.Base(f)] = append(byName[path.Base(f)], f)
	}
	depth := map[Mapping]int{}
	for _, p := range unknown[:min(len(unknown), sampled)] {
		for _, f := range byName[path.Base(p)] {
			if m, shared := between(path.Clean(p), f); m.Strip == "" || m.Add == "" {
				depth[m] = max(depth[m], shared)
			}
		}
	}
	present := make(map[string]bool, len(files))
	for _, f := range files {
		present[f] = true
	}
	votes := func(m Mapping) (n int) {
		for _, p := range unknown {
			if to, ok := m.Apply(p); ok && present[to] {
				n++
			}
		}
		return n
	}
	candidates := slices.SortedFunc(maps.Keys(depth), func(a, b Mapping) int {
		return cmp.Or(cmp.Compare(a.depth(), b.depth()), cmp.Compare(a.Strip, b.Strip), cmp.Compare(a.Add, b.Add))
	})
	var best Mapped
	for _, m := range candidates {
		switch n := votes(m); {
		case n > best.Files:
			best = Mapped{Mapping: m, Files: n, Depth: depth[m]}
		case n == best.Files && n > 0:
			best.Rivals = append(best.Rivals, m)
		}
	}
	if len(best.Rivals) > 0 && best.depth() == best.Rivals[0].depth() {
		best.Rivals = slices.Insert(best.Rivals, 0, best.Mapping)
	}
	apart := 0 // those that may well lie elsewhere
	for _, p := range unknown {
		if !isUnder(p, cmp.Or(best.Strip, ".")) && outside(p) {
			apart++
		}
	}
	return best, best.Files > 0 && (best.Depth > 1 || best.Files == len(unknown)-apart)
}

// between gives the mapping that leads p to the file f, taking what both end in for the same.
func between(p, f string) (m Mapping, shared int) {
	for {
		dirP, baseP := path.Split(p)
		dirF, baseF := path.Split(f)
		if baseP != baseF || baseP == "" {
			return Mapping{Strip: p, Add: f}, shared
		}
		shared++
		p, f = strings.TrimSuffix(dirP, "/"), strings.TrimSuffix(dirF, "/")
		if p == "" || f == "" {
			return Mapping{Strip: p, Add: f}, shared
		}
	}
}

// NameForm is a way of writing names in which different ones may be the same.
type NameForm func(name string) string

// NameForms are the forms in which a name that is no file's may be one: composed as Unicode has it (UAX #15), then also
// without regard to case, as systems have it that don't tell them apart. Every path is the same as its last form's form.
var NameForms = []NameForm{
	func(name string) string { return norm.NFC.String(path.Clean(name)) },
	func(name string) string { return strings.ToLower(norm.NFC.String(path.Clean(name))) },
}

// Loosest writes a name in the form in which most names are the same.
func Loosest(name string) string { return NameForms[len(NameForms)-1](name) }

// Index finds files by their names in a form. A name that fits several files leads to "".
func (form NameForm) Index(files []string) map[string]string {
	index := make(map[string]string, len(files))
	for _, f := range files {
		name := form(f)
		if _, twice := index[name]; twice {
			f = ""
		}
		index[name] = f
	}
	return index
}
