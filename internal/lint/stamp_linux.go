package lint

import (
	"io/fs"
	"syscall"
)

// stampOf tells a file's state apart from all later ones: the system notes the time of each change by itself, and lets nobody
// set it. It is false where that isn't known.
func stampOf(info fs.FileInfo) (stamp, bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return stamp{}, false
	}
	return stamp{Size: s.Size, Changed: s.Ctim.Nano(), Node: s.Ino, Mode: s.Mode}, true
}
