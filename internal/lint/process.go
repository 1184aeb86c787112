package lint

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"

	"zincdoor/internal/process"
)

// run starts a task, takes down what it finds in file, and ends all it has started.
func (b *Bench) run(ctx context.Context, t Task, file string) (o Outcome) {
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	kept, err := os.Create(file)
	if err != nil {
		return Outcome{Problem: err.Error()}
	}
	defer kept.Close()
	var over atomic.Bool
	found := &output{file: kept, left: mostReport, over: func() {
		over.Store(true)
		cancel()
	}}
	said := &tail{}
	cmd := exec.CommandContext(ctx, t.Command[0], t.Command[1:]...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = t.Dir, append(t.Env[:len(t.Env):len(t.Env)], markOf(b.Dir), "PWD="+t.Dir), process.Grace+process.Grace/5
	var stdout, stderr io.Writer = found, said
	switch {
	case t.File != "":
		stdout = said
	case t.Stderr:
		stdout, stderr = said, found
	}
	group := process.NewGroup(cmd)
	before := take(t.File)
	running, err := process.Start(cmd, stdout, stderr)
	if err != nil {
		return Outcome{Problem: notStarted(t.Command[0], err)}
	}
	err = running.Wait()
	group.End()
	o.Tail = said.lines()
	if t.Stderr && t.File == "" {
		o.Tail = lastLines(file)
	}
	code := cmd.ProcessState.ExitCode()
	o.Code = code
	switch {
	case over.Load():
		o.Problem = fmt.Sprintf("it was stopped, since it wrote more than %d MiB", mostReport>>20)
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		o.Problem = fmt.Sprintf("it was stopped after %v; to give it more time: timeout: in its report", t.Timeout)
	case ctx.Err() != nil:
		o.Problem = "it was stopped"
	case code < 0:
		o.Problem = fmt.Sprintf("it ended by itself: %v", cmd.ProcessState)
	case t.Fault(code) != "":
		o.Problem = t.Fault(code)
	case err != nil && !errors.As(err, new(*exec.ExitError)):
		o.Problem = err.Error()
	}
	if o.Problem != "" {
		return o
	}
	if t.File != "" {
		return o.take(t.File, before, file)
	}
	info, err := kept.Stat()
	if err != nil {
		o.Problem = err.Error()
		return o
	}
	o.Report, o.Size = file, info.Size()
	return o
}

// take takes over the file that the linter wrote.
func (o Outcome) take(from string, before taken, to string) Outcome {
	var err error
	switch now := take(from); {
	case now.info == nil:
		o.Problem = fmt.Sprintf("it ended well and wrote no %s", from)
	case now.is(before):
		o.Problem = fmt.Sprintf("it ended well and didn't write %s; the file there is older", from)
	default:
		if o.Size, err = keep(from, to); errors.Is(err, errOver) {
			o.Problem = fmt.Sprintf("it wrote more than %d MiB", mostReport>>20)
		} else if err != nil {
			o.Problem = err.Error()
		} else {
			o.Report = to
		}
	}
	return o
}

// notStarted says why a program can't be started, and what to do.
func notStarted(name string, err error) string {
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fmt.Sprintf("%s is not on the PATH; install it, or write optional: true in its report", name)
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("there is no program %s there", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Sprintf("%s may not be executed; is its executable bit set?", name)
	}
	return fmt.Sprintf("it can't be started: %v", err)
}

// tail keeps the end of what is written to it.
type tail struct{ kept []byte }

func (t *tail) Write(data []byte) (int, error) {
	n := len(data)
	if len(data) > mostTail {
		data = data[len(data)-mostTail:]
	}
	if t.kept = append(t.kept, data...); len(t.kept) > 2*mostTail {
		t.kept = append(t.kept[:0], t.kept[len(t.kept)-mostTail:]...)
	}
	return n, nil
}

// lines are the last lines that say something.
func (t *tail) lines() []string {
	var all []string
	for line := range strings.Lines(string(bytes.ToValidUTF8(t.kept, []byte("?")))) {
		if line = strings.TrimSpace(line); line != "" {
			all = append(all, line)
		}
	}
	return all[max(0, len(all)-tailLines):]
}

// lastLines are the last lines of a file.
func lastLines(name string) []string {
	file, err := os.Open(name)
	if err != nil {
		return nil
	}
	defer file.Close()
	t := &tail{kept: make([]byte, mostTail)}
	info, err := file.Stat()
	if err != nil {
		return nil
	}
	n, _ := file.ReadAt(t.kept, max(0, info.Size()-mostTail))
	t.kept = t.kept[:n]
	return t.lines()
}
