//go:build !windows

package files

import (
	"io/fs"

	"github.com/google/renameio/v2"
)

// Pending is a file that isn't there yet: it takes the place of another one once it is whole. It must be cleaned up.
type Pending = renameio.PendingFile

// NewPending begins a file that is to take the place of file, in a folder on the same file system. It gets perm, less the umask.
func NewPending(file, folder string, perm fs.FileMode) (*Pending, error) {
	return renameio.NewPendingFile(file, renameio.WithTempDir(folder), renameio.WithPermissions(perm))
}

func writeWhole(folder, file string, data []byte, perm fs.FileMode, exact bool) error {
	options := []renameio.Option{renameio.WithTempDir(folder)}
	if exact {
		options = append(options, renameio.IgnoreUmask())
	}
	return renameio.WriteFile(file, data, perm, options...)
}
