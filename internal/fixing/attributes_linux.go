package fixing

import (
	"strings"
	"syscall"
)

// hasAttributes reports whether a file has extended attributes beside the label that a system gives all files.
func hasAttributes(file string) bool {
	names := make([]byte, 4<<10)
	n, err := syscall.Listxattr(file, names)
	if err != nil {
		return err == syscall.ERANGE
	}
	for name := range strings.SplitSeq(string(names[:n]), "\x00") {
		if name != "" && name != "security.selinux" {
			return true
		}
	}
	return false
}
