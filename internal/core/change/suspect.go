package change

import (
	"bytes"

	"zincdoor/internal/core/source"
)

// Suspects are added lines around findings that may have been moved there from a file whose hunks aren't known. Only a
// file that held them can have lost them. Lines are compared by their marks, so a file may be suspected wrongly, but
// none is overlooked.
type Suspects struct {
	added   []markedRuns
	windows map[window][]spot
	first   map[uint64]bool // the windows' first lines

	old []uint64 // the marks of the text that is looked at; kept for the next one
}

// markedRuns are added lines with their marks.
type markedRuns struct {
	runs
	marks []uint64
}

// Suspects gathers what may have been moved to the given lines, by path on the new side.
func (c *Change) Suspects(lines map[string][]int, rules Rules) *Suspects {
	s := &Suspects{windows: map[window][]spot{}, first: map[uint64]bool{}}
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
		if len(asked) > 0 {
			s.add(f, asked, rules)
		}
	}
	return s
}

func (s *Suspects) add(f *File, asked map[int]bool, rules Rules) {
	added, _ := unmatched(f, rules)
	marks := make([]uint64, len(added))
	for i, line := range added {
		marks[i] = line.mark
	}
	s.added = append(s.added, markedRuns{added, marks})
	for i := 0; i+movedLines <= len(added); i++ {
		window := window(marks[i:])
		wanted := added[i+movedLines-1].number == added[i].number+movedLines-1 &&
			(asked[added[i].number] || asked[added[i].number+1] || asked[added[i].number+2])
		if wanted && len(s.windows[window]) < candidates {
			s.windows[window] = append(s.windows[window], spot{len(s.added) - 1, i})
			s.first[window[0]] = true
		}
	}
}

// None reports whether nothing can have been moved.
func (s *Suspects) None() bool { return len(s.windows) == 0 }

// MayComeFrom reports whether a text holds a block that is large enough to count as moved.
func (s *Suspects) MayComeFrom(text []byte) bool {
	s.old = s.old[:0]
	for line := range bytes.Lines(text) {
		s.old = append(s.old, source.Mark(line))
	}
	for n := 0; n+movedLines <= len(s.old); n++ {
		if !s.first[s.old[n]] {
			continue
		}
		for _, at := range s.windows[window(s.old[n:])] {
			if s.weight(s.added[at.file], at.index, n) >= movedWeight {
				return true
			}
		}
	}
	return false
}

// weight is that of the longest stretch in which the added lines around index i and the old ones around n agree.
func (s *Suspects) weight(added markedRuns, i, n int) int32 {
	weight := int32(0)
	for a, o := i, n; a < len(added.marks) && o < len(s.old) && added.marks[a] == s.old[o] && weight < movedWeight; a, o = a+1, o+1 {
		weight += added.runs[a].weight
	}
	for a, o := i-1, n-1; a >= 0 && o >= 0 && added.marks[a] == s.old[o] && weight < movedWeight; a, o = a-1, o-1 {
		weight += added.runs[a].weight
	}
	return weight
}
