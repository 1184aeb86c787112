package slipway

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/change"
)

// threadView is a thread as the interface shows it.
func threadView(t *thread) map[string]any {
	return map[string]any{"id": t.ID, "on": t.On, "resolved": t.Resolved, "resolved_by": t.By, "answers": len(t.Comments) - 1, "comments": t.Comments}
}

func (s *Slipway) listThreads(c *call) (any, error) {
	_, p, err := s.at(c, Look)
	if err != nil {
		return nil, err
	}
	all := []any{}
	for _, t := range p.Threads {
		all = append(all, threadView(t))
	}
	return paged(c, all)
}

// openThread begins a thread. With the header Slipway-Once, a second call of the same user with the same value gives the thread of the
// first, as long as it is there.
func (s *Slipway) openThread(c *call) (any, error) {
	r, p, err := s.at(c, Talk)
	if err != nil {
		return nil, err
	}
	var in struct {
		On   *place `json:"on"`
		Text string `json:"text"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	once := ""
	if key := c.Header.Get("Slipway-Once"); key != "" {
		once = c.user.Name + " " + key
		for _, t := range p.Threads {
			if t.Once == once {
				return threadView(t), nil
			}
		}
	}
	if err := checkText(in.Text); err != nil {
		return nil, err
	}
	if in.On != nil {
		if err := s.checkPlace(r, p, in.On); err != nil {
			return nil, err
		}
	}
	t := &thread{ID: s.id(), On: in.On, Once: once, Comments: []*comment{{ID: s.id(), Author: c.user.Name, Text: in.Text, Written: time.Now().UTC()}}}
	p.Threads = append(p.Threads, t)
	s.tell(r, "comment.made", map[string]any{"pull": p.Number, "thread": threadView(t)})
	return created{threadView(t)}, s.save()
}

const longestText = 65_536

// text reads the body of a call that has a text alone.
func (c *call) text() (string, error) {
	var in struct {
		Text string `json:"text"`
	}
	if err := c.read(&in); err != nil {
		return "", err
	}
	return in.Text, checkText(in.Text)
}

func checkText(text string) error {
	switch {
	case strings.TrimSpace(text) == "":
		return wrong(http.StatusBadRequest, "a comment says something")
	case len([]rune(text)) > longestText:
		return wrong(http.StatusBadRequest, "a comment has at most %d characters", longestText)
	}
	return nil
}

// nearLines is how far from a changed line a comment may stand.
const nearLines = 3

// checkPlace refuses lines that the pull request doesn't show.
func (s *Slipway) checkPlace(r *repository, p *pull, on *place) error {
	switch {
	case !s.isCommit(r, on.Commit):
		return wrong(http.StatusUnprocessableEntity, "there is no commit %q", on.Commit)
	case on.Side != "new" && on.Side != "old":
		return wrong(http.StatusBadRequest, "a side is new or old, not %q", on.Side)
	case on.First < 1 || on.Last < on.First:
		return wrong(http.StatusBadRequest, "lines go from 1, first to last")
	}
	files, _, err := s.diff(r, p, on.Commit)
	if err != nil {
		return err
	}
	for i := range files {
		f := &files[i]
		if on.Side == "new" && f.Path != on.Path || on.Side == "old" && f.Old != on.Path {
			continue
		}
		if slices.ContainsFunc(f.Hunks, func(h change.Hunk) bool {
			first, count := h.NewStart, h.NewCount
			if on.Side == "old" {
				first, count = h.OldStart, h.OldCount
			}
			return on.Last >= first-nearLines && on.First <= first+count-1+nearLines
		}) {
			return nil
		}
	}
	return wrong(http.StatusUnprocessableEntity, "%s:%d isn't near a line that the pull request changes", on.Path, on.Last)
}

func (s *Slipway) thread(c *call, right Right) (r *repository, p *pull, t *thread, err error) {
	if r, p, err = s.at(c, right); err != nil {
		return nil, nil, nil, err
	}
	i := slices.IndexFunc(p.Threads, func(t *thread) bool { return strconv.Itoa(t.ID) == c.PathValue("thread") })
	if i < 0 {
		return nil, nil, nil, wrong(http.StatusNotFound, "there is no thread %q", c.PathValue("thread"))
	}
	return r, p, p.Threads[i], nil
}

func (s *Slipway) showThread(c *call) (any, error) {
	_, _, t, err := s.thread(c, Look)
	if err != nil {
		return nil, err
	}
	return threadView(t), nil
}

// alterThread resolves a thread or opens it again, puts it on other lines, and alters what its first comment says.
func (s *Slipway) alterThread(c *call) (any, error) {
	r, p, t, err := s.thread(c, Talk)
	if err != nil {
		return nil, err
	}
	var in struct {
		Resolved *bool   `json:"resolved"`
		On       *place  `json:"on"`
		Text     *string `json:"text"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	first := t.Comments[0]
	if first.Author != c.user.Name && !(in.On == nil && in.Text == nil && p.Author == c.user.Name) {
		if err := c.needs(r.Name, Write); err != nil {
			return nil, err
		}
	}
	if in.On != nil {
		if err := s.checkPlace(r, p, in.On); err != nil {
			return nil, err
		}
	}
	if in.Text != nil {
		if err := checkText(*in.Text); err != nil {
			return nil, err
		}
		first.Text, first.Edited = *in.Text, c.user.Name
	}
	if in.On != nil {
		t.On = in.On
	}
	if in.Resolved != nil && t.Resolved != *in.Resolved {
		t.Resolved, t.By = *in.Resolved, c.user.Name
	}
	return threadView(t), s.save()
}

func (s *Slipway) removeThread(c *call) (any, error) {
	r, p, t, err := s.thread(c, Talk)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(t.Comments, func(one *comment) bool { return one.Author != c.user.Name }) {
		if err := c.needs(r.Name, Write); err != nil {
			return nil, err
		}
	}
	p.Threads = slices.DeleteFunc(p.Threads, func(one *thread) bool { return one == t })
	return nothing{}, s.save()
}

// reply adds a comment to a thread.
func (s *Slipway) reply(c *call) (any, error) {
	_, _, t, err := s.thread(c, Talk)
	if err != nil {
		return nil, err
	}
	text, err := c.text()
	if err != nil {
		return nil, err
	}
	t.Comments = append(t.Comments, &comment{ID: s.id(), Author: c.user.Name, Text: text, Written: time.Now().UTC()})
	return created{threadView(t)}, s.save()
}

// comment is the comment of a call, where its user may alter it.
func (s *Slipway) comment(c *call) (p *pull, t *thread, at int, err error) {
	r, p, t, err := s.thread(c, Talk)
	if err != nil {
		return nil, nil, 0, err
	}
	at = slices.IndexFunc(t.Comments, func(one *comment) bool { return strconv.Itoa(one.ID) == c.PathValue("comment") })
	if at < 0 {
		return nil, nil, 0, wrong(http.StatusNotFound, "there is no comment %q", c.PathValue("comment"))
	}
	if t.Comments[at].Author != c.user.Name {
		err = c.needs(r.Name, Write)
	}
	return p, t, at, err
}

func (s *Slipway) alterComment(c *call) (any, error) {
	_, t, at, err := s.comment(c)
	if err != nil {
		return nil, err
	}
	text, err := c.text()
	if err != nil {
		return nil, err
	}
	t.Comments[at].Text, t.Comments[at].Edited = text, c.user.Name
	return threadView(t), s.save()
}

// removeComment takes a comment away, and with its last one the thread.
func (s *Slipway) removeComment(c *call) (any, error) {
	p, t, at, err := s.comment(c)
	if err != nil {
		return nil, err
	}
	if t.Comments = slices.Delete(t.Comments, at, at+1); len(t.Comments) == 0 {
		p.Threads = slices.DeleteFunc(p.Threads, func(one *thread) bool { return one == t })
	}
	return nothing{}, s.save()
}
