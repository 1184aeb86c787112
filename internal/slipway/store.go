package slipway

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/renameio/v2"
)

// state is all that there is beside the git repositories. It is one file, written whole whenever something changes.
type state struct {
	Form         string        `json:"slipway"`
	Next         int           `json:"next"` // the next id
	Users        []*user       `json:"users"`
	Repositories []*repository `json:"repositories"`
	Deliveries   []*delivery   `json:"deliveries"`
}

// Right is what a user may do in a repository; each includes those before it.
type Right string

// The rights.
const (
	Look  Right = "look"
	Talk  Right = "talk"  // open pull requests, comment
	Write Right = "write" // push, set statuses, merge, resolve and alter what others wrote
	Own   Right = "own"   // make users and guards
)

var rights = []Right{Look, Talk, Write, Own}

type user struct {
	Name   string           `json:"name"`
	Token  string           `json:"token"` // SHA-256 of it
	Right  Right            `json:"right"` // where no repository has another
	Rights map[string]Right `json:"rights,omitempty"`
}

func (u *user) may(repository string, right Right) bool {
	has := Look
	if u != nil {
		has = u.Right
		if own, said := u.Rights[repository]; said {
			has = own
		}
	}
	return slices.Index(rights, has) >= slices.Index(rights, right)
}

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

// The states of a pull request.
const (
	pullOpen   = "open"
	pullMerged = "merged"
	pullClosed = "closed"
)

// testMerge is what merging would make of two commits.
type testMerge struct {
	Commit string `json:"commit"`
	Head   string `json:"head"`
	Tip    string `json:"tip"` // of the target
}

type thread struct {
	ID       int        `json:"id"`
	On       *place     `json:"on"` // nil for one on the whole
	Resolved bool       `json:"resolved"`
	By       string     `json:"resolved_by"`
	Comments []*comment `json:"comments"`
	Once     string     `json:"once,omitempty"`
}

// place are lines of a file at a commit. Lines are 1-based.
type place struct {
	Commit string `json:"commit"`
	Side   string `json:"side"`
	Path   string `json:"path"`
	First  int    `json:"first"`
	Last   int    `json:"last"`
}

type comment struct {
	ID      int       `json:"id"`
	Author  string    `json:"author"`
	Text    string    `json:"text"`
	Written time.Time `json:"written"`
	Edited  string    `json:"edited_by"`
}

type status struct {
	Name  string    `json:"name"`
	State string    `json:"state"`
	Text  string    `json:"text"`
	Link  string    `json:"link"`
	By    string    `json:"by"`
	Set   time.Time `json:"set"`
}

var statusStates = []string{"good", "bad", "unknown", "waiting"}

const (
	stateFile = "slipway.json"
	// OwnerFile has the token of the owner, the first user.
	OwnerFile = "owner.token"
	ownerName = "slipmaster"
)

// load reads the data, or begins it: with an owner, whose token is in a file of its own.
func (s *Slipway) load() error {
	if err := os.MkdirAll(filepath.Join(s.Dir, "git"), 0o755); err != nil {
		return err
	}
	data, err := os.ReadFile(filepath.Join(s.Dir, stateFile))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		token := newToken()
		s.state = state{Form: Interface, Next: 1, Users: []*user{{Name: ownerName, Token: hashOf(token), Right: Own}}}
		if err := renameio.WriteFile(filepath.Join(s.Dir, OwnerFile), []byte(token+"\n"), 0o600); err != nil {
			return err
		}
		return s.save()
	case err != nil:
		return err
	}
	if err := json.Unmarshal(data, &s.state); err != nil || s.state.Form != Interface {
		return fmt.Errorf("%s isn't the data of a slipway of the form %s: name another folder", filepath.Join(s.Dir, stateFile), Interface)
	}
	return nil
}

func (s *Slipway) save() error {
	data, err := json.Marshal(s.state)
	if err != nil {
		return err
	}
	return renameio.WriteFile(filepath.Join(s.Dir, stateFile), data, 0o600)
}

func (s *Slipway) id() int {
	s.state.Next++
	return s.state.Next - 1
}

