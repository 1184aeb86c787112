// Package recognise knows how a finding is found to be one that was accepted, or that was there before the change: by the
// tool's own fingerprint, by the code it stands on and that code's neighbours, by where the change put its line. It pairs
// findings with entries one to one, and doesn't know what follows for a verdict.
package recognise

import (
	"cmp"
	"maps"
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/processors"
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
	// OldTexts and NewTexts hand many of these texts to see, each once and in any order, those that aren't there left out. It is called
	// by several goroutines at once, and a text is good until it returns. Where they are nil, the texts are asked for one by one.
	OldTexts, NewTexts func(paths []string, see func(path string, text *source.Text))
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
// what it says about its code. Of several findings that would do, the one nearest to where the line should be is taken.
// The stages table has the order.
func Recognise(findings []finding.Finding, entries []baseline.Entry, view View) Matches {
	if len(entries) == 0 {
		return Matches{EntryOf: slices.Repeat([]int{None}, len(findings))}
	}
	m := newMatcher(findings, entries, view)
	distrusted := m.matchFingerprints()
	for _, stage := range keptStages {
		m.match(stage, keptLines)
	}
	m.match(sliding, linesBesideKept)
	m.pairResting()
	m.matchAll()
	if m.findRenames() {
		m.matchAll()
	}
	fileless := make([]bool, len(entries))
	for i := range entries {
		fileless[i] = m.missing(m.entries[i].path)
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
	skeleton name   // the message without numbers and names
	prints   string // the tool's own fingerprints, as an entry says them
	state    state
	isEntry  bool
	coded    bool // there is code to compare
	blind    bool // there is a line, but its text isn't known

	// The code line and its neighbours hold letters or digits. Of an entry that isn't known, and the finding of the
	// same text tells.
	weighty, weightyBefore, weightyAfter bool

	twins int           // how many other lines of the file have its text
	at    int           // the line: of an entry whose line was kept, and of a finding, on the new side; else on the old one
	was   int           // an entry's line on the old side
	track *change.Track // where the file has one
}

// matcher holds both sides and who is paired already.
type matcher struct {
	findings, entries []side
	names             *names
	paths             []string // the files that the entries were accepted in
	entryOf           []int
	taken             []bool
	unpaired, left    []int // findings, and entries in the order of their lines, but for some that are paired by now
	shifts            map[name]*shifts
	learning          []*shifts // those with something new
	view              View
	texts             map[string]*lineIndex
	olds, news        map[string]*source.Text // the texts that blocks were looked for in
	groups            groups
}

func newMatcher(findings []finding.Finding, entries []baseline.Entry, view View) *matcher {
	m := &matcher{
		findings: make([]side, len(findings)),
		entries:  make([]side, len(entries)),
		names:    newNames(),
		entryOf:  slices.Repeat([]int{None}, len(findings)),
		taken:    make([]bool, len(entries)),
		unpaired: make([]int, len(findings)),
		left:     baseline.Sorted(entries),
		shifts:   map[name]*shifts{},
		view:     view,
		texts:    map[string]*lineIndex{},
		olds:     map[string]*source.Text{},
		news:     map[string]*source.Text{},
		paths:    make([]string, len(entries)),
	}
	past := newPast(view, m.names)
	namer := m.newNamer()
	for i := range entries {
		e := &entries[i]
		s := &m.entries[i]
		namer.name(s, e.Tool, e.Rule, e.Path, e.Message)
		s.text, s.before, s.after = m.names.code(e.Text), m.names.code(e.Before), m.names.code(e.After)
		s.coded, s.twins, s.at, s.was, s.prints = s.text != 0, e.Twins, e.Line, e.Line, e.Fingerprints
		s.isEntry, s.weighty, s.weightyBefore, s.weightyAfter = true, s.coded, s.coded, s.coded
		m.paths[i] = e.Path
	}
	past.placeEntries(m.entries, entries, m.left)
	processors.Each(len(findings), func(_, i int) {
		f := &findings[i]
		s := &m.findings[i]
		if f.Code != (source.Code{}) {
			s.text, s.before, s.after, s.twins = codeOf(f.Code.Text), codeOf(f.Code.Before), codeOf(f.Code.After), f.Code.Alike-1
			s.weighty = source.Weight(f.Code.Text) > 0
			s.weightyBefore, s.weightyAfter = source.Weight(f.Code.Before) > 0, source.Weight(f.Code.After) > 0
		}
		s.coded, s.at, s.was, s.prints = s.text != 0, f.Region.Line, f.Region.Line, baseline.FingerprintsOf(f)
		s.blind = s.at > 0 && !s.coded
	})
	for i := range findings {
		f := &findings[i]
		namer.name(&m.findings[i], f.Tool, f.Rule, f.Path, f.Message)
		past.placeFinding(&m.findings[i], f.Path)
		m.unpaired[i] = i
	}
	return m
}

// namer numbers what sides say in words.
type namer struct {
	names      *names
	aliases    map[string]string
	tool, path run
	rules      map[string]name // as they are called now
	skeletons  map[name]name   // by their messages
}

func (m *matcher) newNamer() *namer {
	return &namer{m.names, m.view.Aliases, run{names: m.names}, run{names: m.names}, map[string]name{}, map[name]name{}}
}

func (n *namer) name(s *side, tool, rule, path, message string) {
	s.tool, s.path, s.message = n.tool.of(tool), n.path.of(path), n.names.of(message)
	var known bool
	if s.rule, known = n.rules[rule]; !known {
		s.rule = n.names.of(cmp.Or(n.aliases[rule], rule))
		n.rules[rule] = s.rule
	}
	if s.skeleton, known = n.skeletons[s.message]; !known {
		s.skeleton = n.names.of(finding.Skeleton(message))
		n.skeletons[s.message] = s.skeleton
	}
}

// compareAhead compares the words of passages in which an entry and a finding may be paired by their lines' likeness, by all
// processors: nothing else takes as long, and each file's passages are its own.
func (m *matcher) compareAhead() {
	found := map[trait]int{} // the passages' new sides, by a line there
	for _, i := range m.unpaired {
		if f := &m.findings[i]; m.entryOf[i] == None {
			if t, ok := f.passage(f.skeleton); ok {
				found[t] = f.at
			}
		}
	}
	if len(found) == 0 {
		return
	}
	type pairing struct{ old, new int }
	pairings := map[*change.Track][]pairing{}
	for _, i := range m.left {
		if e := &m.entries[i]; !m.taken[i] {
			if t, ok := e.passage(e.skeleton); ok && found[t] > 0 {
				pairings[e.track] = append(pairings[e.track], pairing{e.was, found[t]})
			}
		}
	}
	tracks := slices.Collect(maps.Keys(pairings))
	processors.Each(len(tracks), func(_, i int) {
		for _, p := range pairings[tracks[i]] {
			tracks[i].Likeness(p.old, p.new)
		}
	})
}

// onOneLine is how many findings of a line pairResting looks at; where there are more, the stages tell them apart.
const onOneLine = 16

// pairResting pairs what is where it was, in files that the change leaves as they are: the same message on the same code. That is
// nearly everything as a rule, and needs no groups.
func (m *matcher) pairResting() {
	type span struct{ first, end int }
	files := map[name]span{} // the findings of each, which follow one another in order of lines
	for first := 0; first < len(m.findings); {
		end, path := first, m.findings[first].path
		for end < len(m.findings) && m.findings[end].path == path {
			end++
		}
		files[path] = span{first, end}
		first = end
	}
	for _, e := range m.left {
		s := &m.entries[e]
		if s.state != resting || !s.coded || m.taken[e] {
			continue
		}
		in := files[s.path]
		n, _ := slices.BinarySearchFunc(m.findings[in.first:in.end], s.was, func(f side, line int) int { return cmp.Compare(f.at, line) })
		for f := in.first + n; f < min(in.first+n+onOneLine, in.end) && m.findings[f].at == s.was; f++ {
			if m.entryOf[f] == None && m.findings[f].trait == s.trait {
				m.entryOf[f], m.taken[e] = e, true
				m.learn(s.path, s.was, s.was)
				break
			}
		}
	}
	m.adopt()
}

func (m *matcher) matchAll() {
	first := slices.IndexFunc(stages, func(s stage) bool { return s.best != nil })
	for i, stage := range stages {
		if i == first {
			m.compareAhead()
		}
		m.match(stage, alteredLines)
		m.match(stage, otherLines)
	}
}

// findRenames finds files that are no more and whose entries went, as far as they are known, to one other file for the
// most part, and lets the rest of their entries be looked for there.
func (m *matcher) findRenames() (any bool) {
	went := map[name]map[name]int{}
	entries := map[name]int{}
	for i := range m.entries {
		if path := m.entries[i].path; m.missing(path) {
			entries[path]++
		}
	}
	if len(entries) == 0 {
		return false
	}
	for f, e := range m.entryOf {
		if e == None || entries[m.entries[e].path] == 0 {
			continue
		}
		from, to := m.entries[e].path, m.findings[f].path
		if went[from] == nil {
			went[from] = map[name]int{}
		}
		went[from][to]++
	}
	renames := map[name]name{}
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

// missing reports whether the judged state has no file at a path.
func (m *matcher) missing(path name) bool {
	return path != none && m.view.Missing != nil && m.view.Missing(m.names.text(path))
}
