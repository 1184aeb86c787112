package evidence

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// reportTree is the state of the repository that a report speaks of, and what lies between it and the judged one.
type reportTree struct {
	side  git.Side
	tree  target.Tree
	texts map[string]*source.Text

	// worktree says that the report speaks of the work tree and the index is judged: files staged in part make it foreign,
	// the others stay good.
	worktree bool
	// between is what differs from this state to the judged one, nil where nothing does. Of the work tree, it leads from
	// the index to it.
	between *change.Change
}

// close releases the tree, unless it is the judged one.
func (t *reportTree) close(judged target.Tree) {
	if t != nil && t.tree != judged {
		t.tree.Close()
	}
}

// has reports whether the state has a plain file at path.
func (t *reportTree) has(path string) (bool, error) {
	if folder, ok := t.tree.(interface{ Has(path string) bool }); ok {
		return folder.Has(path), nil
	}
	text, err := t.text(path)
	if text == nil || err != nil || !text.MayBeLink() {
		return text != nil, err
	}
	_, link, err := t.tree.Link(path)
	return !link, err
}

// text is a file's text in the report's state, nil where that has no such file.
func (t *reportTree) text(path string) (*source.Text, error) { return readText(t.tree, t.texts, path) }

// isLink reports whether a path is a symbolic link, whose text is where it leads and not what a tool read there.
func (t *reportTree) isLink(path string) bool {
	_, _, err := t.tree.Plain(path)
	return errors.Is(err, git.ErrLink)
}

// findTree finds the state that a report speaks of. A report of an unknown state is foreign and gets none.
func (c *collector) findTree(r *reading) error {
	own := &reportTree{tree: c.Target.Tree, texts: c.texts.read}
	if c.Target.IsPatch || r.from.runs {
		r.tree = own
		return nil
	}
	side, problem := c.stateOf(r)
	if problem != "" {
		r.fail(judge.Foreign, problem)
		return nil
	}
	if side == c.Target.Side {
		own.side, r.tree = side, own
		return nil
	}
	t := &reportTree{side: side, texts: map[string]*source.Text{}}
	if side == git.Worktree {
		tree, err := c.Target.Diff.Worktree()
		if err != nil {
			return err
		}
		t.worktree, t.tree, r.tree = true, tree, t
		return nil
	}
	tree, err := c.Target.Repo.Tree(side)
	if err != nil {
		return err
	}
	t.tree, r.tree = tree, t
	t.between, err = between(c.Target.Repo.CompareLines(side, c.Target.Side))
	return err
}

// between is all that a comparison tells, of both sides.
func between(c *git.Comparison) (*change.Change, error) {
	lines, err := c.Lines(git.Known{}, nil)
	if err != nil {
		return nil, err
	}
	return change.New(lines.Files, change.Rules{CountSpace: true, CountMoved: true}), nil
}

// compareLocally finds what differs between the index and the work tree, as far as the report's findings and the change
// go. Only files whose bytes differ are left to git, which knows what its conversions make of them.
func (c *collector) compareLocally(r *reading) error {
	paths := map[string]bool{}
	files, err := c.Target.Files()
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.Status != change.Deleted {
			paths[f.Path] = true
		}
	}
	for i, f := range r.report.Findings {
		if r.placed[i] {
			paths[f.Path] = true
		}
	}
	var differing []string
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		staged, _, err := c.Target.Tree.Read(path)
		if err != nil {
			return err
		}
		onDisk, _, err := r.tree.tree.Read(path)
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
	compared, err := c.Target.Repo.CompareContents(differing...)
	if err == nil {
		r.tree.between, err = between(compared)
	}
	return err
}

// stateOf is the state a report was made from: the commit it names, or that the call names for it, else the work tree
// where a local change is judged, else the judged one.
func (c *collector) stateOf(r *reading) (side git.Side, problem string) {
	name, t := c.Given.Commit, c.Target
	if r.report.Commit != "" {
		name = r.report.Commit
	}
	own := t.Side
	if t.Local() {
		own = git.Worktree
	}
	switch {
	case t.OwnTreeOnly:
		return c.stateOfPush(name)
	case name == "":
		return own, ""
	}
	commit, err := t.Repo.Commit(name)
	if err != nil {
		return "", fmt.Sprintf("it was made at %s, which is no commit of this repository; fetch it, or run the linter here", clip(name))
	}
	head := string(t.Side)
	if t.Local() {
		head, _ = t.Repo.Head()
	}
	if commit == head {
		return own, ""
	}
	theirs, err := t.Repo.TreeOf(commit)
	if err != nil {
		return "", err.Error()
	}
	if ours, err := t.Repo.TreeOf(head); err == nil && ours == theirs {
		return own, ""
	}
	return git.Side(commit), ""
}

// stateOfPush lets a report serve only the ref whose tree it names; one that names none is of what is checked out.
func (c *collector) stateOfPush(name string) (side git.Side, problem string) {
	t, of := c.Target, clip(name)
	if name == "" {
		name, of = "HEAD", "what is checked out here"
	}
	theirs, err := t.Repo.TreeOf(name)
	if err != nil {
		return "", fmt.Sprintf("it was made at %s, which is no commit of this repository; run the linter on what is pushed", of)
	}
	if ours, err := t.Repo.TreeOf(string(t.Side)); err != nil || ours != theirs {
		return "", fmt.Sprintf("it is of %s, whose files differ from those pushed to %s; run the linter on what is pushed, and name its commit: --report-commit REV", of, t.Subject.Ref)
	}
	return t.Side, ""
}

