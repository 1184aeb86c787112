package change

import (
	"slices"
	"strings"

	"zincdoor/internal/core/source"
)

// Track follows the lines of one file from the old side of a change to the new one: beyond what the hunks tell, lines
// that differ in white space alone, and how much of an altered line is found in another.
type Track struct {
	file     *File
	passages []passage // in order of lines
	indented bool      // some lines differ in white space alone
}

// passage is a stretch of both sides that holds hunks near to one another, with the few lines between them that git
// found on both sides. Where a block was re-indented, these may be the wrong ones.
type passage struct {
	old, new Span // lines; the last is before the first where there are none
	hunks    []Hunk

	olds, news []string // its lines

	worked               bool
	newOf, oldOf         []int        // for each line the index of the one with the same text on the other side; -1 for none
	shared               map[pair]int // the weight of the words that an old and a new line share, in order
	oldWeight, newWeight []int        // the weight of all words of each line
}

// near is how many lines between two hunks leave these in one passage; nearIndented is the same in a file where lines
// were re-indented, since git takes re-indented lines for others that always stood that deep.
const (
	near         = 6
	nearIndented = 60
)

// Follows reports whether Follow tells more of a file's lines than the hunks do: it both lost and gained some.
func (f *File) Follows() bool {
	lost, gained := 0, 0
	for _, h := range f.Hunks {
		lost, gained = lost+h.OldCount, gained+h.NewCount
	}
	return lost > 0 && gained > 0 && f.Status != Deleted
}

// Follow prepares to follow a file's lines, by its old text, which must be whole, and the lines that its hunks added. Of the text
// nothing is kept but the lines around hunks. It is nil where the added lines were dropped.
func Follow(f *File, old *source.Text) *Track {
	if slices.ContainsFunc(f.Hunks, func(h Hunk) bool { return len(h.Added) != h.NewCount }) {
		return nil
	}
	t := &Track{file: f}
	t.cut(near)
	if t.indents(old) {
		t.cut(nearIndented)
		t.indented = true
	}
	for i := range t.passages {
		t.passages[i].read(old)
	}
	return t
}

// read fills the passage with its lines. On the new side those between hunks are the old ones.
func (p *passage) read(old *source.Text) {
	p.olds = old.Span(p.old.First, p.old.Last)
	p.news = make([]string, 0, p.new.Last-p.new.First+1)
	rest := p.olds
	for _, h := range p.hunks {
		first, count := oldSide(h)
		between := first - p.old.First - (len(p.olds) - len(rest))
		p.news = append(p.news, rest[:between]...)
		for _, line := range h.Added {
			p.news = append(p.news, strings.TrimSuffix(line, "\r"))
		}
		rest = rest[between+count:]
	}
}

// indents reports whether some lines differ in white space alone.
func (t *Track) indents(old *source.Text) bool {
	return slices.ContainsFunc(t.file.Hunks, func(h Hunk) bool {
		return h.OldCount > 0 && h.NewCount > 0 && len(align(collapseAll(old.Span(h.OldStart, h.OldStart+h.OldCount-1)), collapseAll(h.Added))) > 0
	})
}

func spanOf(first, count int) Span { return Span{first, first + count - 1} }

// cut makes passages of the hunks.
func (t *Track) cut(near int) {
	t.passages = nil
	for _, h := range t.file.Hunks {
		old, new := spanOf(oldSide(h)), spanOf(newSide(h))
		if n := len(t.passages); n > 0 && old.First-t.passages[n-1].old.Last <= near+1 {
			p := &t.passages[n-1]
			p.old.Last, p.new.Last, p.hunks = old.Last, new.Last, append(p.hunks, h)
			continue
		}
		t.passages = append(t.passages, passage{old: old, new: new, hunks: []Hunk{h}})
	}
}

// NewLine is the line on the new side that is an old line, but for white space at most; 0 where there is none.
func (t *Track) NewLine(line int) int {
	i := t.Passage(line)
	if i < 0 {
		return t.file.NewLine(line)
	}
	p := t.worked(i)
	if to := p.newOf[line-p.old.First]; to >= 0 {
		return p.new.First + to
	}
	return 0
}

// OldLine is the line on the old side that a new line was, but for white space at most; 0 where there is none.
func (t *Track) OldLine(line int) int {
	i := t.PassageOfNew(line)
	if i < 0 {
		return t.file.OldLine(line)
	}
	p := t.worked(i)
	if to := p.oldOf[line-p.new.First]; to >= 0 {
		return p.old.First + to
	}
	return 0
}

// Passage is the number of the altered passage that an old line lies in, PassageOfNew that of a new line; -1 for none.
func (t *Track) Passage(line int) int {
	return t.find(line, func(p *passage) Span { return p.old })
}

// PassageOfNew is the number of the altered passage that a new line lies in, -1 for none.
func (t *Track) PassageOfNew(line int) int {
	return t.find(line, func(p *passage) Span { return p.new })
}

func (t *Track) find(line int, side func(p *passage) Span) int {
	low, high := 0, len(t.passages)
	for low < high {
		middle := (low + high) / 2
		switch at := side(&t.passages[middle]); {
		case line < at.First:
			high = middle
		case line > at.Last:
			low = middle + 1
		default:
			return middle
		}
	}
	return -1
}

