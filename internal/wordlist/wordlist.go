// Package wordlist knows the forms in which words are listed: the English list that comes with the program, plain lists, and the pairs of
// a .dic and an .aff file in which other languages have theirs.
package wordlist

import (
	"bufio"
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"

	"zincdoor/internal/core/spelling"
)

// english are the lists of Debian's package scowl, packed by make.go. Whose they are is said in english.LICENSE.
//
//go:generate go run make.go /usr/share/dict/scowl
//go:embed english.zst
var english []byte

//go:embed terms.txt
var terms []byte

// trade is how rare words of the trade are.
const trade = 40

// English are the dictionaries that come with the program: English in its usual spellings, and words of the trade.
var English = sync.OnceValues(func() ([]*spelling.Dictionary, error) {
	decoder, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer decoder.Close()
	data, err := decoder.DecodeAll(english, nil)
	if err != nil {
		return nil, err
	}
	entries := make([]spelling.Entry, 0, 150_000)
	text := string(data)
	before := ""
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\n"), "\n") {
		if len(line) < 2 || int(line[0]-'a') > len(before) {
			return nil, errors.New("the English word list that comes with the program is damaged")
		}
		word := before[:line[0]-'a'] + line[1:len(line)-1]
		entries = append(entries, spelling.Entry{Word: word, Rare: 10 * (line[len(line)-1] - '0')})
		before = word
	}
	own, err := spelling.ReadOwn(terms)
	if err != nil {
		return nil, err
	}
	var trades []spelling.Entry
	for _, w := range own {
		for _, form := range w.Forms() {
			trades = append(trades, spelling.Entry{Word: form, Rare: trade})
		}
	}
	return []*spelling.Dictionary{spelling.NewDictionary(entries), spelling.NewDictionary(trades)}, nil
})

// The bounds of lists.
const longestList = 64 << 20 // bytes of a file

// listed is how rare words of a list are that doesn't say it.
const listed = 35

// Plain reads a list with a word a line; lines that begin with # are comments. An error names the line.
func Plain(data []byte) (*spelling.Dictionary, error) {
	if len(data) > longestList {
		return nil, fmt.Errorf("it is over %d MiB long", longestList>>20)
	}
	var entries []spelling.Entry
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, 1<<20)
	for n := 1; scanner.Scan(); n++ {
		word := strings.TrimSpace(strings.TrimPrefix(scanner.Text(), "\ufeff"))
		if word == "" || strings.HasPrefix(word, "#") {
			continue
		}
		if !spelling.IsWord(word) {
			if strings.ContainsAny(word, " \t") {
				return nil, fmt.Errorf("line %d: a list has a word a line, not %q", n, word)
			}
			continue // with hyphens or digits: such words are never asked for
		}
		entries = append(entries, spelling.Entry{Word: strings.ToLower(word), Rare: listed})
	}
	return spelling.NewDictionary(entries), scanner.Err()
}

// mostLetters bounds how many letters dictionaries may add to those of English.
const mostLetters = 120

// Letters are the letters that some dictionaries are written in beside those of English.
func Letters(all []*spelling.Dictionary) string {
	times := map[rune]int{}
	for _, d := range all {
		for word := range d.Words() {
			for _, r := range word {
				if r >= utf8.RuneSelf && unicode.IsLetter(r) {
					times[r]++
				}
			}
		}
	}
	letters := slices.SortedFunc(maps.Keys(times), func(a, b rune) int { return cmp.Or(times[b]-times[a], int(a-b)) })
	return string(letters[:min(len(letters), mostLetters)])
}
