package slipway

import (
	"fmt"
	"net/http"
	"slices"
	"time"
)

// pullView is a pull request as the interface shows it.
func (s *Slipway) pullView(r *repository, p *pull) map[string]any {
	view := map[string]any{
		"number": p.Number, "title": p.Title, "author": p.Author, "from": p.From, "source": p.Source, "target": p.Target, "state": p.State, "head": p.Head, "base": p.Base,
		"merged": p.Merged, "repository": r.Name, "page": fmt.Sprintf("/see/%s/pulls/%d", escaped(r.Name), p.Number), "test_merge": nil,
	}
	if p.Test != nil {
		view["test_merge"] = map[string]any{"commit": p.Test.Commit, "head": p.Test.Head, "tip": p.Test.Tip, "fresh": s.isFresh(r, p)}
	}
	return view
}

// isFresh reports whether the test merge is of the present head and the target's present tip.
func (s *Slipway) isFresh(r *repository, p *pull) bool {
	return p.Test != nil && p.Test.Head == p.Head && p.Test.Tip == s.tip(r, p.Target)
}

func (s *Slipway) listPulls(c *call) (any, error) {
	r, err := s.in(c, Look)
	if err != nil {
		return nil, err
	}
	all := []any{}
	for _, p := range r.Pulls {
		if state := c.URL.Query().Get("state"); state == "" || state == p.State {
			all = append(all, s.pullView(r, p))
		}
	}
	return paged(c, all)
}

func (s *Slipway) openPull(c *call) (any, error) {
	r, err := s.in(c, Talk)
	if err != nil {
		return nil, err
	}
	in := struct {
		Title  string `json:"title"`
		From   string `json:"from"`
		Source string `json:"source"`
		Target string `json:"target"`
	}{From: r.Name, Target: r.Main}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	from, err := s.repository(in.From)
	if err != nil {
		return nil, err
	}
	if !branchPattern.MatchString(in.Source) || !branchPattern.MatchString(in.Target) {
		return nil, wrong(http.StatusBadRequest, "a pull request has a source and a target, the names of branches")
	}
	head := s.tip(from, in.Source)
	switch {
	case head == "":
		return nil, wrong(http.StatusUnprocessableEntity, "%s has no branch %s", from.Name, in.Source)
	case s.tip(r, in.Target) == "":
		return nil, wrong(http.StatusUnprocessableEntity, "%s has no branch %s", r.Name, in.Target)
	case slices.ContainsFunc(r.Pulls, func(p *pull) bool {
		return p.State == pullOpen && p.From == from.Name && p.Source == in.Source && p.Target == in.Target
	}):
		return nil, wrong(http.StatusConflict, "there is an open pull request from %s into %s already", in.Source, in.Target)
	}
	p := &pull{Number: len(r.Pulls) + 1, Title: in.Title, Author: c.user.Name, From: from.Name, Source: in.Source, Target: in.Target, State: pullOpen}
	if err := s.takeHead(r, p, from, head); err != nil {
		return nil, err
	}
	if p.Base == "" {
		return nil, wrong(http.StatusUnprocessableEntity, "%s and %s have no commit in common", in.Source, in.Target)
	}
	r.Pulls = append(r.Pulls, p)
	s.tell(r, "pull.opened", map[string]any{"pull": s.pullView(r, p)})
	return created{s.pullView(r, p)}, s.save()
}

func (s *Slipway) showPull(c *call) (any, error) {
	r, p, err := s.at(c, Look)
	if err != nil {
		return nil, err
	}
	return s.pullView(r, p), nil
}

// alterPull gives a pull request another title, closes it or opens it again.
func (s *Slipway) alterPull(c *call) (any, error) {
	r, p, err := s.at(c, Talk)
	if err != nil {
		return nil, err
	}
	if p.Author != c.user.Name {
		if err := c.needs(r.Name, Write); err != nil {
			return nil, err
		}
	}
	in := struct {
		Title string `json:"title"`
		State string `json:"state"`
	}{p.Title, p.State}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	switch {
	case p.State == pullMerged && in.State != pullMerged:
		return nil, wrong(http.StatusConflict, "it is merged")
	case in.State != p.State && in.State != pullOpen && in.State != pullClosed:
		return nil, wrong(http.StatusBadRequest, "a pull request is set to %s or %s, not %q", pullOpen, pullClosed, in.State)
	}
	p.Title, p.State = in.Title, in.State
	s.tell(r, "pull."+p.State, map[string]any{"pull": s.pullView(r, p)})
	return s.pullView(r, p), s.save()
}