// Likeness is how much of the shorter of two altered lines, an old and a new one, is found in the other, in order among
// all altered words of their passage: 0 for nothing, or lines of different passages, up to 1 for all. A line that was
// broken into several has 1 with each of them.
func (t *Track) Likeness(old, new int) float64 {
	at := t.Passage(old)
	if at < 0 || at != t.PassageOfNew(new) {
		return 0
	}
	p := t.worked(at)
	p.compareWords()
	i, j := old-p.old.First, new-p.new.First
	least := min(p.oldWeight[i], p.newWeight[j])
	if least == 0 {
		return 0
	}
	return float64(p.shared[pair{i, j}]) / float64(least)
}

// Opposite is the new line that stands where an altered old line stood: the two are the nth of equally many altered
// lines between lines that stayed. It is 0 where there is none.
func (t *Track) Opposite(old int) int {
	at := t.Passage(old)
	if at < 0 {
		return 0
	}
	p := t.worked(at)
	i := old - p.old.First
	if p.newOf[i] >= 0 {
		return 0
	}
	first, last := i, i
	for first > 0 && p.newOf[first-1] < 0 {
		first--
	}
	for last+1 < len(p.newOf) && p.newOf[last+1] < 0 {
		last++
	}
	newFirst, newEnd := 0, len(p.oldOf)
	if first > 0 {
		newFirst = p.newOf[first-1] + 1
	}
	if last+1 < len(p.newOf) {
		newEnd = p.newOf[last+1]
	}
	if newEnd-newFirst != last+1-first {
		return 0
	}
	return p.new.First + newFirst + i - first
}

// MaySlide reports whether another line of the new side may as well be the one that a kept line is taken for: all lines
// from the one to the other are equal, or the other was brought by an insertion that can be told from its surroundings
// in several ways.
func (f *File) MaySlide(new *source.Text, kept, other int) bool {
	same := func(a, b int) bool { return source.Collapse(new.Line(a)) == source.Collapse(new.Line(b)) }
	run := true
	for n := min(kept, other); run && n < max(kept, other); n++ {
		run = same(n, n+1)
	}
	if run {
		return true
	}
	for _, h := range f.Hunks {
		first, count := newSide(h)
		if h.OldCount > 0 || other < first || other >= first+count {
			continue
		}
		switch kept {
		case other + count:
			for n := first; n <= other; n++ {
				if !same(n, n+count) {
					return false
				}
			}
			return true
		case other - count:
			for n := other; n < first+count; n++ {
				if !same(n, n-count) {
					return false
				}
			}
			return true
		}
	}
	return false
}

// Moved tells how many lines around an old line of one text are those around a new line of another, and the letters and
// digits in them: as many as follow one another and are the same but for white space.
func Moved(old *source.Text, oldLine int, new *source.Text, newLine int) (lines, weight int) {
	same := func(shift int) bool {
		i, j := oldLine+shift, newLine+shift
		return i >= 1 && j >= 1 && i <= old.Len() && j <= new.Len() && source.Collapse(old.Line(i)) == source.Collapse(new.Line(j))
	}
	count := func(shift int) {
		lines++
		weight += source.Weight(old.Line(oldLine + shift))
	}
	for shift := 0; same(shift) && shift < blockEnough; shift++ {
		count(shift)
	}
	for shift := -1; lines > 0 && same(shift) && -shift < blockEnough; shift-- {
		count(shift)
	}
	return lines, weight
}

// blockEnough is how far from a line a moved block is followed.
const blockEnough = 100

// IsBlock reports whether a stretch of so many lines and so many letters and digits is large enough to count as moved.
func IsBlock(lines, weight int) bool { return lines >= movedLines && weight >= movedWeight }

// worked is a passage whose lines are paired. What git pairs stays so, unless lines were re-indented, or a line that one hunk
// takes away comes again in another: then all lines of the passage are paired anew, without regard to white space.
func (t *Track) worked(i int) *passage {
	p := &t.passages[i]
	if p.worked {
		return p
	}
	p.worked = true
	olds, news := collapseAll(p.olds), collapseAll(p.news)
	p.pair(len(olds), len(news), p.asHunks(olds, news))
	if len(p.hunks) > 1 && (t.indented || p.strayed(olds, news)) {
		p.pair(len(olds), len(news), align(olds, news))
	}
	return p
}

func (p *passage) pair(olds, news int, pairs []pair) {
	p.newOf, p.oldOf = unpaired(olds), unpaired(news)
	for _, pair := range pairs {
		p.newOf[pair.old], p.oldOf[pair.new] = pair.new, pair.old
	}
}

// asHunks pairs the lines between hunks with one another, and within each hunk those that differ in white space alone.
func (p *passage) asHunks(olds, news []string) (pairs []pair) {
	old, new := 0, 0
	for _, h := range p.hunks {
		first, oldCount := oldSide(h)
		_, newCount := newSide(h)
		for ; old < first-p.old.First; old, new = old+1, new+1 {
			pairs = append(pairs, pair{old, new})
		}
		for _, inside := range align(olds[old:old+oldCount], news[new:new+newCount]) {
			pairs = append(pairs, pair{old + inside.old, new + inside.new})
		}
		old, new = old+oldCount, new+newCount
	}
	return pairs
}

// strayed reports whether a line is left over on both sides.
func (p *passage) strayed(olds, news []string) bool {
	left := map[string]bool{}
	for i, to := range p.newOf {
		if to < 0 && olds[i] != "" {
			left[olds[i]] = true
		}
	}
	for i, to := range p.oldOf {
		if to < 0 && left[news[i]] {
			return true
		}
	}
	return false
}

func unpaired(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = -1
	}
	return all
}
