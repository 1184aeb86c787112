package process

import (
	"io"
	"os"
	"syscall"
)

// setPipeSize is fcntl's command for it, which the syscall package doesn't name; wide is how many bytes, few enough that the pipes of
// many calls at once stay below what the system lets one user have.
const (
	setPipeSize = 1031
	wide        = 1 << 18
)

// Widen makes room in a pipe for what a program writes faster than it is read, so that the two take turns less often. Where that can't
// be had the pipe stays as it is.
func Widen(pipe io.ReadCloser) {
	file, ok := pipe.(*os.File)
	if !ok {
		return
	}
	if raw, err := file.SyscallConn(); err == nil {
		raw.Control(func(fd uintptr) { syscall.Syscall(syscall.SYS_FCNTL, fd, setPipeSize, wide) })
	}
}
