package change

import (
	"unicode"
	"unicode/utf8"

	"zincdoor/internal/core/source"
)

// word is a name, a number or a sign of a line.
type word struct {
	text   string
	line   int32 // index of its line
	weight int32
}

// A name or number says more about a line than a sign.
const (
	nameWeight = 3
	signWeight = 1
)

// usualWord is how many bytes of a line there are for each word, as a rule.
const usualWord = 3

// wordTable is the size up to which all words of two stretches are compared with one another.
const wordTable = 1 << 19

// compareWords works out which words the altered lines share: between lines that are the same on both sides, all of one
// side with all of the other.
func (p *passage) compareWords() {
	if p.shared != nil {
		return
	}
	p.shared = map[pair]int{}
	p.oldWeight, p.newWeight = make([]int, len(p.newOf)), make([]int, len(p.oldOf))
	i, j := 0, 0
	for at, to := range p.newOf {
		if to >= 0 {
			p.share(Span{i, at - 1}, Span{j, to - 1})
			i, j = at+1, to+1
		}
	}
	p.share(Span{i, len(p.newOf) - 1}, Span{j, len(p.oldOf) - 1})
}

// share compares the words of two stretches, given by the indices of their lines. Where that is too much, lines that
// stand equally far from the beginning or the end are compared alone.
func (p *passage) share(old, new Span) {
	olds, news := wordsOf(p.olds, old, p.oldWeight), wordsOf(p.news, new, p.newWeight)
	if len(olds)*len(news) <= wordTable {
		p.add(olds, news)
		return
	}
	for i := old.First; i <= old.Last; i++ {
		for _, j := range []int{new.First + i - old.First, new.Last - (old.Last - i)} {
			if j < new.First || j > new.Last || p.shared[pair{i, j}] > 0 {
				continue
			}
			olds, news := wordsOf(p.olds, Span{i, i}, nil), wordsOf(p.news, Span{j, j}, nil)
			if len(olds)*len(news) <= wordTable {
				p.add(olds, news)
			}
		}
	}
}

func (p *passage) add(olds, news []word) {
	for _, common := range common(texts(olds), texts(news)) {
		old, new := olds[common.old], news[common.new]
		p.shared[pair{int(old.line), int(new.line)}] += int(old.weight)
	}
}

func texts(words []word) []string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = w.text
	}
	return all
}

// wordsOf cuts some lines of a passage into words, and notes the weight of each line where weights are wanted.
func wordsOf(text []string, lines Span, weights []int) (words []word) {
	bytes := 0
	for i := lines.First; i <= lines.Last; i++ {
		bytes += len(text[i])
	}
	words = make([]word, 0, bytes/usualWord)
	for i := lines.First; i <= lines.Last; i++ {
		eachWord(text[i], func(w string, name bool) {
			weight := int32(signWeight)
			if name {
				weight = nameWeight
			}
			words = append(words, word{w, int32(i), weight})
			if weights != nil {
				weights[i] += int(weight)
			}
		})
	}
	return words
}

// eachWord cuts a line into names and numbers (name is true) and single signs, leaving out white space.
func eachWord(line string, do func(word string, name bool)) {
	for at := 0; at < len(line); {
		r, size := utf8.DecodeRuneInString(line[at:])
		end := at + size
		name := source.InName(r)
		for name && end < len(line) {
			next, size := utf8.DecodeRuneInString(line[end:])
			if !source.InName(next) {
				break
			}
			end += size
		}
		if !unicode.IsSpace(r) {
			do(line[at:end], name)
		}
		at = end
	}
}
