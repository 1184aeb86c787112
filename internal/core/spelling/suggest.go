package spelling

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// mostSuggested is how many words are suggested.
const mostSuggested = 5

// Suggestion is a word that was probably meant.
type Suggestion struct {
	Word     string // with capitals where the misspelt one has them
	Distance int    // how many letters were left out, put in, changed or swapped with the next (Damerau, 1964)

	cost float64 // of the slip, more for rare words
}

// Suggest gives the words that were probably meant by a misspelt one, best first: those of which the fewest letters differ, by letters
// that are beside each other on a keyboard or sound alike, and the more usual ones.
func (s *Speller) Suggest(word string) (all []Suggestion) {
	lower := plain(word)
	if s.Own != nil {
		if instead, avoided := s.Own.Instead(lower); avoided {
			return []Suggestion{{Word: like(word, instead), Distance: 1}}
		}
	}
	seen := map[string]bool{}
	consider := func(entry string, rare uint8) {
		if len(entry) < 2 || seen[entry] || s.Own != nil && s.Own.Avoids(entry) {
			return
		}
		if n := utf8.RuneCountInString(lower) - utf8.RuneCountInString(entry); n > farthest || n < -farthest {
			return
		}
		distance := Distance(lower, entry, farthest)
		if distance > farthest {
			return
		}
		seen[entry] = true
		all = append(all, Suggestion{entry, distance, slip(lower, entry) + float64(rare)/rareness})
	}
	s.oneOff(lower, consider) // also forms that no list has
	for _, d := range s.Dictionaries {
		d.near(lower, farthest, consider)
	}
	if s.Own != nil {
		for _, entry := range s.Own.words() {
			consider(entry, ownRare)
		}
	}
	slices.SortFunc(all, func(a, b Suggestion) int {
		return cmp.Or(cmp.Compare(a.cost, b.cost), cmp.Compare(a.Distance, b.Distance), strings.Compare(a.Word, b.Word))
	})
	all = all[:min(len(all), mostSuggested)]
	for i := range all {
		if all[i].cost > all[0].cost+behind {
			return slices.Clone(all[:i])
		}
		all[i].Word = like(word, all[i].Word)
	}
	return slices.Clone(all)
}

// Likely reports whether a word that no dictionary has is a misspelt one: a slip that is likely in a word of its length leads to one that
// there is. Else it is a name or a word of a trade.
func (s *Speller) Likely(word string) bool {
	lower := plain(word)
	if s.Own != nil && s.Own.Avoids(lower) {
		return true
	}
	limit := likely(word)
	best := limit + 1
	s.oneOff(lower, func(entry string, rare uint8) {
		best = min(best, slip(lower, entry)+float64(rare)/rareness)
	})
	if best <= limit || limit < 2*doubled+float64(10)/rareness { // which two slips cost at least
		return best <= limit
	}
	all := s.Suggest(word)
	return len(all) > 0 && all[0].cost <= limit
}

// oneOff hands over the words that are one letter from another one.
func (s *Speller) oneOff(word string, see func(entry string, rare uint8)) {
	tables := make([][]int32, len(s.Dictionaries))
	for i, d := range s.Dictionaries {
		tables[i] = d.table()
	}
	try := func(candidate []byte) {
		for i, d := range s.Dictionaries {
			if rare, has := d.rareIn(tables[i], candidate); has {
				see(string(candidate), rare)
			}
		}
		if s.Own != nil && s.Own.has[string(candidate)] {
			see(string(candidate), ownRare)
		}
	}
	letters := []rune(word)
	var buffer []byte
	write := func(parts ...[]rune) {
		buffer = buffer[:0]
		for _, part := range parts {
			for _, r := range part {
				buffer = utf8.AppendRune(buffer, r)
			}
		}
		try(buffer)
	}
	alphabet := []rune("abcdefghijklmnopqrstuvwxyz" + s.Letters)
	for i := range len(letters) + 1 {
		before, after := letters[:i], letters[i:]
		if len(after) > 0 {
			write(before, after[1:])
		}
		if len(after) > 1 && after[0] != after[1] {
			write(before, []rune{after[1], after[0]}, after[2:])
		}
		for n := range alphabet {
			one := alphabet[n : n+1]
			write(before, one, after)
			if len(after) > 0 && one[0] != after[0] {
				write(before, one, after[1:])
			}
		}
	}
}

// likely is what a slip may cost at most in a word of some length.
func likely(word string) float64 {
	limit := 1.95
	switch n := utf8.RuneCountInString(word); {
	case n < 5:
		limit = 0.75
	case n < 6:
		limit = 0.9
	case n < 7:
		limit = 1.15
	case n < 8:
		limit = 1.4
	}
	if r, _ := utf8.DecodeRuneInString(word); unicode.IsUpper(r) {
		limit = min(limit, 0.9)
	}
	return limit
}

