package editor

import (
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/lint"
	"zincdoor/internal/memory"
)

// pause is how long nothing must be typed before what was typed is judged; calm the same of what others write.
const (
	pause = 300 * time.Millisecond
	calm  = 100 * time.Millisecond
)

// mostTyped bounds how long a text is that is judged while it isn't saved, in bytes.
const mostTyped = 8 << 20

// place is a work tree with open documents, which is judged by a goroutine of its own; or a folder outside of any repository, of which
// only the policy is looked at.
type place struct {
	*server
	root   string
	lone   bool // outside of any repository
	events chan event
	policy *checkedPolicy // what is wrong in the policy as it was seen last; of the goroutine that judges

	judging   sync.Mutex // guards what follows
	live      *app.Live  // nil before the first judgement
	problem   error      // why the last one of what is on disk wasn't made
	judgement *app.Judgement
	judged    map[string]version // the documents as they were judged last, by their addresses
	shown     map[string]shown   // what is shown of them
	changed   chan struct{}      // is closed when something of these changes
	said      string             // the outcome that the user was told last
	status    doorStatus         // that the editor was told last
}

// folder is where a folder lies.
type folder struct {
	root   string // of its work tree, links followed; "" for none
	prefix string // from there
	lone   bool   // root is no work tree's, but that of the policy in the folder
}

// version is a document at some moment.
type version struct {
	number int
	path   string // from the root
	text   []byte
}

// event is something that happened to a place.
type event struct {
	typed   bool      // a text was edited
	now     bool      // without the pause
	written bool      // files were written
	saved   bool      // by the editor
	asked   *asked    // the user wants everything judged
	done    *finished // a judgement of what is on disk has ended
}

// asked is a wish to have everything judged, all linters started.
type asked struct {
	ctx  context.Context
	tell func(lint.Step)
	done chan error
}

// finished is a judgement of what is on disk.
type finished struct {
	live *app.Live
	err  error
	wish *asked // that it was for, nil for none
}

// note hands an event to the place.
func (w *place) note(e event) {
	if e.typed && !e.now { // of several waiting ones the last does
		select {
		case w.events <- e:
		default:
		}
		return
	}
	select {
	case w.events <- e:
	case <-w.ctx.Done():
	}
}

