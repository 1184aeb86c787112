package report

import (
	"errors"
	"slices"
)

// Results are read by two goroutines: one follows the JSON and finds what nearly all results hold, the other makes findings of
// that. Each takes about as long. What is handed over is a batch: the results of one stretch of the window, with the stretch,
// since their texts are parts of it.

// batch is what is handed over.
type batch struct {
	buf     []byte        // the stretch; before that, room for another one
	results []plainResult // as many as there were in it at most; those that have an end are in it now
	ends    []int64       // where each result ends in the report
	err     error         // what ended the reading behind them; nil where nothing did
}

const (
	batchResults = 4096 // of a batch, at most
	batches      = 3    // one that is filled, one that waits, one that is emptied
)

// errStopped ends the reading ahead when nobody wants more.
var errStopped = errors.New("stopped")

// readResults reads the elements of an array of results, and has each taken in order.
func (r *run) readResults() error {
	s := r.sarif
	if _, err := s.read(func(c *scan) bool { return c.take('[') }); err != nil {
		return err
	}
	a := &aheadReader{window: s.window, clang: r.isClang(), path: slices.Clone(s.path), full: make(chan *batch, 1), free: make(chan *batch, batches), stop: make(chan struct{})}
	for range batches {
		a.free <- &batch{}
	}
	go a.run(s.window.pointer)
	at, n := len(s.path), 0
	var failed error
	for b := range a.full {
		for i := range b.ends {
			if failed != nil {
				break
			}
			s.path = append(s.path[:at], step{n: n})
			n++
			if failed = r.result(&b.results[i], b.ends[i]); failed != nil {
				close(a.stop)
			}
		}
		if failed == nil && b.err != nil {
			failed = b.err
		}
		a.free <- b
	}
	s.path = s.path[:at]
	return failed
}

// aheadReader reads results ahead. While it runs the window is its own.
type aheadReader struct {
	*window
	clang bool
	path  []step // to the array
	n     int    // of the result that is read
	now   *batch
	full  chan *batch
	free  chan *batch
	stop  chan struct{}
}

func (a *aheadReader) run(pointer func() string) {
	f := a.window
	f.pointer = func() string { return pointerTo(append(a.path, step{n: a.n})) }
	f.swap = a.hand
	err := a.read()
	f.pointer, f.swap = pointer, nil
	if a.now != nil && err != errStopped {
		a.now.err = err
		select {
		case a.full <- a.now:
		case <-a.stop:
		}
	}
	close(a.full)
}

// read reads up to the array's end.
func (a *aheadReader) read() error {
	if err := a.take(); err != nil {
		return err
	}
	next := func(c *scan) bool { return c.element(']', a.n == 0) }
	quick := func(c *scan) bool {
		return a.now.next().read(c, a.clang)
	}
	for ; ; a.n++ {
		if ended, err := a.window.read(next); err != nil || ended {
			return err
		}
		if len(a.now.ends) == batchResults {
			if err := a.shift(); err != nil {
				return err
			}
		}
		if _, err := a.window.read(quick); err != nil {
			return err
		}
		a.now.ends = append(a.now.ends, a.offset())
	}
}

// next is an empty result, which is in the batch once it has an end.
func (b *batch) next() *plainResult {
	n := len(b.ends)
	if n == len(b.results) {
		b.results = append(b.results, plainResult{})
	}
	b.results[n].clear()
	return &b.results[n]
}

// take takes an empty batch.
func (a *aheadReader) take() error {
	select {
	case a.now = <-a.free:
		a.now.ends = a.now.ends[:0]
		return nil
	case <-a.stop:
		a.now = nil
		return errStopped
	}
}

// hand hands the batch over with the window's stretch, where something in it was read, and gives room for the next one.
func (a *aheadReader) hand(stretch []byte) (room []byte, err error) {
	if len(a.now.ends) == 0 {
		return stretch, nil
	}
	room, a.now.buf = a.now.buf, stretch
	select {
	case a.full <- a.now:
	case <-a.stop:
		return nil, errStopped
	}
	if err := a.take(); err != nil {
		return nil, err
	}
	if len(room) < len(stretch) {
		room = make([]byte, len(stretch))
	}
	return room, nil
}
