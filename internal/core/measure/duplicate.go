package measure

import (
	"slices"

	"zincdoor/internal/core/change"
)

// Duplication says what counts as duplicated code: at least so many tokens in a row that are the same, over at least so many lines of code. White
// space and comments are no tokens, and lines that import something are passed by.
type Duplication struct {
	Tokens, Lines int  // at least 1
	FoldNames     bool // one name is as good as another, and
	FoldValues    bool // one number or text between quotes is
}

// Usual is what counts as duplicated code where nobody says otherwise.
var Usual = Duplication{Tokens: 60, Lines: 6}

// Tokens are those of a file.
type Tokens struct {
	Hashes []uint64
	Lines  []change.Span // on which each token begins and ends
}

// imports are the words that lines which import something begin with.
var imports = wordsOf("import from using use package")

// Read reads the tokens of a file. A language that isn't known has words, numbers and signs alone.
func (d Duplication) Read(path string, text []byte) Tokens {
	l := languageOf(path)
	if l == nil {
		l = &language{}
	}
	all := l.lex(text)
	t := Tokens{Hashes: make([]uint64, 0, len(all)), Lines: make([]change.Span, 0, len(all))}
	passed := 0 // the line that is passed by
	for i, one := range all {
		if one.kind == word && imports[one.text] && (i == 0 || all[i-1].line < one.line) {
			passed = one.line
		}
		if one.line == passed || one.text == branch {
			continue
		}
		t.Hashes = append(t.Hashes, d.hash(l, one))
		t.Lines = append(t.Lines, change.Span{First: one.line, Last: one.end})
	}
	return t
}

// Hashes of what is folded.
const (
	foldedName  = 0x9e3779b97f4a7c15
	foldedValue = 0xc2b2ae3d27d4eb4f
)

func (d Duplication) hash(l *language, t token) uint64 {
	switch t.kind {
	case word:
		if d.FoldNames && !l.deciding[t.text] && !l.controlling[t.text] && !l.declaring[t.text] {
			return foldedName
		}
	case number, quoted:
		if d.FoldValues {
			return foldedValue
		}
	}
	return textHash(t.text)
}

// textHash is FNV-1a, mixed (Fowler, Noll, Vo; the mixing is that of SplitMix64): equal on every machine, since it is kept.
func textHash(text string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(text) {
		h = (h ^ uint64(text[i])) * 1099511628211
	}
	return mix(h)
}

func mix(h uint64) uint64 {
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return h ^ h>>31
}

// multiplier is that of the rolling hash: a stretch of tokens is a number in its base.
const multiplier = 0x9ddfea08eb382d69

// rolling hands over the hash of every so many tokens in a row, with where they begin.
func rolling(tokens []uint64, many int, see func(at int, hash uint64)) {
	if len(tokens) < many {
		return
	}
	power := uint64(1) // of what goes out
	for range many - 1 {
		power *= multiplier
	}
	h := uint64(0)
	for i, t := range tokens {
		if i >= many {
			h -= tokens[i-many] * power
		}
		h = h*multiplier + t
		if i >= many-1 {
			see(i-many+1, mix(h))
		}
	}
}

// seed is how many tokens a print is of: a third of a stretch.
func (d Duplication) seed() int { return max(1, d.Tokens/3) }

// Print is the hash of some tokens in a row, and where they begin.
type Print struct {
	Hash uint64
	At   int
}

// stretches hands over every stretch of enough tokens: where it begins, its hash, and of the prints of all seeds in it the least, the
// last of several. It takes linear time.
func (d Duplication) stretches(tokens []uint64, see func(at int, hash uint64, least Print)) {
	seed := d.seed()
	seeds := d.Tokens - seed + 1 // of a stretch
	prints := make([]uint64, 0, len(tokens))
	rolling(tokens, seed, func(_ int, hash uint64) { prints = append(prints, hash) })
	var least []int // of the last seeds, in rising order of places and hashes
	next := 0
	rolling(tokens, d.Tokens, func(at int, hash uint64) {
		for ; next < at+seeds; next++ {
			for len(least) > 0 && prints[least[len(least)-1]] >= prints[next] {
				least = least[:len(least)-1]
			}
			least = append(least, next)
		}
		if least[0] < at {
			least = least[1:]
		}
		see(at, hash, Print{prints[least[0]], least[0]})
	})
}

// Prints picks prints of a file so that two equal stretches of enough tokens have one in common: of each stretch the least
// (Schleimer, Wilkerson, Aiken: Winnowing, 2003). They are some in a hundred of the tokens.
func (d Duplication) Prints(t Tokens) (all []Print) {
	d.stretches(t.Hashes, func(_ int, _ uint64, least Print) {
		if len(all) == 0 || all[len(all)-1] != least {
			all = append(all, least)
		}
	})
	return all
}

// Copied is a stretch of a file that is a duplicate.
type Copied struct {
	Path  string
	Lines change.Span
	Code  change.Lines // those of the lines that hold its tokens, and no others
	Other string       // the file that has the same tokens, which may be this one
	There change.Span  // the lines there, as far as the first of several places goes; known once Locate was called

	at, many int // its tokens there
}

// Locate says on which lines of the other file the same tokens are, by that one's tokens.
func (c *Copied) Locate(other Tokens) {
	if c.at >= 0 && c.many > 0 && c.at+c.many <= len(other.Lines) {
		c.There = change.Span{First: other.Lines[c.at].First, Last: other.Lines[c.at+c.many-1].Last}
	}
}

