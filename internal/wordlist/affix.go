package wordlist

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html/charset"

	"zincdoor/internal/core/spelling"
)

// ErrAffix is the error of a .dic or .aff file that can't be read; it is wrapped with the line.
var ErrAffix = errors.New("the word list is malformed")

// affix is one rule: at the beginning or the end of words that meet the condition, strip goes away and add comes.
type affix struct {
	strip, add string
	condition  []place  // of letters beside one another; none for all words
	goesOn     []string // flags of the form that it makes
}

// affixes are the rules of a flag.
type affixes struct {
	prefix bool
	cross  bool // with suffixes, or prefixes, of other flags too
	rules  []affix
}

// rulebook is what an .aff file says.
type rulebook struct {
	encoding string
	flags    string // how flags are written: "" for one character each, "long" for two, "num" for numbers with commas
	aliases  [][]string
	byFlag   map[string]*affixes
	needs    string // the flag of stems that are no words by themselves
	forbids  string // the flag of words that there aren't
	left     map[string]bool
}

// Affixed reads the words of a .dic file, with the forms that its .aff file gives them: prefixes, suffixes, both together, and suffixes of
// suffixes. Forms aren't listed, of which some languages have millions, but taken apart when they are asked for. Left are the names of what
// the .aff file says and isn't followed, such as how words are joined; sorted.
func Affixed(dic, aff []byte) (d *spelling.Dictionary, left []string, err error) {
	if len(dic) > longestList || len(aff) > longestList {
		return nil, nil, fmt.Errorf("it is over %d MiB long", longestList>>20)
	}
	book, err := readAff(aff)
	if err != nil {
		return nil, nil, err
	}
	text, err := decoded(dic, book.encoding)
	if err != nil {
		return nil, nil, err
	}
	var entries []spelling.Entry
	forms := &forms{rulebook: book, stems: map[string][][]string{}, forbidden: map[string]bool{}}
	scanner := bufio.NewScanner(bytes.NewReader(text))
	scanner.Buffer(nil, 1<<20)
	for n := 1; scanner.Scan(); n++ {
		line := strings.TrimSpace(strings.TrimPrefix(scanner.Text(), "\ufeff"))
		if n == 1 { // about how many there are
			if _, err := strconv.Atoi(line); err == nil {
				continue
			}
		}
		if line == "" || line[0] == '#' || line[0] == '\t' {
			continue
		}
		if fields := strings.Fields(line); len(fields) > 1 { // what comes behind is about the word
			line = fields[0]
		}
		word, flagText := cutFlags(line)
		flags, err := book.split(flagText)
		if err != nil {
			return nil, nil, fmt.Errorf("line %d: %w", n, err)
		}
		if !spelling.IsWord(word) {
			continue
		}
		word = strings.ToLower(word)
		switch {
		case book.forbids != "" && slices.Contains(flags, book.forbids):
			forms.forbidden[word] = true
			continue
		case book.needs == "" || !slices.Contains(flags, book.needs):
			entries = append(entries, spelling.Entry{Word: word, Rare: listed})
		}
		if len(flags) > 0 {
			forms.stems[word] = append(forms.stems[word], flags)
		}
	}
	if err := scanner.Err(); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", err, ErrAffix)
	}
	entries = slices.DeleteFunc(entries, func(e spelling.Entry) bool { return forms.forbidden[e.Word] })
	for name := range book.left {
		left = append(left, name)
	}
	slices.Sort(left)
	forms.index()
	d = spelling.NewDictionary(entries)
	d.Forms = func(word string) (rare uint8, is bool) { return listed, forms.has(word) }
	return d, left, nil
}

// cutFlags parts a word from its flags; \/ is a sign of the word.
func cutFlags(line string) (word, flags string) {
	for i := 1; i < len(line); i++ {
		if line[i] == '/' && line[i-1] != '\\' {
			return strings.ReplaceAll(line[:i], `\/`, "/"), line[i+1:]
		}
	}
	return line, ""
}

// decoded is a text as UTF-8.
func decoded(data []byte, encoding string) ([]byte, error) {
	if encoding == "" || strings.EqualFold(encoding, "UTF-8") {
		return data, nil
	}
	in, err := charset.NewReaderLabel(strings.Replace(encoding, "microsoft-cp", "windows-", 1), bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("SET %s: %w: %w", encoding, err, ErrAffix)
	}
	return io.ReadAll(in)
}

// followed are the names of an .aff file that are followed, or say nothing of which words there are.
var followed = map[string]bool{
	"SET": true, "FLAG": true, "AF": true, "PFX": true, "SFX": true, "NEEDAFFIX": true, "FORBIDDENWORD": true,
	"TRY": true, "KEY": true, "REP": true, "MAP": true, "NOSUGGEST": true, "WORDCHARS": true, "LANG": true, "NAME": true, "VERSION": true, "HOME": true,
	"MAXNGRAMSUGS": true, "ONLYMAXDIFF": true, "MAXDIFF": true, "NOSPLITSUGS": true, "PHONE": true, "WARN": true, "SUGSWITHDOTS": true, "ICONV": true, "OCONV": true,
	"KEEPCASE": true, "CHECKSHARPS": true, "MAXCPDSUGS": true, "SYLLABLENUM": true, "BREAK": true, "AM": true, "SUBSTANDARD": true,
}

