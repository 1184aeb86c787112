package recognise

import (
	"cmp"
	"maps"
	"slices"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/source"
)

// match pairs what agrees in one stage: where there is one of each at once, then the others, by the lines where those
// should be now.
func (m *matcher) match(of stage, among pool) {
	m.unpaired = slices.DeleteFunc(m.unpaired, func(f int) bool { return m.entryOf[f] != None })
	m.left = slices.DeleteFunc(m.left, func(e int) bool { return m.taken[e] })
	g := &m.groups
	g.begin(min(len(m.unpaired), len(m.left)))
	for _, f := range m.unpaired {
		if s := &m.findings[f]; among(s) {
			g.addFinding(f, of.traits(s, g.traits[:0]))
		}
	}
	if len(g.all) == 0 {
		return
	}
	if of.lost {
		m.indexAhead(of, among)
	}
	var meeting []int32 // the groups with both, in the order of their entries
	for _, e := range m.left {
		s := &m.entries[e]
		if !among(s) {
			continue
		}
		for _, t := range of.traits(s, g.traits[:0]) {
			at, there := g.byTrait[t]
			if !there || of.lost && !m.lost(s) {
				continue
			}
			if g.all[at].entries.n == 0 {
				meeting = append(meeting, at)
			}
			g.add(&g.all[at].entries, e)
		}
	}
	if of.block {
		m.readAhead(meeting)
	}
	for _, at := range meeting {
		if e, f, one := g.pair(at); one {
			m.pair(e, f, of)
		}
	}
	m.adopt()
	for _, at := range meeting {
		if _, _, one := g.pair(at); !one {
			m.pairNearest(g.list(g.all[at].entries), g.list(g.all[at].findings), of)
		}
	}
	m.adopt()
}

func (m *matcher) pair(e, f int, of stage) bool {
	if m.taken[e] || m.entryOf[f] != None || of.fits != nil && !of.fits(m, &m.entries[e], &m.findings[f]) {
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
func (m *matcher) pairNearest(entries, findings []int, of stage) {
	entries = slices.DeleteFunc(entries, func(e int) bool { return m.taken[e] })
	findings = slices.DeleteFunc(findings, func(f int) bool { return m.entryOf[f] != None })
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
	new := textOf(m.news, m.names.text(m.findings[f].path), m.view.NewText)
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
	path := m.names.text(m.findings[f].path)
	text := textOf(m.news, path, m.view.NewText)
	return text != nil && m.view.Change.File(path).MaySlide(text, m.entries[e].at, m.findings[f].at)
}

// readAhead reads the texts in which blocks will be looked for, many at once.
func (m *matcher) readAhead(meeting []int32) {
	olds, news := map[string]bool{}, map[string]bool{}
	for _, at := range meeting {
		for _, e := range m.groups.list(m.groups.all[at].entries) {
			olds[m.paths[e]] = true
		}
		for _, f := range m.groups.list(m.groups.all[at].findings) {
			news[m.names.text(m.findings[f].path)] = true
		}
	}
	readInto(m.olds, olds, m.view.OldTexts)
	readInto(m.news, news, m.view.NewTexts)
}

// readInto adds the texts that are wanted and not there yet, several at once. One alone is left to whoever asks for it.
func readInto(texts map[string]*source.Text, wanted map[string]bool, all func(paths []string, see func(path string, text *source.Text))) {
	maps.DeleteFunc(wanted, func(path string, _ bool) bool { _, known := texts[path]; return known })
	if all == nil || len(wanted) < 2 {
		return
	}
	var mutex sync.Mutex
	all(slices.Sorted(maps.Keys(wanted)), func(path string, text *source.Text) {
		text = text.Copy()
		mutex.Lock()
		defer mutex.Unlock()
		texts[path] = text
	})
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
// it elsewhere: the one is fixed then, and the other new.
func (m *matcher) stays(e, f int) bool {
	s, at := &m.entries[e], m.expected(e)
	if s.twins == 0 || s.state == kept || s.state == altered || !s.coded || m.findings[f].path != s.path || abs(m.findings[f].at-at) <= astray {
		return false
	}
	index := m.newLines(m.names.text(s.path))
	return index != nil && slices.ContainsFunc(index.linesOf(s.text), func(n int) bool { return abs(n-at) <= astray && isAt(index.text, s.trait, n) })
}

// lost reports whether the judged state no longer has an entry's line in its file: it has fewer of its kind than when it
// was accepted.
func (m *matcher) lost(e *side) bool {
	if m.surelyLost(e) {
		return true
	}
	index := m.newLines(m.names.text(e.path))
	return index != nil && len(index.linesOf(e.text)) <= e.twins
}

// surelyLost reports whether that can be told without the file's text.
func (m *matcher) surelyLost(e *side) bool {
	return e.state == altered || e.path == none || m.missing(e.path)
}

// indexAhead reads the files in which lines will be looked for to tell which are lost, many at once.
func (m *matcher) indexAhead(of stage, among pool) {
	if m.view.NewTexts == nil {
		return
	}
	asked := map[string]bool{}
	for _, i := range m.left {
		e := &m.entries[i]
		if !among(e) || !m.groups.meet(of.traits(e, m.groups.traits[:0])) || m.surelyLost(e) {
			continue
		}
		path := m.names.text(e.path)
		if _, known := m.texts[path]; !known {
			asked[path] = true
		}
	}
	paths := slices.Sorted(maps.Keys(asked))
	readInto(m.news, asked, m.view.NewTexts)
	indexes := make([]*lineIndex, len(paths))
	processors.Each(len(paths), func(_, i int) {
		if text := m.news[paths[i]]; text != nil {
			indexes[i] = indexLines(text)
		}
	})
	for i, index := range indexes {
		if index != nil {
			m.texts[paths[i]] = index
		}
	}
}

// newLines is a file of the judged state by its lines, nil where it isn't known.
func (m *matcher) newLines(path string) *lineIndex {
	index, known := m.texts[path]
	if !known {
		if text := textOf(m.news, path, m.view.NewText); text != nil {
			index = indexLines(text)
		}
		m.texts[path] = index
	}
	return index
}
