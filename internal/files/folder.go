package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/gofrs/flock"
)

// Kind is what temporary folders are for.
type Kind struct {
	name string
	end  func(path string)
}

var kinds []*Kind

// NewKind makes a kind of folders, by a word without a dash, when the program starts. End, which may be nil, ends what works in a
// folder; it is called before one is removed, of this run or of a dead one.
func NewKind(name string, end func(path string)) *Kind {
	k := &Kind{name, end}
	kinds = append(kinds, k)
	return k
}

// Folder is a temporary folder that this run has for itself. It is locked for as long as the run lives, which tells it apart
// from what a run that was killed left behind.
type Folder struct {
	Path string // absolute

	lock *flock.Flock
	kind *Kind
}

// held are the folders that weren't removed yet.
var held = struct {
	sync.Mutex
	folders map[*Folder]bool
}{folders: map[*Folder]bool{}}

// lockTries is how often a folder is made anew because another run took it for an abandoned one before it was locked.
const lockTries = 10

// Folder makes a temporary folder. It is the caller's to remove.
func (k *Kind) Folder() (*Folder, error) {
	for range lockTries {
		path, err := os.MkdirTemp("", "zincdoor-"+k.name+"-")
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
			f := &Folder{Path: path, lock: lock, kind: k}
			held.Lock()
			defer held.Unlock()
			held.folders[f] = true
			return f, nil
		}
		lock.Close()
	}
	return nil, fmt.Errorf("no temporary folder can be kept: each was removed as soon as it was made")
}

// lockOf is a lock on a folder itself, so that no lock file is left behind.
func lockOf(path string) *flock.Flock { return flock.New(path, flock.SetFlag(os.O_RDONLY)) }

// Lock waits for a folder that other runs lock too, and keeps them out until unlock is called.
func Lock(folder string) (unlock func() error, err error) {
	lock := lockOf(folder)
	return lock.Unlock, lock.Lock()
}

// isSame reports whether what was locked is what is at path now.
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
	if f.kind.end != nil {
		f.kind.end(f.Path)
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

// RemoveAbandoned removes the folders, of all kinds, that runs which were killed left behind. Those of other users are left.
func RemoveAbandoned() {
	entries, err := os.ReadDir(os.TempDir())
	if err != nil {
		return
	}
	for _, e := range entries {
		i := slices.IndexFunc(kinds, func(k *Kind) bool { return strings.HasPrefix(e.Name(), "zincdoor-"+k.name+"-") })
		if i < 0 || !e.IsDir() {
			continue
		}
		end := kinds[i].end
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
