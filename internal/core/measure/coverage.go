package measure

import (
	"maps"
	"slices"

	"zincdoor/internal/core/change"
)

// Hits is how often the tests of a run came to a line.
type Hits struct {
	Count           int
	Branches, Taken int  // of the ways on from the line, how many there are and how many were taken; 0 and 0 where that isn't known
	Block           bool // it stands in a stretch of code that may take in lines which can't be reached
	Column          int  // the last one, in bytes, that the tool speaks of in the line; 0 where it speaks of none
}

// Reported is what coverage reports say together.
type Reported struct {
	Coverage
	Expects func(path string) bool // files that they should speak of, by their kinds or what the policy says
	Named   func(path string) bool // of these, those that the policy says
}

// NewReported makes what no report says anything of yet.
func NewReported() *Reported {
	none := func(string) bool { return false }
	return &Reported{Coverage: Coverage{}, Expects: none, Named: none}
}

// Coverage is which lines of which files tests came to: the lines that can be reached at all, 1-based, by paths.
type Coverage map[string]map[int]Hits

// Add adds what a run says of a line: counts are added up, and of branches as many are known to be taken as one run took.
func (c Coverage) Add(path string, line int, h Hits) {
	file := c[path]
	if file == nil {
		file = map[int]Hits{}
		c[path] = file
	}
	was := file[line]
	file[line] = Hits{was.Count + h.Count, max(was.Branches, h.Branches), max(was.Taken, h.Taken), was.Block || h.Block, max(was.Column, h.Column)}
}

// AddWay adds one more way on from a line, and how often the line was come to.
func (c Coverage) AddWay(path string, line, count int, taken bool) {
	c.Add(path, line, Hits{Count: count})
	h := c[path][line]
	if h.Branches++; taken {
		h.Taken++
	}
	c[path][line] = h
}

// Join adds what another run covered.
func (c Coverage) Join(other Coverage) {
	for path, lines := range other {
		for line, h := range lines {
			c.Add(path, line, h)
		}
		if len(lines) == 0 && c[path] == nil {
			c[path] = map[int]Hits{}
		}
	}
}

// Paths are the files that it speaks of, sorted.
func (c Coverage) Paths() []string { return slices.Sorted(maps.Keys(c)) }

// Covered is how much of some lines is covered.
type Covered struct {
	Counted   int           // lines that can be reached
	Covered   int           // of these, those that tests came to
	Uncovered []change.Span // the stretches of the others, in order; lines between them that can't be reached belong to them
}

// Share is the part that is covered, in percent; all of nothing.
func (c Covered) Share() float64 {
	if c.Counted == 0 {
		return 100
	}
	return 100 * float64(c.Covered) / float64(c.Counted)
}

// covered is how much is covered of the lines that are taken.
func (c FileCoverage) covered(take func(line int) bool) (sum Covered) {
	parts := c.Parts(NumberCoverage, take)
	sum.Counted, sum.Covered = parts.Whole, parts.Whole-parts.Part
	for _, stretch := range c.Stretches(NumberCoverage, take) {
		sum.Uncovered = append(sum.Uncovered, stretch.Span)
	}
	return sum
}

// CoveredRow is how much of the lines of a file or a function is covered.
type CoveredRow struct {
	Path     string // "" for a language
	Language string
	Function string      // "" for a file or a language
	Lines    change.Span // of a function
	Covered
	Unmentioned bool // no coverage file speaks of the file, though they do of others of its kind
}

// CoverRows counts the lines of files by a scope, in the order of paths, and leaves out what has none that count. Take says which
// lines of a file are looked at, ofChange that these are a change's.
func (c *Reported) CoverRows(files []Measured, of Scope, take func(path string, line int) bool, ofChange bool) (rows []CoveredRow) {
	for _, f := range files {
		lines, counts := c.LinesOf(f, ofChange)
		if !counts {
			continue
		}
		add := func(row CoveredRow, take func(line int) bool) {
			row.Path, row.Language, row.Unmentioned = f.Path, f.Language, c.Coverage[f.Path] == nil
			if row.Covered = lines.covered(take); row.Counted > 0 {
				rows = append(rows, row)
			}
		}
		inFile := func(line int) bool { return take(f.Path, line) }
		if of != OfFunction {
			add(CoveredRow{}, inFile)
			continue
		}
		for _, fn := range f.Functions {
			add(CoveredRow{Function: fn.Name, Lines: fn.Span}, func(line int) bool { return line >= fn.First && line <= fn.Last && inFile(line) })
		}
	}
	if of != OfAll {
		return rows
	}
	return byLanguage(rows, func(r CoveredRow) string { return r.Language }, func(language string, rows []CoveredRow) CoveredRow {
		return CoveredRow{Language: language, Covered: SumCovered(rows)}
	})
}

