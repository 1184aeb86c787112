package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Comparison holds a number against a bound. The zero value is none.
type Comparison struct {
	Op    string // one of comparisons
	Bound float64
	text  string
}

// comparisons are the operators, longer ones before those that they begin with.
var comparisons = []string{">=", "<=", ">", "<", "="}

// ParseComparison reads a comparison such as ">15", ">=2.5" or "=0".
func ParseComparison(s string) (Comparison, error) {
	text := strings.TrimSpace(s)
	i := slices.IndexFunc(comparisons, func(op string) bool { return strings.HasPrefix(text, op) })
	if i >= 0 {
		if bound, err := strconv.ParseFloat(strings.TrimSpace(text[len(comparisons[i]):]), 64); err == nil && bound == bound {
			return Comparison{comparisons[i], bound, text}, nil
		}
	}
	return Comparison{}, fmt.Errorf(`a number is compared as in ">15", ">=15", "<3", "<=3" or "=0", not %q`, s)
}

// String gives the comparison as it was written.
func (c Comparison) String() string { return c.text }

// Holds reports whether a number, as it is written, is one that is meant. What is no number never is.
func (c Comparison) Holds(number string) bool {
	n, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return false
	}
	switch c.Op {
	case ">=":
		return n >= c.Bound
	case "<=":
		return n <= c.Bound
	case ">":
		return n > c.Bound
	case "<":
		return n < c.Bound
	}
	return n == c.Bound
}
