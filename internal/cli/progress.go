package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/lint"
	"zincdoor/internal/render"
)

// patience is how long work may last before people are told of it.
const patience = 500 * time.Millisecond

// progress shows how far the linters are: on a terminal with a line for each of them while it works, else with one when
// it has ended, for those that take their time.
type progress struct {
	mutex sync.Mutex
	out   io.Writer
	live  *mpb.Progress // nil where out is no terminal
	bars  map[string]*mpb.Bar
	began map[string]time.Time
}

func newProgress(out io.Writer) *progress {
	p := &progress{out: out, bars: map[string]*mpb.Bar{}, began: map[string]time.Time{}}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		begin := make(chan any)
		time.AfterFunc(patience, func() { close(begin) })
		p.live = mpb.New(mpb.WithOutput(out), mpb.WithWidth(1), mpb.WithRenderDelay(begin))
	}
	return p
}

// tell takes a step of a linter. It may be called for several at once.
func (p *progress) tell(s lint.Step) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	name := render.Safe(s.Name)
	if !s.Ended {
		p.began[name] = time.Now()
		if p.live != nil && p.bars[name] == nil {
			p.bars[name] = p.live.New(1, mpb.SpinnerStyle(), mpb.BarRemoveOnComplete(),
				mpb.AppendDecorators(decor.Name(name, decor.WCSyncSpaceR), decor.Elapsed(decor.ET_STYLE_GO, decor.WCSyncSpaceR)))
		}
		return
	}
	if bar := p.bars[name]; bar != nil {
		bar.SetCurrent(1)
		delete(p.bars, name)
		return
	}
	if s.Note != "" && time.Since(p.began[name]) >= patience {
		fmt.Fprintf(p.out, "zincdoor: %s %s\n", name, render.Safe(s.Note))
	}
}

// watched does what a request asks for, and shows meanwhile what takes its time.
func (p *program) watched(ctx context.Context, q app.GateRequest, do func(context.Context, app.GateRequest) ([]*app.Judged, error)) ([]*app.Judged, error) {
	progress := newProgress(p.err)
	q.Tell = progress.tell
	judged, err := do(ctx, q)
	progress.end()
	return judged, graded(err)
}

// end takes all lines away.
func (p *progress) end() {
	p.mutex.Lock()
	for _, bar := range p.bars {
		bar.Abort(true)
	}
	p.mutex.Unlock()
	if p.live != nil {
		p.live.Wait()
	}
}