// Copies are the lines of a file that are duplicates.
func Copies(all []Copied) (lines change.Lines) {
	for _, c := range all {
		lines = lines.Union(c.Code)
	}
	return lines
}

// Finder finds duplicated code among files, of which some are looked at. First all of them are shown to Learn, those that are looked
// at before the others; then these once more to Find. What can't be a duplicate, since its prints are in no other place, needn't be
// remembered.
type Finder struct {
	Duplication
	Shared func(print uint64) bool // whether a print is in several places
	files  []string
	at     map[uint64]*places
}

// places are where the same tokens in a row stand.
type places struct {
	file        int32 // where they stand first
	first, last int32 // there, the first and the last place, by their tokens
	other       int32 // another file, none where there isn't one
	otherAt     int32
}

const none = -1

// NewFinder makes a finder.
func NewFinder(d Duplication, shared func(print uint64) bool) *Finder {
	return &Finder{Duplication: d, Shared: shared, at: map[uint64]*places{}}
}

// each hands over the stretches of a file that may be duplicates.
func (f *Finder) each(t Tokens, see func(at int, hash uint64)) {
	f.stretches(t.Hashes, func(at int, hash uint64, least Print) {
		if f.Shared(least.Hash) {
			see(at, hash)
		}
	})
}

// Learn learns the stretches of a file. Of one that isn't looked at only what those have is remembered.
func (f *Finder) Learn(path string, t Tokens, looked bool) {
	file := int32(len(f.files))
	f.files = append(f.files, path)
	f.each(t, func(at int, hash uint64) {
		p := f.at[hash]
		if p == nil {
			if looked {
				f.at[hash] = &places{file: file, first: int32(at), last: int32(at), other: none}
			}
			return
		}
		switch {
		case p.file == file:
			p.last = int32(at)
		case p.other == none:
			p.other, p.otherAt = file, int32(at)
		}
	})
}

// elsewhere is another place of the stretch of a file that begins at a token, which doesn't overlap it.
func (f *Finder) elsewhere(p *places, file int32, at int) (other, otherAt int32, found bool) {
	far := int32(f.Tokens)
	switch {
	case p.file != file:
		return p.file, p.first, true
	case p.other != none:
		return p.other, p.otherAt, true
	case int32(at)-p.first >= far:
		return file, p.first, true
	case p.last-int32(at) >= far:
		return file, p.last, true
	}
	return 0, 0, false
}

// Find finds the stretches of a file that are duplicates, in order.
func (f *Finder) Find(path string, t Tokens) (all []Copied) {
	file := int32(slices.Index(f.files, path))
	var open *stretch
	end := func() {
		if open != nil {
			if c, counts := open.copied(f, t); counts {
				c.Path = path
				all = append(all, c)
			}
		}
		open = nil
	}
	f.each(t, func(at int, hash uint64) {
		p := f.at[hash]
		if p == nil {
			return
		}
		other, otherAt, found := f.elsewhere(p, file, at)
		if !found {
			return
		}
		if open != nil && at > open.to {
			end()
		}
		if open == nil {
			open = &stretch{from: at, other: other, otherAt: otherAt}
		}
		open.to = at + f.Tokens
		if other == open.other && otherAt-open.otherAt == int32(at-open.from) {
			open.same = open.to
		}
	})
	end()
	return all
}

// stretch is one that grows while it is read.
type stretch struct {
	from, to       int   // tokens; to is behind the last
	other, otherAt int32 // where its first tokens are too
	same           int   // up to where they go on there
}

// copied is the stretch once it has ended; counts is false where it is too short.
func (s *stretch) copied(f *Finder, t Tokens) (c Copied, counts bool) {
	from, to := t.wholeLines(s.from, s.to)
	if to <= from || !t.varied(from, to, f.Tokens/sameness) {
		return c, false
	}
	c = Copied{Lines: change.Span{First: t.Lines[from].First, Last: t.Lines[to-1].Last}, Code: t.code(from, to), Other: f.files[s.other]}
	if c.at, c.many = int(s.otherAt)+from-s.from, min(to, s.same)-from; c.many < 1 {
		c.at, c.many = int(s.otherAt), f.Tokens
	}
	return c, c.Code.Count() >= f.Duplication.Lines
}

// wholeLines leaves of some tokens those whose lines have no others.
func (t Tokens) wholeLines(from, to int) (int, int) {
	for from > 0 && from < to && t.Lines[from-1].Last >= t.Lines[from].First {
		from++
	}
	for to < len(t.Lines) && to > from && t.Lines[to-1].Last >= t.Lines[to].First {
		to--
	}
	return from, to
}

// sameness is how often each token of a stretch may stand in it, on average: a table of zeros is nobody's copy.
const sameness = 6

// varied reports whether there are at least so many different ones among some tokens.
func (t Tokens) varied(from, to, many int) bool {
	different := map[uint64]bool{}
	for _, h := range t.Hashes[from:to] {
		if different[h] = true; len(different) >= many {
			return true
		}
	}
	return len(different) >= many
}

// code are the lines that hold some tokens.
func (t Tokens) code(from, to int) change.Lines {
	var lines []int
	for _, s := range t.Lines[from:to] {
		for n := s.First; n <= s.Last; n++ {
			if len(lines) == 0 || n > lines[len(lines)-1] {
				lines = append(lines, n)
			}
		}
	}
	return change.LinesOf(lines)
}
