package change

import (
	"cmp"
	"slices"
)

// A moved block has at least this many lines and, in all of them, this many letters or digits.
const (
	movedLines  = 3
	movedWeight = 20
)

// candidates is how many places of removal are tried for one window of added lines; a window that was removed more
// often than this is boilerplate, and any of the first ones serves.
const candidates = 16

// spot is a line's place: the file's index and the line's index in its runs.
type spot struct{ file, index int }

// block is a stretch of added lines that stands among the removed lines too.
type block struct {
	added, removed spot
	length         int
}

// diagonal names all pairs of an added line of one file and a removed one of another that lie equally far apart.
type diagonal uint64

func diagonalOf(removedFile, distance int) diagonal {
	return diagonal(removedFile)<<32 | diagonal(uint32(distance))
}

// dropMoved marks as used the added lines that belong to a block which the change removed elsewhere, and the removed
// lines with them. Longest blocks go first; each removed line serves one added line.
func dropMoved(added, removed []runs) {
	var ofAdded markFilter
	for _, lines := range added {
		for i := range lines {
			ofAdded.add(lines[i].mark)
		}
	}
	windows := newWindows(removed)
	for f, lines := range removed {
		eachWindow(lines, func(i int, window window) {
			if ofAdded.has(window[0]) && ofAdded.has(window[1]) && ofAdded.has(window[2]) {
				windows.add(window, spot{f, i})
			}
		})
	}
	if len(windows.spots) == 0 {
		return
	}
	var blocks []block
	for f, lines := range added {
		reached := map[diagonal]int{} // up to where blocks were found
		eachWindow(lines, func(i int, window window) {
			windows.each(window, func(from spot) {
				d := diagonalOf(from.file, i-from.index)
				if i < reached[d] {
					return // inside a block found already
				}
				b := widen(lines, removed[from.file], block{spot{f, i}, from, movedLines})
				reached[d] = b.added.index + b.length
				if b.weight(lines) >= movedWeight {
					blocks = append(blocks, b)
				}
			})
		})
	}
	slices.SortStableFunc(blocks, func(a, b block) int { return cmp.Compare(b.length, a.length) })
	for _, b := range blocks {
		b.use(added[b.added.file], removed[b.removed.file])
	}
}

// markFilter tells quickly that a mark is in none of many lines; that it is in one it may tell wrongly.
type markFilter [1 << 14]uint64

func (f *markFilter) add(mark uint64) { f[mark>>6&(1<<14-1)] |= 1 << (mark & 63) }

func (f *markFilter) has(mark uint64) bool { return f[mark>>6&(1<<14-1)]&(1<<(mark&63)) != 0 }

// windows are the places of removed windows, by their marks. Of one window the first candidates places are known, in order.
type windows struct {
	removed []runs
	some    markFilter // of the windows' keys
	chains  map[uint64]chain
	spots   []spot
	next    []int32 // after each spot the next one of its chain, 0 for none
}

// chain is where the spots of one key begin and end.
type chain struct{ first, last, length int32 }

func newWindows(removed []runs) *windows {
	return &windows{removed: removed, chains: map[uint64]chain{}}
}

func (w *windows) add(window window, at spot) {
	key := window.key()
	c, known := w.chains[key]
	if c.length == candidates {
		return
	}
	here := int32(len(w.spots))
	w.spots, w.next = append(w.spots, at), append(w.next, 0)
	if known {
		w.next[c.last] = here
	} else {
		c.first = here
		w.some.add(key)
	}
	c.last, c.length = here, c.length+1
	w.chains[key] = c
}

// each hands the places of a window to do.
func (w *windows) each(window window, do func(at spot)) {
	key := window.key()
	if !w.some.has(key) {
		return
	}
	c := w.chains[key]
	for at := c.first; c.length > 0; at, c.length = w.next[at], c.length-1 {
		if spot := w.spots[at]; window == windowOf(w.removed[spot.file][spot.index:]) {
			do(spot)
		}
	}
}