// HasBranches reports whether any line's ways on are counted.
func (c Coverage) HasBranches() bool {
	for _, lines := range c {
		for _, h := range lines {
			if h.Branches > 0 {
				return true
			}
		}
	}
	return false
}

// FileCoverage is what tests came to in one file.
type FileCoverage map[int]Hits

// LinesOf are the lines of a file that can be reached: those that the reports speak of and that hold code. Of a file that they should
// speak of and don't, all lines of code are, and no test came there; counts is false where nothing is expected. A file that the change
// touches is expected by its kind, another one only where the policy says so.
func (c *Reported) LinesOf(f Measured, touched bool) (lines FileCoverage, counts bool) {
	said, mentioned := c.Coverage[f.Path]
	if !mentioned {
		if !c.Named(f.Path) && !(touched && c.Expects(f.Path)) {
			return nil, false
		}
		said = f.nothing()
	}
	lines = FileCoverage{}
	for n, h := range said {
		if !h.Block || f.Code.Has(n) {
			lines[n] = h
		}
	}
	return lines, true
}

// AddUnknown adds the lines of code of functions of which a report knows no line at all, though it speaks of their file: it was made
// from an earlier text, or they can't be reached in any way. Takes says which lines are looked at.
func (c FileCoverage) AddUnknown(f Measured, takes func(line int) bool) {
	known := func(fn Function) bool {
		for n := range c {
			if fn.First <= n && n <= fn.Last {
				return true
			}
		}
		return false
	}
	for _, fn := range f.Functions {
		if fn.Count() < leastFunction || known(fn) {
			continue
		}
		for n := fn.First; n <= fn.Last; n++ {
			if takes(n) && f.Code.Has(n) {
				c[n] = Hits{}
			}
		}
	}
}

// leastFunction is of how many lines a function is that must have some which can be reached.
const leastFunction = 3

// parts are those of one line by a number: of a line that can be reached, or of the ways on from it.
func (h Hits) parts(of Number) (p Parts) {
	if of == NumberBranches {
		return Parts{h.Branches - h.Taken, h.Branches}
	}
	if h.Count == 0 {
		p.Part = 1
	}
	p.Whole = 1
	return p
}

// Parts counts what isn't covered of the lines that are taken, and all of them.
func (c FileCoverage) Parts(of Number, take func(line int) bool) (sum Parts) {
	for n, h := range c {
		if take(n) {
			p := h.parts(of)
			sum.Part, sum.Whole = sum.Part+p.Part, sum.Whole+p.Whole
		}
	}
	return sum
}

// Stretch is a stretch of lines that tests don't come to, with how many of them.
type Stretch struct {
	change.Span
	Parts Parts
}

// Stretches are those of the lines that are taken, in order; of branches each line is one. Lines between them that can't be reached
// belong to them.
func (c FileCoverage) Stretches(of Number, take func(line int) bool) (all []Stretch) {
	open := false // the last line that counts isn't covered
	for _, n := range slices.Sorted(maps.Keys(c)) {
		p := c[n].parts(of)
		switch {
		case !take(n), p.Part == 0:
			open = false
		case open && of != NumberBranches:
			last := &all[len(all)-1]
			last.Last, last.Parts = n, Parts{last.Parts.Part + p.Part, last.Parts.Whole + p.Whole}
		default:
			all, open = append(all, Stretch{change.Span{First: n, Last: n}, p}), true
		}
	}
	return all
}

// nothing are the file's lines of code, and that no test came to them.
func (f Measured) nothing() map[int]Hits {
	lines := map[int]Hits{}
	for _, s := range f.Code {
		for n := s.First; n <= s.Last; n++ {
			lines[n] = Hits{}
		}
	}
	return lines
}

// SumCovered is how much of all rows is covered.
func SumCovered(rows []CoveredRow) (sum Covered) {
	for _, r := range rows {
		sum.Counted, sum.Covered = sum.Counted+r.Counted, sum.Covered+r.Covered.Covered
	}
	return sum
}

// SortUncovered puts the rows with the most lines that aren't covered first.
func SortUncovered(rows []CoveredRow) {
	slices.SortStableFunc(rows, func(a, b CoveredRow) int { return (b.Counted - b.Covered.Covered) - (a.Counted - a.Covered.Covered) })
}
