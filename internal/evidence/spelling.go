package evidence

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/cached"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/comment"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/spelling"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/target"
	"zincdoor/internal/wordlist"
)

// speller checks the spelling of files, one after the other.
type speller struct {
	Request
	setting house.Setting
	spelling.Speller
	lists []ownList
	known map[string]bool // of words that were asked for
	names map[string]bool // of those that aren't known, which are probably names
	meant map[string][]spelling.Suggestion
	found []misspelt
}

// ownList are words of the team's own for some files.
type ownList struct {
	takes func(path string) bool
	words []spelling.OwnWord
	fresh []spelling.OwnWord // that the change adds
}

// misspelt is a word of a file that is probably misspelt.
type misspelt struct {
	path   string
	places []wordPlace // in one line, at least one
}

// wordPlace is a word where it is.
type wordPlace struct {
	spelling.Word
	finding.Region
}

// newSpeller readies the check on spelling; nil where the policy doesn't have it on.
func (q Request) newSpeller() (*speller, []string, error) {
	at := slices.IndexFunc(q.Policy.House, func(s house.Setting) bool { return s.Kind == spelling.Rule })
	if at < 0 {
		return nil, nil, nil
	}
	s := &speller{Request: q, setting: q.Policy.House[at], known: map[string]bool{}, names: map[string]bool{}, meant: map[string][]spelling.Suggestion{}}
	english, err := wordlist.English()
	if err != nil {
		return nil, nil, err
	}
	s.Dictionaries = slices.Clone(english)
	if s.Words == nil {
		s.Words = &Vocabulary{}
	}
	notices, err := s.readDictionaries()
	if err != nil {
		return nil, nil, err
	}
	more, err := s.readOwn()
	return s, append(notices, more...), err
}

// takes reports whether spelling is checked by some settings, which take a file.
func (s *speller) takes(settings []house.Setting) bool {
	return s != nil && slices.ContainsFunc(settings, func(c house.Setting) bool { return c.Kind == spelling.Rule })
}

// trusted reads a file of the tree that the policy is of.
func (s *speller) trusted(path string) (data []byte, found bool, err error) {
	if s.Trusted.Side == "" {
		return s.Target.Tree.Plain(path)
	}
	return s.Target.Plain(s.Trusted.Side, path)
}

// readDictionaries reads the word lists that the policy names: plain ones, and those that a .dic and an .aff file make together.
func (s *speller) readDictionaries() (notices []string, err error) {
	ours := len(s.Dictionaries)
	for _, path := range s.setting.Spelling.Dictionaries {
		data, found, err := s.trusted(path)
		switch {
		case err != nil:
			return nil, fmt.Errorf("the dictionary %s can't be read: %w", path, err)
		case !found:
			return nil, target.WrongCall("the policy names the dictionary %s, and there is no such file", path)
		}
		var aff []byte
		stem, affixed := strings.CutSuffix(path, ".dic")
		if affixed {
			if aff, _, err = s.trusted(stem + ".aff"); err != nil {
				return nil, target.WrongCall("the dictionary %s: %v", path, err)
			}
		}
		d, left, err := s.Words.dictionary(data, aff, affixed)
		if err != nil {
			return nil, target.WrongCall("the dictionary %s: %v", path, err)
		}
		if len(left) > 0 {
			notices = append(notices, fmt.Sprintf("the dictionary %s: not followed: %s", path, strings.Join(left, ", ")))
		}
		s.Dictionaries = append(s.Dictionaries, d)
	}
	if others := s.Dictionaries[ours:]; len(others) > 0 {
		s.Letters = wordlist.Letters(others)
	}
	return notices, nil
}

