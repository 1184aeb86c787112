package gate

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
)

// lens is the state of the repository that a report speaks of, seen from the head: its texts, and what lies between it
// and the head.
type lens struct {
	side  git.Side
	tree  reader
	texts map[string]*source.Text

	// local says that the report speaks of the work tree and the index is judged: files staged in part make it foreign,
	// the others stay good.
	local bool
	// between is what differs from this state to the head, nil where nothing does. For a local lens it runs from the
	// head to this state.
	between *change.Change
}

// focus finds the state that a report speaks of. A report of an unknown state is foreign and gets no lens.
func (w *witness) focus(t *testimony) error {
	t.lens = &lens{tree: w.head, texts: w.texts}
	if w.patch || t.from.runs {
		return nil
	}
	side, problem := w.stateOf(t)
	if problem != "" {
		t.fail(judge.Foreign, problem)
		t.lens = nil
		return nil
	}
	t.lens.side = side
	if side == w.side {
		return nil
	}
	t.lens.texts = map[string]*source.Text{}
	if side == git.Worktree {
		t.lens.local = true
		tree, err := w.diff.Worktree()
		t.lens.tree = tree
		return err
	}
	tree, err := w.repo.Tree(side)
	if err != nil {
		return err
	}
	t.lens.tree = tree
	t.lens.between, err = w.between(side, w.side)
	return err
}

// between reads all that differs between two sides, or of it what lies at the given paths.
func (s *scene) between(old, new git.Side, paths ...string) (*change.Change, error) {
	diff := s.repo.Compare(old, new)
	diff.Start(true, paths...)
	files, _, err := diff.Lines()
	return change.New(files, change.Rules{CountSpace: true, CountMoved: true}), err
}

// compareLocally finds what differs between the index and the work tree, as far as the report's findings and the change
// go. Only files whose bytes differ are left to git, which knows what its conversions make of them.
func (w *witness) compareLocally(t *testimony) error {
	paths := map[string]bool{}
	files, err := w.changed()
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.Status != change.Deleted {
			paths[f.Path] = true
		}
	}
	for i, f := range t.report.Findings {
		if t.placed[i] {
			paths[f.Path] = true
		}
	}
	var differing []string
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		staged, _, err := w.head.Read(path)
		if err != nil {
			return err
		}
		onDisk, _, err := t.lens.tree.Read(path)
		if err != nil {
			return err
		}
		if !bytes.Equal(staged, onDisk) {
			differing = append(differing, path)
		}
	}
	if len(differing) == 0 {
		return nil
	}
	if git.TooMany(differing) {
		differing = nil
	}
	t.lens.between, err = w.between(git.Index, git.Worktree, differing...)
	return err
}

// stateOf is the state a report was made from: the commit it names, or that the call names for it, else the work tree
// where a local change is judged, else the head.
func (w *witness) stateOf(t *testimony) (side git.Side, problem string) {
	name := w.request.ReportCommit
	if t.report.Commit != "" {
		name = t.report.Commit
	}
	local := w.side == git.Index || w.side == git.Worktree
	own := w.side
	if local {
		own = git.Worktree
	}
	if w.pushed {
		return w.stateOfPush(name)
	}
	if name == "" {
		return own, ""
	}
	commit, err := w.repo.Commit(name)
	if err != nil {
		return "", fmt.Sprintf("it was made at %s, which is no commit of this repository; fetch it, or run the linter here", clip(name))
	}
	head := string(w.side)
	if local {
		head, _ = w.repo.Head()
	}
	if commit == head {
		return own, ""
	}
	theirs, err := w.repo.TreeOf(commit)
	if err != nil {
		return "", err.Error()
	}
	if ours, err := w.repo.TreeOf(head); err == nil && ours == theirs {
		return own, ""
	}
	return git.Side(commit), ""
}

// stateOfPush lets a report serve only the ref whose tree it names; one that names none is of what is checked out.
func (w *witness) stateOfPush(name string) (side git.Side, problem string) {
	of := clip(name)
	if name == "" {
		name, of = "HEAD", "what is checked out here"
	}
	theirs, err := w.repo.TreeOf(name)
	if err != nil {
		return "", fmt.Sprintf("it was made at %s, which is no commit of this repository; run the linter on what is pushed", of)
	}
	if ours, err := w.repo.TreeOf(string(w.side)); err != nil || ours != theirs {
		return "", fmt.Sprintf("it is of %s, whose files are not those pushed to %s; run the linter on these, and name their commit with --report-commit", of, w.subject.Ref)
	}
	return w.side, ""
}

