package lint

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"
)

// folder is what is in a folder and in those below it, by path in slashes.
type folder struct {
	files   map[string]onDisk // links too
	folders []string          // outer ones before inner ones
}

// onDisk is a file as it stands on disk.
type onDisk struct {
	mode     fs.FileMode
	stamp    stamp
	distinct bool // the system tells it apart from all later states
}

// look looks at all that stands in a folder. Links aren't followed.
func look(dir string) (*folder, error) {
	all := &folder{files: map[string]onDisk{}}
	var mutex sync.Mutex
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	var in func(name string) error
	in = func(name string) error {
		entries, err := os.ReadDir(filepath.Join(dir, filepath.FromSlash(name)))
		if err != nil {
			return err
		}
		files := make([]onDisk, len(entries))
		for i, e := range entries {
			if e.IsDir() {
				continue
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			files[i].mode = info.Mode()
			files[i].stamp, files[i].distinct = stampOf(info)
		}
		var below []string
		mutex.Lock()
		for i, e := range entries {
			if file := path.Join(name, e.Name()); e.IsDir() {
				below = append(below, file)
			} else {
				all.files[file] = files[i]
			}
		}
		all.folders = append(all.folders, below...)
		mutex.Unlock()
		for _, next := range below {
			if group.TryGo(func() error { return in(next) }) {
				continue
			}
			if err := in(next); err != nil {
				return err
			}
		}
		return nil
	}
	group.Go(func() error { return in("") })
	err := group.Wait()
	slices.Sort(all.folders)
	return all, err
}
