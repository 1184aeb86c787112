// Package slipway knows a small code host of our own, to try reviews with: git over HTTP, users with tokens, pull requests, comments
// on lines, statuses, guarded branches, webhooks, and a page for each pull request, in one process and one folder. Its interface is
// slipway/1 (openapi.yaml). It is a stand-in: for one machine, with as much in memory as there is.
package slipway

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gofrs/flock"
)

// Interface is what the interface calls itself, and where its addresses begin.
const Interface = "slipway/1"

// Recipe is the host recipe for it.
//
//go:embed recipe.yaml
var Recipe []byte

// OpenAPI is its description.
//
//go:embed openapi.yaml
var OpenAPI []byte

// Options are how a slipway behaves.
type Options struct {
	Dir     string       // where its data is
	Trouble []string     // of Troubles
	Rate    Rate         // how many calls each user may make; the zero value for any number
	Log     func(string) // gets a line for each call; nil for nobody
}

// Slipway is a running host. It must be closed.
type Slipway struct {
	Options
	mux *http.ServeMux

	mu     sync.Mutex // of what follows, and of all that alters a repository but a push in its running
	state  state
	limits map[string]*window
	diffs  map[string]diff

	turn   *flock.Flock // held while the folder is in use
	pushes sync.Mutex   // one push at a time
	calls  counter

	deliver  chan struct{}
	unsaved  chan struct{} // the data was altered
	saving   time.Duration // how long writing it took last
	ended    context.CancelFunc
	delivers sync.WaitGroup
}

// Open opens the data in a folder, which is made where it isn't there.
func Open(o Options) (*Slipway, error) {
	if err := checkTroubles(o.Trouble); err != nil {
		return nil, err
	}
	s := &Slipway{Options: o, limits: map[string]*window{}, diffs: map[string]diff{}, deliver: make(chan struct{}, 1), unsaved: make(chan struct{}, 1)}
	if err := s.load(); err != nil {
		if s.turn != nil {
			s.turn.Unlock()
		}
		return nil, err
	}
	ctx, end := context.WithCancel(context.Background())
	s.ended = end
	s.serve()
	s.delivers.Go(func() { s.deliverAll(ctx) })
	s.delivers.Go(func() { s.saveLater(ctx) })
	s.wake()
	return s, nil
}

// Close ends what runs beside the answers.
func (s *Slipway) Close() {
	s.ended()
	s.delivers.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.write(); err != nil && s.Log != nil {
		s.Log("at the end: " + err.Error())
	}
	s.turn.Unlock()
}

// call is a call of the interface, with who makes it.
type call struct {
	*http.Request
	user *user // nil for a visitor
}

// problem is an error that is answered with a code of its own.
type problem struct {
	code int
	text string
	more map[string]any
}

func (p problem) Error() string { return p.text }

func wrong(code int, format string, args ...any) error {
	return problem{code: code, text: fmt.Sprintf(format, args...)}
}

var (
	errUnknown = problem{code: http.StatusNotFound, text: "there is no such thing here"}
	errVisitor = problem{code: http.StatusUnauthorized, text: "this needs a token: Authorization: Bearer TOKEN"}
)

// created marks an answer that something was made.
type created struct{ value any }

// nothing is an answer without a body.
type nothing struct{}

// route is a call of the interface.
type route struct {
	method, path string // as the description has it
	answer       func(*call) (any, error)
}

func (s *Slipway) routes() []route {
	return []route{
		{"GET", "/me", s.me},
		{"POST", "/users", s.addUser},
		{"GET", "/repositories", s.listRepositories},
		{"POST", "/repositories", s.addRepository},
		{"GET", "/repositories/{repository}", s.showRepository},
		{"POST", "/repositories/{repository}/forks", s.fork},
		{"PUT", "/repositories/{repository}/guards/{branch}", s.guard},
		{"GET", "/repositories/{repository}/pulls", s.listPulls},
		{"POST", "/repositories/{repository}/pulls", s.openPull},
		{"GET", "/repositories/{repository}/pulls/{pull}", s.showPull},
		{"PATCH", "/repositories/{repository}/pulls/{pull}", s.alterPull},
		{"POST", "/repositories/{repository}/pulls/{pull}/test-merge", s.testMerge},
		{"POST", "/repositories/{repository}/pulls/{pull}/merge", s.merge},
		{"GET", "/repositories/{repository}/pulls/{pull}/threads", s.listThreads},
		{"POST", "/repositories/{repository}/pulls/{pull}/threads", s.openThread},
		{"GET", "/repositories/{repository}/pulls/{pull}/threads/{thread}", s.showThread},
		{"PATCH", "/repositories/{repository}/pulls/{pull}/threads/{thread}", s.alterThread},
		{"DELETE", "/repositories/{repository}/pulls/{pull}/threads/{thread}", s.removeThread},
		{"POST", "/repositories/{repository}/pulls/{pull}/threads/{thread}/comments", s.reply},
		{"PATCH", "/repositories/{repository}/pulls/{pull}/threads/{thread}/comments/{comment}", s.alterComment},
		{"DELETE", "/repositories/{repository}/pulls/{pull}/threads/{thread}/comments/{comment}", s.removeComment},
		{"GET", "/repositories/{repository}/commits/{commit}/statuses", s.listStatuses},
		{"PUT", "/repositories/{repository}/commits/{commit}/statuses/{status}", s.setStatus},
		{"GET", "/repositories/{repository}/hooks", s.listHooks},
		{"POST", "/repositories/{repository}/hooks", s.addHook},
		{"DELETE", "/repositories/{repository}/hooks/{hook}", s.removeHook},
		{"GET", "/repositories/{repository}/hooks/{hook}/deliveries", s.listDeliveries},
	}
}

