package baseline

import (
	"slices"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// View is what recognition may know of the tree beside the findings. A nil function knows nothing.
type View struct {
	// NewPath gives the path that a file has now, for the path it had on the base.
	NewPath func(path string) string
	// Missing reports that the tree has no file at path.
	Missing func(path string) bool
}

// None marks a finding that no entry recognises.
const None = -1

// Recognise pairs findings with entries, one to one, surest pairs first: for each finding the index of its entry, or
// None. The findings must be sorted by finding.Order; the entries may come in any order. The cost is near n log n.
//
// The stages, each over what the ones before left:
//  1. same file, code line, both neighbours and message;
//  2. the same, but for numbers and quoted names in the message;
//  3. same file, code line and one neighbour, where the line holds letters or digits;
//  4. same file and code line, where no other line of the file has its text, then or now;
//  5. findings without a line: same file and message, then the same but for numbers and names;
//  6. findings on a line whose text isn't known: the same, in order of lines;
//  7. an entry whose file is no more: the code line and both neighbours, then one of them, in another file.
func Recognise(findings []finding.Finding, entries []Entry, view View) []int {
	if len(entries) == 0 {
		return slices.Repeat([]int{None}, len(findings))
	}
	m := newMatcher(findings, entries, view)
	for _, stage := range stages {
		m.match(stage)
	}
	return m.entryOf
}

// trait is what a stage compares. Fields a stage doesn't look at stay empty.
type trait struct {
	tool, rule, path, message, text, before, after string
}

// side is a finding or an entry as the stages see it.
type side struct {
	trait           // with the message as written
	skeleton string // the message without numbers and names
	coded    bool   // there is code to compare
	blind    bool   // there is a line, but its text isn't known
	weighty  bool   // the code line holds letters or digits, as far as is known
	sole     bool   // no other line of the file has its text
	orphan   bool   // the file it stood in is no more
}

// stage gives what of a side it compares; false where the side has no part in it.
type stage func(s side, entry bool) (trait, bool)

var stages = []stage{
	func(s side, _ bool) (trait, bool) { return s.trait, s.coded },
	func(s side, _ bool) (trait, bool) { return s.loose(), s.coded },
	func(s side, _ bool) (trait, bool) { return s.loose().without(beforeLine), s.coded && s.weighty },
	func(s side, _ bool) (trait, bool) { return s.loose().without(afterLine), s.coded && s.weighty },
	func(s side, _ bool) (trait, bool) {
		return s.loose().without(beforeLine | afterLine), s.coded && s.weighty && s.sole
	},
	func(s side, _ bool) (trait, bool) { return s.trait, !s.coded },
	func(s side, _ bool) (trait, bool) { return s.loose(), !s.coded },
	func(s side, entry bool) (trait, bool) {
		return s.loose().without(codeLine | beforeLine | afterLine), entry || s.blind
	},
	func(s side, entry bool) (trait, bool) {
		return s.loose().without(filePath), s.coded && s.weighty && (!entry || s.orphan)
	},
	func(s side, entry bool) (trait, bool) {
		return s.loose().without(filePath | beforeLine), s.coded && s.weighty && (!entry || s.orphan)
	},
	func(s side, entry bool) (trait, bool) {
		return s.loose().without(filePath | afterLine), s.coded && s.weighty && (!entry || s.orphan)
	},
}

func (s side) loose() trait {
	t := s.trait
	t.message = s.skeleton
	return t
}

type part int

const (
	filePath part = 1 << iota
	codeLine
	beforeLine
	afterLine
)

func (t trait) without(parts part) trait {
	if parts&filePath != 0 {
		t.path = ""
	}
	if parts&codeLine != 0 {
		t.text = ""
	}
	if parts&beforeLine != 0 {
		t.before = ""
	}
	if parts&afterLine != 0 {
		t.after = ""
	}
	return t
}

// matcher holds both sides and who is paired already.
type matcher struct {
	findings, entries []side
	order             []int // entries in the order of their lines
	entryOf           []int
	taken             []bool
}

func newMatcher(findings []finding.Finding, entries []Entry, view View) *matcher {
	m := &matcher{
		findings: make([]side, len(findings)),
		entries:  make([]side, len(entries)),
		order:    make([]int, len(entries)),
		entryOf:  slices.Repeat([]int{None}, len(findings)),
		taken:    make([]bool, len(entries)),
	}
	for i, f := range findings {
		e := EntryFor(f, "")
		m.findings[i] = sideOf(e)
		m.findings[i].blind = f.Region.Line > 0 && !m.findings[i].coded
		m.findings[i].weighty = source.Weight(f.Code.Text) > 0
	}
	for i, e := range entries {
		s := sideOf(e)
		s.weighty = true // the finding of the same text tells
		if view.NewPath != nil {
			s.path = view.NewPath(e.Path)
		}
		s.orphan = view.Missing != nil && e.Path != "" && view.Missing(s.path)
		m.entries[i], m.order[i] = s, i
	}
	slices.SortFunc(m.order, func(a, b int) int { return order(entries[a], entries[b]) })
	return m
}

func sideOf(e Entry) side {
	return side{
		trait:    trait{e.Tool, e.Rule, e.Path, e.Message, e.Text, e.Before, e.After},
		skeleton: Skeleton(e.Message),
		coded:    e.Text != "",
		sole:     e.Sole,
	}
}

// match pairs what agrees in one stage: among equals, the first finding with the first entry.
func (m *matcher) match(of stage) {
	waiting := make(map[trait][]int)
	for _, e := range m.order {
		if m.taken[e] {
			continue
		}
		if t, ok := of(m.entries[e], true); ok {
			waiting[t] = append(waiting[t], e)
		}
	}
	if len(waiting) == 0 {
		return
	}
	for f := range m.findings {
		if m.entryOf[f] != None {
			continue
		}
		t, ok := of(m.findings[f], false)
		if !ok || len(waiting[t]) == 0 {
			continue
		}
		e := waiting[t][0]
		waiting[t] = waiting[t][1:]
		m.entryOf[f], m.taken[e] = e, true
	}
}
