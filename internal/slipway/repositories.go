package slipway

import (
	"net/http"
	"path"
	"slices"
	"strconv"

	"zincdoor/internal/core/pattern"
)

type repository struct {
	Name     string              `json:"name"`
	Main     string              `json:"main"`
	Guards   map[string][]string `json:"guards"` // by branch: the statuses it needs
	Pulls    []*pull             `json:"pulls"`
	Statuses map[string][]status `json:"statuses"` // by commit
	Hooks    []*hook             `json:"hooks"`
}

type pull struct {
	Number int        `json:"number"`
	Title  string     `json:"title"`
	Author string     `json:"author"`
	From   string     `json:"from"` // the repository of the source branch
	Source string     `json:"source"`
	Target string     `json:"target"`
	State  string     `json:"state"`
	Head   string     `json:"head"`
	Base   string     `json:"base"` // where it left the target, when it was last looked at
	Merged string     `json:"merged,omitempty"`
	Test   *testMerge `json:"test_merge,omitempty"`

	Threads []*thread `json:"threads"`
}

func (s *Slipway) repository(name string) (*repository, error) {
	i := slices.IndexFunc(s.state.Repositories, func(r *repository) bool { return r.Name == name })
	if i < 0 {
		return nil, wrong(http.StatusNotFound, "there is no repository %q", name)
	}
	return s.state.Repositories[i], nil
}

// in is the repository of a call, where its user has a right in it.
func (s *Slipway) in(c *call, right Right) (*repository, error) {
	r, err := s.repository(c.PathValue("repository"))
	if err != nil {
		return nil, err
	}
	return r, c.needs(r.Name, right)
}

// at is the pull request of a call.
func (s *Slipway) at(c *call, right Right) (*repository, *pull, error) {
	r, err := s.in(c, right)
	if err != nil {
		return nil, nil, err
	}
	p, err := r.pull(c.PathValue("pull"))
	return r, p, err
}

func (r *repository) pull(number string) (*pull, error) {
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > len(r.Pulls) {
		return nil, wrong(http.StatusNotFound, "there is no pull request %q in %s", number, r.Name)
	}
	return r.Pulls[n-1], nil
}

func (s *Slipway) listRepositories(c *call) (any, error) {
	names := []map[string]string{}
	for _, r := range s.state.Repositories {
		names = append(names, map[string]string{"name": r.Name, "main": r.Main})
	}
	return paged(c, names)
}

func (s *Slipway) addRepository(c *call) (any, error) {
	if err := c.needs("", Own); err != nil {
		return nil, err
	}
	in := struct {
		Name string `json:"name"`
		Main string `json:"main"`
	}{Main: "main"}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := s.newRepository(in.Name, in.Main)
	if err != nil {
		return nil, err
	}
	if err := s.gitInit(r); err != nil {
		return nil, err
	}
	s.state.Repositories = append(s.state.Repositories, r)
	return created{s.repositoryView(r)}, s.save()
}

func (s *Slipway) newRepository(name, main string) (*repository, error) {
	switch _, err := s.repository(name); {
	case !namePattern.MatchString(name):
		return nil, wrong(http.StatusBadRequest, "the name of a repository has small letters, digits, dashes and at most one slash, not %q", name)
	case err == nil:
		return nil, wrong(http.StatusConflict, "there is a repository %s already", name)
	case !branchPattern.MatchString(main):
		return nil, wrong(http.StatusBadRequest, "%q can't be the name of a branch", main)
	}
	return &repository{Name: name, Main: main, Guards: map[string][]string{}, Statuses: map[string][]status{}}, nil
}

var branchPattern = pattern.Of(`^[A-Za-z0-9][A-Za-z0-9._/-]*$`)

func (s *Slipway) repositoryView(r *repository) any {
	return map[string]any{"name": r.Name, "main": r.Main, "guards": r.Guards, "git": "/git/" + r.Name + ".git"}
}

func (s *Slipway) showRepository(c *call) (any, error) {
	r, err := s.in(c, Look)
	if err != nil {
		return nil, err
	}
	return s.repositoryView(r), nil
}

// fork copies a repository to one of the user's own.
func (s *Slipway) fork(c *call) (any, error) {
	from, err := s.in(c, Talk)
	if err != nil {
		return nil, err
	}
	r, err := s.newRepository(c.user.Name+"/"+path.Base(from.Name), from.Main)
	if err != nil {
		return nil, err
	}
	if err := s.gitFork(from, r); err != nil {
		return nil, err
	}
	if c.user.Rights == nil {
		c.user.Rights = map[string]Right{}
	}
	c.user.Rights[r.Name] = Own
	s.state.Repositories = append(s.state.Repositories, r)
	return created{s.repositoryView(r)}, s.save()
}

// guard says which statuses a branch needs for a merge. From then on nobody pushes to it.
func (s *Slipway) guard(c *call) (any, error) {
	r, err := s.in(c, Own)
	if err != nil {
		return nil, err
	}
	var in struct {
		Statuses []string `json:"statuses"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	branch := c.PathValue("branch")
	if !branchPattern.MatchString(branch) {
		return nil, wrong(http.StatusBadRequest, "%q can't be the name of a branch", branch)
	}
	if len(in.Statuses) == 0 {
		delete(r.Guards, branch)
	} else {
		r.Guards[branch] = in.Statuses
	}
	if err := s.writeGuards(r); err != nil {
		return nil, err
	}
	return s.repositoryView(r), s.save()
}
