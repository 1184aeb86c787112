package policy

import (
	"github.com/bmatcuk/doublestar/v4"
	"math"
	"slices"
	"strings"
)

// A push door stands at the refs that its globs take, else at all at which no other does. Globs are of whole refs, or of names of
// branches where they don't begin with refs/; * stops at slashes.

// Standing are the push doors that stand at a ref, as a push names it (refs/heads/main): those whose glob is the longest
// before its first wildcard, else those without globs.
func (p *Policy) Standing(ref string) (doors []Door) {
	longest := 0
	for _, d := range p.Doors {
		if d.Judges != Push && d.Judges != "" {
			continue
		}
		fit := 0
		for _, glob := range d.Refs {
			if takesRef(glob, ref) {
				fit = max(fit, literalLength(glob))
			}
		}
		switch {
		case len(d.Refs) > 0 && fit == 0 || fit < longest:
		case fit > longest:
			longest, doors = fit, []Door{d}
		default:
			doors = append(doors, d)
		}
	}
	return doors
}

// Guards reports whether a ref is guarded: a push door that names refs stands there, or where none names any it is the branch
// that is given.
func (p *Policy) Guards(ref, main string) bool {
	if !p.NamesRefs() {
		return ref == main
	}
	return slices.ContainsFunc(p.Doors, func(d Door) bool {
		return slices.ContainsFunc(d.Refs, func(glob string) bool { return takesRef(glob, ref) })
	})
}

// NamesRefs reports whether a push door says at which refs it stands.
func (p *Policy) NamesRefs() bool {
	return slices.ContainsFunc(p.Doors, func(d Door) bool { return len(d.Refs) > 0 })
}

func takesRef(glob, ref string) bool { return doublestar.MatchUnvalidated(WholeRef(glob), ref) }

// WholeRef is a glob of refs as one of whole refs.
func WholeRef(glob string) string {
	if strings.HasPrefix(glob, "refs/") {
		return glob
	}
	return "refs/heads/" + glob
}

// Literal is the part of a glob before its first wildcard; whole says that it has none.
func Literal(glob string) (part string, whole bool) {
	if i := strings.IndexAny(glob, `*?[{\`); i >= 0 {
		return glob[:i], false
	}
	return glob, true
}

// literalLength is how long a glob is before its first wildcard, at least 1; one without any is longer than all others.
func literalLength(glob string) int {
	part, whole := Literal(glob)
	if whole {
		return math.MaxInt
	}
	return len(strings.TrimPrefix(part, "refs/heads/")) + 1
}
