package baseline

import (
	"slices"

	"github.com/bmatcuk/doublestar/v4"
)

// Uncovered is what some covers took that others don't any more: by tool the globs that are gone, and the files that are left out
// though they were covered.
func Uncovered(before, after []Cover) (gone []Cover) {
	for _, c := range before {
		lost := Cover{Tool: c.Tool}
		for _, glob := range c.Paths {
			if !slices.ContainsFunc(after, func(a Cover) bool { return a.Tool == c.Tool && a.takes(glob) }) {
				lost.Paths = append(lost.Paths, glob)
			}
		}
		for _, a := range after {
			for _, file := range a.Except {
				if a.Tool == c.Tool && c.Matches(file) && !slices.Contains(lost.Paths, PathGlob(file)) {
					lost.Paths = append(lost.Paths, PathGlob(file))
				}
			}
		}
		if len(lost.Paths) > 0 {
			gone = append(gone, lost)
		}
	}
	return gone
}

// takes reports whether the cover takes all that a glob takes, as far as that can be told.
func (c Cover) takes(glob string) bool {
	for _, own := range c.Paths {
		if own == Everywhere || own == glob || PathGlob(glob) == glob && doublestar.MatchUnvalidated(own, glob) {
			return true
		}
	}
	return false
}
