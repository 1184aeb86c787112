// Package source knows the text of one file as lines: how it is cut into lines, when two lines are alike, and where
// a column falls in a line. It doesn't know where the text came from.
package source

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// Text is a file's text as lines. Lines are 1-based. The zero value is an empty file.
type Text struct {
	data  []byte
	count int      // of lines
	ends  []int32  // where each of the first lines ends in data, its line feed excluded; of all, unless the text is a glimpse
	asked int      // how often a line was looked for
	sums  []uint64 // of all lines, sorted; made when enough lines were looked for

	only []kept // where the text was cut down: all that is left of it, in order of lines
	size int    // and how many lines it had

	searched bool
	breaks   string // its OtherBreak, once that was searched
}

// kept is one line of a text that was cut down.
type kept struct {
	number int
	line   string
	code   Code
}

// New cuts data at line feeds. A carriage return stays part of its line; a last line without a line feed counts as one.
// The text keeps data, which its caller then leaves alone. What lies beyond 2 GiB is cut off.
func New(data []byte) *Text {
	t := Glimpse(data)
	t.upTo(t.count)
	return t
}

// Glimpse is as New, and finds lines only as they are asked for, which takes less time where few are. The text is for one goroutine.
func Glimpse(data []byte) *Text {
	data = data[:min(len(data), math.MaxInt32)]
	t := &Text{data: data, count: bytes.Count(data, []byte("\n"))}
	if n := len(data); n > 0 && data[n-1] != '\n' {
		t.count++
	}
	return t
}

// upTo finds where the first n lines end, as far as there are so many.
func (t *Text) upTo(n int) {
	if n = min(n, t.count); n <= len(t.ends) {
		return
	}
	t.ends = slices.Grow(t.ends, n-len(t.ends))
	at := 0
	if last := len(t.ends); last > 0 {
		at = int(t.ends[last-1]) + 1
	}
	for len(t.ends) < n {
		end := bytes.IndexByte(t.data[at:], '\n')
		if end < 0 {
			end = len(t.data) - at
		}
		t.ends = append(t.ends, int32(at+end))
		at += end + 1
	}
}

// Only cuts the text down to some of its lines, which then take little memory whatever the text's size. It answers for
// these lines as before, and is empty at all others.
func (t *Text) Only(lines []int) *Text {
	lines = slices.Clone(lines)
	slices.Sort(lines)
	cut := &Text{only: make([]kept, 0, len(lines)), size: t.Len(), searched: true, breaks: t.OtherBreak()}
	for _, n := range slices.Compact(lines) {
		if n >= 1 && n <= t.Len() {
			line := t.Line(n)
			before, after := t.Neighbours(n)
			cut.only = append(cut.only, kept{n, line, Code{Text: Collapse(line), Before: before, After: after}})
		}
	}
	t.countAlike(cut.only)
	return cut
}

// countAlike counts for some lines how many lines of the text collapse as each does, itself included; 0 for a blank one. Where many
// are asked for it goes through the text once: most lines are told from all of them by their ends.
func (t *Text) countAlike(asked []kept) {
	if len(asked) <= scans {
		for i, k := range asked {
			if same := slices.IndexFunc(asked[:i], func(other kept) bool { return other.code.Text == k.code.Text }); same >= 0 {
				asked[i].code.Alike = asked[same].code.Alike
			} else if ink(t.raw(k.number)) != 0 {
				asked[i].code.Alike = t.collapsing(k.code.Text)
			}
		}
		return
	}
	sums := make([]uint64, len(asked))         // 0 for a blank line
	counts := make(map[uint64]int, len(asked)) // by the sum of a line
	var may [kindsOfEnds]bool                  // by ends
	least := math.MaxInt                       // bytes that a line has without its white space
	for i, k := range asked {
		if line := t.raw(k.number); ink(line) != 0 {
			sums[i] = collapsedSum(line)
			counts[sums[i]], may[Ends(line)%kindsOfEnds] = 0, true
			least = min(least, inked(line))
		}
	}
	t.upTo(t.count)
	start := int32(0)
	for _, end := range t.ends {
		line := t.data[start:end]
		start = end + 1
		if len(line) < least || !may[Ends(line)%kindsOfEnds] {
			continue
		}
		sum := collapsedSum(line)
		if count, known := counts[sum]; known {
			counts[sum] = count + 1
		}
	}
	for i, sum := range sums {
		if sum != 0 {
			asked[i].code.Alike = counts[sum]
		}
	}
}

