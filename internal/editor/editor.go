// Package editor knows the gate as an editor sees it: it speaks the Language Server Protocol, shows what the door says of the work tree
// and of texts that aren't saved, explains it, and offers what can be done. What is judged, and how, is the app's.
package editor

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"sync"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"

	"zincdoor/internal/app"
	"zincdoor/internal/core/source"
)

// Options are what a server starts from.
type Options struct {
	Request app.GateRequest // of every judgement, whose folder and day are set for each
	Today   func() string   // YYYY-MM-DD, UTC
	Version string          // of the program
}

// ErrUnasked is the error of an editor that goes away without a word.
var ErrUnasked = errors.New("the editor left without asking to shut down")

// server serves one editor.
type server struct {
	Options
	rpc    *jrpc2.Server
	ctx    context.Context // ends with the server
	end    context.CancelFunc
	work   sync.WaitGroup // what runs beside the requests
	shut   bool           // the editor asked to shut down
	exited chan struct{}  // is closed when it asks to exit
	exit   func()

	mutex       sync.Mutex // guards what follows, and the documents
	initialized bool
	client      clientAbilities
	settings    settings
	unit        source.Columns
	documents   map[string]*document
	places      map[string]*place // by their folders
	folders     map[string]folder // that were asked for, by their names
	cancels     map[string]func() // what calls off work in progress, by its token
	tokens      int               // how many were made
}

// Serve speaks with an editor until it leaves, which is an error where it doesn't say so.
func Serve(ctx context.Context, in io.Reader, out io.WriteCloser, o Options) error {
	return newServer(ctx, o).serve(ctx, in, out)
}

func newServer(ctx context.Context, o Options) *server {
	s := &server{Options: o, documents: map[string]*document{}, places: map[string]*place{}, folders: map[string]folder{}, cancels: map[string]func(){}}
	s.settings, s.unit = settings{Accepted: asHint, Existing: asHint}, source.UTF16
	s.exited = make(chan struct{})
	s.exit = sync.OnceFunc(func() { close(s.exited) })
	s.ctx, s.end = context.WithCancel(ctx)
	return s
}

func (s *server) serve(ctx context.Context, in io.Reader, out io.WriteCloser) error {
	defer s.work.Wait()
	defer s.end()
	s.rpc = jrpc2.NewServer(s.methods(), &jrpc2.ServerOptions{
		AllowPush: true, DisableBuiltin: true, Concurrency: mostAtOnce, NewContext: func() context.Context { return ctx },
	})
	messages := frame(in, out)
	s.rpc.Start(messages)
	gone := make(chan error, 1)
	go func() { gone <- s.rpc.Wait() }() // which an input that stays open holds up
	var err error
	select {
	case err = <-gone:
	case <-s.exited:
		messages.finish() // what came before
	case <-ctx.Done():
		return ctx.Err()
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	switch {
	case s.shut:
		return nil
	case err != nil && !channel.IsErrClosing(err):
		return err
	}
	return ErrUnasked
}

// mostAtOnce is how many requests are served at once: some wait for a judgement, or for an answer of the editor's.
const mostAtOnce = 1024

// methods are the requests and notifications that are understood.
func (s *server) methods() handler.Map {
	m := handler.Map{
		"initialize": s.initialize,
		"exit": func(context.Context, *jrpc2.Request) (any, error) {
			s.exit()
			return nil, nil
		},
	}
	for name, do := range map[string]handler.Func{
		"initialized":                         nothing,
		"$/setTrace":                          nothing,
		"$/cancelRequest":                     s.cancelRequest,
		"window/workDoneProgress/cancel":      s.cancelProgress,
		"shutdown":                            s.shutDown,
		"textDocument/didOpen":                s.didOpen,
		"textDocument/didChange":              s.didChange,
		"textDocument/didSave":                s.didSave,
		"textDocument/didClose":               s.didClose,
		"textDocument/diagnostic":             s.pull,
		"textDocument/hover":                  s.hover,
		"textDocument/codeAction":             s.codeActions,
		"textDocument/completion":             s.complete,
		"workspace/executeCommand":            s.execute,
		"workspace/didChangeConfiguration":    s.configure,
		"workspace/didChangeWatchedFiles":     s.filesChanged,
		"workspace/didChangeWorkspaceFolders": nothing,
	} {
		m[name] = s.guarded(do)
	}
	return m
}

func nothing(context.Context, *jrpc2.Request) (any, error) { return nil, nil }

// guarded refuses requests before the editor has introduced itself, and after it asked to shut down; notifications are passed over then.
func (s *server) guarded(do handler.Func) handler.Func {
	return func(ctx context.Context, req *jrpc2.Request) (any, error) {
		s.mutex.Lock()
		early, late := !s.initialized, s.shut
		s.mutex.Unlock()
		switch {
		case early && !req.IsNotification():
			return nil, jrpc2.Errorf(notInitialized, "initialize comes first")
		case late && !req.IsNotification():
			return nil, jrpc2.Errorf(jrpc2.InvalidRequest, "the server was asked to shut down")
		case early || late:
			return nil, nil
		}
		return do(ctx, req)
	}
}

func (s *server) initialize(_ context.Context, req *jrpc2.Request) (any, error) {
	var p initializeParams
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%v", err)
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.initialized {
		return nil, jrpc2.Errorf(jrpc2.InvalidRequest, "initialize comes once")
	}
	if err := s.set(p.InitializationOptions); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "initializationOptions: %v", err)
	}
	s.initialized, s.client = true, p.Capabilities
	encoding := "utf-16" // which every editor speaks
	units := map[string]source.Columns{"utf-8": source.Bytes, "utf-16": source.UTF16, "utf-32": source.CodePoints}
	for _, name := range p.Capabilities.General.PositionEncodings { // in the order of what it prefers
		if unit, known := units[name]; known {
			encoding, s.unit = name, unit
			break
		}
	}
	return map[string]any{
		"capabilities": map[string]any{
			"positionEncoding":   encoding,
			"textDocumentSync":   map[string]any{"openClose": true, "change": 2, "save": map[string]any{"includeText": false}},
			"hoverProvider":      true,
			"codeActionProvider": map[string]any{"codeActionKinds": []string{quickFix, fixAll}},
			"completionProvider": map[string]any{"triggerCharacters": []string{" ", "{", ","}},
			"diagnosticProvider": map[string]any{"identifier": "zincdoor", "interFileDependencies": true, "workspaceDiagnostics": false},
			"executeCommandProvider": map[string]any{
				"commands": []string{commandGate, commandAccept, commandLimit, commandFlow}, "workDoneProgress": true,
			},
		},
		"serverInfo": map[string]string{"name": "zincdoor", "version": s.Version},
	}, nil
}

