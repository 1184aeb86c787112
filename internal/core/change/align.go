package change

import (
	"slices"
	"sync"
)

// pair joins an index of the old lines with an index of the new ones that hold the same text.
type pair struct{ old, new int }

// smallTable is the size up to which align compares every old line with every new one.
const smallTable = 1 << 16

// align pairs equal lines of two stretches in order, each line at most once. It strips what is equal at both ends,
// then anchors on lines that stand exactly once on each side (the longest rising sequence of them) and goes on
// between the anchors; a small rest without anchors is settled by the longest common subsequence. A large rest stays
// unpaired. The cost is near n log n.
func align(olds, news []string) []pair {
	var pairs []pair
	alignInto(&pairs, olds, news, 0, 0)
	return pairs
}

func alignInto(pairs *[]pair, olds, news []string, oldAt, newAt int) {
	for len(olds) > 0 && len(news) > 0 && olds[0] == news[0] {
		*pairs = append(*pairs, pair{oldAt, newAt})
		olds, news, oldAt, newAt = olds[1:], news[1:], oldAt+1, newAt+1
	}
	tail := 0
	for tail < len(olds) && tail < len(news) && olds[len(olds)-1-tail] == news[len(news)-1-tail] {
		tail++
	}
	olds, news = olds[:len(olds)-tail], news[:len(news)-tail]
	if len(olds) > 0 && len(news) > 0 {
		alignMiddle(pairs, olds, news, oldAt, newAt)
	}
	for i := range tail {
		*pairs = append(*pairs, pair{oldAt + len(olds) + i, newAt + len(news) + i})
	}
}

func alignMiddle(pairs *[]pair, olds, news []string, oldAt, newAt int) {
	anchors := anchors(olds, news)
	if len(anchors) == 0 {
		if len(olds)*len(news) <= smallTable {
			for _, p := range common(olds, news) {
				*pairs = append(*pairs, pair{oldAt + p.old, newAt + p.new})
			}
		}
		return
	}
	last := pair{}
	for _, a := range anchors {
		alignInto(pairs, olds[last.old:a.old], news[last.new:a.new], oldAt+last.old, newAt+last.new)
		*pairs = append(*pairs, pair{oldAt + a.old, newAt + a.new})
		last = pair{a.old + 1, a.new + 1}
	}
	alignInto(pairs, olds[last.old:], news[last.new:], oldAt+last.old, newAt+last.new)
}

// anchors is the longest sequence, rising on both sides, of lines that stand exactly once on each side.
func anchors(olds, news []string) []pair {
	type seen struct{ olds, news, at int }
	lines := make(map[string]*seen, len(olds))
	for i, text := range olds {
		if s := lines[text]; s != nil {
			s.olds++
		} else {
			lines[text] = &seen{olds: 1, at: i}
		}
	}
	for _, text := range news {
		if s := lines[text]; s != nil {
			s.news++
		}
	}
	var unique []pair // in order of new
	for i, text := range news {
		if s := lines[text]; s != nil && s.olds == 1 && s.news == 1 {
			unique = append(unique, pair{s.at, i})
		}
	}
	return rising(unique)
}

// rising picks the longest subsequence whose old indices rise (patience sorting, with links back).
func rising(pairs []pair) []pair {
	var ends []int // ends[k]: index of the pair with the smallest old that closes a sequence of k+1
	back := make([]int, len(pairs))
	for i, p := range pairs {
		k, _ := slices.BinarySearchFunc(ends, p.old, func(end, old int) int { return pairs[end].old - old })
		back[i] = -1
		if k > 0 {
			back[i] = ends[k-1]
		}
		if k == len(ends) {
			ends = append(ends, i)
		} else {
			ends[k] = i
		}
	}
	if len(ends) == 0 {
		return nil
	}
	longest := make([]pair, len(ends))
	for k, i := len(ends)-1, ends[len(ends)-1]; k >= 0; k, i = k-1, back[i] {
		longest[k] = pairs[i]
	}
	return longest
}

// common is a longest common subsequence, by the table of all lengths, which must have under 65,536 columns or rows.
func common(olds, news []string) (pairs []pair) {
	ahead := 0
	for ahead < len(olds) && ahead < len(news) && olds[ahead] == news[ahead] {
		pairs = append(pairs, pair{ahead, ahead})
		ahead++
	}
	old, new := numbered(olds[ahead:], news[ahead:])
	if len(old) == 0 || len(new) == 0 {
		return pairs
	}
	width := len(new) + 1
	table := tables.Get().(*[]uint16)
	defer tables.Put(table)
	if need := (len(old) + 1) * width; cap(*table) < need {
		*table = make([]uint16, need)
	} else {
		*table = (*table)[:need]
	}
	length := *table
	clear(length[len(old)*width:])
	for i := len(old) - 1; i >= 0; i-- {
		row, below := length[i*width:(i+1)*width], length[(i+1)*width:(i+2)*width]
		here := uint16(0) // the length to the right
		row[width-1] = 0
		for j := len(new) - 1; j >= 0; j-- {
			if old[i] == new[j] {
				here = below[j+1] + 1
			} else {
				here = max(below[j], here)
			}
			row[j] = here
		}
	}
	for i, j := 0, 0; i < len(old) && j < len(new); {
		switch {
		case old[i] == new[j]:
			pairs = append(pairs, pair{ahead + i, ahead + j})
			i, j = i+1, j+1
		case length[(i+1)*width+j] >= length[i*width+j+1]:
			i++
		default:
			j++
		}
	}
	return pairs
}

// tables are those of common, to be used again.
var tables = sync.Pool{New: func() any { return new([]uint16) }}

// numbered gives equal texts of two lists equal numbers.
func numbered(olds, news []string) (old, new []int32) {
	known := make(map[string]int32, len(olds))
	old, new = make([]int32, len(olds)), make([]int32, len(news))
	for i, text := range olds {
		n, ok := known[text]
		if !ok {
			n = int32(len(known))
			known[text] = n
		}
		old[i] = n
	}
	for j, text := range news {
		n, ok := known[text]
		if !ok {
			n = -1
		}
		new[j] = n
	}
	return old, new
}
