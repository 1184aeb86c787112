package recognise

import (
	"slices"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// past follows entries from the state the baseline was read from to the judged one.
type past struct {
	view   View
	names  *names
	byOld  map[string]*change.File // the change's files by their old path
	tracks map[*change.File]*change.Track
}

func newPast(view View, names *names) *past {
	p := &past{view: view, names: names, byOld: map[string]*change.File{}, tracks: map[*change.File]*change.Track{}}
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

// placeEntries finds what became of the entries' lines.
func (p *past) placeEntries(sides []side, entries []baseline.Entry, order []int) {
	if !p.known() {
		return
	}
	var files []*origin
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
			if f.Status != change.Deleted && f.Path != e.Path {
				s.path = p.names.of(f.Path)
			}
			if f.Opaque != "" || e.Text == "" {
				continue
			}
			if len(f.Hunks) == 0 && f.Status != change.Deleted {
				s.state = resting
				continue
			}
			if n := len(files); n == 0 || files[n-1].file != f {
				files = append(files, &origin{file: f})
			}
			last := files[len(files)-1]
			last.entries = append(last.entries, placing{side: s, entry: e})
		}
	}
	p.placeFiles(files)
}

// origin is a changed file with the entries that were accepted in it.
type origin struct {
	file    *change.File
	entries []placing
	track   *change.Track // where it is followed from line to line
}

// placing is an entry on its way to its line.
type placing struct {
	side  *side
	entry *baseline.Entry
	line  int // on the old side, 0 where it isn't found
}

// placeFiles places the entries of some files: first on the old side, then, where a file both lost and gained lines, along its
// track.
func (p *past) placeFiles(files []*origin) {
	p.view.eachOld(files, func(o *origin, text *source.Text) {
		o.find(text)
		if o.file.Follows() && slices.ContainsFunc(o.entries, func(at placing) bool { return at.line > 0 }) {
			o.track = change.Follow(o.file, text)
		}
		o.follow()
	})
	for _, o := range files {
		if o.track != nil {
			p.tracks[o.file] = o.track
		}
	}
}

// eachOld hands the old texts of files to see, as far as they are there: all at once where that is known how, by several goroutines, or
// one by one.
func (v *View) eachOld(files []*origin, see func(o *origin, text *source.Text)) {
	switch {
	case v.OldTexts != nil:
		byPath := map[string]*origin{}
		var paths []string
		for _, o := range files {
			paths, byPath[o.file.Old] = append(paths, o.file.Old), o
		}
		v.OldTexts(paths, func(path string, text *source.Text) { see(byPath[path], text) })
	case v.OldText != nil:
		for _, o := range files {
			if text := v.OldText(o.file.Old); text != nil {
				see(o, text)
			}
		}
	}
}

// find finds the entries' lines on the old side. Those that stand where they stood when they were accepted are found first.
func (o *origin) find(text *source.Text) {
	claims := map[claim]int{} // with the line where the entries were accepted that stand there
	take := func(at *placing, line int) bool {
		c := claim{at.side.tool, at.side.rule, at.side.skeleton, line}
		if accepted, claimed := claims[c]; claimed {
			return accepted == at.entry.Line
		}
		claims[c] = at.entry.Line
		return true
	}
	var strayed []*placing
	for i := range o.entries {
		at := &o.entries[i]
		if isAt(text, at.side.trait, at.entry.Line) && take(at, at.entry.Line) {
			at.line = at.entry.Line
		} else {
			strayed = append(strayed, at)
		}
	}
	var index *lineIndex
	for _, at := range strayed {
		if index == nil {
			index = indexLines(text)
		}
		if line := at.search(index, claims); line > 0 && take(at, line) {
			at.line = line
		}
	}
}

// claim is a line of the old side that an entry stands on. One of the same kind stands on another, unless both were accepted on
// one.
type claim struct {
	tool, rule, message name
	line                int
}

// follow takes the entries' lines to the judged state.
func (o *origin) follow() {
	for _, at := range o.entries {
		s, line, now := at.side, at.line, 0
		if line == 0 {
			continue
		}
		s.was, s.at = line, line
		if o.file.Status != change.Deleted {
			s.track = o.track
			now = o.file.NewLine(line)
			if o.track != nil {
				now = o.track.NewLine(line)
			}
		}
		s.state = altered
		if now > 0 {
			s.state, s.at = kept, now
		}
	}
}

// placeFinding finds out whether the change brought a finding's line.
func (p *past) placeFinding(s *side, path string) {
	if !p.known() || path == "" || s.at == 0 {
		return
	}
	f := p.view.Change.File(path)
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

// search looks for an entry's line on the old side where it isn't where it was when it was accepted: the line with its
// text and the most of its neighbours, of several the nearest. Text alone does where no other line has it. 0 says that
// it isn't there.
func (at *placing) search(index *lineIndex, claims map[claim]int) int {
	s, e := at.side, at.entry
	lines := index.linesOf(s.text)
	best, most := 0, 0
	for _, n := range lines {
		if accepted, claimed := claims[claim{s.tool, s.rule, s.skeleton, n}]; claimed && accepted != e.Line {
			continue
		}
		before, after := index.text.Neighbours(n)
		score := 0
		if codeOf(before) == s.before {
			score++
		}
		if codeOf(after) == s.after {
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
	if n < 1 || n > text.Len() || codeOf(source.Collapse(text.Line(n))) != code.text {
		return false
	}
	before, after := text.Neighbours(n)
	return codeOf(before) == code.before && codeOf(after) == code.after
}

// lineIndex finds lines by what they say.
type lineIndex struct {
	text  *source.Text
	first map[code]int // the first line of each
	next  []int        // for each line the next that says the same, 0 where none does
}

func indexLines(text *source.Text) *lineIndex {
	index := &lineIndex{text: text, first: make(map[code]int, text.Len()), next: make([]int, text.Len()+1)}
	for n := text.Len(); n >= 1; n-- {
		if line := source.Collapse(text.Line(n)); line != "" {
			is := codeOf(line)
			index.next[n], index.first[is] = index.first[is], n
		}
	}
	return index
}

// linesOf are the lines that say something, in order.
func (x *lineIndex) linesOf(is code) (lines []int) {
	for n := x.first[is]; n > 0; n = x.next[n] {
		lines = append(lines, n)
	}
	return lines
}
