package wordlist

import (
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/spelling"
)

func speller(t testing.TB) *spelling.Speller {
	english, err := English()
	if err != nil {
		t.Fatal(err)
	}
	return &spelling.Speller{Dictionaries: english}
}

// slips make misspelt words as fingers and ears do.
var slips = []func(r *rand.Rand, word string) string{
	func(r *rand.Rand, w string) string { // two letters swapped
		i := 1 + r.IntN(len(w)-2)
		return w[:i] + string(w[i+1]) + string(w[i]) + w[i+2:]
	},
	func(r *rand.Rand, w string) string { // one left out
		i := 1 + r.IntN(len(w)-1)
		return w[:i] + w[i+1:]
	},
	func(r *rand.Rand, w string) string { // one twice
		i := 1 + r.IntN(len(w)-1)
		return w[:i] + string(w[i]) + w[i:]
	},
	func(r *rand.Rand, w string) string { // a double one once
		for i := 1; i < len(w); i++ {
			if w[i] == w[i-1] {
				return w[:i] + w[i+1:]
			}
		}
		return w
	},
	func(r *rand.Rand, w string) string { // the key beside
		const row = "qwertyuiopqasdfghjklazxcvbnmz"
		i := 1 + r.IntN(len(w)-1)
		at := strings.IndexByte(row, w[i])
		return w[:i] + string(row[at+1]) + w[i+1:]
	},
	func(r *rand.Rand, w string) string { // as it sounds
		sounds := []string{"ance", "ence", "ible", "able", "ie", "ei", "ph", "f", "c", "s", "ent", "ant", "er", "or", "ey", "y"}
		at := r.IntN(len(sounds))
		for n := range len(sounds) {
			k := (at + n) % len(sounds)
			if i := strings.LastIndex(w, sounds[k]); i > 0 {
				return w[:i] + sounds[k^1] + w[i+len(sounds[k]):]
			}
		}
		return w
	},
}

// TestMisspelt: of five hundred misspelt words nearly all are found, and what was meant is suggested first for nine of ten.
func TestMisspelt(t *testing.T) {
	s := speller(t)
	data, err := os.ReadFile("testdata/misspelt.txt")
	if err != nil {
		t.Fatal(err)
	}
	pairs := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if wrong, right, ok := strings.Cut(strings.TrimSpace(line), " "); ok && wrong != "#" {
			pairs[wrong] = right
		}
	}
	english, _ := English()
	var usual []string
	for word := range english[0].Words() {
		if rare, _ := english[0].Rare(word); rare <= 20 && len(word) >= 6 && !strings.Contains(word, "'") {
			usual = append(usual, word)
		}
	}
	r := rand.New(rand.NewPCG(3, 14))
	for len(pairs) < 500 {
		right := usual[r.IntN(len(usual))]
		if wrong := slips[r.IntN(len(slips))](r, right); wrong != right && !s.Knows(wrong) && spelling.IsWord(wrong) {
			pairs[wrong] = right
		}
	}
	found, first, among := 0, 0, 0
	var missed, wrong []string
	for misspelt, right := range pairs {
		all := s.Suggest(misspelt)
		if !s.Knows(misspelt) && spelling.Likely(misspelt, all) {
			found++
		} else {
			missed = append(missed, misspelt)
		}
		at := slices.IndexFunc(all, func(one spelling.Suggestion) bool { return one.Word == right })
		if at >= 0 {
			among++
		}
		if at == 0 {
			first++
		} else {
			wrong = append(wrong, misspelt+" "+right)
		}
	}
	t.Logf("of %d words %d are found, %d corrected first, %d among the first five", len(pairs), found, first, among)
	if found < 485 || first < 450 {
		t.Errorf("%d are found and %d corrected first of %d: missed %v, others first for %v", found, first, len(pairs), missed, wrong)
	}
}