func readAff(data []byte) (*rulebook, error) {
	b := &rulebook{byFlag: map[string]*affixes{}, left: map[string]bool{}}
	for line := range bytes.Lines(data) { // which says how the rest is to be read
		if rest, is := bytes.CutPrefix(bytes.TrimSpace(line), []byte("SET ")); is {
			b.encoding = string(bytes.TrimSpace(rest))
			break
		}
	}
	text, err := decoded(data, b.encoding)
	if err != nil {
		return nil, err
	}
	scanner := bufio.NewScanner(bytes.NewReader(text))
	scanner.Buffer(nil, 1<<20)
	for n := 1; scanner.Scan(); n++ {
		fields := strings.Fields(strings.TrimPrefix(scanner.Text(), "\ufeff"))
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		if err := b.line(fields); err != nil {
			return nil, fmt.Errorf("the .aff file, line %d: %w", n, err)
		}
	}
	return b, scanner.Err()
}

func (b *rulebook) line(fields []string) error {
	switch name := fields[0]; name {
	case "FLAG":
		if b.flags = strings.ToLower(fields[1]); b.flags == "utf-8" {
			b.flags = ""
		}
		if b.flags != "" && b.flags != "long" && b.flags != "num" {
			return fmt.Errorf("FLAG is long, num or UTF-8, not %q: %w", fields[1], ErrAffix)
		}
	case "AF":
		if _, err := strconv.Atoi(fields[1]); err == nil && b.aliases == nil && len(fields) == 2 {
			b.aliases = [][]string{}
			return nil
		}
		flags, err := b.splitPlain(fields[1])
		if err != nil {
			return err
		}
		b.aliases = append(b.aliases, flags)
	case "NEEDAFFIX":
		b.needs = fields[1]
	case "FORBIDDENWORD":
		b.forbids = fields[1]
	case "PFX", "SFX":
		return b.affix(fields)
	default:
		if !followed[name] && strings.ToUpper(name) == name {
			b.left[name] = true
		}
	}
	return nil
}

// mostRules bounds how many rules an .aff file has.
const mostRules = 200_000

// affix reads the head of a flag's rules, "SFX A Y 5", or one of them, "SFX A y ies [^aeiou]y".
func (b *rulebook) affix(fields []string) error {
	if len(fields) < 4 {
		return fmt.Errorf("%s has too few fields: %w", fields[0], ErrAffix)
	}
	flag := fields[1]
	group := b.byFlag[flag]
	if group == nil {
		count, err := strconv.Atoi(fields[3])
		if err != nil || count < 0 || fields[2] != "Y" && fields[2] != "N" {
			return fmt.Errorf("%s %s begins with Y or N and how many rules there are: %w", fields[0], flag, ErrAffix)
		}
		if count > mostRules || len(b.byFlag) > mostRules {
			return fmt.Errorf("there are too many rules: %w", ErrAffix)
		}
		b.byFlag[flag] = &affixes{prefix: fields[0] == "PFX", cross: fields[2] == "Y"}
		return nil
	}
	if group.prefix != (fields[0] == "PFX") {
		return fmt.Errorf("the flag %s is of prefixes and of suffixes: %w", flag, ErrAffix)
	}
	if len(group.rules) >= mostRules {
		return fmt.Errorf("there are too many rules: %w", ErrAffix)
	}
	rule := affix{strip: zero(fields[2])}
	add, more := cutFlags(fields[3])
	if strings.HasPrefix(fields[3], "/") {
		add, more = "", fields[3][1:]
	}
	rule.add = zero(add)
	var err error
	if rule.goesOn, err = b.split(more); err != nil {
		return err
	}
	if len(fields) > 4 && fields[4] != "." {
		if rule.condition, err = conditionOf(fields[4]); err != nil {
			return err
		}
	}
	group.rules = append(group.rules, rule)
	return nil
}

func zero(text string) string {
	if text == "0" {
		return ""
	}
	return text
}

// place says which letters may be in a place of a condition; the zero value takes none.
type place struct {
	any   bool
	but   bool // all letters but these
	these string
}

func (p place) takes(r rune) bool { return p.any || strings.ContainsRune(p.these, r) != p.but }

// conditionOf reads a condition: letters, sets of letters in brackets, and dots.
func conditionOf(text string) (places []place, err error) {
	runes := []rune(text)
	if len(runes) > 200 {
		return nil, fmt.Errorf("the condition %.20q… is too long: %w", text, ErrAffix)
	}
	for i := 0; i < len(runes); i++ {
		switch runes[i] {
		case '.':
			places = append(places, place{any: true})
		case '[':
			end := slices.Index(runes[i:], ']')
			if end < 0 {
				return nil, fmt.Errorf("the condition %q has a bracket that isn't closed: %w", text, ErrAffix)
			}
			set := runes[i+1 : i+end]
			but := len(set) > 0 && set[0] == '^'
			if but {
				set = set[1:]
			}
			places = append(places, place{but: but, these: string(set)})
			i += end
		default:
			places = append(places, place{these: string(runes[i])})
		}
	}
	return places, nil
}