func (l *lens) close(s *scene) {
	if l != nil && l.tree != s.head {
		l.tree.Close()
	}
}

func (l *lens) has(path string) (bool, error) {
	if f, ok := l.tree.(*folder); ok {
		return f.Has(path), nil
	}
	text, err := l.text(path)
	return text != nil, err
}

// text is a file's text in the report's state, nil where that has no such file.
func (l *lens) text(path string) (*source.Text, error) { return readText(l.tree, l.texts, path) }

// isLink reports whether a path is a symbolic link, whose text is where it leads and not what a tool read there.
func (l *lens) isLink(path string) bool {
	_, _, err := l.tree.Plain(path)
	return errors.Is(err, git.ErrLink)
}

// apart says why the report's state is too far from the head's to speak for it, "" where it isn't.
func (l *lens) apart(w *witness) string {
	if l.between == nil {
		return ""
	}
	for i := range l.between.Files {
		f := &l.between.Files[i]
		touched := w.change.File(f.Path)
		if l.local {
			touched = w.change.File(f.Old)
			if touched != nil {
				return fmt.Sprintf("%s is staged in part: the linter saw the work tree, not what will be committed; stage the rest, or set it aside with git stash --keep-index", f.Old)
			}
			continue
		}
		if touched == nil && !w.change.Everything {
			continue
		}
		if w.change.Everything || f.Opaque != "" || touched.Opaque != "" || f.Status == change.Added ||
			slices.ContainsFunc(f.Touched, func(s change.Span) bool { return touched.Touched.Meets(s.First, s.Last) }) {
			return fmt.Sprintf("it was made at %.12s, where %s differs from the judged state in lines that this change touches; run the linter on that state", string(l.side), f.Path)
		}
	}
	return ""
}

// carry brings a finding from the report's state to the head. It is false where the head doesn't have its line.
func (l *lens) carry(f *finding.Finding, judged *change.Change) bool {
	if l.between == nil {
		return true
	}
	if l.local && judged.File(f.Path) != nil && l.between.File(f.Path) != nil {
		return false
	}
	if d := f.More; d != nil {
		d.Fixes = slices.DeleteFunc(slices.Clone(d.Fixes), func(fix finding.Fix) bool {
			for i := range fix.Edits {
				e := &fix.Edits[i]
				was := e.Path
				if !l.carryTo(&e.Path, &e.Region) || e.Offset != nil && l.between.File(was) != nil {
					return true
				}
			}
			return false
		})
		for _, flow := range d.Flows {
			for i := range flow {
				if !l.carryTo(&flow[i].Path, &flow[i].Region) {
					flow[i].Region = finding.Region{}
				}
			}
		}
	}
	return l.carryTo(&f.Path, &f.Region)
}

// carryTo brings a place from the report's state to the head.
func (l *lens) carryTo(path *string, region *finding.Region) bool {
	for i := range l.between.Files {
		file := &l.between.Files[i]
		switch {
		case l.local && file.Path == *path:
			return move(path, region, file.Old, file.OldLine)
		case !l.local && file.Old == *path:
			return move(path, region, file.Path, file.NewLine)
		}
	}
	return true
}

func move(path *string, region *finding.Region, now string, to func(int) int) bool {
	if now == "" {
		return false
	}
	*path = now
	if region.Line == 0 {
		return true
	}
	line := to(region.Line)
	if line == 0 {
		return false
	}
	if region.EndLine > 0 {
		region.EndLine += line - region.Line
	}
	region.Line = line
	return true
}

// quotes reports whether a line can be what a report quotes: white space aside, the quotation stands in it. A quotation
// that its tool shortened, or of a text that isn't plain ASCII, which tools rewrite each in their own way, proves
// nothing.
func quotes(line, snippet string) bool {
	if strings.Contains(line, strings.TrimSpace(snippet)) {
		return true
	}
	snippet = source.Collapse(snippet)
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
	return strings.Contains(source.Collapse(line), snippet)
}