// placeOf is the place that a file belongs to, nil where there is none for it. Anew says that a repository may have come about. The server
// must not be locked.
func (s *server) placeOf(file string, anew bool) *place {
	if file == "" {
		return nil
	}
	dir := filepath.Dir(file)
	s.mutex.Lock()
	at, known := s.folders[dir]
	s.mutex.Unlock()
	if !known || at.root == "" && anew {
		at = folder{}
		at.root, at.prefix, _ = app.WorkTree(s.ctx, dir)
		if at.lone = at.root == "" && isPolicy(file); at.lone {
			at.root, at.prefix = filepath.Dir(dir), filepath.Base(dir)
		}
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.folders[dir] = at
	if at.root == "" || s.shut || at.lone && !isPolicy(file) {
		return nil
	}
	w := s.places[at.root]
	if w == nil {
		w = &place{server: s, root: at.root, lone: at.lone, events: make(chan event, 64), judged: map[string]version{}, shown: map[string]shown{}, changed: make(chan struct{})}
		q := s.Request
		q.Dir = at.root
		w.live = app.NewLive(q)
		s.places[at.root] = w
		s.work.Go(w.run)
	}
	return w
}

// open are the documents of the place that are open, by their addresses.
func (w *place) open() map[string]version {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	all := map[string]version{}
	for uri, d := range w.documents {
		if at := w.folders[filepath.Dir(d.file)]; d.file != "" && at.root == w.root && (!w.lone || isPolicy(d.file)) {
			all[uri] = version{d.version, path.Join(at.prefix, filepath.Base(d.file)), d.text}
		}
	}
	return all
}

// run judges when there is something to judge, until the server ends.
func (w *place) run() {
	outside := w.watch()
	defer outside.close()
	typing := time.NewTimer(time.Hour)
	writing := time.NewTimer(time.Hour)
	typing.Stop()
	writing.Stop()
	running, again, saved := false, false, false
	var wishes []*asked
	start := func() {
		if running || w.lone {
			return
		}
		switch {
		case len(wishes) > 0:
			running = true
			w.judge(wishes[0], saved)
			wishes = wishes[1:]
		case again:
			running = true
			w.judge(nil, saved)
		}
		if running {
			again, saved = false, false
		}
	}
	for {
		select {
		case <-w.ctx.Done():
			for running {
				if e := <-w.events; e.done != nil {
					running = false
					if e.done.live != nil {
						e.done.live.Close()
					}
				}
			}
			w.live.Close()
			return
		case e := <-w.events:
			switch {
			case e.done != nil:
				running = false
				w.take(e.done)
				w.policy = nil // what of it never matters may be another
				w.show()
				if wish := e.done.wish; wish != nil {
					wish.done <- e.done.err
				}
				outside.follow(w.live)
				memory.GiveBack()
			case e.asked != nil:
				wishes = append(wishes, e.asked)
			case e.written:
				again, saved = true, saved || e.saved
				if !e.now {
					writing.Reset(calm)
					continue
				}
			case e.now:
				w.show()
			default:
				typing.Reset(pause)
				continue
			}
			start()
		case <-outside.written():
			again = true
			writing.Reset(calm)
		case <-typing.C:
			w.show()
		case <-writing.C:
			start()
		}
	}
}

// judge begins to judge what is on disk: for the user with all linters, else with those that look at each file by itself, and after
// the editor saved with those that the policy wants then.
func (w *place) judge(wish *asked, saved bool) {
	step := app.LiveStep{Today: w.Today(), Starts: func(r policy.Report) bool { return wish != nil || r.Run.PerFile || saved && r.Run.Watch }}
	for _, v := range w.open() {
		step.Open = append(step.Open, v.path)
	}
	slices.Sort(step.Open)
	w.mutex.Lock()
	step.Door = w.settings.Door
	w.mutex.Unlock()
	ctx := w.ctx
	if wish != nil {
		ctx, step.Tell = wish.ctx, wish.tell
	}
	live := w.live
	w.work.Go(func() {
		next, err := live.Next(ctx, step)
		if err != nil {
			next = nil
		}
		w.events <- event{done: &finished{next, err, wish}} // run waits for it, whatever ends
	})
}

// take takes a judgement of what is on disk.
func (w *place) take(f *finished) {
	w.judging.Lock()
	defer w.judging.Unlock()
	if f.err == nil {
		w.live.Close()
		w.live = f.live
	}
	if canceled := f.wish != nil && f.wish.ctx.Err() != nil; !canceled {
		w.problem = f.err
	}
}

// show judges the texts as they are typed, and shows the editor what came of it.
func (w *place) show() {
	open := w.open()
	texts := map[string][]byte{}
	for _, v := range open {
		if len(v.text) <= mostTyped {
			texts[v.path] = v.text
		}
	}
	w.judging.Lock()
	judgement, problem := w.live.Judgement(), w.problem
	if judgement != nil && problem == nil {
		var err error
		if judgement, err = w.live.Type(w.ctx, texts); err != nil {
			problem = err
		}
	}
	if problem != nil {
		judgement = nil
	}
	w.judgement = judgement
	w.judging.Unlock()
	if w.ctx.Err() != nil {
		return
	}
	w.present(open, judgement, problem)
}

// waitForJudged waits until a document was judged as it is now; false where that can't come about.
func (w *place) waitForJudged(ctx context.Context, uri string) (version, bool) {
	for asked := false; ; asked = true {
		now, isOpen := w.open()[uri]
		w.judging.Lock()
		was, known := w.judged[uri]
		changed, problem := w.changed, w.problem
		w.judging.Unlock()
		switch {
		case !isOpen:
			return now, false
		case known && was.number == now.number && string(was.text) == string(now.text):
			return now, problem == nil
		}
		if !asked {
			w.note(event{typed: true, now: true})
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return now, false
		case <-w.ctx.Done():
			return now, false
		}
	}
}

// errNotRepository is the error of what only a repository has.
var errNotRepository = errors.New("this file is in no git repository, so no door judges it")

// exists reports whether there is a file.
func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