const (
	behind   = 0.8 // is what a suggestion may cost more than the best
	farthest = 2   // letters that may differ
	rareness = 130 // of a word is the cost of a letter
	ownRare  = 35  // is a word of the team's own
)

// Sure is the only suggestion at distance one, "" where there is none or are several.
func Sure(all []Suggestion) (sure string) {
	for _, s := range all {
		if s.Distance > 1 {
			continue
		}
		if sure != "" {
			return ""
		}
		sure = s.Word
	}
	return sure
}

// like gives a word the capitals of another one.
func like(model, word string) string {
	first, size := utf8.DecodeRuneInString(model)
	switch {
	case utf8.RuneCountInString(model) > 1 && strings.ToUpper(model) == model:
		return strings.ToUpper(word)
	case unicode.IsUpper(first) && size > 0:
		head, size := utf8.DecodeRuneInString(word)
		return string(unicode.ToUpper(head)) + word[size:]
	}
	return word
}

// Distance is how many letters must be left out, put in, changed or swapped with the next to make one word of another, each at most
// once; more than most is most+1.
func Distance(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	for len(x) > 0 && len(y) > 0 && x[0] == y[0] {
		x, y = x[1:], y[1:]
	}
	for len(x) > 0 && len(y) > 0 && x[len(x)-1] == y[len(y)-1] {
		x, y = x[:len(x)-1], y[:len(y)-1]
	}
	if n := len(x) - len(y); n > most || n < -most {
		return most + 1
	}
	var space [3][48]int
	if len(y) >= len(space[0]) {
		return most + 1
	}
	before, last, row := space[0][:len(y)+1], space[1][:len(y)+1], space[2][:len(y)+1]
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		row[0] = i
		least := i
		for j := 1; j <= len(y); j++ {
			change := 1
			if x[i-1] == y[j-1] {
				change = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+change)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
			least = min(least, row[j])
		}
		if least > most {
			return most + 1
		}
		before, last, row = last, row, before
	}
	return min(last[len(y)], most+1)
}

// keyboard are the rows of keys; letters that are beside each other are mistaken for each other.
var keyboard = []string{"qwertyuiop", "asdfghjkl", "zxcvbnm"}

var beside = sync.OnceValue(func() map[[2]rune]bool {
	all := map[[2]rune]bool{}
	for i, row := range keyboard {
		for j, c := range row {
			for _, other := range keyboard[i:min(i+2, len(keyboard))] {
				for k := max(0, j-1); k <= min(j+1, len(other)-1); k++ {
					d := rune(other[k])
					all[[2]rune{c, d}], all[[2]rune{d, c}] = true, true
				}
			}
		}
	}
	return all
})

// sounds are letters that sound alike.
var sounds = sync.OnceValue(func() map[[2]rune]bool {
	all := map[[2]rune]bool{}
	for _, pair := range strings.Fields("ae ai ao ei eo eu io ou iy ey ck cs sz gj fv dt uw uo kq au") {
		a, b := rune(pair[0]), rune(pair[1])
		all[[2]rune{a, b}], all[[2]rune{b, a}] = true, true
	}
	return all
})

// What a slip costs.
const (
	wholeSlip   = 1.0
	swapped     = 0.6 // two letters
	doubled     = 0.55
	soundsAlike = 0.7
	keyBeside   = 0.85
	atStart     = 0.4 // more, for a slip in the first letter
)

// slip is what it costs to have written one word for another one.
func slip(wrong, right string) float64 {
	x, y := []rune(wrong), []rune(right)
	if len(y) > 47 || len(x) > 47 {
		return farthest + 1
	}
	cost := make([][]float64, len(x)+1)
	for i := range cost {
		cost[i] = make([]float64, len(y)+1)
		cost[i][0] = float64(i)
	}
	for j := range cost[0] {
		cost[0][j] = float64(j)
	}
	if len(x) > 0 && len(y) > 0 {
		cost[1][0], cost[0][1] = wholeSlip+atStart, wholeSlip+atStart
	}
	alike, near := sounds(), beside()
	one := func(all []rune, i int) float64 { // for a letter more
		if i > 0 && all[i] == all[i-1] || i+1 < len(all) && all[i] == all[i+1] {
			return doubled
		}
		if i > 0 && all[i] == 'e' && i == len(all)-1 {
			return soundsAlike
		}
		return wholeSlip
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			change := wholeSlip
			pair := [2]rune{x[i-1], y[j-1]}
			switch {
			case x[i-1] == y[j-1]:
				change = 0
			case alike[pair]:
				change = soundsAlike
			case near[pair]:
				change = keyBeside
			}
			if change > 0 && (i == 1 || j == 1) {
				change += atStart
			}
			c := min(cost[i-1][j]+one(x, i-1), cost[i][j-1]+one(y, j-1), cost[i-1][j-1]+change)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] && x[i-1] != x[i-2] {
				c = min(c, cost[i-2][j-2]+swapped)
			}
			cost[i][j] = c
		}
	}
	return cost[len(x)][len(y)]
}
