// Package measuring reads the files whose numbers somebody wants to know, and leaves out those that the policy leaves out. What the
// numbers are is known to core/measure.
package measuring

import (
	"bytes"
	"slices"
	"sync"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/target"
)

// Choice says which files are measured, and counts those that are left out.
type Choice struct {
	Policy *policy.Policy
	Takes  func(path string) bool // nil takes all
	Also   func(path string) bool // takes files in languages that aren't known; nil takes none

	Other int // files in languages that aren't known
	Aside int // files that the policy skips, or says are generated
}

// Left are the paths of files that are measured. The given slice is written to.
func (c *Choice) Left(paths []string) []string {
	return slices.DeleteFunc(paths, func(path string) bool {
		switch {
		case path == "" || c.Takes != nil && !c.Takes(path):
			return true
		case policy.MatchPath(c.Policy.Skip, path) || policy.MatchPath(c.Policy.Sets[policy.GeneratedSet], path):
			c.Aside++
			return true
		case !measure.Knows(path) && (c.Also == nil || !c.Also(path)):
			c.Other++
			return true
		}
		return false
	})
}

// State is where files are read: all at once, as far as that goes, and else one by one.
type State struct {
	ReadAll func(paths []string, see func(path string, data []byte)) error
	Read    func(path string) (data []byte, found bool, err error)
	Link    func(path string) (to string, link bool, err error) // tells symbolic links; nil where there are none
}

// Of is the state of a tree.
func Of(tree target.Tree) State { return State{tree.ReadAll, tree.Read, tree.Link} }

// isLink reports whether a content says where a symbolic link leads.
func (s State) isLink(path string, data []byte) bool {
	if s.Link == nil || !source.New(data).MayBeLink() {
		return false
	}
	_, link, err := s.Link(path)
	return err == nil && link
}

// Measure measures files, which it gives by their paths. See gets each with its text, which is valid during the call alone, from
// several goroutines; nil gets nothing.
func (c *Choice) Measure(paths []string, from State, see func(m measure.Measured, data []byte)) (all []measure.Measured, err error) {
	var mutex sync.Mutex
	seen := map[string]bool{}
	one := func(path string, data []byte) {
		if bytes.IndexByte(data, 0) >= 0 || from.isLink(path, data) { // no text in the language that its name says
			mutex.Lock()
			defer mutex.Unlock()
			seen[path] = true
			c.Other++
			return
		}
		generated := c.Policy.Marker != nil && source.New(data).Any(c.Policy.Marker.MatchString)
		m := measure.Measured{Path: path}
		if !generated {
			if m.File = measure.Of(path, data); see != nil {
				see(m, data)
			}
		}
		mutex.Lock()
		defer mutex.Unlock()
		if seen[path] = true; generated {
			c.Aside++
			return
		}
		all = append(all, m)
	}
	if err := from.ReadAll(paths, one); err != nil {
		return nil, err
	}
	for _, path := range paths {
		if seen[path] {
			continue
		}
		data, found, err := from.Read(path)
		if err != nil {
			return nil, err
		}
		if found {
			one(path, data)
		}
	}
	slices.SortFunc(all, measure.ByPath)
	return all, nil
}
