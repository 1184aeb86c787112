package policy

import (
	"math"
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
				fit = max(fit, LiteralLength(glob))
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
	for _, d := range p.Doors {
		for _, glob := range d.Refs {
			if takesRef(glob, ref) {
				return true
			}
		}
	}
	return false
}

// NamesRefs reports whether a push door says at which refs it stands.
func (p *Policy) NamesRefs() bool {
	for _, d := range p.Doors {
		if len(d.Refs) > 0 {
			return true
		}
	}
	return false
}

func takesRef(glob, ref string) bool {
	if !strings.HasPrefix(glob, "refs/") {
		glob = "refs/heads/" + glob
	}
	return MatchPath([]string{glob}, ref)
}

// LiteralLength is how long a glob is before its first wildcard, at least 1; one without any is longer than all others.
func LiteralLength(glob string) int {
	if i := strings.IndexAny(glob, `*?[{\`); i >= 0 {
		return len(strings.TrimPrefix(glob[:i], "refs/heads/")) + 1
	}
	return math.MaxInt
}
