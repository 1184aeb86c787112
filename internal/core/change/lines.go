package change

import (
	"cmp"
	"slices"
)

// Span is a stretch of lines, both ends inclusive.
type Span struct{ First, Last int }

// Count is the number of lines in the span.
func (s Span) Count() int { return s.Last - s.First + 1 }

// Lines is a set of lines, as spans in order that neither overlap nor adjoin. The zero value is empty.
type Lines []Span

// LinesOf makes a set of lines given in rising order.
func LinesOf(lines []int) Lines {
	var set Lines
	for _, n := range lines {
		if last := len(set) - 1; last >= 0 && set[last].Last >= n-1 {
			set[last].Last = max(set[last].Last, n)
		} else {
			set = append(set, Span{n, n})
		}
	}
	return set
}

// Meets reports whether any line from first to last is in the set. Line 0 is in none.
func (l Lines) Meets(first, last int) bool {
	if first < 1 {
		return false
	}
	i, _ := slices.BinarySearchFunc(l, first, func(s Span, line int) int { return cmp.Compare(s.Last, line) })
	return i < len(l) && l[i].First <= last
}

// Has reports whether line is in the set.
func (l Lines) Has(line int) bool { return l.Meets(line, line) }

// Count is the number of lines in the set.
func (l Lines) Count() int {
	n := 0
	for _, s := range l {
		n += s.Count()
	}
	return n
}

// Intersect gives the lines that are in both sets.
func (l Lines) Intersect(other Lines) Lines {
	var both Lines
	for i, j := 0, 0; i < len(l) && j < len(other); {
		first, last := max(l[i].First, other[j].First), min(l[i].Last, other[j].Last)
		if first <= last {
			both = append(both, Span{first, last})
		}
		if l[i].Last < other[j].Last {
			i++
		} else {
			j++
		}
	}
	return both
}

// Union gives the lines that are in one of both sets.
func (l Lines) Union(other Lines) Lines {
	all := slices.Concat(l, other)
	slices.SortFunc(all, func(a, b Span) int { return cmp.Compare(a.First, b.First) })
	var joined Lines
	for _, s := range all {
		if n := len(joined); n > 0 && s.First-1 <= joined[n-1].Last {
			joined[n-1].Last = max(joined[n-1].Last, s.Last)
			continue
		}
		joined = append(joined, s)
	}
	return joined
}
