package recognise

import "zincdoor/internal/core/finding"

// trait is what a stage compares. Fields a stage doesn't look at stay empty.
type trait struct {
	tool, rule, path, message name

	text, before, after code

	line int
}

// stage is one way to tell that an entry is a finding.
type stage struct {
	// compare gives what a side must have in common with another; nothing where it has no part in the stage.
	compare func(s *side) (trait, bool)
	// also adds more traits, of which one suffices.
	also func(s *side, all []trait) []trait
	// lost takes only entries whose line the file no longer has.
	lost bool
	// fits looks at a pair that agrees.
	fits func(m *matcher, e, f *side) bool
	// within takes only pairs so many lines or less from where the entry should be, if it isn't 0.
	within int
	// block takes only pairs that stand in a block of lines that is the same on both sides; the longest goes first.
	block bool
	// slides takes only pairs of a kept line with one that may as well have been kept.
	slides bool
	// best weighs pairs that agree, where it isn't their lines that decide.
	best func(e, f *side) float64
}

// traits adds a side's traits to others.
func (of *stage) traits(s *side, all []trait) []trait {
	if of.also != nil {
		all = of.also(s, all)
	}
	if of.compare != nil {
		if t, ok := of.compare(s); ok {
			all = append(all, t)
		}
	}
	return all
}

// A line that was altered is still the same one where so much of the shorter of its two forms is left: less if the
// message is word for word the same, least if it stands in its place.
const (
	likeSame  = 0.4
	likeOther = 0.6
	likeTrace = 0.15

	likeWording = 0.6 // of a message put in other words
)

// keptStages pair entries whose line the change kept: the same message there, then the same but for numbers and names,
// then the same in other words for the most part; last the line beside, since a tool may now report one line further up
// or down.
var keptStages = []stage{
	{compare: func(s *side) (trait, bool) { return s.place(s.message, s.at), true }},
	{compare: func(s *side) (trait, bool) { return s.place(s.skeleton, s.at), true }},
	{
		compare: func(s *side) (trait, bool) { return s.place(none, s.at), s.rule != none },
		fits:    sameWording,
	},
	{also: (*side).beside},
}

// sliding pairs a kept line with an equal one that the change may as well have kept in its place: which of two equal
// lines is the new one, nobody can tell then.
var sliding = stage{compare: func(s *side) (trait, bool) {
	return s.full(s.message).without(beforeLine | afterLine), s.coded
}, slides: true}

// stages pair all other entries, from surest to weakest, each over what the ones before left.
var stages = []stage{
	// The code line with both neighbours, in the same file.
	{compare: func(s *side) (trait, bool) { return s.full(s.message), s.coded }},
	{compare: func(s *side) (trait, bool) { return s.full(s.skeleton), s.coded }},
	{compare: func(s *side) (trait, bool) { return s.full(none), s.coded && s.rule != none }, fits: sameWording},

	// The code line where the change put it, near to where it was.
	{compare: func(s *side) (trait, bool) {
		t, ok := s.passage(s.skeleton)
		t.text = s.text
		return t, ok && s.coded
	}},

	// The line as the change altered it, or broke it into several.
	{
		compare: func(s *side) (trait, bool) { return s.passage(s.message) },
		fits:    func(_ *matcher, e, f *side) bool { return f.track.Likeness(e.was, f.at) >= likeSame },
		best:    func(e, f *side) float64 { return f.track.Likeness(e.was, f.at) },
	},
	{
		compare: func(s *side) (trait, bool) { return s.passage(s.skeleton) },
		fits:    func(_ *matcher, e, f *side) bool { return f.track.Likeness(e.was, f.at) >= likeOther },
		best:    func(e, f *side) float64 { return f.track.Likeness(e.was, f.at) },
	},

	// What is now where the line was, if anything is left of it.
	{
		compare: func(s *side) (trait, bool) { return s.passage(s.skeleton) },
		fits: func(_ *matcher, e, f *side) bool {
			return f.track.Opposite(e.was) == f.at && f.track.Likeness(e.was, f.at) >= likeTrace
		},
	},

	// The code line in a block that was moved.
	{compare: func(s *side) (trait, bool) { return s.inBlock(s.message) }, block: true},
	{compare: func(s *side) (trait, bool) { return s.inBlock(s.skeleton) }, block: true},

	// The code line with one neighbour, on its own side or on the other (two lines that were swapped).
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(beforeLine), s.weighty && s.weightyAfter
	}},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(afterLine), s.weighty && s.weightyBefore
	}},
	{also: (*side).crossed},
	// The code line, where no other line of the file has its text, then or now.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(beforeLine | afterLine), s.weighty && s.twins == 0
	}},

	// The code line, near to where it should be.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(beforeLine | afterLine), s.coded
	}, within: 2, fits: untracked},

	// The line beside, as above.
	{also: (*side).betweenNeighbours},

	// Between the same neighbours another line, the old one being no more: of several findings of a line those that say the
	// same go first.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(codeLine), s.coded && (s.weightyBefore || s.weightyAfter)
	}, lost: true, fits: untracked},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(codeLine), s.coded && (s.weightyBefore || s.weightyAfter)
	}, lost: true, fits: untracked},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(codeLine | afterLine), s.coded && s.weightyBefore
	}, lost: true, fits: untracked},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(codeLine | beforeLine), s.coded && s.weightyAfter
	}, lost: true, fits: untracked},

	// Without a line: the same message, then the same but for numbers and names.
	{compare: func(s *side) (trait, bool) { return s.full(s.message), !s.coded }},
	{compare: func(s *side) (trait, bool) { return s.full(s.skeleton), !s.coded }},
	// On a line whose text isn't known: the same, in order of lines.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(codeLine | beforeLine | afterLine), s.isEntry || s.blind
	}},

	// In another file, the old place being no more.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(filePath), s.weighty || s.weightyBefore || s.weightyAfter
	}, lost: true, fits: moved},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(filePath), s.weighty || s.weightyBefore || s.weightyAfter
	}, lost: true, fits: moved},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(filePath | beforeLine), s.weighty && s.weightyAfter
	}, lost: true, fits: moved},
	{compare: func(s *side) (trait, bool) {
		return s.full(s.skeleton).without(filePath | afterLine), s.weighty && s.weightyBefore
	}, lost: true, fits: moved},

	// Nothing but the message, right where it should be, the old line being no more.
	{compare: func(s *side) (trait, bool) {
		return s.full(s.message).without(codeLine | beforeLine | afterLine), s.coded
	}, within: 1, lost: true, fits: untracked},
}

