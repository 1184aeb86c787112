package measure

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/change"
)

// findAll finds duplicated code among files, of which the first ones are looked at.
func findAll(d Duplication, files []string, looked int) (all []Copied) {
	counts := map[uint64]int{}
	var tokens []Tokens
	for _, text := range files {
		t := d.Read("a.go", []byte(text))
		tokens = append(tokens, t)
		for _, p := range d.Prints(t) {
			counts[p.Hash]++
		}
	}
	f := NewFinder(d, func(print uint64) bool { return counts[print] > 1 })
	for i, t := range tokens {
		f.Learn(fmt.Sprint(i), t, i < looked)
	}
	for i, t := range tokens[:looked] {
		for _, c := range f.Find(fmt.Sprint(i), t) {
			var other int
			fmt.Sscan(c.Other, &other)
			c.Locate(tokens[other])
			all = append(all, c)
		}
	}
	return all
}

// slowly gives the lines of each file that are duplicates, by comparing every stretch with every other one.
func slowly(d Duplication, files []string, looked int) map[int]change.Lines {
	var tokens []Tokens
	for _, text := range files {
		tokens = append(tokens, d.Read("a.go", []byte(text)))
	}
	all := map[int]change.Lines{}
	for a, t := range tokens[:looked] {
		copied := make([]bool, len(t.Hashes))
		for i := 0; i+d.Tokens <= len(t.Hashes); i++ {
			for b, o := range tokens {
				for k := 0; k+d.Tokens <= len(o.Hashes); k++ {
					if a == b && k > i-d.Tokens && k < i+d.Tokens || !slices.Equal(t.Hashes[i:i+d.Tokens], o.Hashes[k:k+d.Tokens]) {
						continue
					}
					for n := i; n < i+d.Tokens; n++ {
						copied[n] = true
					}
				}
			}
		}
		for from := 0; from < len(copied); from++ {
			to := from
			for to < len(copied) && copied[to] {
				to++
			}
			if to > from {
				first, last := from, to
				for first < last && first > 0 && t.Lines[first-1].Last >= t.Lines[first].First {
					first++
				}
				for last > first && last < len(copied) && t.Lines[last-1].Last >= t.Lines[last].First {
					last--
				}
				different := map[uint64]bool{}
				for _, h := range t.Hashes[first:last] {
					different[h] = true
				}
				if code := t.code(first, last); code.Count() >= d.Lines && len(different) >= d.Tokens/6 {
					all[a] = all[a].Union(code)
				}
				from = to
			}
		}
	}
	return all
}

func checkCopies(t *testing.T, d Duplication, files []string, looked int) {
	t.Helper()
	found := map[int]change.Lines{}
	for _, c := range findAll(d, files, looked) {
		var at int
		fmt.Sscan(c.Path, &at)
		found[at] = found[at].Union(c.Code)
	}
	want := slowly(d, files, looked)
	for i := range looked {
		if !slices.Equal(found[i], want[i]) {
			t.Fatalf("%+v: file %d: %v, want %v of\n%s", d, i, found[i], want[i], strings.Join(files, "\n----\n"))
		}
	}
}

// FuzzDuplicates compares with a reference that takes quadratic time.
func FuzzDuplicates(f *testing.F) {
	for seed := range uint64(20) {
		f.Add(seed, uint8(seed*3), uint8(2+seed%5))
	}
	f.Fuzz(func(t *testing.T, seed uint64, size, words uint8) {
		r := rand.New(rand.NewPCG(seed, uint64(size)))
		var files []string
		for range 1 + r.IntN(3) {
			var text strings.Builder
			for range r.IntN(40 + int(size)) {
				text.WriteString(string(rune('a' + r.IntN(1+int(words)%9))))
				text.WriteByte(" \n"[r.IntN(2)])
			}
			files = append(files, text.String())
			if r.IntN(2) == 0 { // something of it once more
				words := strings.Fields(text.String())
				from := r.IntN(len(words) + 1)
				files = append(files, strings.Join(words[from:], "\n")+"\nz\n"+strings.Join(words[:from], "\n"))
			}
		}
		checkCopies(t, Duplication{Tokens: 4 + r.IntN(9), Lines: 1 + r.IntN(5)}, files, 1+r.IntN(len(files)))
	})
}

func TestDuplicates(t *testing.T) {
	line := func(n int) string { return fmt.Sprintf("\tx%d = f(%d, y%d)\n", n, n, n) } // ten tokens
	block := ""
	for n := range 8 {
		block += line(n)
	}
	folded := strings.NewReplacer("x", "z", "f(", "g(").Replace(block)
	for _, test := range []struct {
		name  string
		d     Duplication
		files []string
		want  string
	}{
		{"in another file", Duplication{Tokens: 60, Lines: 6}, []string{"a\n" + block + "b\n", "c\n\n" + block}, "0:2-9 in 1:3-10"},
		{"comments and blanks aside", Duplication{Tokens: 60, Lines: 6}, []string{strings.ReplaceAll(block, "\n", " // here\n\n"), block}, "0:1-15 in 1:1-8"},
		{"twice in one file", Duplication{Tokens: 60, Lines: 6}, []string{block + "b()\n" + block}, "0:1-8 in 0:10-17 0:10-17 in 0:1-8"},
		{"too few lines", Duplication{Tokens: 60, Lines: 6}, []string{strings.ReplaceAll(block, "\n", ""), block}, ""},
		{"too few tokens", Duplication{Tokens: 81, Lines: 6}, []string{block, "c()\n" + block}, ""},
		{"other names", Duplication{Tokens: 60, Lines: 6}, []string{block, folded}, ""},
		{"names folded", Duplication{Tokens: 60, Lines: 6, FoldNames: true}, []string{block, folded}, "0:1-8 in 1:1-8"},
		{"imports", Duplication{Tokens: 20, Lines: 3}, []string{strings.Repeat("import a.b.c.d;\n", 9), strings.Repeat("import a.b.c.d;\n", 9)}, ""},
		{"a table of zeros", Duplication{Tokens: 60, Lines: 6}, []string{strings.Repeat("0, 0, 0, 0,\n", 40), "x\n"}, ""},
		{"overlapping alone", Duplication{Tokens: 6, Lines: 1}, []string{"a a a a a a a"}, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			looked := 1
			var found []string
			for _, c := range findAll(test.d, test.files, looked) {
				found = append(found, fmt.Sprintf("%s:%d-%d in %s:%d-%d", c.Path, c.Lines.First, c.Lines.Last, c.Other, c.There.First, c.There.Last))
			}
			if got := strings.Join(found, " "); got != test.want {
				t.Errorf("%q, want %q", got, test.want)
			}
			checkCopies(t, test.d, test.files, looked)
		})
	}
}
