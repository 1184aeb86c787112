//go:build unix

package fixing

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// isPlain reports whether a new file with the same owner and mode can stand for a file: it has no other name and no attribute of
// its own, such as an access list.
func isPlain(file string, info fs.FileInfo) bool {
	about, ok := info.Sys().(*syscall.Stat_t)
	return ok && about.Nlink == 1 && !hasAttributes(file)
}

// giveOwner gives a file the owner and the group of another, and reports whether it has them.
func giveOwner(fresh *os.File, of fs.FileInfo) bool {
	want, ok := of.Sys().(*syscall.Stat_t)
	info, err := fresh.Stat()
	if !ok || err != nil {
		return false
	}
	has := info.Sys().(*syscall.Stat_t)
	return has.Uid == want.Uid && has.Gid == want.Gid || fresh.Chown(int(want.Uid), int(want.Gid)) == nil
}

// isOtherDevice reports whether a file can't be renamed from one file system to another.
func isOtherDevice(err error) bool { return errors.Is(err, syscall.EXDEV) }
