package review

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// Wish is what a pull request is to show of a verdict.
type Wish struct {
	Verdict  judge.Verdict
	Head     string    // the commit that the pull request proposes, at which comments stand
	Comments []Comment // with their texts, those to post first at the front
	Most     int       // how many comments are open at a time at most
	Status   Status
	Form     string // of marks

	// Judged is whether the verdict is of Head, or of a merge of it. Else only the status is set.
	Judged bool

	// Summary writes the summary comment; commented are the findings that have a comment of their own.
	Summary func(commented map[int]bool) string
	// Gone writes what a comment says once what it spoke of is gone.
	Gone func(body string) string
}

// Shown is what a pull request shows already.
type Shown struct {
	Own
	Statuses  []Status // of the judged commit; Unknown where the host doesn't list them
	Known     Known
	Misplaced map[string]bool // ids of comments that the host wouldn't put on their lines
}

// Plan says what is to be done so that what is shown becomes what is wished, in the order in which to do it: the status first, for it
// holds the merge, and the summary last, for it keeps which findings have a comment. can reports whether the host can do an act.
// Done again, it is nothing.
func Plan(w Wish, s Shown, can func(policy.HostAct) bool) (acts []Act) {
	p := planner{Wish: w, Shown: s, can: can, commented: map[int]bool{}}
	p.status()
	if w.Judged {
		p.threads()
		p.create()
		p.summary()
	}
	return slices.DeleteFunc(p.acts, func(a Act) bool { return !can(a.Kind) })
}

type planner struct {
	Wish
	Shown
	can       func(policy.HostAct) bool
	acts      []Act
	open      int
	commented map[int]bool
}

func (p *planner) do(a Act) { p.acts = append(p.acts, a) }

func (p *planner) status() {
	same, others := 0, 0
	for _, s := range p.Statuses {
		switch {
		case s.Name != p.Status.Name:
		case s.Outcome == p.Status.Outcome && (s.Text == "" || s.Text == p.Status.Text) && (s.Link == "" || s.Link == p.Status.Link):
			same++
		default:
			others++
		}
	}
	if same > 0 && others == 0 { // of several, nobody knows which one counts
		return
	}
	p.do(Act{Kind: policy.SetStatus, Commit: p.Verdict.Subject.Head, Status: p.Status.Name, Outcome: p.Status.Outcome, Text: p.Status.Text, Link: p.Status.Link,
		About: fmt.Sprintf("status %q of %s: %s", p.Status.Name, Short(p.Verdict.Subject.Head), p.Status.Outcome)})
}

// threads brings the comments that are there up to date.
func (p *planner) threads() {
	of := map[int]int{} // by thread: its comment
	for c, t := range p.Known.ThreadOf {
		if t != none {
			of[t] = c
		}
	}
	for i := range p.Twins {
		p.twice(&p.Twins[i])
	}
	for i := range p.Threads {
		t := &p.Threads[i]
		c, wanted := of[i]
		switch {
		case wanted:
			p.keep(t, c)
		case p.isGone(i):
			p.resolve(t)
		case !t.Resolved:
			p.open++
		}
	}
}

// keep brings a comment up to date whose finding is still there.
func (p *planner) keep(t *Thread, n int) {
	c := p.Comments[n]
	p.comment(n)
	if t.Resolved && !t.Mark.Gone && p.can(policy.ResolveComment) {
		return // somebody else resolved it
	}
	about := about(c)
	if t.Resolved && p.can(policy.ReopenComment) {
		p.do(Act{Kind: policy.ReopenComment, ID: t.ID, Thread: t.Thread, About: about})
	}
	p.open++
	if t.edited() {
		return
	}
	moved := p.can(MovesComments) && (t.Path != "" && t.Path != c.Path || t.Line != 0 && t.Line != c.Line || t.Start != 0 && t.Start != c.Start || t.Commit != "" && t.Commit != p.Head)
	if !moved && !t.Mark.Gone && tidy(t.Body) == tidy(c.Text) {
		return
	}
	p.do(Act{
		Kind: policy.UpdateComment, ID: t.ID, Thread: t.Thread, Path: c.Path, Start: c.Start, Line: c.Line, Commit: p.Head, About: about,
		Text: p.mark(c, t.Mark.ID).Write(c.Text, p.Form),
	})
}