// collapsing counts the lines that collapse to a text that isn't empty. Each of them has the text's longest word.
func (t *Text) collapsing(text string) (count int) {
	longest := ""
	for word := range strings.SplitSeq(text, " ") {
		if len(word) > len(longest) {
			longest = word
		}
	}
	word := []byte(longest)
	for at := 0; at < len(t.data); {
		next := bytes.Index(t.data[at:], word)
		if next < 0 {
			break
		}
		start, end := at+bytes.LastIndexByte(t.data[at:at+next], '\n')+1, len(t.data)
		if rest := bytes.IndexByte(t.data[at+next:], '\n'); rest >= 0 {
			end = at + next + rest
		}
		if collapsesTo(t.data[start:end], text) {
			count++
		}
		at = end + 1
	}
	return count
}

// collapsesTo reports whether Collapse makes a text of a line.
func collapsesTo(line []byte, text string) bool {
	line = bytes.Trim(bytes.TrimSuffix(line, []byte("\r")), " \t")
	if len(line) < len(text) {
		return false
	}
	return string(line) == text || Collapse(string(line)) == text
}

// inked counts the bytes of a line that a mark takes in.
func inked(line []byte) (n int) {
	for _, c := range line {
		if marked(c) {
			n++
		}
	}
	return n
}

// kindsOfEnds is how many kinds of ends are told apart.
const kindsOfEnds = 1 << 10

// Ends mixes the first two and the last two bytes of a line that a mark takes in: lines of one mark have the same, and it takes less
// time to make.
func Ends(line []byte) uint32 {
	mixed, from := uint32(0), 0
	for k := 0; from < len(line) && k < 2; from++ {
		if marked(line[from]) {
			mixed, k = mixed*37+uint32(line[from]), k+1
		}
	}
	for k, to := 0, len(line)-1; to >= 0 && k < 2; to-- {
		if marked(line[to]) {
			mixed, k = mixed*37+uint32(line[to]), k+1
		}
	}
	return mixed
}

// keptAt is a line that a text was cut down to, the zero value where it is none of them.
func (t *Text) keptAt(n int) kept {
	if i, found := slices.BinarySearchFunc(t.only, n, func(k kept, n int) int { return cmp.Compare(k.number, n) }); found {
		return t.only[i]
	}
	return kept{}
}

// Whole reports whether all of the file's text is there: it wasn't cut down.
func (t *Text) Whole() bool { return t.only == nil }

// Data is the file's text as it is stored, not to be written to. The text must be whole.
func (t *Text) Data() []byte { return t.data }

// Any reports whether a line is as asked. The text must be whole.
func (t *Text) Any(is func(line string) bool) bool {
	for n := 1; n <= t.Len(); n++ {
		if is(t.Line(n)) {
			return true
		}
	}
	return false
}

// Holds reports whether the text answers for line n: a text that was cut down may not.
func (t *Text) Holds(n int) bool {
	return t.only == nil || t.keptAt(n).number > 0 || n < 1 || n > t.size
}

// raw is line n with its carriage return.
func (t *Text) raw(n int) []byte {
	t.upTo(n)
	start := int32(0)
	if n > 1 {
		start = t.ends[n-2] + 1
	}
	return t.data[start:t.ends[n-1]]
}

// Len is the number of lines.
func (t *Text) Len() int {
	if t.only != nil {
		return t.size
	}
	return t.count
}

// Lines are all lines, from the first on.
func (t *Text) Lines() []string {
	lines := make([]string, t.count)
	for i := range lines {
		lines[i] = string(t.raw(i + 1))
	}
	return lines
}

// Span gives the lines from first to last, each as Line does. The text must be whole.
func (t *Text) Span(first, last int) []string {
	if last < first {
		return nil
	}
	if first < 1 || last > t.count {
		lines := make([]string, 0, last-first+1)
		for n := first; n <= last; n++ {
			lines = append(lines, t.Line(n))
		}
		return lines
	}
	t.upTo(last)
	start := int32(0)
	if first > 1 {
		start = t.ends[first-2] + 1
	}
	lines := strings.Split(string(t.data[start:t.ends[last-1]]), "\n") // which share their memory
	for i, line := range lines {
		lines[i] = strings.TrimSuffix(line, "\r")
	}
	return lines
}

// Copy is the text with memory of its own. It must be whole.
func (t *Text) Copy() *Text {
	return &Text{data: bytes.Clone(t.data), count: t.count, ends: slices.Clip(t.ends), searched: t.searched, breaks: t.breaks}
}

// Line returns line n without its line feed and carriage return, or "" where there is no such line.
func (t *Text) Line(n int) string {
	if t.only != nil {
		return t.keptAt(n).line
	}
	if n < 1 || n > t.count {
		return ""
	}
	return string(bytes.TrimSuffix(t.raw(n), []byte("\r")))
}

