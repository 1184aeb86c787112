//go:build unix

package files

import (
	"io/fs"
	"os"
	"syscall"
)

// isOwn reports whether a file is this user's.
func isOwn(info fs.FileInfo) bool {
	about, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(about.Uid) == os.Geteuid()
}