func (s *server) shutDown(context.Context, *jrpc2.Request) (any, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.shut = true
	s.end()
	return nil, nil
}

// index is a text in the editor's positions.
func (s *server) index(text []byte) *index {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return newIndex(text, s.unit)
}

// set takes settings in. The server must be locked.
func (s *server) set(data json.RawMessage) error {
	if len(data) == 0 || string(data) == "null" {
		return nil
	}
	now := s.settings
	if err := json.Unmarshal(data, &now); err != nil {
		return err
	}
	for _, one := range []*string{&now.Accepted, &now.Existing} {
		if *one != asHint && *one != asHidden {
			return errors.New("accepted and existing are hint or hidden, not " + *one)
		}
	}
	s.settings = now
	return nil
}

// configure takes settings that were changed, which stand under the program's name or by themselves.
func (s *server) configure(_ context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		Settings json.RawMessage `json:"settings"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, err
	}
	var under struct {
		Zincdoor json.RawMessage `json:"zincdoor"`
	}
	if json.Unmarshal(p.Settings, &under) == nil && under.Zincdoor != nil {
		p.Settings = under.Zincdoor
	}
	s.mutex.Lock()
	door := s.settings.Door
	err := s.set(p.Settings)
	otherDoor := s.settings.Door != door
	places := s.allPlaces()
	s.mutex.Unlock()
	if err != nil {
		s.message(messageWarning, "zincdoor: settings: "+err.Error())
		return nil, nil
	}
	for _, w := range places {
		w.note(event{typed: true, now: true})
		if otherDoor {
			w.note(event{written: true, now: true})
		}
	}
	return nil, nil
}

// allPlaces are the places that there are. The server must be locked.
func (s *server) allPlaces() (all []*place) {
	for _, w := range s.places {
		all = append(all, w)
	}
	return all
}

// tell sends the editor a notification. An editor that doesn't listen any more misses nothing.
func (s *server) tell(method string, params any) { s.rpc.Notify(s.ctx, method, params) }

// message shows the user a sentence.
func (s *server) message(kind messageType, text string) {
	s.tell("window/showMessage", map[string]any{"type": kind, "message": text})
}

// patience is how long the user has to answer a question, and the editor to do what it is asked.
const (
	patience = 10 * time.Minute
	prompt   = 10 * time.Second
)

// ask sends the editor a request and reads its answer into to, which may be nil.
func (s *server) ask(ctx context.Context, wait time.Duration, method string, params, to any) error {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	answer, err := s.rpc.Callback(ctx, method, params)
	if err != nil || to == nil {
		return err
	}
	return answer.UnmarshalResult(to)
}

func (s *server) cancelRequest(_ context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		ID json.RawMessage `json:"id"`
	}
	if err := req.UnmarshalParams(&p); err == nil {
		s.rpc.CancelRequest(string(p.ID))
	}
	return nil, nil
}
