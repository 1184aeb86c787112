package measure

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
)

// Scope is what numbers are of.
type Scope string

// The scopes, the smallest first.
const (
	OfTouched  Scope = "touched" // the lines that a change touches, by file
	OfFunction Scope = "function"
	OfFile     Scope = "file"
	OfAll      Scope = "all" // by language
)

// Scopes are all of them.
var Scopes = []Scope{OfTouched, OfFunction, OfFile, OfAll}

// Number is a kind of number.
type Number string

// The numbers. A file nests as deep as that of its functions which nests deepest; all others are added up.
const (
	NumberFiles      Number = "files"
	NumberLines      Number = "lines"
	NumberCode       Number = "code"
	NumberFunctions  Number = "functions"
	NumberDecisions  Number = "decisions"
	NumberNesting    Number = "nesting"
	NumberParameters Number = "parameters"
)

// AllNumbers are all of them.
var AllNumbers = []Number{NumberLines, NumberCode, NumberFunctions, NumberDecisions, NumberNesting, NumberParameters, NumberFiles}

// Numbers are those that a scope has, in the order in which they are shown. The one that its rows are ordered by, where the call
// doesn't say, is ByDefault.
func (s Scope) Numbers() []Number {
	switch s {
	case OfTouched:
		return []Number{NumberLines, NumberCode, NumberFunctions}
	case OfFunction:
		return []Number{NumberLines, NumberDecisions, NumberNesting, NumberParameters}
	case OfFile:
		return []Number{NumberLines, NumberCode, NumberFunctions, NumberDecisions, NumberNesting}
	}
	return []Number{NumberFiles, NumberLines, NumberCode, NumberFunctions, NumberDecisions, NumberNesting}
}

// ByDefault is the number that shows what is worst.
func (s Scope) ByDefault() Number {
	if s == OfFunction {
		return NumberDecisions
	}
	return NumberCode
}

// Row are the numbers of one function, file or language.
type Row struct {
	Path      string // "" for a language
	Language  string
	Function  string      // "" for a file or a language
	Lines     change.Span // of a function
	Numbers   map[Number]int
	Before    map[Number]int // what they were before a change; nil where there was nothing, or no change is looked at
	Estimated bool
}

// Measured is a file with its path.
type Measured struct {
	Path string
	File
}

// ByPath sorts files.
func ByPath(a, b Measured) int { return strings.Compare(a.Path, b.Path) }

// Rows are the numbers of files by a scope, in the order of paths and lines, or of languages.
func Rows(files []Measured, of Scope) (rows []Row) {
	for _, f := range files {
		if of != OfFunction {
			rows = append(rows, f.row())
			continue
		}
		for _, fn := range f.Functions {
			rows = append(rows, Row{Path: f.Path, Language: f.Language, Function: fn.Name, Lines: fn.Span, Estimated: fn.Estimated, Numbers: map[Number]int{
				NumberLines: fn.Count(), NumberDecisions: fn.Decisions, NumberNesting: fn.Nesting, NumberParameters: fn.Parameters,
			}})
		}
	}
	if of != OfAll {
		return rows
	}
	return byLanguage(rows, func(r Row) string { return r.Language }, func(language string, rows []Row) Row {
		sum := Sum(rows)
		sum.Language = language
		return sum
	})
}

// TouchedRows are what a change touches of files, in the order of paths: lines, those of them with code, and functions.
func TouchedRows(files []Measured, c *change.Change) (rows []Row) {
	for _, f := range files {
		numbers := map[Number]int{}
		for n := 1; n <= f.Lines; n++ {
			if c.Touches(f.Path, n) {
				if numbers[NumberLines]++; f.Code.Has(n) {
					numbers[NumberCode]++
				}
			}
		}
		for _, fn := range f.Functions {
			if c.TouchesAny(f.Path, fn.Span) {
				numbers[NumberFunctions]++
			}
		}
		if numbers[NumberLines] > 0 {
			rows = append(rows, Row{Path: f.Path, Language: f.Language, Numbers: numbers})
		}
	}
	return rows
}

// byLanguage makes one row of all rows of a language, in the order of languages.
func byLanguage[row any](rows []row, languageOf func(r row) string, sum func(language string, rows []row) row) (all []row) {
	groups := map[string][]row{}
	for _, r := range rows {
		groups[languageOf(r)] = append(groups[languageOf(r)], r)
	}
	for _, language := range slices.Sorted(maps.Keys(groups)) {
		all = append(all, sum(language, groups[language]))
	}
	return all
}

// row are the numbers of a file as a whole.
func (f Measured) row() Row {
	estimated := slices.ContainsFunc(f.Functions, func(fn Function) bool { return fn.Estimated })
	return Row{Path: f.Path, Language: f.Language, Estimated: estimated, Numbers: map[Number]int{
		NumberFiles: 1, NumberLines: f.Lines, NumberCode: f.Code.Count(), NumberFunctions: len(f.Functions), NumberDecisions: f.Decisions(), NumberNesting: f.Nesting(),
	}}
}

// Sum is the row of all rows together. Before a change, one that is new was nothing.
func Sum(rows []Row) Row {
	sum := Row{Numbers: map[Number]int{}}
	for _, r := range rows {
		sum.add(r)
	}
	return sum
}

func (r *Row) add(other Row) {
	r.Estimated = r.Estimated || other.Estimated
	addUp(r.Numbers, other.Numbers)
	if other.Before != nil {
		if r.Before == nil {
			r.Before = map[Number]int{}
		}
		addUp(r.Before, other.Before)
	}
}

func addUp(sum, more map[Number]int) {
	for number, n := range more {
		if number == NumberNesting {
			sum[number] = max(sum[number], n)
		} else {
			sum[number] += n
		}
	}
}

// Sort puts the rows with the most first; those with as many stay in the order of paths and lines.
func Sort(rows []Row, by Number) {
	slices.SortStableFunc(rows, func(a, b Row) int {
		return cmp.Or(cmp.Compare(b.Numbers[by], a.Numbers[by]), strings.Compare(a.Path, b.Path), cmp.Compare(a.Lines.First, b.Lines.First))
	})
}