func newToken() string {
	var data [20]byte
	rand.Read(data[:])
	return "slip-" + hex.EncodeToString(data[:])
}

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// userOf is who makes a call: nil for a visitor without a token.
func (s *Slipway) userOf(r *http.Request) (*user, error) {
	token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	name := ""
	if !bearer {
		var basic bool
		if name, token, basic = r.BasicAuth(); !basic {
			if r.Header.Get("Authorization") != "" {
				return nil, errVisitor
			}
			return nil, nil
		}
	}
	hash := hashOf(token)
	for _, u := range s.state.Users {
		if subtle.ConstantTimeCompare([]byte(hash), []byte(u.Token)) == 1 && (bearer || name == u.Name) {
			return u, nil
		}
	}
	return nil, problem{code: http.StatusUnauthorized, text: "nobody has this token"}
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]*(/[a-z0-9][a-z0-9_-]*)?$`)

func (s *Slipway) me(c *call) (any, error) {
	if c.user == nil {
		return nil, errVisitor
	}
	return map[string]any{"name": c.user.Name, "right": c.user.Right, "rights": c.user.Rights}, nil
}

func (s *Slipway) addUser(c *call) (any, error) {
	if err := c.needs("", Own); err != nil {
		return nil, err
	}
	var in struct {
		Name   string           `json:"name"`
		Right  Right            `json:"right"`
		Rights map[string]Right `json:"rights"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Right == "" {
		in.Right = Talk
	}
	for _, right := range append([]Right{in.Right}, valuesOf(in.Rights)...) {
		if !slices.Contains(rights, right) {
			return nil, wrong(http.StatusBadRequest, "a right is one of %v, not %q", rights, right)
		}
	}
	switch {
	case !namePattern.MatchString(in.Name) || strings.Contains(in.Name, "/"):
		return nil, wrong(http.StatusBadRequest, "a name has small letters, digits and dashes, not %q", in.Name)
	case slices.ContainsFunc(s.state.Users, func(u *user) bool { return u.Name == in.Name }):
		return nil, wrong(http.StatusConflict, "there is a user %s already", in.Name)
	}
	token := newToken()
	s.state.Users = append(s.state.Users, &user{Name: in.Name, Token: hashOf(token), Right: in.Right, Rights: in.Rights})
	return created{map[string]string{"name": in.Name, "token": token}}, s.save()
}

func valuesOf(m map[string]Right) (all []Right) {
	for _, right := range m {
		all = append(all, right)
	}
	return all
}

// needs refuses who may not do something; repository "" is for all of them.
func (c *call) needs(repository string, right Right) error {
	switch {
	case c.user == nil && right != Look:
		return errVisitor
	case !c.user.may(repository, right):
		return wrong(http.StatusForbidden, "%s has not the right to %s here", c.user.Name, right)
	}
	return nil
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

// page is a part of a list.
type page struct {
	items  any
	cursor string
	next   string // the address of the next part, "" for the last one
}

const (
	usualItems = 30
	mostItems  = 100
)

// paged is the part of a list that a call asks for: ?most=N&after=CURSOR, the cursor being how many were shown before.
func paged[T any](c *call, all []T) (any, error) {
	query := c.URL.Query()
	number := func(name string, otherwise, most int) (int, error) {
		text := query.Get(name)
		if text == "" {
			return otherwise, nil
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 || most > 0 && (n < 1 || n > most) {
			return 0, wrong(http.StatusBadRequest, "%s can't be %q", name, text)
		}
		return n, nil
	}
	most, err := number("most", usualItems, mostItems)
	if err != nil {
		return nil, err
	}
	after, err := number("after", 0, 0)
	if err != nil {
		return nil, err
	}
	after = min(after, len(all))
	end := min(after+most, len(all))
	p := page{items: append([]T{}, all[after:end]...)}
	if end < len(all) {
		p.cursor = strconv.Itoa(end)
		query.Set("after", p.cursor)
		p.next = (&url.URL{Path: c.URL.Path, RawPath: c.URL.RawPath, RawQuery: query.Encode()}).String()
	}
	return p, nil
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

var branchPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]*$`)

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
