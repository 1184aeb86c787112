package slipway

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/gofrs/flock"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/files"
)

// state is all that there is beside the git repositories. It is one file, written whole whenever something changes.
type state struct {
	Form         string        `json:"slipway"`
	Next         int           `json:"next"` // the next id
	Users        []*user       `json:"users"`
	Repositories []*repository `json:"repositories"`
	Deliveries   []*delivery   `json:"deliveries"`
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
	s.turn = flock.New(filepath.Join(s.Dir, "lock"))
	if mine, err := s.turn.TryLock(); err != nil {
		return err
	} else if !mine {
		s.turn = nil
		return fmt.Errorf("another slipway uses %s", s.Dir)
	}
	data, err := os.ReadFile(filepath.Join(s.Dir, stateFile))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		token := newToken()
		s.state = state{Form: Interface, Next: 1, Users: []*user{{Name: ownerName, Token: hashOf(token), Right: Own}}}
		if err := files.Write(filepath.Join(s.Dir, OwnerFile), []byte(token+"\n"), 0o600); err != nil {
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

// slowSave is from when on saving takes so long that it is done beside the calls, and not for each of them.
const slowSave = 20 * time.Millisecond

// save writes the data; where that takes long, soon.
func (s *Slipway) save() error {
	if s.saving > slowSave {
		select {
		case s.unsaved <- struct{}{}:
		default:
		}
		return nil
	}
	return s.write()
}

func (s *Slipway) write() error {
	began := time.Now()
	data, err := json.Marshal(s.state)
	if err != nil {
		return err
	}
	err = files.Write(filepath.Join(s.Dir, stateFile), data, 0o600)
	s.saving = time.Since(began)
	return err
}

// saveLater writes the data once it was altered, with pauses ten times as long as writing takes, until the slipway is closed.
func (s *Slipway) saveLater(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.unsaved:
		}
		s.mu.Lock()
		err := s.write()
		pause := 10 * s.saving
		s.mu.Unlock()
		if err != nil {
			pause = time.Second
			s.unsaved <- struct{}{}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

func (s *Slipway) id() int {
	s.state.Next++
	return s.state.Next - 1
}

var namePattern = pattern.Of(`^[a-z0-9][a-z0-9_-]*(/[a-z0-9][a-z0-9_-]*)?$`)

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
