package spelling

import (
	"bufio"
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Own are the words that a team has of its own, and those that it avoids.
type Own struct {
	has     map[string]bool
	instead map[string]string // words that are avoided, with what the team says in their place
}

// NewOwn makes a team's words of the lines of its list, and of what it says in the place of others.
func NewOwn(lines []OwnWord, instead map[string]string) *Own {
	o := &Own{has: map[string]bool{}, instead: map[string]string{}}
	for _, line := range lines {
		for _, form := range line.Forms() {
			o.has[form] = true
		}
	}
	for word, other := range instead {
		o.instead[plain(word)] = other
	}
	return o
}

// Has reports whether the team has a word, in lower case.
func (o *Own) Has(word string) bool { return o.has[word] }

// Avoids reports whether the team avoids a word, in lower case.
func (o *Own) Avoids(word string) bool { return o.instead[word] != "" }

// Instead is what the team says in the place of a word.
func (o *Own) Instead(word string) (other string, avoided bool) {
	other, avoided = o.instead[word]
	return other, avoided
}

// words are the team's words, sorted.
func (o *Own) words() []string { return slices.Sorted(maps.Keys(o.has)) }

// OwnWord is a line of a team's list.
type OwnWord struct {
	Word      string
	Inflected bool   // with its inflected forms: "ferry +"
	Comment   string // behind #, without it
	Line      int    // 1-based
}

// Forms are the word and, where they count too, its inflected forms, as dictionaries have them.
func (w OwnWord) Forms() []string {
	all := []string{plain(w.Word)}
	if w.Inflected {
		all = append(all, Inflections(all[0])...)
	}
	return all
}

// ReadOwn reads a team's list: a word a line, "+" behind it where its inflected forms count too, and comments after #. An error names
// the line.
func ReadOwn(data []byte) (all []OwnWord, err error) {
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, 1<<20)
	for n := 1; scanner.Scan(); n++ {
		text, comment, _ := strings.Cut(strings.TrimPrefix(scanner.Text(), "\ufeff"), "#")
		fields := strings.Fields(text)
		w := OwnWord{Comment: strings.TrimSpace(comment), Line: n}
		switch {
		case len(fields) == 0:
			continue
		case len(fields) == 2 && fields[1] == "+":
			w.Inflected = true
		case len(fields) > 1:
			return nil, fmt.Errorf("line %d: one word a line, with + behind it for its inflected forms, not %q", n, strings.TrimSpace(text))
		}
		if w.Word = fields[0]; !IsWord(w.Word) {
			return nil, fmt.Errorf("line %d: %q is no word of letters, hyphens left apart", n, w.Word)
		}
		all = append(all, w)
	}
	return all, scanner.Err()
}

// IsWord reports whether a text can be a word of a list: of letters and apostrophes.
func IsWord(text string) bool {
	if !utf8.ValidString(text) || text == "" {
		return false
	}
	for _, r := range text {
		if !unicode.IsLetter(r) && !unicode.IsMark(r) && r != '\'' && r != '\u2019' {
			return false
		}
	}
	return true
}

// AddOwn adds words to a team's list, which stays sorted; comments of their own stay above the word that they were above. Words
// that are there already are left as they are.
func AddOwn(data []byte, words []OwnWord) ([]byte, []string, error) {
	have, err := ReadOwn(data)
	if err != nil {
		return nil, nil, err
	}
	known := map[string]bool{}
	for _, w := range have {
		known[plain(w.Word)] = true
	}
	type block struct {
		key  string
		text string
	}
	var head string
	var blocks []block
	above := ""
	for line := range strings.Lines(string(data)) {
		if !strings.HasSuffix(line, "\n") {
			line += "\n"
		}
		word, _, _ := strings.Cut(line, "#")
		if fields := strings.Fields(strings.TrimPrefix(word, "\ufeff")); len(fields) > 0 {
			blocks = append(blocks, block{plain(fields[0]), above + line})
			above = ""
			continue
		}
		above += line
		if len(blocks) == 0 && strings.TrimSpace(line) == "" { // what is above a blank line at the top is about the whole list
			head, above = head+above, ""
		}
	}
	var added []string
	for _, w := range words {
		if !IsWord(w.Word) {
			return nil, nil, fmt.Errorf("%q is no word of letters", w.Word)
		}
		if known[plain(w.Word)] {
			continue
		}
		known[plain(w.Word)] = true
		line := w.Word
		if w.Inflected {
			line += " +"
		}
		blocks, added = append(blocks, block{plain(w.Word), line + "\n"}), append(added, w.Word)
	}
	slices.SortStableFunc(blocks, func(a, b block) int { return strings.Compare(a.key, b.key) })
	out := head
	for _, b := range blocks {
		out += b.text
	}
	return []byte(out + above), added, nil
}

// Inflections are the usual forms of an English word: of a noun its plural, of a verb its -s, -ed and -ing, and -er.
func Inflections(word string) (all []string) {
	vowel := func(c byte) bool { return strings.IndexByte("aeiou", c) >= 0 }
	n := len(word)
	if n < 2 {
		return nil
	}
	last, before := word[n-1], word[n-2]
	switch {
	case last == 'y' && !vowel(before):
		stem := word[:n-1]
		all = append(all, stem+"ies", stem+"ied", word+"ing", stem+"ier")
	case last == 'e':
		stem := word[:n-1]
		all = append(all, word+"s", word+"d", stem+"ing", word+"r", word+"rs")
	case last == 's' || last == 'x' || last == 'z' || strings.HasSuffix(word, "ch") || strings.HasSuffix(word, "sh"):
		all = append(all, word+"es", word+"ed", word+"ing", word+"er", word+"ers")
	default:
		all = append(all, word+"s", word+"ed", word+"ing", word+"er", word+"ers")
		if n >= 3 && vowel(before) && !vowel(last) && !vowel(word[n-3]) && last != 'w' && last != 'y' { // quay, but: berth, ebb
			double := word + string(last)
			all = append(all, double+"ed", double+"ing", double+"er", double+"ers")
		}
	}
	return append(all, word+"'s")
}
