package change

import (
	"unicode"
	"unicode/utf8"

	"zincdoor/internal/core/source"
)

// Track follows the lines of one file from the old side of a change to the new one and back: beyond what the hunks
// tell, lines that differ in white space alone, and how much of an altered line is found in another.
type Track struct {
	file     *File
	old, new *source.Text
	worked   map[int]*stretches // by hunk
}

// stretches are the two sides of one hunk, as far as they were looked at.
type stretches struct {
	newOf, oldOf         []int        // for each line the index of the one with the same text on the other side; -1 for none
	shared               map[pair]int // the weight of the words that an old and a new line share, in order
	oldWeight, newWeight []int        // the weight of all words of each line
}

// Follow prepares to follow a file's lines. Both texts must be whole.
func Follow(f *File, old, new *source.Text) *Track {
	return &Track{file: f, old: old, new: new, worked: map[int]*stretches{}}
}

// NewLine is the line on the new side that is an old line, but for white space at most; 0 where there is none.
func (t *Track) NewLine(line int) int {
	h, in := t.hunk(line, oldSide)
	if h < 0 {
		return t.file.NewLine(line)
	}
	if to := t.pairs(h).newOf[in]; to >= 0 {
		return t.file.Hunks[h].NewStart + to
	}
	return 0
}

// OldLine is the line on the old side that a new line was, but for white space at most; 0 where there is none.
func (t *Track) OldLine(line int) int {
	h, in := t.hunk(line, newSide)
	if h < 0 {
		return t.file.OldLine(line)
	}
	if to := t.pairs(h).oldOf[in]; to >= 0 {
		return t.file.Hunks[h].OldStart + to
	}
	return 0
}

// Hunk is the number of the hunk that takes away an old line, -1 where none does.
func (t *Track) Hunk(line int) int {
	h, _ := t.hunk(line, oldSide)
	return h
}

// HunkOfNew is the number of the hunk that brings a new line, -1 where none does.
func (t *Track) HunkOfNew(line int) int {
	h, _ := t.hunk(line, newSide)
	return h
}

// Likeness is how much of the shorter of two lines, an old and a new one, is found in the other, in order among all
// words of their hunk: 0 for nothing, or lines of different hunks, up to 1 for all. A line that was broken into
// several has 1 with each of them.
func (t *Track) Likeness(old, new int) float64 {
	h, i := t.hunk(old, oldSide)
	g, j := t.hunk(new, newSide)
	if h < 0 || h != g {
		return 0
	}
	s := t.words(h)
	least := min(s.oldWeight[i], s.newWeight[j])
	if least == 0 {
		return 0
	}
	return float64(s.shared[pair{i, j}]) / float64(least)
}

// hunk finds the hunk that holds a line on one side, and the line's index there; -1 where none does.
func (t *Track) hunk(line int, side func(Hunk) (first, count int)) (hunk, index int) {
	low, high := 0, len(t.file.Hunks)
	for low < high {
		middle := (low + high) / 2
		first, count := side(t.file.Hunks[middle])
		switch {
		case line < first:
			high = middle
		case line >= first+count:
			low = middle + 1
		default:
			return middle, line - first
		}
	}
	return -1, 0
}

func (t *Track) pairs(h int) *stretches {
	if s := t.worked[h]; s != nil {
		return s
	}
	at := t.file.Hunks[h]
	s := &stretches{newOf: unpaired(at.OldCount), oldOf: unpaired(at.NewCount)}
	for _, p := range align(collapsed(t.old, at.OldStart, at.OldCount), collapsed(t.new, at.NewStart, at.NewCount)) {
		s.newOf[p.old], s.oldOf[p.new] = p.new, p.old
	}
	t.worked[h] = s
	return s
}

func unpaired(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = -1
	}
	return all
}

func collapsed(text *source.Text, start, count int) []string {
	lines := make([]string, count)
	for i := range lines {
		lines[i] = source.Collapse(text.Line(start + i))
	}
	return lines
}

// word is a name, a number or a sign of a line.
type word struct {
	text   string
	line   int // index of its line
	weight int
}

// A name or number says more about a line than a sign.
const (
	nameWeight = 3
	signWeight = 1
)

// wordTable is the size up to which all words of two stretches are compared with one another.
const wordTable = 1 << 19

// words works out which words the altered lines of a hunk share: between lines that are the same on both sides, all of
// one side with all of the other.
func (t *Track) words(h int) *stretches {
	s := t.pairs(h)
	if s.shared != nil {
		return s
	}
	at := t.file.Hunks[h]
	s.shared = map[pair]int{}
	s.oldWeight, s.newWeight = make([]int, at.OldCount), make([]int, at.NewCount)
	old, new := 0, 0
	for i, to := range s.newOf {
		if to >= 0 {
			t.share(s, at, Span{old, i - 1}, Span{new, to - 1})
			old, new = i+1, to+1
		}
	}
	t.share(s, at, Span{old, at.OldCount - 1}, Span{new, at.NewCount - 1})
	return s
}

// share compares the words of two stretches, given by the indices of their lines in the hunk. Where that is too much,
// lines that stand equally far from the beginning or the end are compared alone.
func (t *Track) share(s *stretches, at Hunk, old, new Span) {
	olds, news := wordsOf(t.old, at.OldStart, old, s.oldWeight), wordsOf(t.new, at.NewStart, new, s.newWeight)
	if len(olds)*len(news) <= wordTable {
		s.add(olds, news)
		return
	}
	for i := old.First; i <= old.Last; i++ {
		for _, j := range []int{new.First + i - old.First, new.Last - (old.Last - i)} {
			if j < new.First || j > new.Last || s.shared[pair{i, j}] > 0 {
				continue
			}
			olds, news := wordsOf(t.old, at.OldStart, Span{i, i}, nil), wordsOf(t.new, at.NewStart, Span{j, j}, nil)
			if len(olds)*len(news) <= wordTable {
				s.add(olds, news)
			}
		}
	}
}

func (s *stretches) add(olds, news []word) {
	for _, p := range common(texts(olds), texts(news)) {
		s.shared[pair{olds[p.old].line, news[p.new].line}] += olds[p.old].weight
	}
}

func texts(words []word) []string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = w.text
	}
	return all
}

// wordsOf cuts lines into words, and notes the weight of each line where weights are wanted.
func wordsOf(text *source.Text, start int, lines Span, weights []int) (words []word) {
	for i := lines.First; i <= lines.Last; i++ {
		eachWord(text.Line(start+i), func(w string, name bool) {
			weight := signWeight
			if name {
				weight = nameWeight
			}
			words = append(words, word{w, i, weight})
			if weights != nil {
				weights[i] += weight
			}
		})
	}
	return words
}

// eachWord cuts a line into names and numbers (name is true) and single signs, leaving out white space.
func eachWord(line string, do func(word string, name bool)) {
	inName := func(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }
	for at := 0; at < len(line); {
		r, size := utf8.DecodeRuneInString(line[at:])
		end := at + size
		name := inName(r)
		for name && end < len(line) {
			next, size := utf8.DecodeRuneInString(line[end:])
			if !inName(next) {
				break
			}
			end += size
		}
		if !unicode.IsSpace(r) {
			do(line[at:end], name)
		}
		at = end
	}
}
