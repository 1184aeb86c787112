package measure

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
)

// Tool is what findings about numbers come from.
const Tool = "measure"

// Numbers that are no size.
const (
	NumberCoverage   Number = "coverage"         // the lines that tests came to, of those that can be reached
	NumberBranches   Number = "branch-coverage"  // the ways on that tests took, of those that there are
	NumberDuplicated Number = "duplicated-lines" // the lines that are duplicates, of those that hold code
	NumberFindings   Number = "findings"         // for each thousand lines of code
	NumberDebt       Number = "debt"             // the cost of the findings, in minutes
	NumberReported   Number = "reported"         // the numbers that tools give beside their findings, or in the messages
)

// Limiting says how a number can be limited.
type Limiting struct {
	Scopes []Scope
	Least  bool    // less of it is worse
	Shares bool    // it can be a part of the lines that count, in percent; with Least it always is
	Of     bool    // findings make it up, so that they can be selected
	Before []Scope // those in which it can be held against what it was before
}

// limiting is how each number can be limited.
var limiting = map[Number]Limiting{
	NumberCoverage:   {Scopes: []Scope{OfTouched, OfFunction, OfFile, OfAll}, Least: true, Shares: true, Before: []Scope{OfFile, OfAll}},
	NumberBranches:   {Scopes: []Scope{OfTouched, OfFunction, OfFile, OfAll}, Least: true, Shares: true, Before: []Scope{OfFile, OfAll}},
	NumberDuplicated: {Scopes: []Scope{OfTouched, OfFile, OfAll}, Shares: true, Before: []Scope{OfFile, OfAll}},
	NumberLines:      {Scopes: []Scope{OfTouched, OfFunction, OfFile, OfAll}, Before: []Scope{OfFunction, OfFile, OfAll}},
	NumberCode:       {Scopes: []Scope{OfFile, OfAll}, Before: []Scope{OfFile, OfAll}},
	NumberDecisions:  {Scopes: []Scope{OfFunction, OfFile, OfAll}, Before: []Scope{OfFunction, OfFile, OfAll}},
	NumberNesting:    {Scopes: []Scope{OfFunction, OfFile}, Before: []Scope{OfFunction, OfFile}},
	NumberParameters: {Scopes: []Scope{OfFunction}, Before: []Scope{OfFunction}},
	NumberFindings:   {Scopes: []Scope{OfFile, OfAll}, Of: true},
	NumberReported:   {Scopes: []Scope{OfTouched, OfFile, OfAll}, Of: true},
	NumberDebt:       {Scopes: []Scope{OfTouched, OfFile, OfAll}, Of: true, Before: []Scope{OfAll}},
}

// Limited lists the numbers that can be limited, in the order in which people are shown them.
var Limited = []Number{
	NumberCoverage, NumberBranches, NumberDuplicated, NumberLines, NumberCode, NumberDecisions, NumberNesting, NumberParameters, NumberReported, NumberFindings, NumberDebt,
}

// Limiting says how a number can be limited.
func (n Number) Limiting() Limiting { return limiting[n] }

// Size reports whether a number is read off the text alone, file by file.
func (n Number) Size() bool {
	switch n {
	case NumberLines, NumberCode, NumberDecisions, NumberNesting, NumberParameters:
		return true
	}
	return false
}

// Subject is what a value is of: a number in a scope, of a file or a function in it.
type Subject struct {
	Number   Number
	Of       Scope
	Path     string
	Function string
	Lines    change.Span // of the function, else nothing
}

// Value is what a number comes to. Of all and of what a change touches each file has its own, to be added up.
type Value struct {
	Subject
	Part      int    // the number; of coverage what isn't covered, of duplication what is duplicated
	Whole     int    // of coverage and duplication, how many lines or ways on there are; else 0
	Before    *Parts // what it was before the change; nil where there was nothing, or that isn't known
	Estimated bool
}

// Parts are a part and the whole that it is of.
type Parts struct{ Part, Whole int }

// Rule is the rule that findings about a number in a scope are of.
func Rule(n Number, of Scope) string { return fmt.Sprintf("%s-of-%s", n, of) }