// readOwn reads the team's words. Where the policy is of another tree, so are the words; what the change adds to them counts as far as
// the door lets a change accept something.
func (s *speller) readOwn() (notices []string, err error) {
	for _, own := range s.setting.Spelling.Own {
		data, _, err := s.trusted(own.File)
		if err != nil {
			return nil, fmt.Errorf("%s can't be read: %w", own.File, err)
		}
		list := ownList{takes: func(string) bool { return true }}
		if list.words, err = spelling.ReadOwn(data); err != nil {
			return nil, target.WrongCall("%s: %v", own.File, err)
		}
		if len(own.Paths) > 0 {
			chosen, err := s.Policy.Choose(policy.Selector{Paths: own.Paths})
			if err != nil {
				return nil, err
			}
			list.takes = chosen.TakesPath
		}
		if s.Trusted.Side != "" && s.Target.Diff != nil {
			now, _, err := s.Target.Tree.Plain(own.File)
			if err != nil {
				return nil, fmt.Errorf("%s can't be read: %w", own.File, err)
			}
			after, err := spelling.ReadOwn(now)
			if err != nil {
				notices = append(notices, fmt.Sprintf("after this change %s can't be read: %v", own.File, err))
			}
			list.fresh = slices.DeleteFunc(after, func(w spelling.OwnWord) bool {
				return slices.ContainsFunc(list.words, func(o spelling.OwnWord) bool { return strings.EqualFold(o.Word, w.Word) })
			})
			if n := len(list.fresh); n > 0 {
				notices = append(notices, s.tellAdded(own.File, list.fresh))
			}
		}
		s.lists = append(s.lists, list)
	}
	return notices, nil
}

// honours reports whether the door lets the change add so many words for itself.
func (s *speller) honours(words int) bool {
	return s.Door.Acceptances != nil && words <= s.Door.Acceptances.Most
}

// honoured is how many words the change adds that count.
func (s *speller) honoured() (words int) {
	if s == nil {
		return 0
	}
	for _, list := range s.lists {
		if s.honours(len(list.fresh)) {
			words += len(list.fresh)
		}
	}
	return words
}

func (s *speller) tellAdded(file string, fresh []spelling.OwnWord) string {
	var words []string
	for _, w := range fresh {
		words = append(words, w.Word)
	}
	slices.Sort(words)
	text := fmt.Sprintf("the change adds to %s: %s", file, target.ClipList(words))
	switch {
	case s.Door.Acceptances == nil:
		text += "; they count once it is merged, since this door lets a change accept nothing"
	case !s.honours(len(fresh)):
		text += fmt.Sprintf("; none counts, since this door lets a change accept %d at most", s.Door.Acceptances.Most)
	}
	return text
}

// forFile readies the team's words for a file.
func (s *speller) forFile(path string) {
	var words []spelling.OwnWord
	for _, list := range s.lists {
		if !list.takes(path) {
			continue
		}
		words = append(words, list.words...)
		if s.honours(len(list.fresh)) {
			words = append(words, list.fresh...)
		}
	}
	s.Own = spelling.NewOwn(words, s.setting.Spelling.Instead)
}

// check looks through a file.
func (s *speller) check(path string, data []byte) {
	if !comment.Knows(path) || len(data) > mostSpelled || s.namesWords(path) {
		return
	}
	if len(s.lists) != 1 || s.Own == nil {
		if s.forFile(path); len(s.lists) != 1 {
			clear(s.known)
			clear(s.names)
			clear(s.meant)
		}
	}
	seen, unknown := map[string]bool{}, 0
	var words []spelling.Word
	file := spelling.NewFile(path, data)
	file.Words(s.setting.Spelling.Names, func(w spelling.Word) {
		known := s.Knows(w.Text)
		if !seen[w.Text] {
			if seen[w.Text] = true; !known {
				unknown++
			}
		}
		if !known {
			words = append(words, w)
		}
	})
	if len(words) == 0 || spelling.IsForeign(len(seen), unknown) {
		return
	}
	names := map[string]bool{}
	for _, w := range words {
		names[strings.ToLower(w.Text)] = false
	}
	file.Names(names)
	lines := fix.NewIndex(data)
	inLine := map[string]int{} // the places of the words of a line, in lower case, among what was found
	last := 0
	for _, w := range words {
		lower := strings.ToLower(w.Text)
		if !w.Name && !s.Own.Avoids(lower) && names[lower] || s.isName(w.Text) {
			continue
		}
		at := lines.Region(w.From, w.To)
		if at.Line != last {
			clear(inLine)
			last = at.Line
		}
		if n, again := inLine[lower]; again {
			s.found[n].places = append(s.found[n].places, wordPlace{w, at})
			continue
		}
		inLine[lower] = len(s.found)
		s.found = append(s.found, misspelt{path, []wordPlace{{w, at}}})
	}
}

