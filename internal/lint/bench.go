package lint

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"zincdoor/internal/files"
	"zincdoor/internal/process"
)

// Task is one start of a linter.
type Task struct {
	Command    []string // the program and all its arguments
	Dir        string   // absolute: where it starts
	Env        []string // NAME=value
	Timeout    time.Duration
	Stderr     bool                  // what it finds stands on its error output
	File       string                // absolute: the file it writes what it finds to; "" for an output
	TellsReads bool                  // it gets the name of a file to write to what it reads
	Fault      func(code int) string // why a run that ended with a code is no good one, "" where it is
}

// Outcome is what came of a task.
type Outcome struct {
	Report  string   // the file that holds what it found; "" where there is a problem
	Size    int64    // of that file, in bytes
	Code    int      // that it ended with, where there is no problem
	Problem string   // why it is no evidence, "" where it is
	Reads   string   // the file that says what it read, where it wrote one
	Tail    []string // the last lines of its error output
}

// Bench is where linters work: a temporary folder, and as many at once as there are processors.
type Bench struct {
	Dir   string // of its own, removed by Close
	slots chan struct{}

	folder *files.Folder

	count sync.Mutex
	made  int
}

// benchFolders are for benches. With one ends what was started on it.
var benchFolders = files.NewKind("bench", func(path string) { process.EndMarked(markOf(path)) })

// NewBench makes a bench.
func NewBench() (*Bench, error) {
	folder, err := benchFolders.Folder()
	if err != nil {
		return nil, err
	}
	return &Bench{Dir: folder.Path, slots: make(chan struct{}, runtime.GOMAXPROCS(0)), folder: folder}, nil
}

// markOf is what every process that is started on the bench in a folder has in its environment.
func markOf(dir string) string { return "ZINCDOOR_BENCH=" + dir }

// Place makes an empty folder on the bench.
func (b *Bench) Place() (string, error) {
	b.count.Lock()
	defer b.count.Unlock()
	b.made++
	dir := filepath.Join(b.Dir, fmt.Sprintf("place-%d", b.made))
	return dir, os.Mkdir(dir, 0o755)
}

// Close ends what was started here and still runs, and removes the folder.
func (b *Bench) Close() error { return b.folder.Remove() }

// Run starts a task when its turn has come, and waits for its end. A context that ends ends the task.
func (b *Bench) Run(ctx context.Context, t Task) Outcome {
	select {
	case b.slots <- struct{}{}:
		defer func() { <-b.slots }()
	case <-ctx.Done():
		return Outcome{Problem: "it was stopped"}
	}
	dir, err := b.Place()
	if err != nil {
		return Outcome{Problem: err.Error()}
	}
	reads := filepath.Join(dir, "reads")
	if t.TellsReads && !strings.Contains(reads, " ") { // what follows a blank is taken for a target
		t.Env = append(t.Env[:len(t.Env):len(t.Env)], readsVariable+"="+reads)
	}
	o := b.run(ctx, t, filepath.Join(dir, "report"))
	o.Reads = reads
	return o
}

// The bounds of what is kept of a linter's words.
const (
	mostReport = 1 << 30 // bytes
	mostTail   = 8 << 10 // bytes, of which the last lines are shown
	tailLines  = 5
)

// output takes down what a linter finds, as far as it stays in bounds.
type output struct {
	file *os.File
	left int64
	over func() // called when it is out of bounds
}

var errOver = errors.New("too much output")

func (r *output) Write(data []byte) (int, error) {
	if r.left -= int64(len(data)); r.left < 0 {
		r.over()
		return 0, errOver
	}
	return r.file.Write(data)
}

// taken tells a file's state apart from an earlier one.
type taken struct {
	size int64
	time time.Time
	info fs.FileInfo
}

func take(file string) taken {
	info, err := os.Stat(file)
	if err != nil {
		return taken{}
	}
	return taken{info.Size(), info.ModTime(), info}
}

func (t taken) is(other taken) bool {
	return t.size == other.size && t.time.Equal(other.time) && (t.info == nil) == (other.info == nil) && (t.info == nil || os.SameFile(t.info, other.info))
}

// Program tells a program apart from other versions of it, by its file: where it is, how long, and of what time.
func Program(name string) (identity string, known bool) {
	at, err := exec.LookPath(name)
	if err != nil {
		return "", false
	}
	if real, err := filepath.EvalSymlinks(at); err == nil {
		at = real
	}
	info, err := os.Stat(at)
	if err != nil {
		return "", false
	}
	return fmt.Sprintf("%s %d %d", at, info.Size(), info.ModTime().UnixNano()), true
}

// keep copies a file that a linter wrote to where nothing overwrites it.
func keep(from, to string) (size int64, err error) {
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	info, err := in.Stat()
	switch {
	case err != nil:
		return 0, err
	case !info.Mode().IsRegular():
		return 0, fmt.Errorf("%s is no regular file", from)
	case info.Size() > mostReport:
		return 0, errOver
	}
	out, err := os.Create(to)
	if err != nil {
		return 0, err
	}
	size, err = io.Copy(out, in)
	return size, errors.Join(err, out.Close())
}