// serve sets up what is answered.
func (s *Slipway) serve() {
	s.mux = http.NewServeMux()
	const root = "/" + Interface
	for _, r := range s.routes() {
		s.mux.HandleFunc(r.method+" "+root+r.path, s.answering(r.answer))
	}
	s.mux.HandleFunc("GET "+root+"/openapi.yaml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		w.Write(OpenAPI)
	})
	s.mux.HandleFunc(root+"/", func(w http.ResponseWriter, _ *http.Request) { fail(w, errUnknown) })
	s.mux.HandleFunc("/git/", s.git)
	s.mux.HandleFunc("GET /{$}", s.index)
	s.mux.HandleFunc("GET /see/{repository}/pulls/{pull}", s.page)
}

// ServeHTTP answers a call.
func (s *Slipway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	noting := &noting{ResponseWriter: w}
	s.troubled(noting, r)
	if s.Log != nil {
		s.Log(fmt.Sprintf("%s %s %s %d %s", began.UTC().Format(time.RFC3339), r.Method, r.URL.Path, noting.code, time.Since(began).Round(time.Millisecond)))
	}
}

// noting remembers the code of an answer.
type noting struct {
	http.ResponseWriter
	code int
}

func (n *noting) WriteHeader(code int) {
	n.code = code
	n.ResponseWriter.WriteHeader(code)
}

func (n *noting) Write(data []byte) (int, error) {
	if n.code == 0 {
		n.code = http.StatusOK
	}
	return n.ResponseWriter.Write(data)
}

// Unwrap gives package http the writer below.
func (n *noting) Unwrap() http.ResponseWriter { return n.ResponseWriter }

// longestBody is how long the body of a call may be.
const longestBody = 1 << 20

// answering makes a handler of a function. The function runs alone.
func (s *Slipway) answering(answer func(*call) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, longestBody)
		s.mu.Lock()
		defer s.mu.Unlock()
		user, err := s.userOf(r)
		if err == nil {
			err = s.limited(w, user)
		}
		if err != nil {
			fail(w, err)
			return
		}
		result, err := answer(&call{r, user})
		if err != nil {
			fail(w, err)
			return
		}
		code := http.StatusOK
		switch made := result.(type) {
		case created:
			code, result = http.StatusCreated, made.value
		case nothing:
			w.WriteHeader(http.StatusNoContent)
			return
		case page:
			if made.next != "" {
				w.Header().Set("Link", fmt.Sprintf("<%s>; rel=%q", made.next, "next"))
			}
			result = map[string]any{"items": made.items, "next": made.cursor}
		}
		write(w, code, result)
	}
}

func fail(w http.ResponseWriter, err error) {
	var p problem
	var tooLong *http.MaxBytesError
	switch {
	case errors.As(err, &p):
	case errors.As(err, &tooLong):
		p = problem{code: http.StatusRequestEntityTooLarge, text: fmt.Sprintf("the body is longer than %d bytes", tooLong.Limit)}
	default:
		p = problem{code: http.StatusInternalServerError, text: err.Error()}
	}
	answer := map[string]any{"problem": p.text}
	for name, value := range p.more {
		answer[name] = value
	}
	write(w, p.code, answer)
}

func write(w http.ResponseWriter, code int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.Encode(value)
}

// read reads the body of a call. Members that aren't known are refused.
func (c *call) read(into any) error {
	in := json.NewDecoder(c.Body)
	in.DisallowUnknownFields()
	if err := in.Decode(into); err != nil {
		var tooLong *http.MaxBytesError
		if errors.As(err, &tooLong) {
			return err
		}
		return wrong(http.StatusBadRequest, "the body can't be read: %v", err)
	}
	return nil
}
