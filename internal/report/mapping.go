package report

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"
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

// FindMapping finds how the paths of a report that are found nowhere lead into a repository with these files, by what
// both ends of the paths have in common. It is false where nothing fits, or several mappings fit as well.
//
// Either a beginning is taken off (another machine's root) or one is added (the folder that the linter ran in), never
// both: a bare file name isn't enough to tell one tree from another.
func FindMapping(unknown, files []string) (Mapping, bool) {
	byName := map[string][]string{}
	for _, f := range files {
		byName[path.Base(f)] = append(byName[path.Base(f)], f)
	}
	depth := map[Mapping]int{} // the most components that a path and its file share at the end
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
	votes := func(m Mapping) int {
		n := 0
		for _, p := range unknown {
			if to, ok := m.Apply(p); ok && present[to] {
				n++
			}
		}
		return n
	}
	candidates := slices.SortedFunc(maps.Keys(depth), func(a, b Mapping) int {
		return cmp.Or(cmp.Compare(a.Strip, b.Strip), cmp.Compare(a.Add, b.Add))
	})
	best, most, tied := Mapping{}, 0, false
	for _, m := range candidates {
		switch n := votes(m); {
		case n > most:
			best, most, tied = m, n, false
		case n == most:
			tied = true
		}
	}
	sure := most == len(unknown) || depth[best] > 1
	return best, most > 0 && !tied && sure
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

// Fold finds paths that differ from a repository's files in upper and lower case alone, as systems that don't tell them
// apart write them.
type Fold map[string]string

// NewFold prepares the search. Files that differ from one another in case alone are left out.
func NewFold(files []string) Fold {
	fold := Fold{}
	for _, f := range files {
		low := strings.ToLower(f)
		if _, twice := fold[low]; twice {
			fold[low] = ""
			continue
		}
		fold[low] = f
	}
	return fold
}

// Find gives the file that p means; false where there is none, or more than one.
func (f Fold) Find(p string) (string, bool) {
	found := f[strings.ToLower(path.Clean(p))]
	return found, found != ""
}
