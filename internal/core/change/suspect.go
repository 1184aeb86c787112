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
	telling map[uint64]offsets // the heaviest line of each window, by which it is looked for
	ends    [kindsOfEnds]bool  // of those lines
}

// offsets are lines of a window, a bit for each.
type offsets uint8

// kindsOfEnds is how many kinds of ends of lines are told apart.
const kindsOfEnds = 1 << 14

// marked are added lines as they are compared: by mark and weight.
type marked struct {
	marks   []uint64
	weights []int32
}

// NewSuspects makes an empty list, by the rules that was worked ahead by.
func NewSuspects(ahead *Ahead) *Suspects {
	return &Suspects{ahead: ahead, windows: map[window][]spot{}, telling: map[uint64]offsets{}}
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
			s.tell(added[i : i+movedLines])
		}
	}
}

// tell notes by which line a window is looked for.
func (s *Suspects) tell(window runs) {
	heaviest := 0
	for k := range window {
		if window[k].weight > window[heaviest].weight {
			heaviest = k
		}
	}
	s.telling[window[heaviest].mark] |= 1 << heaviest
	s.ends[source.Ends([]byte(window[heaviest].text))%kindsOfEnds] = true
}

// None reports whether nothing can have been moved.
func (s *Suspects) None() bool { return len(s.windows) == 0 }

// MayComeFrom reports whether a text holds a block that is large enough to count as moved. Once all was added it is safe for
// concurrent use.
func (s *Suspects) MayComeFrom(text []byte) bool {
	old := oldLines.Get().(*markedLines)
	defer oldLines.Put(old)
	old.cut(text)
	for n := range old.lines {
		if !s.ends[source.Ends(old.lines[n])%kindsOfEnds] {
			continue
		}
		at := s.telling[old.mark(n)]
		for k := range movedLines {
			if at&(1<<k) != 0 && s.holds(old, n-k) {
				return true
			}
		}
	}
	return false
}

// holds reports whether a block that may have been moved begins with the window at a line, or stands around it.
func (s *Suspects) holds(old *markedLines, n int) bool {
	if n < 0 || n+movedLines > len(old.lines) {
		return false
	}
	var w window
	for k := range w {
		w[k] = old.mark(n + k)
	}
	for _, at := range s.windows[w] {
		if weight(s.added[at.file], at.index, old, n) >= movedWeight {
			return true
		}
	}
	return false
}

// markedLines are a text's lines, with the marks that were asked for; 0 for others.
type markedLines struct {
	lines [][]byte
	marks []uint64
}

// oldLines are to be used again.
var oldLines = sync.Pool{New: func() any { return new(markedLines) }}

func (l *markedLines) cut(text []byte) {
	l.lines, l.marks = l.lines[:0], l.marks[:0]
	for line := range bytes.Lines(text) {
		l.lines, l.marks = append(l.lines, line), append(l.marks, 0)
	}
}

func (l *markedLines) mark(n int) uint64 {
	if l.marks[n] == 0 {
		l.marks[n] = source.Mark(l.lines[n])
	}
	return l.marks[n]
}

// weight is that of the longest stretch in which the added lines around index i and the old ones around n agree.
func weight(added marked, i int, old *markedLines, n int) int32 {
	weight := int32(0)
	for a, o := i, n; a < len(added.marks) && o < len(old.lines) && added.marks[a] == old.mark(o) && weight < movedWeight; a, o = a+1, o+1 {
		weight += added.weights[a]
	}
	for a, o := i-1, n-1; a >= 0 && o >= 0 && added.marks[a] == old.mark(o) && weight < movedWeight; a, o = a-1, o-1 {
		weight += added.weights[a]
	}
	return weight
}