// meets reports whether the end of a word, or with prefix its beginning, is as a condition says.
func meets(word string, condition []place, prefix bool) bool {
	if prefix {
		for _, p := range condition {
			r, size := utf8.DecodeRuneInString(word)
			if size == 0 || !p.takes(r) {
				return false
			}
			word = word[size:]
		}
		return true
	}
	for i := len(condition) - 1; i >= 0; i-- {
		r, size := utf8.DecodeLastRuneInString(word)
		if size == 0 || !condition[i].takes(r) {
			return false
		}
		word = word[:len(word)-size]
	}
	return true
}

// split gives the flags of a word or of a rule: their numbers stand for lists of flags where the .aff file has such.
func (b *rulebook) split(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	if b.aliases != nil {
		n, err := strconv.Atoi(text)
		if err == nil && n >= 1 && n <= len(b.aliases) {
			return b.aliases[n-1], nil
		}
	}
	return b.splitPlain(text)
}

func (b *rulebook) splitPlain(text string) (flags []string, err error) {
	switch b.flags {
	case "num":
		return strings.Split(text, ","), nil
	case "long":
		runes := []rune(text)
		if len(runes)%2 != 0 {
			return nil, fmt.Errorf("flags of two characters each, and there is one over in %q: %w", text, ErrAffix)
		}
		for i := 0; i < len(runes); i += 2 {
			flags = append(flags, string(runes[i:i+2]))
		}
		return flags, nil
	}
	for _, r := range text {
		flags = append(flags, string(r))
	}
	return flags, nil
}

// forms takes words apart. It may be asked by several at once.
type forms struct {
	*rulebook
	stems     map[string][][]string // the flags of each word, of each line that it is in
	forbidden map[string]bool
	suffixes  map[string][]flagged // by what they add
	prefixes  map[string][]flagged
	longest   int // bytes that a rule adds
}

// flagged is a rule with its flag.
type flagged struct {
	affix
	flag  string
	cross bool
}

func (f *forms) index() {
	f.suffixes, f.prefixes = map[string][]flagged{}, map[string][]flagged{}
	for flag, group := range f.byFlag {
		to := f.suffixes
		if group.prefix {
			to = f.prefixes
		}
		for _, rule := range group.rules {
			add := strings.ToLower(rule.add)
			to[add] = append(to[add], flagged{rule, flag, group.cross})
			f.longest = max(f.longest, len(add))
		}
	}
}

// has reports whether a word, in lower case, is a form of one that there is.
func (f *forms) has(word string) bool {
	if f.forbidden[word] {
		return false
	}
	if f.suffixed(word, "", 2, false) {
		return true
	}
	for n := 0; n <= min(f.longest, len(word)-1); n++ {
		for _, rule := range f.prefixes[word[:n]] {
			base := strings.ToLower(rule.strip) + word[n:]
			if !meets(base, rule.condition, true) {
				continue
			}
			if f.flaggedAs(base, rule.flag) || rule.cross && f.suffixed(base, rule.flag, 2, true) {
				return true
			}
		}
	}
	return false
}

// flaggedAs reports whether a word that there is has all of some flags; "" is none.
func (f *forms) flaggedAs(word string, flags ...string) bool {
	return slices.ContainsFunc(f.stems[word], func(has []string) bool {
		return !slices.ContainsFunc(flags, func(flag string) bool { return flag != "" && !slices.Contains(has, flag) })
	})
}

// suffixed reports whether a word is one that there is with suffixes, up to so many behind one another. With a prefix's flag the word must
// have that too; cross asks for suffixes that go with prefixes.
func (f *forms) suffixed(word, prefix string, deep int, cross bool) bool {
	for n := 0; n <= min(f.longest, len(word)); n++ {
		for _, rule := range f.suffixes[word[len(word)-n:]] {
			if cross && !rule.cross {
				continue
			}
			if f.needs != "" && deep == 2 && slices.Contains(rule.goesOn, f.needs) {
				continue
			}
			base := word[:len(word)-n] + strings.ToLower(rule.strip)
			if base == "" || n == 0 && rule.strip == "" || !meets(base, rule.condition, false) {
				continue
			}
			if f.flaggedAs(base, rule.flag, prefix) || deep > 1 && f.goesOn(base, rule.flag, prefix, cross) {
				return true
			}
		}
	}
	return false
}

// goesOn reports whether a word is one with a suffix behind which a suffix with a flag may come.
func (f *forms) goesOn(word, flag, prefix string, cross bool) bool {
	for n := 1; n <= min(f.longest, len(word)); n++ {
		for _, rule := range f.suffixes[word[len(word)-n:]] {
			if cross && !rule.cross || !slices.Contains(rule.goesOn, flag) {
				continue
			}
			base := word[:len(word)-n] + strings.ToLower(rule.strip)
			if base != "" && meets(base, rule.condition, false) && f.flaggedAs(base, rule.flag, prefix) {
				return true
			}
		}
	}
	return false
}
