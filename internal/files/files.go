// Package files knows how files are written whole or not at all, and how temporary folders end: with the run that made them
// or, where that was killed, with a later one.
package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
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
	return write(file, data, perm, options)
}

// WriteLocked is Write where the caller holds a lock without which nobody writes the file.
func WriteLocked(file string, data []byte, perm fs.FileMode, options ...renameio.Option) error {
	RemoveUnfinished(file, 0)
	return write(file, data, perm, options)
}

// WriteFrom is WriteLocked where what isn't whole yet stands in another folder, as far as that is on the same file system: whoever
// looks at the files beside this one never meets it. What is unfinished there is the caller's to remove (RemoveUnfinished), whether it
// then writes or not.
func WriteFrom(folder, file string, data []byte, perm fs.FileMode, options ...renameio.Option) error {
	if os.MkdirAll(folder, 0o755) == nil {
		err := renameio.WriteFile(file, data, perm, append(options, renameio.WithTempDir(folder))...)
		if !errors.Is(err, syscall.EXDEV) {
			return err
		}
	}
	return WriteLocked(file, data, perm, options...)
}

// write writes the new file beside the old one, where what is unfinished is looked for.
func write(file string, data []byte, perm fs.FileMode, options []renameio.Option) error {
	return renameio.WriteFile(file, data, perm, append(options, renameio.WithTempDir(filepath.Dir(file)))...)
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