// IsPointer reports whether the text only stands for a large file that is kept elsewhere: a few lines, the first of which
// names a version of the form, with the content's hash and size. Its lines aren't those that tools look at.
func (t *Text) IsPointer() bool {
	if t.Len() < 3 || t.Len() > 12 || !strings.HasPrefix(t.Line(1), "version https://") {
		return false
	}
	hash, size := false, false
	for n := 2; n <= t.Len(); n++ {
		hash = hash || strings.HasPrefix(t.Line(n), "oid sha256:")
		size = size || strings.HasPrefix(t.Line(n), "size ")
	}
	return hash && size
}

// otherBreaks are what some tools take for the end of a line beside a line feed.
var otherBreaks = []struct{ sign, name string }{
	{"\f", "form feed"}, {"\v", "vertical tab"}, {"\u0085", "next-line sign (U+0085)"}, {"\u2028", "line separator (U+2028)"}, {"\u2029", "paragraph separator (U+2029)"},
}

// OtherBreak names something in the text that some tools take for the end of a line and others don't, so that they number
// the lines behind it otherwise; "" where there is nothing of the kind. A carriage return before a line feed is none.
func (t *Text) OtherBreak() string {
	if t.only == nil && !t.searched {
		t.searched, t.breaks = true, t.otherBreak()
	}
	return t.breaks
}

func (t *Text) otherBreak() string {
	for at := 0; ; at++ {
		next := bytes.IndexByte(t.data[at:], '\r')
		if next < 0 {
			break
		}
		if at += next; at+1 < len(t.data) && t.data[at+1] != '\n' {
			return "lone carriage return"
		}
	}
	for _, b := range otherBreaks {
		if bytes.Contains(t.data, []byte(b.sign)) {
			return b.name
		}
	}
	return ""
}

// MayBeLink reports whether a text may be that of a symbolic link as git stores it: where it leads, without a line end.
func (t *Text) MayBeLink() bool {
	return t.Len() == 1 && t.only == nil && t.data[len(t.data)-1] != '\n' && len(t.data) < 4096
}

// Code is what recognises the place a finding stands on, apart from its line number. All three texts are collapsed.
type Code struct {
	Text   string // the line itself
	Before string // the nearest line above that isn't blank
	After  string // the nearest line below that isn't blank
	Alike  int    // how many lines of the file have this text, itself included
}

// CodeAt returns the code at line n; the zero Code where there is no such line.
func (t *Text) CodeAt(n int) Code {
	if t.only != nil {
		return t.keptAt(n).code
	}
	if n < 1 || n > t.count {
		return Code{}
	}
	return Code{Text: Collapse(string(t.raw(n))), Before: t.neighbour(n, -1), After: t.neighbour(n, 1), Alike: t.alikeTo(n)}
}

// Neighbours returns the nearest lines above and below line n that aren't blank, collapsed. The text must be whole.
func (t *Text) Neighbours(n int) (before, after string) { return t.neighbour(n, -1), t.neighbour(n, 1) }

func (t *Text) neighbour(n, step int) string {
	for i := n + step; i >= 1 && i <= t.count; i += step {
		if text := Collapse(string(t.raw(i))); text != "" {
			return text
		}
	}
	return ""
}

// scans is how many lines of a text are looked for by going through it before an index of it is worth its making.
const scans = 8

// alikeTo counts the lines that collapse as line n does, itself included; 0 for a blank line.
func (t *Text) alikeTo(n int) int {
	line := t.raw(n)
	if ink(line) == 0 {
		return 0
	}
	if t.asked++; t.sums == nil && t.asked <= scans {
		return t.collapsing(Collapse(string(line)))
	}
	if t.sums == nil {
		t.sums = make([]uint64, t.count)
		for i := range t.sums {
			t.sums[i] = collapsedSum(t.raw(i + 1))
		}
		slices.Sort(t.sums)
	}
	sum := collapsedSum(line)
	from, _ := slices.BinarySearch(t.sums, sum)
	more := slices.IndexFunc(t.sums[from:min(from+scans, len(t.sums))], func(other uint64) bool { return other != sum })
	if more >= 0 {
		return more
	}
	to, _ := slices.BinarySearchFunc(t.sums, sum, func(other, sum uint64) int {
		if other <= sum {
			return -1
		}
		return 1
	})
	return to - from
}