// place is a line of the judged state, with a message.
func (s *side) place(message name, line int) trait {
	return trait{tool: s.tool, rule: s.rule, path: s.path, message: message, line: line}
}

// full is the whole code, with a message.
func (s *side) full(message name) trait {
	t := s.trait
	t.message = message
	return t
}

// passage is the stretch of the change that a line was altered in.
func (s *side) passage(message name) (trait, bool) {
	if s.state != altered || s.track == nil {
		return trait{}, false
	}
	number := s.track.PassageOfNew(s.at)
	if s.isEntry {
		number = s.track.Passage(s.was)
	}
	return s.place(message, number), number >= 0
}

// inBlock is an altered line wherever it stands.
func (s *side) inBlock(message name) (trait, bool) {
	return s.full(message).without(filePath | beforeLine | afterLine), s.state == altered && s.coded
}

// crossed is the code line with a neighbour that changed sides: what was below the entry's line is above the
// finding's, or the reverse.
func (s *side) crossed(all []trait) []trait {
	if !s.weighty {
		return all
	}
	above, below := s.full(s.skeleton).without(afterLine), s.full(s.skeleton).without(beforeLine)
	if s.isEntry {
		above.before, below.after = s.after, s.before
	}
	if s.weightyBefore {
		all = append(all, above)
	}
	if s.weightyAfter {
		all = append(all, below)
	}
	return all
}

// beside are the lines right above and below one that the change kept.
func (s *side) beside(all []trait) []trait {
	if s.isEntry {
		return append(all, s.place(s.message, s.at-1), s.place(s.message, s.at+1))
	}
	return append(all, s.place(s.message, s.at))
}

// betweenNeighbours is the same where no change is known: the entry's neighbour has the finding, and the entry's line
// is the finding's neighbour.
func (s *side) betweenNeighbours(all []trait) []trait {
	if !s.coded || s.state == altered {
		return all
	}
	up, down := s.full(s.message).without(beforeLine), s.full(s.message).without(afterLine)
	if s.isEntry {
		up.text, up.after = s.before, s.text
		down.text, down.before = s.after, s.text
	}
	return append(all, up, down)
}

// sameWording takes messages that are the same for the most part.
func sameWording(m *matcher, e, f *side) bool {
	return finding.SharedWords(m.names.text(e.skeleton), m.names.text(f.skeleton)) >= likeWording
}

// untracked leaves the lines that the change altered to the stages that compare them: what the change brings is never
// taken for a line that went before.
func untracked(m *matcher, e, f *side) bool {
	return moved(m, e, f) && (e.state != altered || e.track == nil)
}

// moved lets only a line that the change took away be one that it brought to another file: a line that went before may
// have gone anywhere, and what the change brings would be a copy.
func moved(_ *matcher, e, f *side) bool { return e.state == altered || f.state != altered }

type part int

const (
	filePath part = 1 << iota
	codeLine
	beforeLine
	afterLine
)

func (t trait) without(parts part) trait {
	if parts&filePath != 0 {
		t.path = none
	}
	if parts&codeLine != 0 {
		t.text = 0
	}
	if parts&beforeLine != 0 {
		t.before = 0
	}
	if parts&afterLine != 0 {
		t.after = 0
	}
	return t
}
