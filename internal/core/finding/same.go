package finding

import (
	"slices"
	"strings"

	"zincdoor/internal/core/source"
)

// Faults groups findings that speak of the same fault: of several tools, at the same lines, by rules that are declared to
// be the same, in messages that agree in words, numbers and names, or by the same rule on overlapping columns or of the same
// quoted name. Two findings of one tool never are one fault. Each group lists two findings or more by their index, in order.
// There are n findings, in Order. set names what a finding's rule is declared to be the same as, "" where that is nothing.
func Faults(n int, at func(i int) *Finding, set func(*Finding) string) (groups [][]int) {
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
			groups = append(groups, faultsAt(at, from, to, set)...)
		}
		from = to
	}
	return groups
}

// fault is a group in the making: findings of as many tools.
type fault struct{ of []int }

// faultsAt groups the findings of one line, the surest first.
func faultsAt(at func(i int) *Finding, from, to int, set func(*Finding) string) (groups [][]int) {
	faults := make([]*fault, to-from) // by finding
	for i := range faults {
		faults[i] = &fault{[]int{from + i}}
	}
	always := func(a, b *Finding) bool { return true }
	for _, by := range []struct {
		key   func(*Finding) string
		alike func(a, b *Finding) bool // beside having the same key
	}{
		{set, always},
		{func(f *Finding) string { return saying(f.Message) }, always},
		{func(f *Finding) string { return f.Rule }, func(a, b *Finding) bool { return overlap(a.Region, b.Region) || quoteAlike(a.Message, b.Message) }},
	} {
		type seat struct {
			key  string
			last int
		}
		seated := map[seat][]*fault{}
		seatOf := func(i int) seat { return seat{by.key(at(i)), at(i).Region.Last()} }
		for i, f := range faults {
			if len(f.of) > 1 && f.of[0] == from+i {
				seated[seatOf(from+i)] = append(seated[seatOf(from+i)], f)
			}
		}
		for i := range faults {
			if len(faults[i].of) > 1 {
				continue
			}
			f, s := at(from+i), seatOf(from+i)
			if s.key == "" {
				continue
			}
			fits := func(o *fault) bool {
				return by.alike(at(o.of[0]), f) && !slices.ContainsFunc(o.of, func(j int) bool { return at(j).Tool == f.Tool })
			}
			n := slices.IndexFunc(seated[s], fits)
			if n < 0 {
				seated[s] = append(seated[s], faults[i])
				continue
			}
			into := seated[s][n]
			into.of = append(into.of, from+i)
			slices.Sort(into.of)
			faults[i] = into
		}
	}
	for i, f := range faults {
		if len(f.of) > 1 && f.of[0] == from+i {
			groups = append(groups, f.of)
		}
	}
	return groups
}

// overlap reports whether two regions of the same lines share columns. Regions without columns aren't known to.
func overlap(a, b Region) bool {
	if a.Column == 0 || b.Column == 0 {
		return false
	}
	if a.Line != a.Last() { // of several lines
		return a.Column == b.Column
	}
	return a.Column < max(b.EndColumn, b.Column+1) && b.Column < max(a.EndColumn, a.Column+1)
}

// quoteAlike reports whether two messages quote the same name.
func quoteAlike(a, b string) bool {
	names := quotedNames(a)
	return slices.ContainsFunc(quotedNames(b), func(name string) bool { return slices.Contains(names, name) })
}

// quotedNames lists what a message quotes.
func quotedNames(message string) (names []string) {
	for i := 0; i < len(message); i++ {
		if c := message[i]; c != '\'' && c != '"' && c != '`' || insideWord(message, i) {
			continue
		}
		if n := quotedLength(message[i:]); n > 2 {
			names = append(names, message[i+1:i+n-1])
			i += n - 1
		}
	}
	return names
}

// saying is a message as its words, numbers and names alone, in lower case.
func saying(message string) string {
	words := strings.FieldsFunc(strings.ToLower(message), func(r rune) bool { return !source.InName(r) })
	return strings.Join(words, " ")
}