// testMerge makes the commit that merging would make, for it to be judged.
func (s *Slipway) testMerge(c *call) (any, error) {
	r, p, err := s.at(c, Write)
	if err != nil {
		return nil, err
	}
	if p.State != pullOpen {
		return nil, wrong(http.StatusConflict, "the pull request is %s", p.State)
	}
	if !s.isFresh(r, p) {
		tip := s.tip(r, p.Target)
		commit, err := s.mergeOf(r, tip, p.Head, s.mergeMessage(p))
		if err != nil {
			return nil, err
		}
		if _, err := s.run(r, "update-ref", fmt.Sprintf("refs/pulls/%d/merge", p.Number), commit); err != nil {
			return nil, err
		}
		p.Test = &testMerge{Commit: commit, Head: p.Head, Tip: tip}
	}
	return created{s.pullView(r, p)}, s.save()
}

func (s *Slipway) mergeMessage(p *pull) string {
	return fmt.Sprintf("Merge pull request %d: %s", p.Number, p.Title)
}

// merge merges a pull request, if all statuses that its target needs are good: of its test merge with the target's present tip, which
// is then what merges, or of its head.
func (s *Slipway) merge(c *call) (any, error) {
	r, p, err := s.at(c, Write)
	if err != nil {
		return nil, err
	}
	var in struct {
		Head string `json:"head"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	switch {
	case p.State != pullOpen:
		return nil, wrong(http.StatusConflict, "the pull request is %s", p.State)
	case in.Head != p.Head:
		return nil, wrong(http.StatusConflict, "the head is %s, not %q: look at it again", p.Head, in.Head)
	}
	needed, tip := r.Guards[p.Target], s.tip(r, p.Target)
	commit := ""
	if s.isFresh(r, p) && len(lacking(r, p.Test.Commit, needed)) == 0 {
		commit = p.Test.Commit
	} else {
		if lacks := lacking(r, p.Head, needed); len(lacks) > 0 {
			return nil, problem{code: http.StatusConflict, text: fmt.Sprintf("%s is guarded, and not all that it needs is good", p.Target), more: map[string]any{"lacking": lacks}}
		}
		if commit, err = s.mergeOf(r, tip, p.Head, s.mergeMessage(p)); err != nil {
			return nil, err
		}
	}
	if err := s.move(r, "refs/heads/"+p.Target, commit, tip); err != nil {
		return nil, err
	}
	p.State, p.Merged = pullMerged, commit
	s.tell(r, "pull.merged", map[string]any{"pull": s.pullView(r, p)})
	return s.pullView(r, p), s.save()
}

// lacking are the needed statuses that a commit doesn't have as good, with what they are.
func lacking(r *repository, commit string, needed []string) (lacks []map[string]string) {
	for _, name := range needed {
		state := "not set"
		for _, is := range r.Statuses[commit] {
			if is.Name == name {
				state = is.State
			}
		}
		if state != "good" {
			lacks = append(lacks, map[string]string{"name": name, "state": state})
		}
	}
	return lacks
}

func (s *Slipway) listStatuses(c *call) (any, error) {
	r, err := s.in(c, Look)
	if err != nil {
		return nil, err
	}
	commit := c.PathValue("commit")
	if !s.isCommit(r, commit) {
		return nil, wrong(http.StatusNotFound, "there is no commit %q", commit)
	}
	return paged(c, r.Statuses[commit])
}

// setStatus sets a status of a commit, in the place of the one of that name.
func (s *Slipway) setStatus(c *call) (any, error) {
	r, err := s.in(c, Write)
	if err != nil {
		return nil, err
	}
	var in struct {
		State string `json:"state"`
		Text  string `json:"text"`
		Link  string `json:"link"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	commit, name := c.PathValue("commit"), c.PathValue("status")
	switch {
	case !slices.Contains(statusStates, in.State):
		return nil, wrong(http.StatusBadRequest, "a status is one of %v, not %q", statusStates, in.State)
	case !s.isCommit(r, commit):
		return nil, wrong(http.StatusNotFound, "there is no commit %q", commit)
	}
	is := status{Name: name, State: in.State, Text: in.Text, Link: in.Link, By: c.user.Name, Set: time.Now().UTC()}
	all := slices.DeleteFunc(r.Statuses[commit], func(old status) bool { return old.Name == name })
	r.Statuses[commit] = append(all, is)
	s.tell(r, "status.set", map[string]any{"commit": commit, "status": is})
	return is, s.save()
}
