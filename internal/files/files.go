// Package files knows how files are written whole or not at all, and how temporary folders end: with the run that made them
// or, where that was killed, with a later one.
package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"
)

// UnfinishedAge is how old an unfinished file must be before it is taken for one of a run that was killed.
const UnfinishedAge = 10 * time.Minute

// Write puts data in the place of what file holds: afterwards, and whenever the run is interrupted, the file is the old or the new
// one, whole. A new file gets perm, less the umask; of one that is there perm replaces the mode. What earlier runs that were killed
// left beside it is removed.
func Write(file string, data []byte, perm fs.FileMode, options ...renameio.Option) error {
	RemoveUnfinished(file, UnfinishedAge)
	return renameio.WriteFile(file, data, perm, options...)
}

// WriteLocked is Write where the caller holds a lock without which nobody writes the file.
func WriteLocked(file string, data []byte, perm fs.FileMode, options ...renameio.Option) error {
	RemoveUnfinished(file, 0)
	return renameio.WriteFile(file, data, perm, options...)
}

// RemoveUnfinished removes files that were to replace file and never did, as far as they were last written before that age.
func RemoveUnfinished(file string, age time.Duration) {
	dir := filepath.Dir(file)
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		digits, ours := strings.CutPrefix(e.Name(), "."+filepath.Base(file)) // as renameio names them
		if !ours || digits == "" || strings.Trim(digits, "0123456789") != "" {
			continue
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) >= age {
			os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

// RemoveAll removes a folder with all that is in it, also where folders were made unwritable.
func RemoveAll(dir string) error {
	err := os.RemoveAll(dir)
	if err == nil {
		return nil
	}
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			os.Chmod(path, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
