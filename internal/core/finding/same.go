package finding

import (
	"strconv"
	"strings"
	"zincdoor/internal/core/source"
)

// Faults groups findings that speak of the same fault: of several tools, at the same lines, by rules that are declared to
// be the same, or in messages that agree in words, numbers and names. Two findings of one tool never are one fault. Each
// group lists two findings or more by their index, in order. There are n findings, in Order. set gives the number of the
// declared set that a finding's rule is in, -1 where it is in none.
func Faults(n int, at func(i int) *Finding, set func(*Finding) int) (groups [][]int) {
	for from := 0; from < n; {
		first, several := at(from), false
		to := from + 1
		for ; to < n; to++ {
			f := at(to)
			if f.Path != first.Path || f.Region.Line != first.Region.Line {
				break
			}
			several = several || f.Tool != first.Tool
		}
		if several && first.Region.Line > 0 {
			for _, group := range faultsAt(at, from, to, set) {
				if len(group) > 1 {
					groups = append(groups, group)
				}
			}
		}
		from = to
	}
	return groups
}

// faultsAt groups the findings of one line: first by the declared sets, then what is left by messages.
func faultsAt(at func(i int) *Finding, from, to int, set func(*Finding) int) [][]int {
	group := make([]int, to-from) // by finding: its group
	for i := range group {
		group[i] = i
	}
	leads := make([]bool, to-from) // it has others in its group
	for _, keyOf := range []func(*Finding) string{
		func(f *Finding) string {
			if n := set(f); n >= 0 {
				return strconv.Itoa(n)
			}
			return ""
		},
		func(f *Finding) string { return saying(f.Message) },
	} {
		type seat struct {
			key, tool string
			last      int
		}
		heads := map[seat][]int{} // the groups of a key, by their order; tool is ""
		taken := map[seat]int{}   // how many groups of a key a tool has a finding in
		for i := range group {
			f := at(from + i)
			key := keyOf(f)
			if key == "" || group[i] != i || leads[i] {
				continue
			}
			all := seat{key, "", f.Region.Last()}
			own := seat{key, f.Tool, f.Region.Last()}
			n := taken[own]
			taken[own]++
			if n < len(heads[all]) {
				group[i] = heads[all][n]
				leads[group[i]] = true
			} else {
				heads[all] = append(heads[all], i)
			}
		}
	}
	byHead := map[int]int{}
	var groups [][]int
	for i, head := range group {
		n, known := byHead[head]
		if !known {
			n = len(groups)
			byHead[head], groups = n, append(groups, nil)
		}
		groups[n] = append(groups[n], from+i)
	}
	return groups
}

// saying is a message as its words, numbers and names alone, in lower case.
func saying(message string) string {
	words := strings.FieldsFunc(strings.ToLower(message), func(r rune) bool { return !source.InName(r) })
	return strings.Join(words, " ")
}