// comment notes that the findings of a comment have one.
func (p *planner) comment(n int) {
	for _, f := range p.Comments[n].Findings {
		p.commented[f] = true
	}
}

func (p *planner) mark(c Comment, id string) Mark {
	m := Mark{Door: p.Verdict.Door, ID: id, Commit: p.Verdict.Subject.Head}
	for _, i := range c.Findings {
		f := p.Verdict.Findings[i]
		m.Entries = append(m.Entries, Entry{f.ID, baseline.EntryFor(*f.Finding, "")})
	}
	return m
}

// MovesComments is asked of the host beside its acts: that updating a comment puts it on its present lines.
const MovesComments policy.HostAct = "move-comment"

// resolve closes a comment whose finding is gone: first the thread, then its text, so that one that was broken off in between can be
// told from one that somebody else resolved.
func (p *planner) resolve(t *Thread) {
	if !t.Resolved && !t.Mark.Gone && p.can(policy.ResolveComment) {
		p.do(Act{Kind: policy.ResolveComment, ID: t.ID, Thread: t.Thread, About: t.about()})
	}
	if t.Mark.Gone || t.edited() || p.can(MovesComments) && (t.Path == "" || t.Line == 0) {
		return
	}
	mark := t.Mark
	mark.Gone = true
	p.do(Act{
		Kind: policy.UpdateComment, ID: t.ID, Thread: t.Thread, Path: t.Path, Start: t.Start, Line: t.Line, Commit: t.Commit, About: t.about() + ", which is gone",
		Text: mark.Write(p.Gone(t.Body), p.Form),
	})
}

// twice takes back a comment that two posted at once.
func (p *planner) twice(t *Thread) {
	if !t.Answered && p.can(policy.DeleteComment) {
		p.do(Act{Kind: policy.DeleteComment, ID: t.ID, Thread: t.Thread, About: t.about() + ", posted twice"})
		return
	}
	p.resolve(t)
}

// isGone reports whether what a thread speaks of is gone: none of its findings is wanted, and each is known not to be there, or
// counts no more. A tool that wasn't heard says nothing.
func (p *planner) isGone(i int) bool {
	if p.Known.Still[i] {
		return true // it is there, and is no comment's any more: accepted, waived, or part of another comment
	}
	return p.heard(p.Threads[i].Mark.Entries)
}

// heard reports whether the verdict's evidence speaks for the tools and the files of some findings.
func (p *planner) heard(entries []Entry) bool {
	if len(entries) == 0 {
		return !slices.ContainsFunc(p.Verdict.Evidence, func(e judge.Evidence) bool { return !e.Sound() })
	}
	for _, entry := range entries {
		if !slices.ContainsFunc(p.Verdict.Evidence, func(e judge.Evidence) bool { return e.Sound() && !e.Before && speaksFor(e, entry) }) {
			return false
		}
	}
	return true
}

// speaksFor reports whether evidence is of an entry's tool. Whether it was given its file doesn't matter: a file that no tool was given
// is none that the change alters any more.
func speaksFor(e judge.Evidence, entry Entry) bool {
	return !slices.Contains(e.Lost, entry.Path) &&
		slices.ContainsFunc(e.Covers, func(c baseline.Cover) bool { return c.Tool == entry.Tool })
}