// Knows reports whether a word is one; each is looked up once.
func (s *speller) Knows(word string) bool {
	known, asked := s.known[word]
	if !asked {
		known = s.Speller.Knows(word)
		s.known[word] = known
	}
	return known
}

// namesWords reports whether a file is one of the lists of words themselves, or the policy, which says what the team avoids.
func (s *speller) namesWords(path string) bool {
	set := s.setting.Spelling
	return path == policy.Path || slices.Contains(set.Dictionaries, path) || slices.ContainsFunc(set.Own, func(own spelling.OwnList) bool { return own.File == path })
}

// mostSpelled bounds how long a file is whose spelling is checked, in bytes.
const mostSpelled = 8 << 20

// isName reports whether nothing says what was meant by a word that isn't known: it is probably a name. Each is looked up once.
func (s *speller) isName(word string) bool {
	is, asked := s.names[word]
	if !asked {
		is = !s.Likely(word)
		s.names[word] = is
	}
	return is
}

// suggested is what was probably meant by a word. Each is looked up once.
func (s *speller) suggested(word string) []spelling.Suggestion {
	all, asked := s.meant[word]
	if !asked {
		all = s.Suggest(word)
		s.meant[word] = all
	}
	return all
}

// findings are the misspelt words that the code before the change doesn't use often enough to be the team's own.
func (s *speller) findings() (all []finding.Finding, err error) {
	known, err := s.used()
	if err != nil {
		return nil, err
	}
	for _, m := range s.found {
		first := m.places[0]
		if known(first.Text) {
			continue
		}
		suggested := s.suggested(first.Text)
		message := fmt.Sprintf("%q isn't a word that is known", first.Text)
		var words []string
		for _, one := range suggested {
			words = append(words, one.Word)
		}
		if instead, avoided := s.Own.Instead(strings.ToLower(first.Text)); avoided {
			message = fmt.Sprintf("%q isn't a word that the team uses: it says %s", first.Text, instead)
		} else if len(words) > 0 {
			message = fmt.Sprintf("%q is misspelt: perhaps %s", first.Text, strings.Join(words, ", "))
		}
		f := finding.Finding{Tool: house.Tool, Rule: s.setting.Name, Level: house.RuleOf(spelling.Rule).Level, Message: message, Path: m.path, Region: first.Region, Columns: source.Bytes, Occurrences: len(m.places)}
		if sure := spelling.Sure(suggested); sure != "" && !first.Name {
			one := finding.Fix{Description: fmt.Sprintf("put %q in its place", sure)}
			for _, p := range m.places {
				if right := spelling.Sure(s.suggested(p.Text)); right != "" && !p.Name {
					one.Edits = append(one.Edits, finding.Edit{Path: m.path, Region: p.Region, Text: right})
				}
			}
			f.Detail().Fixes = []finding.Fix{one}
		}
		all = append(all, f)
	}
	return all, nil
}

// used gives which words so many files use before the change that they are the team's own. A word isn't where the files use a word one
// letter from it more often.
func (s *speller) used() (func(word string) bool, error) {
	least := s.setting.Spelling.Known
	if len(s.found) == 0 && !s.Words.lasting || least == 0 || s.Target.Repo == nil || s.Target.IsPatch {
		return func(string) bool { return false }, nil
	}
	side := s.Target.Side
	if s.Target.Diff != nil {
		side = s.Target.Diff.Old()
	}
	asked, err := s.counts(side, least)
	if err != nil {
		return nil, err
	}
	return func(word string) bool {
		uses := asked[wordHash(word)]
		return uses >= least && !slices.ContainsFunc(s.suggested(word), func(one spelling.Suggestion) bool {
			return one.Distance == 1 && asked[wordHash(one.Word)] > uses
		})
	}, nil
}

