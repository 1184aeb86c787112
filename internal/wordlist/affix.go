package wordlist

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
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
	condition  *regexp.Regexp // nil for all words
	goesOn     []string       // flags of the form that it makes
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

// Affixed reads the words of a .dic file with all forms that its .aff file gives them: prefixes, suffixes, both together, and suffixes of
// suffixes. Left are the names of what the .aff file says and isn't followed, such as how words are joined; sorted.
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
	add := func(form string) error {
		if len(entries) >= mostForms {
			return fmt.Errorf("it gives more than %d forms: %w", mostForms, ErrAffix)
		}
		entries = append(entries, spelling.Entry{Word: strings.ToLower(form), Rare: listed})
		return nil
	}
	forbidden := map[string]bool{}
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
		if book.forbids != "" && slices.Contains(flags, book.forbids) {
			forbidden[strings.ToLower(word)] = true
			continue
		}
		if err := book.forms(word, flags, add); err != nil {
			return nil, nil, fmt.Errorf("line %d: %w", n, err)
		}
	}
	if err := scanner.Err(); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", err, ErrAffix)
	}
	entries = slices.DeleteFunc(entries, func(e spelling.Entry) bool { return forbidden[e.Word] })
	for name := range book.left {
		left = append(left, name)
	}
	slices.Sort(left)
	return spelling.NewDictionary(entries), left, nil
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
		if rule.condition, err = conditionOf(fields[4], group.prefix); err != nil {
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

// conditionOf reads a condition: letters, sets of letters in brackets, and dots.
func conditionOf(text string, prefix bool) (*regexp.Regexp, error) {
	if len(text) > 200 {
		return nil, fmt.Errorf("the condition %.20q… is too long: %w", text, ErrAffix)
	}
	var p strings.Builder
	inside := false
	for i, r := range text {
		switch {
		case r == '[' && !inside:
			inside = true
			p.WriteByte('[')
		case r == ']' && inside:
			inside = false
			p.WriteByte(']')
		case r == '^' && inside && strings.HasSuffix(text[:i], "["):
			p.WriteByte('^')
		case r == '.' && !inside:
			p.WriteByte('.')
		default:
			p.WriteString(regexp.QuoteMeta(string(r)))
		}
	}
	made := "(?:" + strings.ReplaceAll(p.String(), "[]", `[^\x00-\x{10FFFF}]`) + ")$"
	if prefix {
		made = "^" + strings.TrimSuffix(made, "$")
	}
	condition, err := regexp.Compile(made)
	if err != nil {
		return nil, fmt.Errorf("the condition %q can't be read: %w", text, ErrAffix)
	}
	return condition, nil
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

// apply makes the form that a rule makes of a word; false where it doesn't.
func (r affix) apply(word string, prefix bool) (form string, ok bool) {
	if r.condition != nil && !r.condition.MatchString(word) {
		return "", false
	}
	if prefix {
		rest, has := strings.CutPrefix(word, r.strip)
		return r.add + rest, has && rest != ""
	}
	rest, has := strings.CutSuffix(word, r.strip)
	return rest + r.add, has && (rest != "" || r.add != "")
}

// forms hands over a word and its forms: with prefixes, with suffixes, with both where they go together, and with a suffix behind a
// suffix.
func (b *rulebook) forms(word string, flags []string, add func(form string) error) error {
	if b.needs == "" || !slices.Contains(flags, b.needs) {
		if err := add(word); err != nil {
			return err
		}
	}
	var prefixes []*affixes
	for _, flag := range flags {
		if group := b.byFlag[flag]; group != nil && group.prefix {
			prefixes = append(prefixes, group)
		}
	}
	prefixed := func(form string, cross bool) error {
		for _, group := range prefixes {
			if cross && !group.cross {
				continue
			}
			for _, rule := range group.rules {
				if made, ok := rule.apply(form, true); ok && utf8.ValidString(made) {
					if err := add(made); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}
	if err := prefixed(word, false); err != nil {
		return err
	}
	return b.suffixed(word, flags, 2, func(form string, cross bool) error {
		if err := add(form); err != nil || !cross {
			return err
		}
		return prefixed(form, true)
	})
}

// suffixed hands over the forms with suffixes, so many behind one another.
func (b *rulebook) suffixed(word string, flags []string, deep int, see func(form string, cross bool) error) error {
	if deep == 0 {
		return nil
	}
	for _, flag := range flags {
		group := b.byFlag[flag]
		if group == nil || group.prefix {
			continue
		}
		for _, rule := range group.rules {
			form, ok := rule.apply(word, false)
			if !ok || !utf8.ValidString(form) {
				continue
			}
			if b.needs == "" || !slices.Contains(rule.goesOn, b.needs) {
				if err := see(form, group.cross); err != nil {
					return err
				}
			}
			if err := b.suffixed(form, rule.goesOn, deep-1, see); err != nil {
				return err
			}
		}
	}
	return nil
}