// collapsedSum is a number that lines which collapse to the same text share, and others hardly ever (64-bit FNV-1a of that text).
func collapsedSum(line []byte) uint64 {
	line = bytes.Trim(bytes.TrimSuffix(line, []byte("\r")), " \t")
	sum := uint64(offset64)
	for i, c := range line {
		switch {
		case c == '\t':
			c = ' '
			fallthrough
		case c == ' ':
			if before := line[i-1]; before == ' ' || before == '\t' {
				continue
			}
		}
		sum = (sum ^ uint64(c)) * prime64
	}
	return sum
}

// What a sum by FNV-1a begins with, and is multiplied by.
const (
	offset64 = 14695981039346656037
	prime64  = 1099511628211
)

// ink is the first byte of a line that a mark takes in, 0 where there is none: it tells most lines apart at once.
func ink(line []byte) byte {
	for _, c := range line {
		if marked(c) {
			return c
		}
	}
	return 0
}

// marked reports whether a byte is none of those that white space is made of, in ASCII or in its commonest other forms.
func marked(c byte) bool { return c > ' ' && c != 0x85 && c != 0xA0 && c != 0xC2 }

// Mark is a number that lines share which differ in white space alone, and others hardly ever: a hash of all else (64-bit FNV-1a).
func Mark[T string | []byte](line T) uint64 {
	hash := uint64(offset64)
	for i := 0; i < len(line); i++ {
		if c := line[i]; marked(c) {
			hash = (hash ^ uint64(c)) * prime64
		}
	}
	return hash
}

// Collapse removes the white space at both ends of a line without its line feed, and makes each gap inside one blank. Two lines
// that collapse to the same text differ only in white space: that is blanks, tabs, and a carriage return before the line feed;
// whatever else is seen as a gap may mean something, such as the end of a comment.
func Collapse(s string) string {
	if s = strings.Trim(strings.TrimSuffix(s, "\r"), " \t"); isCollapsed(s) { // as most lines of code are, their indentation aside
		return s
	}
	all := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c != ' ' && c != '\t':
			all = append(all, c)
		case all[len(all)-1] != ' ':
			all = append(all, ' ')
		}
	}
	return string(all)
}

// isCollapsed reports whether the gaps of a text that neither begins nor ends with white space are blanks, one each.
func isCollapsed(s string) bool {
	return strings.IndexByte(s, '\t') < 0 && !strings.Contains(s, "  ")
}

// Weight counts the letters and digits of s. A line of weight 0 (a brace, a rule) says nothing about where it is.
func Weight(s string) int {
	n := 0
	for _, r := range s {
		if r >= utf8.RuneSelf {
			n++
		} else {
			n += int(weights[r])
		}
	}
	return n
}

// weights are those of the characters of ASCII.
var weights = func() (w [utf8.RuneSelf]uint8) {
	for c := range w {
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' {
			w[c] = 1
		}
	}
	return w
}()

// MayQuote reports whether a line can be what a report quotes: white space aside, the quotation stands in it. A quotation
// that its tool shortened, or of a text that isn't plain ASCII, which tools rewrite each in their own way, proves nothing.
func MayQuote(line, snippet string) bool {
	if strings.Contains(line, strings.TrimSpace(snippet)) {
		return true
	}
	snippet = Collapse(snippet)
	if snippet == "" || strings.Contains(snippet, "...") {
		return true
	}
	for _, s := range []string{line, snippet} {
		for i := 0; i < len(s); i++ {
			if s[i] >= 0x80 || s[i] < ' ' && s[i] != '\t' {
				return true
			}
		}
	}
	return strings.Contains(Collapse(line), snippet)
}

// HashBits is how many bits the hash of a line has: enough to tell the lines of one file apart.
const HashBits = 48

// Sum is the hash of a line.
func Sum(line string) uint64 {
	sum := sha256.Sum256([]byte(line))
	return binary.BigEndian.Uint64(sum[:]) >> (64 - HashBits)
}

// Hash writes the hash of a line as 12 hexadecimal digits.
func Hash(line string) string {
	var sum [8]byte
	binary.BigEndian.PutUint64(sum[:], Sum(line)<<(64-HashBits))
	return hex.EncodeToString(sum[:HashBits/8])
}

// ParseHash reads a hash as Hash writes it.
func ParseHash(hash string) (sum uint64, ok bool) {
	if len(hash) != HashBits/4 {
		return 0, false
	}
	for i := range len(hash) {
		switch c := hash[i]; {
		case '0' <= c && c <= '9':
			sum = sum<<4 | uint64(c-'0')
		case 'a' <= c && c <= 'f':
			sum = sum<<4 | uint64(c-'a'+10)
		default:
			return 0, false
		}
	}
	return sum, true
}
