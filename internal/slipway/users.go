package slipway

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"slices"
	"strings"
)

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
