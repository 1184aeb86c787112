package gate

import (
	"maps"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/git"
)

// call reads the reports of a request, and those that the door needs, and begins to read beside it what the repository has
// to say of them.
func (s *scene) call(q Request, r *rules) (*witness, error) {
	sources, err := s.sources(q, r)
	if err != nil {
		return nil, err
	}
	w := &witness{
		scene: s, request: q, rules: r,
		texts: map[string]*source.Text{}, waivers: map[string][]waiver.Waiver{}, named: map[string][]int{},
	}
	w.elsewhere = q.ReportCommit != ""
	w.beginHouse()
	heard, err := w.ask(sources)
	if err != nil {
		return nil, err
	}
	for i, from := range sources {
		t := heard[i]
		if !from.runs {
			ended := q.begin("reading " + from.name)
			t = w.read(from)
			ended()
		}
		w.all = append(w.all, t)
		if t.report != nil {
			w.elsewhere = w.elsewhere || t.report.Commit != ""
			for _, f := range t.report.Findings {
				w.named[f.Path] = append(w.named[f.Path], f.Region.Line)
			}
		}
	}
	w.searchAhead()
	paths := slices.Sorted(maps.Keys(w.named))
	w.textsAhead, w.linesAhead = make(chan error, 1), make(chan error, 1)
	if w.patch || w.side == git.Index || w.side == git.Worktree {
		close(w.textsAhead)
		close(w.linesAhead)
		return w, nil
	}
	// What the reports name just as the repository does is read ahead: its texts, and its lines in the change.
	go func() {
		w.textsAhead <- w.head.ReadAll(paths, func(path string, data []byte) {
			text := source.New(data)
			w.noteWaivers(path, text)
			if !w.elsewhere && !w.request.Around && !text.IsPointer() && w.diff != nil && !w.diff.Fresh(path) {
				text = text.Only(w.named[path]) // no more is kept than will be asked for
			}
			w.texts[path] = text
		})
		close(w.textsAhead)
	}()
	go func() {
		w.linesAhead <- w.readPlain()
		close(w.linesAhead)
	}()
	return w, nil
}

// readPlain reads ahead the lines of named files that were modified in place.
func (w *witness) readPlain() (err error) {
	if w.diff == nil {
		return nil
	}
	w.plain, err = w.diff.Plain(func(path string) bool { return w.named[path] != nil })
	return err
}

// settle waits for what is still read ahead.
func (w *witness) settle() {
	if w.housing != nil {
		<-w.housing
	}
	<-w.textsAhead
	<-w.linesAhead
	if w.searched != nil {
		<-w.searched
	}
}

// seekMoved finds the files from which a block may have been moved to where a finding stands, so that their lines are
// read too. While git still looks for renames, it goes by the change without regard to them: a renamed file is a new
// one there, any of whose lines may have been moved.
func (w *witness) seekMoved(rules change.Rules) error {
	if w.plain == nil {
		return nil
	}
	lines := map[string][]int{}
	for _, t := range w.all {
		if t.report == nil || t.lens == nil {
			continue
		}
		for _, f := range t.report.Findings {
			for n := f.Region.Line; n > 0 && n <= f.Region.Last(); n++ {
				lines[f.Path] = append(lines[f.Path], n)
			}
		}
	}
	files, listed := w.plain, w.diff.Listed()
	if listed {
		var err error
		if files, err = w.diff.Files(); err != nil {
			return err
		}
	}
	for i := range files {
		f := &files[i]
		if f.Status != change.Added || lines[f.Path] == nil {
			continue
		}
		hunks, err := w.readFresh(f.Path, lines[f.Path])
		if err != nil {
			return err
		}
		if !listed {
			f.Hunks = hunks
		}
	}
	if listed {
		if err := w.diff.Fill(func(f change.File) bool { return lines[f.Path] != nil }); err != nil {
			return err
		}
	}
	suspects := change.NewSuspects(rules)
	for _, f := range files {
		if at := lines[f.Path]; at != nil {
			suspects.Add(f, at)
		}
	}
	w.plain = nil
	if suspects.None() {
		return nil
	}
	w.sources = map[string]bool{}
	return w.diff.OldTexts(func(path string, data []byte) {
		if suspects.MayComeFrom(data) {
			w.sources[path] = true
		}
	})
}

// readFresh reads the lines of a new file, which are those of its text.
func (w *witness) readFresh(path string, named []int) ([]change.Hunk, error) {
	text, err := readText(w.head, w.texts, path)
	if err != nil || text == nil || text.Len() == 0 {
		return nil, err
	}
	hunks := []change.Hunk{{NewStart: 1, NewCount: text.Len(), Added: text.Lines()}}
	w.diff.KnowFresh(path, hunks)
	if !w.elsewhere && !w.request.Around {
		w.texts[path] = text.Only(named)
	}
	return hunks, nil
}