// window is the marks of as many lines that follow one another as a moved block has at least.
type window [movedLines]uint64

// windowOf is that of a stretch's first lines.
func windowOf(lines runs) (w window) {
	for k := range w {
		w[k] = lines[k].mark
	}
	return w
}

// key mixes the marks.
func (w window) key() (key uint64) {
	for _, mark := range w {
		key = (key ^ mark) * 0x9e3779b97f4a7c15
		key ^= key >> 29
	}
	return key
}

// eachWindow calls do for every movedLines lines that follow one another and aren't all without letters and digits.
func eachWindow(lines runs, do func(i int, window window)) {
	for i := 0; i+movedLines <= len(lines); i++ {
		if lines[i+movedLines-1].number != lines[i].number+movedLines-1 {
			continue
		}
		if lines[i].weight+lines[i+1].weight+lines[i+2].weight > 0 {
			do(i, windowOf(lines[i:]))
		}
	}
}

// weight is that of the block's lines, as far as it decides.
func (b block) weight(added runs) (weight int32) {
	for i := b.added.index; i < b.added.index+b.length && weight < movedWeight; i++ {
		weight += added[i].weight
	}
	return weight
}

// widen grows a block upward and downward as far as the marks of the two sides agree.
func widen(added, removed runs, b block) block {
	a, r := b.added.index, b.removed.index
	for a > 0 && r > 0 && added[a-1].mark == removed[r-1].mark && added.joined(a-1) && removed.joined(r-1) {
		a, r, b.length = a-1, r-1, b.length+1
	}
	for a+b.length < len(added) && r+b.length < len(removed) && added[a+b.length].mark == removed[r+b.length].mark &&
		added.joined(a+b.length-1) && removed.joined(r+b.length-1) {
		b.length++
	}
	b.added.index, b.removed.index = a, r
	return b
}

// joined reports whether line i and the next one follow one another in the file.
func (l runs) joined(i int) bool { return l[i+1].number == l[i].number+1 }

// use marks the block's lines, leaving out those that a longer block took already or that only their marks made look
// alike, as long as what is left is still a block.
func (b block) use(added, removed runs) {
	for i := 0; i < b.length; {
		n, weight := 0, int32(0)
		for ; i+n < b.length && free(added[b.added.index+i+n], removed[b.removed.index+i+n]); n++ {
			weight += added[b.added.index+i+n].weight
		}
		if n >= movedLines && weight >= movedWeight {
			a, r := b.added.index+i, b.removed.index+i
			pairUp(added[a:a+n], removed[r:r+n])
			// What was removed before the block and added after it, or the reverse, moved with it.
			pairUp(overlap(removed.upTo(r), added.from(a+n)))
			pairUp(overlap(added.upTo(a), removed.from(r+n)))
		}
		i += n + 1
	}
}

// free reports whether two lines can be paired.
func free(added, removed runLine) bool { return !added.used && !removed.used && added.is(removed) }

// pairUp marks the lines of two stretches as found again in one another.
func pairUp(a, b runs) {
	for k := range a {
		a[k].used, b[k].used = true, true
	}
}

// from is the unused lines of the run that goes on at index i, upTo those of the run that ends before it.
func (l runs) from(i int) runs {
	end := i
	for end < len(l) && !l[end].used && end > 0 && l.joined(end-1) {
		end++
	}
	return l[i:end]
}

func (l runs) upTo(i int) runs {
	start := i
	for start > 0 && !l[start-1].used && start < len(l) && l.joined(start-1) {
		start--
	}
	return l[start:i]
}

// overlap gives the longest end of one stretch that is the beginning of another. A moved block and the lines around it
// can be told apart in several ways where these lines are alike (a brace before it, a brace at its end), and the two
// places needn't be told apart in the same one.
func overlap(before, after runs) (end, beginning runs) {
	for n := min(len(before), len(after)); n > 0; n-- {
		end, beginning = before[len(before)-n:], after[:n]
		if slices.EqualFunc(end, beginning, runLine.is) {
			return end, beginning
		}
	}
	return nil, nil
}
