package recognise

import (
	"cmp"
	"slices"
)

// shifts tells by how much lines of a file moved, as far as pairs are known.
type shifts struct {
	known [][2]int // line then, line now; sorted
	fresh [][2]int // the same, not reckoned with yet
}

func (m *matcher) shiftsOf(path name) *shifts {
	s := m.shifts[path]
	if s == nil {
		s = &shifts{}
		m.shifts[path] = s
	}
	return s
}

// learn notes where an entry's line is now.
func (m *matcher) learn(path name, then, now int) {
	s := m.shiftsOf(path)
	if len(s.fresh) == 0 {
		m.learning = append(m.learning, s)
	}
	s.fresh = append(s.fresh, [2]int{then, now})
}

// adopt lets what was learnt be reckoned with.
func (m *matcher) adopt() {
	for _, s := range m.learning {
		s.known, s.fresh = append(s.known, s.fresh...), nil
		slices.SortFunc(s.known, func(a, b [2]int) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	}
	m.learning = m.learning[:0]
}

// at is the shift of the nearest known line.
func (s *shifts) at(line int) int {
	if len(s.known) == 0 {
		return 0
	}
	i, _ := slices.BinarySearchFunc(s.known, line, func(k [2]int, line int) int { return cmp.Compare(k[0], line) })
	if i == len(s.known) || i > 0 && line-s.known[i-1][0] <= s.known[i][0]-line {
		i--
	}
	return s.known[i][1] - s.known[i][0]
}
