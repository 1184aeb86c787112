package policyfile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Problem is one thing wrong in a policy file. Line and Column are 1-based; 0 where the whole file is meant.
type Problem struct {
	File         string
	Line, Column int
	Text         string
}

func (p Problem) String() string {
	if p.Line == 0 {
		return fmt.Sprintf("%s: %s", p.File, p.Text)
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Text)
}

// Problems is the error of a policy file: everything wrong in it, in order of lines.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, problem := range p {
		lines[i] = problem.String()
	}
	return strings.Join(lines, "\n")
}

// sorted puts the problems in order of files and lines.
func (p Problems) sorted() Problems {
	slices.SortStableFunc(p, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return slices.Compact(p)
}

// Nearest returns the word of the list that is most like word, "" where none is much like it.
func Nearest(word string, list []string) string {
	best, distance := "", 1+len(word)/3
	for _, candidate := range slices.Sorted(slices.Values(list)) {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(candidate)); d <= distance {
			best, distance = candidate, d-1
		}
	}
	return best
}
