package cli

import (
	"context"
	"crypto/rand"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"

	"zincdoor/internal/files"
	"zincdoor/internal/process"
)

// endWithin is how long a call that is interrupted has for ending by itself, unless it asks for longer.
const endWithin = 1200 * time.Millisecond

type graceKey struct{}

// needToEnd has a call that is interrupted have so long for ending by itself.
func needToEnd(ctx context.Context, long time.Duration) {
	if grace, ok := ctx.Value(graceKey{}).(*atomic.Int64); ok {
		grace.Store(int64(long))
	}
}

// endOnSignal has the context end when the program is asked to. Where the call hasn't ended by itself soon after, wherever it is, all
// that it holds is abandoned and exit called. A pipe that nobody reads becomes an error of writing. The call must end with ended,
// which leaves no process behind where it was interrupted.
func endOnSignal(parent context.Context, exit func()) (ctx context.Context, abandon, ended func()) {
	mark, unmarked := process.Mark("ZINCDOOR_CALL", rand.Text())
	end := func() {
		if unmarked == nil {
			process.EndMarked(mark)
		}
	}
	abandon = func() {
		files.RemoveHeld()
		end()
	}
	told := make(chan os.Signal, 1)
	for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(s) { // as nohup has it
			signal.Notify(told, s)
		}
	}
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	grace := new(atomic.Int64)
	grace.Store(int64(endWithin))
	ctx, cancel := context.WithCancel(context.WithValue(parent, graceKey{}, grace))
	done := make(chan struct{})
	go func() {
		select {
		case <-told:
			cancel()
		case <-done:
			return
		}
		select {
		case <-time.After(time.Duration(grace.Load())):
			abandon()
			exit()
		case <-done:
		}
	}()
	return ctx, abandon, func() {
		close(done)
		if ctx.Err() != nil {
			end()
		}
		cancel()
	}
}
