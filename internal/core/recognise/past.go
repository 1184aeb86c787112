package recognise

import (
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// past follows entries from the state the baseline was read from to the judged one.
type past struct {
	view    View
	byOld   map[string]*change.File // the change's files by their old path
	tracks  map[*change.File]*change.Track
	indexes map[string]*lineIndex // of the old sides that entries were looked for in
	claims  map[claim]int         // with the line where the entries were accepted that stand there

	path string // the file whose old text was asked for last
	text *source.Text
}

// claim is a line of the old side that an entry stands on. One of the same kind stands on another, unless both were accepted on
// one.
type claim struct {
	tool, rule, message, path string
	line                      int
}

func newPast(view View) *past {
	p := &past{
		view: view, byOld: map[string]*change.File{}, tracks: map[*change.File]*change.Track{},
		indexes: map[string]*lineIndex{}, claims: map[claim]int{},
	}
	if !p.known() {
		return p
	}
	for i := range view.Change.Files {
		if f := &view.Change.Files[i]; f.Old != "" && f.Status != change.Copied {
			p.byOld[f.Old] = f
		}
	}
	return p
}

func (p *past) known() bool { return p.view.Change != nil && !p.view.Change.Everything }

// placeEntries finds what became of the entries' lines. Those that stand where they stood when they were accepted are
// found first.
func (p *past) placeEntries(sides []side, entries []baseline.Entry, order []int) {
	if !p.known() {
		return
	}
	var strayed []int
	for _, i := range order {
		s, e := &sides[i], &entries[i]
		f := p.byOld[e.Path]
		switch {
		case e.Path == "":
		case f == nil:
			if p.view.Missing == nil || !p.view.Missing(e.Path) {
				s.state = resting
			}
		default:
			if f.Status != change.Deleted {
				s.path = f.Path
			}
			if f.Opaque != "" || e.Text == "" {
				continue
			}
			if len(f.Hunks) == 0 && f.Status != change.Deleted {
				s.state = resting
				continue
			}
			if text := p.oldText(e.Path); text == nil || !isAt(text, s.trait, e.Line) || !p.claim(s, e, e.Line) {
				strayed = append(strayed, i)
				continue
			}
			p.follow(s, f, e.Line)
		}
	}
	for _, i := range strayed {
		s, e := &sides[i], &entries[i]
		if line := p.search(s, e); line > 0 && p.claim(s, e, line) {
			p.follow(s, p.byOld[e.Path], line)
		}
	}
}

func (p *past) claim(s *side, e *baseline.Entry, line int) bool {
	c := claim{s.tool, s.rule, s.skeleton, e.Path, line}
	if accepted, claimed := p.claims[c]; claimed {
		return accepted == e.Line
	}
	p.claims[c] = e.Line
	return true
}

// follow takes an entry's line on the old side to the judged state.
func (p *past) follow(s *side, f *change.File, line int) {
	s.was, s.at = line, line
	now := 0
	if f.Status != change.Deleted {
		s.track = p.track(f)
		now = f.NewLine(line)
		if s.track != nil {
			now = s.track.NewLine(line)
		}
	}
	s.state = altered
	if now > 0 {
		s.state, s.at = kept, now
	}
}

// placeFinding finds out whether the change brought a finding's line.
func (p *past) placeFinding(s *side) {
	if !p.known() || s.path == "" || s.at == 0 {
		return
	}
	f := p.view.Change.File(s.path)
	switch {
	case f == nil:
		s.state = resting
	case f.Opaque != "":
	case f.Status == change.Added || f.Status == change.Copied:
		s.state = altered
	default:
		old := f.OldLine(s.at)
		if track := p.tracks[f]; track != nil {
			old, s.track = track.OldLine(s.at), track
		}
		s.state = altered
		if old > 0 {
			s.state = kept
		}
	}
}

// track follows a file that both lost and gained lines, as far as its texts are known; else there is nothing beyond what
// the hunks tell, and it is nil.
func (p *past) track(f *change.File) *change.Track {
	track, made := p.tracks[f]
	if made {
		return track
	}
	lost, gained := 0, 0
	for _, h := range f.Hunks {
		lost, gained = lost+h.OldCount, gained+h.NewCount
	}
	if lost > 0 && gained > 0 && p.view.NewText != nil {
		if old := p.oldText(f.Old); old != nil {
			if now := p.view.NewText(f.Path); now != nil {
				track = change.Follow(f, old, now)
			}
		}
	}
	p.tracks[f] = track
	return track
}

// oldText reads a file of the old side. Entries come in order of their files, so that the last one is all that is kept.
func (p *past) oldText(path string) *source.Text {
	if p.path != path {
		p.path, p.text = path, nil
		if p.view.OldText != nil {
			p.text = p.view.OldText(path)
		}
	}
	return p.text
}

// search looks for an entry's line on the old side where it isn't where it was when it was accepted: the line with its
// text and the most of its neighbours, of several the nearest. Text alone does where no other line has it. 0 says that
// it isn't there.
func (p *past) search(s *side, e *baseline.Entry) int {
	text := p.oldText(e.Path)
	if text == nil {
		return 0
	}
	index := p.indexes[e.Path]
	if index == nil {
		index = indexLines(text)
		p.indexes[e.Path] = index
	}
	lines := index.at[e.Text]
	best, most := 0, 0
	for _, n := range lines {
		if accepted, claimed := p.claims[claim{s.tool, s.rule, s.skeleton, e.Path, n}]; claimed && accepted != e.Line {
			continue
		}
		before, after := text.Neighbours(n)
		score := 0
		if source.Hash(before) == e.Before {
			score++
		}
		if source.Hash(after) == e.After {
			score++
		}
		if score > most || score == most && best > 0 && abs(n-e.Line) < abs(best-e.Line) {
			best, most = n, score
		}
	}
	if best == 0 && len(lines) == 1 {
		return lines[0]
	}
	return best
}

func abs(n int) int { return max(n, -n) }

// isAt reports whether a text has code, between its neighbours, at line n.
func isAt(text *source.Text, code trait, n int) bool {
	if n < 1 || n > text.Len() || source.Hash(source.Collapse(text.Line(n))) != code.text {
		return false
	}
	before, after := text.Neighbours(n)
	return source.Hash(before) == code.before && source.Hash(after) == code.after
}

// lineIndex finds lines by the hash of their text.
type lineIndex struct {
	text *source.Text
	at   map[string][]int
}

func indexLines(text *source.Text) *lineIndex {
	index := &lineIndex{text: text, at: make(map[string][]int, text.Len())}
	for n := 1; n <= text.Len(); n++ {
		if line := source.Collapse(text.Line(n)); line != "" {
			index.at[source.Hash(line)] = append(index.at[source.Hash(line)], n)
		}
	}
	return index
}
