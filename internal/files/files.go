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
)

// UnfinishedAge is how old an unfinished file must be before it is taken for one of a run that was killed.
const UnfinishedAge = 10 * time.Minute

// Write puts data in the place of what file holds: afterwards, and whenever the run is interrupted, the file is the old or the new
// one, whole. A new file gets perm, less the umask; of one that is there perm replaces the mode. What earlier runs that were killed
// left beside it is removed.
func Write(file string, data []byte, perm fs.FileMode) error {
	RemoveUnfinished(file, UnfinishedAge)
	return writeWhole(filepath.Dir(file), file, data, perm, false)
}

// WriteLocked is Write where the caller holds a lock without which nobody writes the file.
func WriteLocked(file string, data []byte, perm fs.FileMode) error {
	return writeLocked(file, data, perm, false)
}

func writeLocked(file string, data []byte, perm fs.FileMode, exact bool) error {
	RemoveUnfinished(file, 0)
	return writeWhole(filepath.Dir(file), file, data, perm, exact)
}

// WriteFrom is WriteLocked where what isn't whole yet stands in another folder, as far as that is on the same file system: whoever
// looks at the files beside this one never meets it. What is unfinished there is the caller's to remove (RemoveUnfinished), whether it
// then writes or not.
func WriteFrom(folder, file string, data []byte, perm fs.FileMode) error {
	return writeFrom(folder, file, data, perm, false)
}

// WriteExactly is WriteFrom with a mode that the umask takes nothing from.
func WriteExactly(folder, file string, data []byte, perm fs.FileMode) error {
	return writeFrom(folder, file, data, perm, true)
}

func writeFrom(folder, file string, data []byte, perm fs.FileMode, exact bool) error {
	if os.MkdirAll(folder, 0o755) == nil {
		err := writeWhole(folder, file, data, perm, exact)
		if !errors.Is(err, syscall.EXDEV) {
			return err
		}
	}
	return writeLocked(file, data, perm, exact)
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

// WriteNew writes a file that isn't there yet; of one that is, the error is fs.ErrExist.
func WriteNew(file string, data []byte, perm fs.FileMode) error {
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm)
	if err != nil {
		return err
	}
	_, err = out.Write(data)
	if err = errors.Join(err, out.Close()); err != nil {
		os.Remove(file)
	}
	return err
}
