package gate

import (
	"fmt"
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
	// between is what differs from this state to the head, nil where nothing does. With back, it runs from the head to
	// this state.
	between *change.Change
	back    bool
}

// focus finds the state that a report speaks of. A report of an unknown state is foreign and gets no lens.
func (w *witness) focus(t *testimony) error {
	if w.patch {
		t.lens = &lens{tree: w.head, texts: map[string]*source.Text{}}
		return nil
	}
	side, problem := w.stateOf(t)
	if problem != "" {
		t.fail(judge.Foreign, problem)
		return nil
	}
	l := &lens{side: side, tree: w.head, texts: map[string]*source.Text{}}
	t.lens = l
	if side == w.side {
		return nil
	}
	tree, err := w.repo.Tree(side)
	if err != nil {
		return err
	}
	l.tree = tree
	diff := w.repo.Compare(side, w.side)
	if side == git.Worktree {
		l.local, l.back = true, true
		diff = w.repo.Compare(w.side, side)
	}
	files, _, err := diff.Files()
	if err != nil {
		return err
	}
	if err := diff.Fill(files, func(string) bool { return true }); err != nil {
		return err
	}
	l.between = change.New(files, change.Rules{CountSpace: true, CountMoved: true})
	return nil
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
func (l *lens) text(path string) (*source.Text, error) {
	text, known := l.texts[path]
	if known {
		return text, nil
	}
	data, found, err := l.tree.Read(path)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	if found {
		text = source.New(data)
	}
	l.texts[path] = text
	return text, nil
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
	for i := range l.between.Files {
		file := &l.between.Files[i]
		switch {
		case l.back && file.Path == f.Path:
			return move(f, file.Old, file.OldLine)
		case !l.back && file.Old == f.Path:
			return move(f, file.Path, file.NewLine)
		}
	}
	return true
}

func move(f *finding.Finding, path string, to func(int) int) bool {
	if path == "" {
		return false
	}
	f.Path = path
	if f.Region.Line == 0 {
		return true
	}
	line := to(f.Region.Line)
	if line == 0 {
		return false
	}
	if f.Region.EndLine > 0 {
		f.Region.EndLine += line - f.Region.Line
	}
	f.Region.Line = line
	return true
}

// quotes reports whether a line can be what a report quotes: white space aside, the quotation stands in it. A quotation
// that its tool shortened, or of a text that isn't plain ASCII, which tools rewrite each in their own way, proves
// nothing.
func quotes(line, snippet string) bool {
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
