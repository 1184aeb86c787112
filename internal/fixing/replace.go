package fixing

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"zincdoor/internal/files"
)

// replace puts data in the place of what a file of the work tree holds. The file keeps its mode, owner and what else is known of
// it: a new file takes its place where that can be given all of these, else it is written in place, as one with several names
// must be. What is written in place can be cut off by a kill, which the trace fixes.
func (s *Files) replace(path string, data []byte) error {
	file := filepath.Join(s.repo.Root, filepath.FromSlash(path))
	info, err := os.Lstat(file)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", path)
	}
	if !isPlain(file, info) {
		return writeInPlace(file, info, data)
	}
	name, err := s.traceFile()
	if err != nil {
		return err
	}
	replaced, err := renameOver(file, freshFolder(name), info, data)
	if err == nil && !replaced {
		err = writeInPlace(file, info, data)
	}
	return err
}

// renameOver has a new file with the same owner and mode, made in dir, take a file's place. It is false where that can't be
// done, and nothing is changed then.
func renameOver(file, dir string, info fs.FileInfo, data []byte) (replaced bool, err error) {
	fresh, err := files.NewPending(file, dir, 0o600)
	if err != nil {
		return false, err
	}
	defer fresh.Cleanup()
	if _, err := fresh.Write(data); err != nil {
		return false, err
	}
	if !giveOwner(fresh.File, info) || fresh.Chmod(info.Mode()) != nil {
		return false, nil
	}
	err = fresh.CloseAtomicallyReplace()
	if isOtherDevice(err) {
		return false, nil
	}
	return err == nil, err
}

// writeInPlace writes over what a file holds.
func writeInPlace(file string, info fs.FileInfo, data []byte) (err error) {
	to, err := os.OpenFile(file, os.O_WRONLY, 0)
	if errors.Is(err, fs.ErrPermission) && os.Chmod(file, info.Mode()|0o200) == nil {
		to, err = os.OpenFile(file, os.O_WRONLY, 0)
		defer os.Chmod(file, info.Mode())
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	if now, err := to.Stat(); err != nil || !os.SameFile(now, info) {
		return fmt.Errorf("%s was replaced in the meantime", file)
	}
	if _, err := to.WriteAt(data, 0); err != nil {
		return err
	}
	if err := to.Truncate(int64(len(data))); err != nil {
		return err
	}
	return errors.Join(to.Chmod(info.Mode()), to.Sync()) // writing takes away the bits that change the user
}
