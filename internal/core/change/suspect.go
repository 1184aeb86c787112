package change

import (
	"bytes"

	"zincdoor/internal/core/source"
)

// Window is as many lines that follow one another, collapsed, as a moved block has at least.
type Window [movedLines]string

// Suspects are added lines around findings that may have been moved there from a file whose hunks aren't known. Only a
// file that held them can have lost them.
type Suspects struct {
	added   []runs
	windows map[Window][]spot
	first   map[uint64]bool // the marks of the windows' first lines
}

// Suspects gathers what may have been moved to the given lines, by path on the new side.
func (c *Change) Suspects(lines map[string][]int, rules Rules) *Suspects {
	s := &Suspects{windows: map[Window][]spot{}, first: map[uint64]bool{}}
	if rules.CountMoved {
		return s
	}
	for path, numbers := range lines {
		f := c.File(path)
		if f == nil || len(f.Hunks) == 0 {
			continue
		}
		asked := make(map[int]bool, len(numbers))
		for _, n := range numbers {
			if f.Touched.Has(n) {
				asked[n] = true
			}
		}
		if len(asked) == 0 {
			continue
		}
		added, _ := unmatched(f, rules)
		s.added = append(s.added, added)
		eachWindow(added, func(i int, window Window) {
			for k := range movedLines {
				if asked[added[i].number+k] && len(s.windows[window]) < candidates {
					s.windows[window] = append(s.windows[window], spot{len(s.added) - 1, i})
					s.first[source.Mark(window[0])] = true
					return
				}
			}
		})
	}
	return s
}

// None reports whether nothing can have been moved.
func (s *Suspects) None() bool { return len(s.windows) == 0 }

// MayComeFrom reports whether a text holds a block that is large enough to count as moved.
func (s *Suspects) MayComeFrom(text []byte) bool {
	var old runs // made when a window's first line is met
	n := 0
	for line := range bytes.Lines(text) {
		n++
		if !s.first[source.Mark(line)] {
			continue
		}
		if old == nil {
			old = wholeText(text)
		}
		if n+movedLines-1 > len(old) {
			return false
		}
		var window Window
		for k := range window {
			window[k] = old[n-1+k].text
		}
		for _, at := range s.windows[window] {
			b := widen(s.added[at.file], old, block{at, spot{0, n - 1}, movedLines})
			if b.weight(s.added[at.file]) >= movedWeight {
				return true
			}
		}
	}
	return false
}

// wholeText is a text as if all of it had been removed.
func wholeText(data []byte) runs {
	text := source.New(data)
	lines := make(runs, text.Len())
	for i := range lines {
		lines[i] = runLine{number: i + 1, text: source.Collapse(text.Line(i + 1))}
	}
	return lines
}

func (b block) weight(added runs) int {
	weight := 0
	for _, line := range added[b.added.index : b.added.index+b.length] {
		weight += source.Weight(line.text)
	}
	return weight
}
