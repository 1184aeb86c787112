package spelling

import (
	"hash/maphash"
	"iter"
	"math/bits"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

// Dictionary is a list of words, in lower case, with how rare each is. It may be asked by several at once.
type Dictionary struct {
	// Forms says whether a word that isn't in the list is a form of one that is; nil for a list that has all forms.
	Forms func(word string) (rare uint8, is bool)

	words []string  // sorted
	rare  []uint8   // of each word: 10 for the most usual ones, more for others
	masks []uint32  // of each word, which letters it has
	sized [][]int32 // the places of words, by how many bytes they have

	table func() []int32 // by the hashes of words, their places; none where there is none
}

// Entry is a word with how rare it is.
type Entry struct {
	Word string
	Rare uint8
}

// NewDictionary makes a dictionary. Of a word that comes several times the least rare counts.
func NewDictionary(entries []Entry) *Dictionary {
	order := func(a, b Entry) int {
		if c := strings.Compare(a.Word, b.Word); c != 0 {
			return c
		}
		return int(a.Rare) - int(b.Rare)
	}
	if entries = slices.Clone(entries); !slices.IsSortedFunc(entries, order) {
		slices.SortFunc(entries, order)
	}
	entries = slices.CompactFunc(entries, func(a, b Entry) bool { return a.Word == b.Word })
	d := &Dictionary{words: make([]string, len(entries)), rare: make([]uint8, len(entries)), masks: make([]uint32, len(entries))}
	for i, e := range entries {
		d.words[i], d.rare[i], d.masks[i] = e.Word, e.Rare, maskOf(e.Word)
		for len(d.sized) <= len(e.Word) {
			d.sized = append(d.sized, nil)
		}
		d.sized[len(e.Word)] = append(d.sized[len(e.Word)], int32(i))
	}
	d.table = sync.OnceValue(d.hash)
	return d
}

// seed makes hashes of this run.
var seed = maphash.MakeSeed()

// none is the place of no word.
const none = -1

// hash makes a table that words are found in faster than by halving the list, for who asks for very many.
func (d *Dictionary) hash() []int32 {
	size := 1
	for size < 2*len(d.words)+1 {
		size *= 2
	}
	table := make([]int32, size)
	for i := range table {
		table[i] = none
	}
	for i, word := range d.words {
		at := int(maphash.String(seed, word)) & (size - 1)
		for table[at] != none {
			at = (at + 1) & (size - 1)
		}
		table[at] = int32(i)
	}
	return table
}

// rareIn is how rare a word is, for who asks for very many.
func (d *Dictionary) rareIn(table []int32, word []byte) (rare uint8, has bool) {
	for at := int(maphash.Bytes(seed, word)) & (len(table) - 1); table[at] != none; at = (at + 1) & (len(table) - 1) {
		if i := table[at]; d.words[i] == string(word) {
			return d.rare[i], true
		}
	}
	if d.Forms != nil {
		return d.Forms(string(word))
	}
	return 0, false
}

// Rare is how rare a word in lower case is; false where the dictionary doesn't have it.
func (d *Dictionary) Rare(word string) (rare uint8, has bool) {
	i, has := slices.BinarySearch(d.words, word)
	switch {
	case has:
		return d.rare[i], true
	case d.Forms != nil:
		return d.Forms(word)
	}
	return 0, false
}

// maskOf says which letters a word has; several of other alphabets share a place.
func maskOf(word string) (mask uint32) {
	for _, r := range word {
		if r -= 'a'; r < 0 || r > 25 {
			r = 26 + (r&3+4)&3
		}
		mask |= 1 << r
	}
	return mask
}

// near hands over the words that may be no farther than so many letters from one, with how rare they are.
func (d *Dictionary) near(word string, most int, see func(word string, rare uint8)) {
	mask := maskOf(word)
	wide := most // a letter may be of several bytes
	if len(word) != utf8.RuneCountInString(word) {
		wide = utf8.UTFMax * most
	}
	for size := max(0, len(word)-wide); size <= min(len(word)+wide, len(d.sized)-1); size++ {
		for _, i := range d.sized[size] {
			if bits.OnesCount32(mask^d.masks[i]) <= 2*most {
				see(d.words[i], d.rare[i])
			}
		}
	}
}

// Speller tells words apart from misspelt ones.
type Speller struct {
	Dictionaries []*Dictionary
	Own          *Own   // the team's own words; nil for none
	Letters      string // that the dictionaries are written in, beside those of English
}

// prefixes go before other words.
var prefixes = []string{
	"un", "re", "non", "pre", "sub", "multi", "auto", "inter", "over", "under", "anti", "meta", "micro", "semi", "super", "inner", "outer", "dis", "co", "de",
}

// Knows reports whether a word, as it is written, is no misspelt one.
func (s *Speller) Knows(word string) bool {
	word = plain(word)
	switch {
	case s.Own != nil && s.Own.Avoids(word):
		return false
	case s.foreign(word), s.has(word):
		return true
	}
	for _, end := range []string{"'s", "'", "'d", "'ll", "'ve"} {
		if stem, cut := strings.CutSuffix(word, end); cut && (len(stem) < shortest || s.has(stem)) {
			return true
		}
	}
	for _, prefix := range prefixes {
		if rest, cut := strings.CutPrefix(word, prefix); cut && len(rest) > shortest && s.has(rest) {
			return true
		}
	}
	return s.inflected(word) || s.joined(word)
}

// plain is a word as dictionaries have it.
func plain(word string) string {
	return strings.ToLower(strings.ReplaceAll(word, "\u2019", "'"))
}

// foreign reports whether a word has letters that no dictionary is written in.
func (s *Speller) foreign(word string) bool {
	for _, r := range word {
		switch {
		case r >= 'a' && r <= 'z', r == '\'':
		case strings.ContainsRune(s.Letters, r):
		default:
			return true
		}
	}
	return false
}

// has reports whether a dictionary or the team has a word.
func (s *Speller) has(word string) bool {
	if s.Own != nil && s.Own.Has(word) {
		return true
	}
	return s.inDictionary(word)
}

func (s *Speller) inDictionary(word string) bool {
	return slices.ContainsFunc(s.Dictionaries, func(d *Dictionary) bool {
		_, has := d.Rare(word)
		return has
	})
}

// inflected reports whether a word is a plural, or what a quality is called, of one that there is.
func (s *Speller) inflected(word string) bool {
	for _, end := range []string{"s", "es", "ness", "like"} {
		if stem, cut := strings.CutSuffix(word, end); cut && len(stem) >= shortest && !strings.HasSuffix(stem, "s") && s.has(stem) {
			return true
		}
	}
	stem, cut := strings.CutSuffix(word, "ies")
	return cut && len(stem) >= shortest-1 && s.has(stem+"y")
}

// usual is how rare words may be that are joined to one.
const usual = 20

// joined reports whether a word is made of two usual ones, like filename.
func (s *Speller) joined(word string) bool {
	is := func(word string) bool {
		return s.Own != nil && s.Own.Has(word) || slices.ContainsFunc(s.Dictionaries, func(d *Dictionary) bool {
			rare, has := d.Rare(word)
			return has && rare <= usual
		})
	}
	for at := shortest; at+shortest <= len(word); at++ {
		if is(word[:at]) && is(word[at:]) {
			return true
		}
	}
	return false
}

// Words are all words, sorted.
func (d *Dictionary) Words() iter.Seq[string] { return slices.Values(d.words) }
