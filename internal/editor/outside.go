package editor

import (
	"path/filepath"

	"github.com/fsnotify/fsnotify"

	"zincdoor/internal/app"
	"zincdoor/internal/policyfile"
)

// outside watches the files beside the code that judgements depend on. Where files can't be watched, nothing is ever written.
type outside struct {
	watcher *fsnotify.Watcher
	root    string
	folders map[string]bool
	changes chan struct{}
	ended   chan struct{}
	wanted  chan map[string]bool
}

// watch begins to watch; what is watched is said by follow.
func (w *place) watch() *outside {
	o := &outside{root: w.root, folders: map[string]bool{}, changes: make(chan struct{}, 1), ended: make(chan struct{}), wanted: make(chan map[string]bool, 1)}
	var err error
	if o.watcher, err = fsnotify.NewWatcher(); err != nil {
		o.watcher = nil
		close(o.ended)
		return o
	}
	go o.run()
	return o
}

func (o *outside) close() {
	if o.watcher != nil {
		o.watcher.Close()
	}
	<-o.ended
}

// written tells when one of the files was written.
func (o *outside) written() <-chan struct{} { return o.changes }

// follow says which files are watched from now on.
func (o *outside) follow(live *app.Live) {
	if o.watcher == nil {
		return
	}
	files := map[string]bool{filepath.Join(o.root, filepath.FromSlash(policyfile.Path)): true} // whatever was judged
	for _, file := range live.Files() {
		files[file] = true
	}
	select {
	case <-o.wanted: // which nobody has taken up yet
	default:
	}
	o.wanted <- files
	for file := range files {
		// The nearest folder that there is: where a folder on the way is made, that is seen too.
		for dir := filepath.Dir(file); ; dir = filepath.Dir(dir) {
			if o.folders[dir] || o.watcher.Add(dir) == nil {
				o.folders[dir] = true
				break
			}
			if dir == o.root || dir == filepath.Dir(dir) {
				break
			}
		}
	}
}

func (o *outside) run() {
	defer close(o.ended)
	var files map[string]bool
	for {
		select {
		case files = <-o.wanted:
		case e, open := <-o.watcher.Events:
			if !open {
				return
			}
			if e.Op != fsnotify.Chmod && (files[e.Name] || leads(e.Name, files)) {
				o.tell()
			}
		case _, open := <-o.watcher.Errors: // events that were lost
			if !open {
				return
			}
			o.tell()
		}
	}
}

func (o *outside) tell() {
	select {
	case o.changes <- struct{}{}:
	default:
	}
}

// leads reports whether a folder is on the way to one of the files.
func leads(folder string, files map[string]bool) bool {
	for file := range files {
		for dir := filepath.Dir(file); dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
			if dir == folder {
				return true
			}
		}
	}
	return false
}