// counts gives in how many files of a state words are: of those that matter for what was found, or where many calls are made, of all that
// so many files have.
func (s *speller) counts(side git.Side, least int) (map[uint32]int, error) {
	if s.Words.lasting {
		return s.Words.frequent(side, least, s.wordLists)
	}
	asked := map[uint32]int{}
	for _, m := range s.found {
		asked[wordHash(m.places[0].Text)] = 0
		for _, one := range s.suggested(m.places[0].Text) {
			asked[wordHash(one.Word)] = 0
		}
	}
	lists, err := s.wordLists(side)
	eachWord(lists, func(word uint32) {
		if n, is := asked[word]; is {
			asked[word] = n + 1
		}
	})
	return asked, err
}

// wordHash is what a word is kept as, in whatever case.
func wordHash(word string) uint32 {
	h := fnv.New64a()
	h.Write([]byte(strings.ToLower(word)))
	sum := h.Sum64()
	return uint32(sum ^ sum>>32)
}

// wordLists are the words of all files of a state, those of each content once, packed. What words a content has is kept from one run to
// the next.
func (s *speller) wordLists(side git.Side) (all [][]byte, err error) {
	entries, err := s.Target.Repo.Entries(side)
	if err != nil {
		return nil, err
	}
	lists := cached.OpenLists("words", lint.Build(), s.Target.Repo.CommonDir())
	var unread []string
	seen := map[string]bool{}
	for _, p := range slices.Sorted(maps.Keys(entries)) {
		e := entries[p]
		if e.Link || !comment.Knows(p) || policy.MatchPath(s.Policy.Skip, p) {
			continue
		}
		name := wordsName(p, e)
		if seen[name] {
			continue
		}
		seen[name] = true
		if list, known := lists.Get(name); known {
			all = append(all, list)
		} else {
			unread = append(unread, p)
		}
	}
	if len(unread) == 0 {
		return all, nil
	}
	tree, err := s.Target.Repo.Tree(side)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	var mutex sync.Mutex
	err = target.ReadEach(tree.ReadAll, tree.Read, unread, func(p string, data []byte, _ bool) {
		list := wordsIn(p, data)
		mutex.Lock()
		defer mutex.Unlock()
		lists.Put(wordsName(p, entries[p]), list)
		all = append(all, list)
	})
	if err != nil {
		return nil, err
	}
	lists.Save(seen)
	return all, nil
}

// wordsName is what the words of a file are kept under: its content, and what its name says of how it is read.
func wordsName(path string, e git.Entry) string {
	return e.Content + path[strings.LastIndexByte(path, '/')+1:]
}

func eachWord(lists [][]byte, see func(word uint32)) {
	for _, list := range lists {
		for ; len(list) >= 4; list = list[4:] {
			see(binary.LittleEndian.Uint32(list))
		}
	}
}

// wordsIn are the words of a file, each once, packed.
func wordsIn(path string, data []byte) (list []byte) {
	if len(data) > mostSpelled {
		return nil
	}
	seen := map[uint32]bool{}
	spelling.NewFile(path, data).Words(true, func(w spelling.Word) {
		hash := wordHash(w.Text)
		if !seen[hash] {
			seen[hash] = true
			list = binary.LittleEndian.AppendUint32(list, hash)
		}
	})
	return bytes.Clone(list) // which takes no more than it needs: there may be many
}

// oncePerFile makes one finding of those about one misspelt word in a file: the first on a changed line, else the first, with how many
// there are. Its fix puts all of them right, or, where one is on a changed line, all on such lines.
func oncePerFile(all []finding.Finding, c *change.Change) []finding.Finding {
	type word struct{ path, message string }
	first := map[word]int{}
	left := all[:0]
	for _, f := range all {
		if f.Tool != house.Tool || f.Rule != spelling.Rule || f.Region.Line == 0 {
			left = append(left, f)
			continue
		}
		key := word{f.Path, strings.ToLower(f.Message)}
		at, again := first[key]
		if !again {
			first[key] = len(left)
			left = append(left, f)
			continue
		}
		had := &left[at]
		times := had.Occurrences + f.Occurrences
		switch before, now := c.Touches(had.Path, had.Region.Line), c.Touches(f.Path, f.Region.Line); {
		case now && !before:
			*had = f
		case now == before && len(had.Details().Fixes) > 0 && len(f.Details().Fixes) > 0:
			one := &had.Detail().Fixes[0]
			one.Edits = append(one.Edits, f.Details().Fixes[0].Edits...)
		}
		had.Occurrences = times
	}
	return left
}