// create posts the comments that no thread speaks for, as far as there is room for more. One whose findings had a comment already,
// which isn't there any more, was deleted by somebody, and isn't posted again.
func (p *planner) create() {
	had := map[string]bool{}
	for _, s := range p.Summaries {
		for id := range s.Mark.IDs {
			had[id] = true
		}
	}
	for n, c := range p.Comments {
		if p.Known.ThreadOf[n] != none || p.Misplaced[c.ID] {
			continue
		}
		if p.isUnmarked(c) {
			p.comment(n)
			continue
		}
		if slices.ContainsFunc(c.Findings, func(i int) bool { return had[shortID(p.Verdict.Findings[i].ID)] }) {
			p.deleted(c)
			continue
		}
		if p.open >= p.Most || !p.can(policy.CreateComment) {
			continue
		}
		p.open++
		p.comment(n)
		id := p.freeID(c.ID)
		p.do(Act{
			Kind: policy.CreateComment, Path: c.Path, Start: c.Start, Line: c.Line, Commit: p.Head, Comment: c, About: about(c),
			Text: p.mark(c, id).Write(c.Text, p.Form), Key: keyOf(p.Verdict.Door, id),
		})
	}
}

// isUnmarked reports whether a comment is there without its mark. It isn't posted again: it would be there twice.
func (p *planner) isUnmarked(c Comment) bool {
	return slices.ContainsFunc(p.Unmarked, func(posted Posted) bool {
		return (posted.Path == "" || posted.Path == c.Path) && tidy(posted.Text) == tidy(c.Text)
	})
}

// freeID is the id of a new thread: that of its finding, unless a thread has it already that speaks of another one by now.
func (p *planner) freeID(id string) string {
	for slices.ContainsFunc(p.Threads, func(t Thread) bool { return t.Mark.ID == id }) {
		sum := sha256.Sum256([]byte(id))
		id = hex.EncodeToString(sum[:8])
	}
	return id
}

// deleted keeps in the summary that findings had a comment, though none of them counts as having one for those who read it.
func (p *planner) deleted(c Comment) {
	for _, i := range c.Findings {
		p.commented[i] = false
	}
}

// keyOf names what is posted.
func keyOf(door, id string) string {
	sum := sha256.Sum256([]byte(door + "\x00" + id))
	return hex.EncodeToString(sum[:12])
}

// summary keeps the comment that says the whole. There is none where a door is open and never had anything to say here.
func (p *planner) summary() {
	ids, shown := map[string]bool{}, map[int]bool{}
	for i, is := range p.commented {
		ids[shortID(p.Verdict.Findings[i].ID)] = true
		if is {
			shown[i] = true
		}
	}
	if len(p.Summaries) == 0 && p.Verdict.Outcome == judge.Open && len(ids) == 0 && len(p.Threads) == 0 {
		return
	}
	mark := Mark{Summary: true, Door: p.Verdict.Door, Commit: p.Verdict.Subject.Head, IDs: ids}
	text := mark.Write(p.Wish.Summary(shown), p.Form)
	if len(p.Summaries) == 0 {
		p.do(Act{Kind: policy.CreateSummary, Text: text, Key: keyOf(p.Verdict.Door, "summary"), About: "summary"})
		return
	}
	s := &p.Summaries[0]
	for i := range p.Summaries[1:] {
		twin := &p.Summaries[i+1]
		p.do(Act{Kind: policy.DeleteSummary, ID: twin.ID, Thread: twin.Thread, About: "summary, posted twice"})
	}
	if s.edited() || tidy(s.Text) == tidy(text) {
		return
	}
	p.do(Act{Kind: policy.UpdateSummary, ID: s.ID, Thread: s.Thread, Text: text, About: "summary"})
}

// about names a comment for people.
func about(c Comment) string {
	if c.Start < c.Line {
		return fmt.Sprintf("%s:%d-%d", c.Path, c.Start, c.Line)
	}
	return fmt.Sprintf("%s:%d", c.Path, c.Line)
}

func (t *Thread) about() string {
	switch {
	case t.Path != "" && t.Line > 0:
		return about(Comment{Path: t.Path, Start: t.Line, Line: t.Line})
	case len(t.Mark.Entries) > 0:
		return about(Comment{Path: t.Mark.Entries[0].Path, Start: t.Mark.Entries[0].Line, Line: t.Mark.Entries[0].Line})
	}
	return "comment " + t.ID
}

// Short is the beginning of a commit's name, for people.
func Short(commit string) string {
	if strings.Trim(commit, "0123456789abcdef") == "" {
		return commit[:min(len(commit), 10)]
	}
	return commit
}
