package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/lint"
	"zincdoor/internal/render"
)

// patience is how long work may last before people are shown that it goes on.
const patience = 500 * time.Millisecond

// frame is how long a line of progress stays as it is.
const frame = 100 * time.Millisecond

// progress shows how far the work is: on a terminal with a line that names what goes on, and goes when all has ended; else
// with a line for each linter that took its time. Its methods may be called for several at once.
type progress struct {
	out  io.Writer
	live bool // out is a terminal
	stop chan struct{}
	done sync.WaitGroup

	mutex sync.Mutex
	began map[string]time.Time // of what goes on
	shown bool                 // a line is on the terminal
}

// newProgress begins to show progress. It must be ended.
func newProgress(out io.Writer) *progress {
	p := &progress{out: out, began: map[string]time.Time{}, stop: make(chan struct{})}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.live = true
		p.done.Go(p.draw)
	}
	return p
}

// draw draws the line anew until it is stopped.
func (p *progress) draw() {
	tick := time.NewTicker(frame)
	defer tick.Stop()
	for turn := 0; ; turn++ {
		select {
		case <-p.stop:
			return
		case <-tick.C:
			p.drawOnce(turn)
		}
	}
}

func (p *progress) drawOnce(turn int) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	var parts []string
	for name, began := range p.began {
		if lasts := time.Since(began); lasts >= patience {
			parts = append(parts, fmt.Sprintf("%s %s", name, lasts.Round(time.Second/10)))
		}
	}
	if len(parts) == 0 && !p.shown {
		return
	}
	slices.Sort(parts)
	columns := cmp.Or(terminalColumns(p.out), 80)
	p.shown = true
	fmt.Fprintf(p.out, "\r\x1b[K%s", render.Truncate(string(`|/-\`[turn%4])+" "+strings.Join(parts, ", "), columns-1))
}

// show takes a step of the work.
func (p *progress) show(s lint.Step) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	name := render.Safe(s.Name)
	if !s.Ended {
		p.began[name] = time.Now()
		return
	}
	took := time.Since(p.began[name])
	delete(p.began, name)
	if !p.live && s.Note != "" && took >= patience {
		fmt.Fprintf(p.out, "zincdoor: %s %s\n", name, render.Safe(s.Note))
	}
}

// clear takes the line away until it is drawn again, so that something else can be written.
func (p *progress) clear() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.shown {
		fmt.Fprint(p.out, "\r\x1b[K")
		p.shown = false
	}
}

// end takes the line away.
func (p *progress) end() {
	close(p.stop)
	p.done.Wait()
	if p.shown {
		fmt.Fprint(p.out, "\r\x1b[K")
	}
}

// watched does what a request asks for, and shows meanwhile what takes its time.
func (p *program) watched(ctx context.Context, q app.GateRequest, do func(context.Context, app.GateRequest) ([]*app.Judged, error)) ([]*app.Judged, error) {
	progress := newProgress(p.err)
	q.Tell = progress.show
	judged, err := do(ctx, q)
	progress.end()
	return judged, graded(err)
}
