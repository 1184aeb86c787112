package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/gofrs/flock"
)

// Folder is a temporary folder that this run has for itself. It is locked for as long as the run lives, which tells it apart
// from what a run that was killed left behind.
type Folder struct {
	Path string // absolute

	lock *flock.Flock
	end  func(path string)
}

// held are the folders that weren't removed yet.
var held = struct {
	sync.Mutex
	folders map[*Folder]bool
}{folders: map[*Folder]bool{}}

// lockTries is how often a folder is made anew because another run took it for an abandoned one before it was locked.
const lockTries = 10

// NewFolder makes a temporary folder of a kind, a word without a dash, and removes those of its kind that runs which were killed
// left behind. End, which may be nil, ends what works in a folder; it is called before one is removed, of this run or of a dead
// one. The folder is the caller's to remove.
func NewFolder(kind string, end func(path string)) (*Folder, error) {
	removeAbandoned(kind, end)
	for range lockTries {
		path, err := os.MkdirTemp("", "zincdoor-"+kind+"-")
		if err != nil {
			return nil, fmt.Errorf("no temporary folder can be made (TMPDIR names where): %w", err)
		}
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real // as other programs will name it
		}
		lock := lockOf(path)
		locked, err := lock.TryLock()
		unlockable := err != nil && !errors.Is(err, os.ErrNotExist) // a file system without locks, where no run removes another's
		if unlockable || locked && isSame(lock, path) {
			f := &Folder{Path: path, lock: lock, end: end}
			held.Lock()
			defer held.Unlock()
			held.folders[f] = true
			return f, nil
		}
		lock.Close()
	}
	return nil, fmt.Errorf("no temporary folder can be kept: each was removed as soon as it was made")
}

func lockOf(path string) *flock.Flock { return flock.New(path, flock.SetFlag(os.O_RDONLY)) }

// isSame reports whether what was locked is what stands at path now.
func isSame(lock *flock.Flock, path string) bool {
	locked, err := lock.Stat()
	now, wrong := os.Lstat(path)
	return err == nil && wrong == nil && os.SameFile(locked, now)
}

// Remove ends what works in the folder and removes it.
func (f *Folder) Remove() error {
	held.Lock()
	delete(held.folders, f)
	held.Unlock()
	if f.end != nil {
		f.end(f.Path)
	}
	return errors.Join(RemoveAll(f.Path), f.lock.Close())
}

// RemoveHeld removes every folder of this run that is still there, for a run that can't wait for those who made them.
func RemoveHeld() {
	held.Lock()
	folders := make([]*Folder, 0, len(held.folders))
	for f := range held.folders {
		folders = append(folders, f)
	}
	held.Unlock()
	for _, f := range folders {
		f.Remove()
	}
}

// removeAbandoned removes the folders of a kind whose run is dead. Others' folders can't be locked, or are left.
func removeAbandoned(kind string, end func(path string)) {
	entries, err := os.ReadDir(os.TempDir())
	if err != nil {
		return
	}
	for _, e := range entries {
		if !e.IsDir() || !strings.HasPrefix(e.Name(), "zincdoor-"+kind+"-") {
			continue
		}
		path := filepath.Join(os.TempDir(), e.Name())
		info, err := e.Info()
		if err != nil || !isOwn(info) {
			continue
		}
		lock := lockOf(path)
		if locked, err := lock.TryLock(); err == nil && locked {
			if end != nil {
				if real, err := filepath.EvalSymlinks(path); err == nil {
					end(real)
				}
			}
			RemoveAll(path)
		}
		lock.Close()
	}
}