// Share is a part in percent, as it is held against a bound: of coverage what is covered. Of nothing, coverage is whole and
// duplication none.
func (n Number) Share(p Parts) float64 {
	bad := 0.0
	if p.Whole > 0 {
		bad = 100 * float64(p.Part) / float64(p.Whole)
	}
	if n.Limiting().Least {
		return 100 - bad
	}
	return bad
}

// ByPlace sorts values by file and line.
func ByPlace(a, b Value) int {
	return cmp.Or(strings.Compare(a.Path, b.Path), cmp.Compare(a.Lines.First, b.Lines.First), strings.Compare(string(a.Number), string(b.Number)), strings.Compare(string(a.Of), string(b.Of)))
}

// Message says in words what a value comes to, without what is allowed. Accepted and present findings are known again by it.
func (v Value) Message() string {
	what := "this file"
	switch {
	case v.Of == OfTouched:
		what = "the change"
	case v.Function != "":
		what = v.Function
	}
	many := func(one string) string { return counted(v.Part, one) }
	switch v.Number {
	case NumberCoverage:
		return fmt.Sprintf("tests cover %d of %s of %s", v.Whole-v.Part, counted(v.Whole, "line"), what)
	case NumberBranches:
		return fmt.Sprintf("tests take %d of %s of %s", v.Whole-v.Part, counted(v.Whole, "branch"), what)
	case NumberDuplicated:
		return fmt.Sprintf("%s of %s duplicate other code", many("line"), what)
	case NumberLines:
		return fmt.Sprintf("%s has %s", what, many("line"))
	case NumberCode:
		return fmt.Sprintf("%s has %s of code", what, many("line"))
	case NumberDecisions:
		return fmt.Sprintf("%s has %s", what, many("decision"))
	case NumberNesting:
		return fmt.Sprintf("%s nests %s deep", what, many("level"))
	}
	return fmt.Sprintf("%s takes %s", what, many("parameter"))
}

func counted(n int, one string) string {
	switch {
	case n == 1:
		return "1 " + one
	case strings.HasSuffix(one, "ch"):
		return fmt.Sprintf("%d %ses", n, one)
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Takes reports whether the number can be limited in a scope.
func (l Limiting) Takes(of Scope) bool { return slices.Contains(l.Scopes, of) }

// Guesses reports whether the number may be estimated.
func (n Number) Guesses() bool { return n != NumberLines && n != NumberCode }

// about says what each number is, for whoever asks for the rule of a finding about it.
var about = map[Number]struct{ is, advice string }{
	NumberCoverage:   {"How much of the lines that can be reached tests came to", "Write a test that runs these lines, or leave the file out of the limit's path: with except."},
	NumberBranches:   {"How many of the ways on from a line tests took", "Write a test for each way on from these lines: one in which the condition is true, one in which it isn't."},
	NumberDuplicated: {"How many lines are the same as others, token by token", "Make one function of it, and call it from both places."},
	NumberLines:      {"How many lines there are", "Split it: each part with one thing to do, and a name that says which."},
	NumberCode:       {"How many lines hold more than white space and comments", "Split it: each part with one thing to do, and a name that says which."},
	NumberDecisions:  {"At how many points the code goes on in one of several ways: each if, loop, case, catch, and, or", "Make functions of parts that decide by themselves, or a table of what is chosen between."},
	NumberNesting:    {"How deep control structures stand inside one another", "Return early where a condition isn't met, or make a function of the inner part."},
	NumberParameters: {"How many parameters a function takes", "Put those together that belong together, in a type with a name."},
}

// About says what a number is, as the text of its rule; "" for those without findings of their own.
func (n Number) About(of Scope) string {
	if about[n].is == "" {
		return ""
	}
	return about[n].is + map[Scope]string{OfTouched: ", of the changed lines", OfFunction: ", of each function", OfFile: ", of each file", OfAll: ", of all files"}[of]
}

// Advice says how to come to a better number.
func (n Number) Advice() string { return about[n].advice }

// Compares reports whether the number can be held against what it was before, in a scope.
func (l Limiting) Compares(of Scope) bool { return slices.Contains(l.Before, of) }
