package policy

import (
	"zincdoor/internal/core/house"
)

// HouseFor gives the house checks that take a file, those that judge it by itself and those that need the tree.
func (p *Policy) HouseFor(path string) (settings []house.Setting) {
	for _, c := range p.House {
		if (len(c.Paths) == 0 || MatchPath(c.Paths, path)) && !MatchPath(c.Except, path) {
			settings = append(settings, c)
		}
	}
	return settings
}
