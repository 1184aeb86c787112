package evidence

import (
	"crypto/sha256"
	"sync"

	"zincdoor/internal/core/spelling"
	"zincdoor/internal/git"
	"zincdoor/internal/wordlist"
)

// Vocabulary is what spelling remembers from one call to the next, where many are made of the same code. It is safe for
// concurrent use. The zero value remembers nothing.
type Vocabulary struct {
	lasting bool
	mutex   sync.Mutex
	read    map[[sha256.Size]byte]dictionary // by the files they were read from

	side   git.Side // whose words were counted
	least  int
	counts map[uint32]int // in how many of its files a word is, of those that are in so many
}

// dictionary is a list of words as it was read, and what of it was left out.
type dictionary struct {
	words *spelling.Dictionary
	left  []string
}

// NewVocabulary makes one that remembers.
func NewVocabulary() *Vocabulary {
	return &Vocabulary{lasting: true, read: map[[sha256.Size]byte]dictionary{}}
}

// frequent are the words that at least so many files of a state have, with how many have them.
func (v *Vocabulary) frequent(side git.Side, least int, lists func(side git.Side) ([][]byte, error)) (map[uint32]int, error) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.counts != nil && v.side == side && v.least == least {
		return v.counts, nil
	}
	all, err := lists(side)
	if err != nil {
		return nil, err
	}
	var rough [1 << 21]uint8 // by a part of the word's bits, so that most rare words are passed by with little memory
	eachWord(all, func(word uint32) {
		if n := &rough[word%uint32(len(rough))]; *n < 255 {
			*n++
		}
	})
	counts := map[uint32]int{}
	eachWord(all, func(word uint32) {
		if int(rough[word%uint32(len(rough))]) >= min(least, 255) {
			counts[word]++
		}
	})
	v.side, v.least, v.counts = side, least, map[uint32]int{}
	for word, n := range counts {
		if n >= least {
			v.counts[word] = n
		}
	}
	return v.counts, nil
}

// dictionary reads a list of words, with its affixes where it has some.
func (v *Vocabulary) dictionary(data, aff []byte, affixed bool) (*spelling.Dictionary, []string, error) {
	var sum [sha256.Size]byte
	if v.lasting {
		v.mutex.Lock()
		defer v.mutex.Unlock()
		sum = sha256.Sum256(append(append(aff[:len(aff):len(aff)], 0), data...))
		if d, known := v.read[sum]; known {
			return d.words, d.left, nil
		}
	}
	var d dictionary
	var err error
	if affixed {
		d.words, d.left, err = wordlist.Affixed(data, aff)
	} else {
		d.words, err = wordlist.Plain(data)
	}
	if err == nil && v.lasting {
		v.read[sum] = d
	}
	return d.words, d.left, err
}
