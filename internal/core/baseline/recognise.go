package baseline

import (
	"cmp"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// View is what recognition may know of the tree beside the findings. A nil function knows nothing.
type View struct {
	// Change is the way from the state that the baseline was read from to the judged one; nil, or one of everything,
	// where there is no such way.
	Change *change.Change
	// OldText gives the text of a file as the change's old side has it, NewText as the judged state has it; nil where
	// there is none.
	OldText, NewText func(path string) *source.Text
	// Missing reports that the judged state has no file at path.
	Missing func(path string) bool
	// Aliases gives the present names of rules that their tools renamed.
	Aliases map[string]string
}

// None marks a finding that no entry recognises.
const None = -1

// Matches is what recognition found.
type Matches struct {
	EntryOf    []int    // for each finding the index of its entry, or None
	Fileless   []bool   // for each entry whether the judged state no longer has its file
	Distrusted []string // what makes fingerprints of tools not be believed, a sentence each
}

// Recognise pairs findings with entries, one to one, surest pairs first. The findings must be sorted by finding.Order;
// the entries may come in any order. The cost is near n log n.
//
// Where the change is known, each entry's line is first found on the old side and followed from there. An entry whose
// line is still there is matched on that line, or right beside it; one whose line was taken away only with findings
// on lines that the change brought. An entry whose line isn't found, and every entry where no change is known, goes by
// what it tells of its code. Of several findings that would do, the one nearest to where the line should be is taken.
// The stages table has the order.
func Recognise(findings []finding.Finding, entries []Entry, view View) Matches {
	if len(entries) == 0 {
		return Matches{EntryOf: slices.Repeat([]int{None}, len(findings))}
	}
	m := newMatcher(findings, entries, view)
	distrusted := m.matchPrints()
	for _, stage := range keptStages {
		m.match(stage, keptLines)
	}
	m.match(sliding, linesBesideKept)
	m.matchAll()
	if m.findRenames() {
		m.matchAll()
	}
	fileless := make([]bool, len(entries))
	for i := range entries {
		path := m.entries[i].path
		fileless[i] = path != "" && view.Missing != nil && view.Missing(path)
	}
	return Matches{EntryOf: m.entryOf, Fileless: fileless, Distrusted: distrusted}
}

// state is what is known of an entry's line, or of a finding's.
type state int

const (
	loose   state = iota // nothing
	resting              // its file is as it was
	kept                 // it is a line of both sides
	altered              // an entry's line was taken away or changed; a finding's was brought or changed
)

// pool says which entries may be paired with which findings.
type pool func(s *side) bool

// What the change kept is paired with what it kept, what it took away with what it brought, and anything with an entry
// of which nothing is known.
func keptLines(s *side) bool       { return s.state == kept }
func linesBesideKept(s *side) bool { return s.state == kept || !s.isEntry && s.state == altered }
func alteredLines(s *side) bool    { return s.state == altered }
func otherLines(s *side) bool      { return !s.isEntry || s.state == loose || s.state == resting }

// side is a finding or an entry as the stages see it.
type side struct {
	trait           // with the message as written
	skeleton string // the message without numbers and names
	state    state
	isEntry  bool
	coded    bool // there is code to compare
	blind    bool // there is a line, but its text isn't known
	twins    int  // how many other lines of the file have its text

	// The code line and its neighbours hold letters or digits. Of an entry that isn't known, and the finding of the
	// same text tells.
	weighty, weightyBefore, weightyAfter bool

	at    int           // the line: of an entry whose line was kept, and of a finding, on the new side; else on the old one
	was   int           // an entry's line on the old side
	track *change.Track // where the file has one
}

// matcher holds both sides and who is paired already.
type matcher struct {
	findings, entries []side
	order             []int    // entries in the order of their lines
	paths             []string // the files that the entries were accepted in
	entryOf           []int
	taken             []bool
	shifts            map[string]*shifts
	learning          []*shifts // those with something new
	view              View
	texts             map[string]*lineIndex
	olds, news        map[string]*source.Text // the texts that blocks were looked for in
}

func newMatcher(findings []finding.Finding, entries []Entry, view View) *matcher {
	m := &matcher{
		findings: make([]side, len(findings)),
		entries:  make([]side, len(entries)),
		entryOf:  slices.Repeat([]int{None}, len(findings)),
		taken:    make([]bool, len(entries)),
		shifts:   map[string]*shifts{},
		view:     view,
		texts:    map[string]*lineIndex{},
		olds:     map[string]*source.Text{},
		news:     map[string]*source.Text{},
		paths:    make([]string, len(entries)),
	}
	past := newPast(view)
	m.order = sorted(entries)
	for _, i := range m.order {
		s := m.sideOf(entries[i])
		s.isEntry, s.weighty, s.weightyBefore, s.weightyAfter = true, s.coded, s.coded, s.coded
		m.entries[i], m.paths[i] = s, entries[i].Path
	}
	past.placeEntries(m.entries, entries, m.order)
	for i, f := range findings {
		s := m.sideOf(EntryFor(f, ""))
		s.blind = f.Region.Line > 0 && !s.coded
		s.weighty = source.Weight(f.Code.Text) > 0
		s.weightyBefore, s.weightyAfter = source.Weight(f.Code.Before) > 0, source.Weight(f.Code.After) > 0
		past.placeFinding(&s)
		m.findings[i] = s
	}
	return m
}

func (m *matcher) sideOf(e Entry) side {
	rule := e.Rule
	if now, ok := m.view.Aliases[rule]; ok {
		rule = now
	}
	return side{
		trait:    trait{tool: e.Tool, rule: rule, path: e.Path, message: e.Message, text: e.Text, before: e.Before, after: e.After, prints: e.Prints},
		skeleton: Skeleton(e.Message),
		coded:    e.Text != "",
		twins:    e.Twins,
		at:       e.Line,
		was:      e.Line,
	}
}

func (m *matcher) matchAll() {
	for _, stage := range stages {
		m.match(stage, alteredLines)
		m.match(stage, otherLines)
	}
}

// findRenames finds files that are no more and whose entries went, as far as they are known, to one other file for the
// most part, and lets the rest of their entries be looked for there.
func (m *matcher) findRenames() (any bool) {
	went := map[string]map[string]int{}
	entries := map[string]int{}
	for i := range m.entries {
		if path := m.entries[i].path; path != "" && m.view.Missing != nil && m.view.Missing(path) {
			entries[path]++
		}
	}
	for f, e := range m.entryOf {
		if e == None || entries[m.entries[e].path] == 0 {
			continue
		}
		from, to := m.entries[e].path, m.findings[f].path
		if went[from] == nil {
			went[from] = map[string]int{}
		}
		went[from][to]++
	}
	renames := map[string]string{}
	for from, paths := range went {
		for to, n := range paths {
			if n > 1 && n*2 > entries[from] {
				renames[from] = to
			}
		}
	}
	for i := range m.entries {
		if to, ok := renames[m.entries[i].path]; ok && !m.taken[i] {
			m.entries[i].path, any = to, true
		}
	}
	return any
}

// group is what agrees in one stage.
type group struct{ entries, findings []int }

// match pairs what agrees in one stage: where there is one of each at once, then the others, by the lines where those
// should be now.
func (m *matcher) match(of stage, among pool) {
	groups := map[trait]*group{}
	for f := range m.findings {
		s := &m.findings[f]
		if m.entryOf[f] != None || !among(s) {
			continue
		}
		for _, t := range of.traits(s) {
			if groups[t] == nil {
				groups[t] = &group{}
			}
			groups[t].findings = append(groups[t].findings, f)
		}
	}
	if len(groups) == 0 {
		return
	}
	var meeting []*group // those with both, in the order of their entries
	for _, e := range m.order {
		s := &m.entries[e]
		if m.taken[e] || !among(s) {
			continue
		}
		for _, t := range of.traits(s) {
			g := groups[t]
			if g == nil || of.lost && !m.lost(s) {
				continue
			}
			if len(g.entries) == 0 {
				meeting = append(meeting, g)
			}
			g.entries = append(g.entries, e)
		}
	}
	for _, g := range meeting {
		if len(g.entries) == 1 && len(g.findings) == 1 {
			m.pair(g.entries[0], g.findings[0], of)
		}
	}
	m.settle()
	for _, g := range meeting {
		if len(g.entries) > 1 || len(g.findings) > 1 {
			m.pairNearest(g, of)
		}
	}
	m.settle()
}

func (m *matcher) pair(e, f int, of stage) bool {
	if m.taken[e] || m.entryOf[f] != None || of.fits != nil && !of.fits(&m.entries[e], &m.findings[f]) {
		return false
	}
	if of.block && m.block(e, f) == 0 || of.slides && !m.slides(e, f) {
		return false
	}
	if of.within > 0 && abs(m.findings[f].at-m.expected(e)) > of.within || m.stays(e, f) {
		return false
	}
	m.entryOf[f], m.taken[e] = e, true
	m.learn(m.entries[e].path, m.entries[e].was, m.findings[f].at)
	return true
}

// pairNearest pairs entries and findings that agree, in order: each of the fewer with the nearest of the more that
// leaves enough for those that follow.
func (m *matcher) pairNearest(g *group, of stage) {
	entries := slices.DeleteFunc(g.entries, func(e int) bool { return m.taken[e] })
	findings := slices.DeleteFunc(g.findings, func(f int) bool { return m.entryOf[f] != None })
	if of.best != nil || of.block {
		m.pairBest(entries, findings, of)
		return
	}
	expected := make([]int, len(entries))
	for i, e := range entries {
		expected[i] = m.expected(e)
	}
	actual := make([]int, len(findings))
	for i, f := range findings {
		actual[i] = m.findings[f].at
	}
	few, many := expected, actual
	if len(many) < len(few) {
		few, many = many, few
	}
	from := 0
	for i, want := range few {
		last := len(many) - len(few) + i // leaves one for each that follows
		k, _ := slices.BinarySearch(many[from:last+1], want)
		k += from
		if k > last || k > from && want-many[k-1] < many[k]-want {
			k--
		}
		if len(entries) <= len(findings) {
			m.pair(entries[i], findings[k], of)
		} else {
			m.pair(entries[k], findings[i], of)
		}
		from = k + 1
	}
}

// bestTable bounds how many pairs are weighed against one another; more are paired in order.
const bestTable = 1 << 14

// pairBest pairs entries and findings by how well each pair does, the best first.
func (m *matcher) pairBest(entries, findings []int, of stage) {
	if len(entries)*len(findings) > bestTable {
		for i := range min(len(entries), len(findings)) {
			m.pair(entries[i], findings[i], of)
		}
		return
	}
	type weighed struct {
		entry, finding int
		score          float64
	}
	var all []weighed
	for _, e := range entries {
		for _, f := range findings {
			score := 0.0
			if of.block {
				score = float64(m.block(e, f))
			} else {
				score = of.best(&m.entries[e], &m.findings[f])
			}
			if score > 0 {
				all = append(all, weighed{e, f, score})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b weighed) int { return cmp.Compare(b.score, a.score) })
	for _, w := range all {
		m.pair(w.entry, w.finding, of)
	}
}

// block is how many lines around an entry's are those around a finding's, 0 where they are too few to be a moved block.
func (m *matcher) block(e, f int) int {
	old := textOf(m.olds, m.paths[e], m.view.OldText)
	new := textOf(m.news, m.findings[f].path, m.view.NewText)
	if old == nil || new == nil {
		return 0
	}
	lines, weight := change.Moved(old, m.entries[e].was, new, m.findings[f].at)
	if !change.IsBlock(lines, weight) {
		return 0
	}
	return lines
}

// slides reports whether a finding's line may as well be the one that was kept as the entry's.
func (m *matcher) slides(e, f int) bool {
	path := m.findings[f].path
	text := textOf(m.news, path, m.view.NewText)
	return text != nil && m.view.Change.File(path).MaySlide(text, m.entries[e].at, m.findings[f].at)
}

func textOf(texts map[string]*source.Text, path string, read func(path string) *source.Text) *source.Text {
	text, known := texts[path]
	if !known && read != nil {
		text = read(path)
		texts[path] = text
	}
	return text
}

// expected is the line where an entry should be now, as far as the pairs known so far tell.
func (m *matcher) expected(e int) int {
	s := &m.entries[e]
	return s.was + m.shiftsOf(s.path).at(s.was)
}

// astray is how many lines from where it should be a finding must stand for a twin in that place to be asked.
const astray = 5

// stays reports whether an entry's line still stands about where it is expected, while the finding stands on a twin of
// it elsewhere: the one is mended then, and the other new.
func (m *matcher) stays(e, f int) bool {
	s, at := &m.entries[e], m.expected(e)
	if s.twins == 0 || s.state == kept || s.state == altered || !s.coded || m.findings[f].path != s.path || abs(m.findings[f].at-at) <= astray {
		return false
	}
	index := m.newLines(s.path)
	return index != nil && slices.ContainsFunc(index.at[s.text], func(n int) bool { return abs(n-at) <= astray && isAt(index.text, s.trait, n) })
}

// lost reports whether the judged state no longer has an entry's line in its file: it has fewer of its kind than when it
// was accepted.
func (m *matcher) lost(e *side) bool {
	if e.state == altered || e.path == "" || m.view.Missing != nil && m.view.Missing(e.path) {
		return true
	}
	index := m.newLines(e.path)
	return index != nil && len(index.at[e.text]) <= e.twins
}

// newLines is a file of the judged state by its lines, nil where it isn't known.
func (m *matcher) newLines(path string) *lineIndex {
	index, known := m.texts[path]
	if !known {
		if m.view.NewText != nil {
			if text := m.view.NewText(path); text != nil {
				index = indexLines(text)
			}
		}
		m.texts[path] = index
	}
	return index
}

// shifts tells by how much lines of a file moved, as far as pairs are known.
type shifts struct {
	known [][2]int // line then, line now; sorted
	fresh [][2]int // the same, not reckoned with yet
}

func (m *matcher) shiftsOf(path string) *shifts {
	s := m.shifts[path]
	if s == nil {
		s = &shifts{}
		m.shifts[path] = s
	}
	return s
}

// learn notes where an entry's line is now.
func (m *matcher) learn(path string, then, now int) {
	s := m.shiftsOf(path)
	if len(s.fresh) == 0 {
		m.learning = append(m.learning, s)
	}
	s.fresh = append(s.fresh, [2]int{then, now})
}

// settle lets what was learnt be reckoned with.
func (m *matcher) settle() {
	for _, s := range m.learning {
		s.known, s.fresh = append(s.known, s.fresh...), nil
		slices.SortFunc(s.known, func(a, b [2]int) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	}
	m.learning = m.learning[:0]
}

// at is the shift of the nearest known line.
func (s *shifts) at(line int) int {
	if len(s.known) == 0 {
		return 0
	}
	i, _ := slices.BinarySearchFunc(s.known, line, func(k [2]int, line int) int { return cmp.Compare(k[0], line) })
	if i == len(s.known) || i > 0 && line-s.known[i-1][0] <= s.known[i][0]-line {
		i--
	}
	return s.known[i][1] - s.known[i][0]
}
