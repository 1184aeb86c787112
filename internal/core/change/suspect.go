package change

import (
	"bytes"
	"sync"

	"zincdoor/internal/core/source"
)

// Suspects are added lines around findings that may have been moved there from a file whose hunks aren't known. Only a
// file that held them can have lost them. Lines are compared by their marks, so a file may be suspected wrongly, but
// none is overlooked.
type Suspects struct {
	ahead   *Ahead
	added   []marked
	windows map[window][]spot
	first   map[uint64]bool // the windows' first lines
}

// marked are added lines as they are compared: by mark and weight.
type marked struct {
	marks   []uint64
	weights []int32
}

// NewSuspects makes an empty list, by the rules that was worked ahead by.
func NewSuspects(ahead *Ahead) *Suspects {
	return &Suspects{ahead: ahead, windows: map[window][]spot{}, first: map[uint64]bool{}}
}

// Add gathers what may have been moved to some lines of a file, given on its new side. It needs the file's hunks and
// keeps none of their text.
func (s *Suspects) Add(f File, lines []int) {
	if s.ahead.rules.CountMoved || len(f.Hunks) == 0 {
		return
	}
	added, _ := s.ahead.of(&f)
	touched := f.touchedOf(added, s.ahead.rules)
	asked := make(map[int]bool, len(lines))
	for _, n := range lines {
		if touched.Has(n) {
			asked[n] = true
		}
	}
	if len(asked) == 0 {
		return
	}
	m := marked{make([]uint64, len(added)), make([]int32, len(added))}
	for i, line := range added {
		m.marks[i], m.weights[i] = line.mark, line.weight
	}
	s.added = append(s.added, m)
	for i := 0; i+movedLines <= len(added); i++ {
		window := window(m.marks[i:])
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

// MayComeFrom reports whether a text holds a block that is large enough to count as moved. Once all was added it is safe for
// concurrent use.
func (s *Suspects) MayComeFrom(text []byte) bool {
	room := marks.Get().(*[]uint64)
	defer marks.Put(room)
	old := (*room)[:0]
	for line := range bytes.Lines(text) {
		old = append(old, source.Mark(line))
	}
	*room = old
	for n := 0; n+movedLines <= len(old); n++ {
		if !s.first[old[n]] {
			continue
		}
		for _, at := range s.windows[window(old[n:])] {
			if weight(s.added[at.file], at.index, old, n) >= movedWeight {
				return true
			}
		}
	}
	return false
}

// marks are the lines' marks of texts that were looked at, to be used again.
var marks = sync.Pool{New: func() any { return new([]uint64) }}

// weight is that of the longest stretch in which the added lines around index i and the old ones around n agree.
func weight(added marked, i int, old []uint64, n int) int32 {
	weight := int32(0)
	for a, o := i, n; a < len(added.marks) && o < len(old) && added.marks[a] == old[o] && weight < movedWeight; a, o = a+1, o+1 {
		weight += added.weights[a]
	}
	for a, o := i-1, n-1; a >= 0 && o >= 0 && added.marks[a] == old[o] && weight < movedWeight; a, o = a-1, o-1 {
		weight += added.weights[a]
	}
	return weight
}