// believe checks a report against the tree it speaks of, and gives its findings on the lines of the judged state.
func (c *collector) believe(r *reading, judged *change.Change) ([]finding.Finding, error) {
	if r.report == nil || r.tree == nil {
		return nil, nil
	}
	if err := c.verify(r); err != nil {
		return nil, err
	}
	if err := c.verifyCoverage(r); err != nil {
		return nil, err
	}
	if err := c.checkNames(r); err != nil {
		return nil, err
	}
	if err := c.checkKeyPaths(r); err != nil {
		return nil, err
	}
	if err := c.checkFile(r); err != nil || r.state.State == judge.Foreign {
		return nil, err
	}
	if r.tree.worktree {
		if err := c.compareLocally(r); err != nil {
			return nil, err
		}
	}
	if !c.checkDistance(r, judged) {
		return nil, nil
	}
	carried, lost := carry(r)
	carryCoverage(r)
	if r.tree.tree != c.Target.Tree {
		if err := c.fillCode(r); err != nil {
			return nil, err
		}
	}
	if lost > 0 {
		c.notices = append(c.notices, fmt.Sprintf("%s: findings left out, since their lines aren't in the judged state: %s", r.state.Name, finding.Count(lost)))
	}
	return carried, nil
}

// checkDistance takes a report for foreign whose state is too far from the judged one to speak for it. It is false where
// not even what was read of it counts.
func (c *collector) checkDistance(r *reading, judged *change.Change) bool {
	switch t := r.tree; {
	case t.between == nil:
	case t.worktree:
		if path := judged.HalfStaged(t.between); path != "" {
			r.fail(judge.Foreign, fmt.Sprintf("%s is staged in part, and the linter saw the work tree. Stage the rest, put it away (git stash --keep-index), or let Zinc Door start the linter on what is staged (run: in the policy)", path))
		}
	default:
		if path := judged.Conflict(t.between); path != "" {
			r.fail(judge.Foreign, fmt.Sprintf("it was made at %.12s, where the changed %s differs from the judged state; run the linter on that state", string(t.side), path))
			return false
		}
	}
	return true
}

// carry brings a report's findings to the judged state, and counts those whose lines it doesn't have. They stay in the
// report's slice.
func carry(r *reading) (kept []finding.Finding, lost int) {
	t := r.tree
	carrier := change.Carrier{Between: t.between, Back: t.worktree}
	kept = r.report.Findings[:0]
	placed := r.placed[:0]
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		if r.placed[i] && t.between != nil {
			if !carrier.Carry(f) {
				lost++
				continue
			}
		}
		if len(kept) != i {
			kept = append(kept, *f)
		} else {
			kept = kept[:i+1]
		}
		placed = append(placed, r.placed[i])
	}
	r.report.Findings, r.placed = kept, placed
	return kept, lost
}

// verify holds the report against the text it was made from: a finding past the end of its file, or quoting code that
// isn't there, shows that it was made from another one.
func (c *collector) verify(r *reading) error {
	for i := range r.report.Findings {
		f := &r.report.Findings[i]
		if !r.placed[i] || f.Region.Line == 0 {
			continue
		}
		text, err := r.tree.text(f.Path)
		if err != nil {
			return err
		}
		if text == nil || text.IsPointer() {
			continue
		}
		if what := text.OtherBreak(); what != "" && (past(text, f) || f.Snippet == "" || !source.MayQuote(text.Line(f.Region.Line), f.Snippet)) {
			c.miscut[f.Path] = "a text with a " + what + ", which tools and git count differently"
			continue
		}
		const again = "the report was made from another text; run the linter on this one"
		fits := !past(text, f) && source.MayQuote(text.Line(f.Region.Line), f.Snippet)
		switch {
		case fits || r.tree.isLink(f.Path):
		case past(text, f):
			r.fail(judge.Foreign, fmt.Sprintf("it has a finding at %s:%d, and the file has %d lines: %s", f.Path, f.Region.Line, text.Len(), again))
			return nil
		default:
			r.fail(judge.Foreign, fmt.Sprintf("it quotes %q at %s:%d, and the line is %q: %s",
				clip(source.Collapse(f.Snippet)), f.Path, f.Region.Line, clip(source.Collapse(text.Line(f.Region.Line))), again))
			return nil
		}
	}
	return nil
}

// past reports whether a finding stands behind the end of its file, which is the line after the last.
func past(text *source.Text, f *finding.Finding) bool { return f.Region.Line > text.Len()+1 }

// fillCode gives a report's findings the code they stand on, as the judged state has it.
func (c *collector) fillCode(r *reading) error {
	type file struct {
		text     *source.Text
		findings []int
	}
	var files []file
	known := make(map[string]int, len(c.named)) // where each path is among them
	for i := range r.report.Findings {
		path := r.report.Findings[i].Path
		if !r.placed[i] {
			continue
		}
		at, seen := known[path]
		if !seen {
			text, err := c.texts.of(path)
			if err != nil {
				return err
			}
			at = len(files)
			known[path], files = at, append(files, file{text: text})
		}
		files[at].findings = append(files[at].findings, i)
	}
	processors.Each(len(files), func(_, n int) {
		in := files[n]
		if in.text == nil || in.text.IsPointer() {
			return
		}
		var last *finding.Finding // which many stand on the same line as
		for _, i := range in.findings {
			f := &r.report.Findings[i]
			if last != nil && f.Region.Line == last.Region.Line {
				f.Code = last.Code
				continue
			}
			f.Code, last = in.text.CodeAt(f.Region.Line), f
		}
	})
	return nil
}
