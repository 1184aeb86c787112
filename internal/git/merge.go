package git

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"

	"zincdoor/internal/process"
)

// Merge brings what differs between two texts into a third one, which stands on the first. It is false where both altered
// the same lines, or one of them isn't text.
func (r *Repo) Merge(mine, base, theirs []byte) (merged []byte, clean bool, err error) {
	scratch, err := r.scratchDir()
	if err != nil {
		return nil, false, err
	}
	dir, err := os.MkdirTemp(scratch, "merge-")
	if err != nil {
		return nil, false, err
	}
	defer os.RemoveAll(dir)
	names := []string{"mine", "base", "theirs"}
	for i, data := range [][]byte{mine, base, theirs} {
		names[i] = filepath.Join(dir, names[i])
		if err := os.WriteFile(names[i], data, 0o600); err != nil {
			return nil, false, err
		}
	}
	merged, complaint, err := process.Output(r.command("merge-file", "-p", "-q", names[0], names[1], names[2]))
	var exit *exec.ExitError
	binary := slices.ContainsFunc([][]byte{mine, base, theirs}, func(data []byte) bool { return bytes.IndexByte(data, 0) >= 0 })
	switch {
	case err == nil:
		return merged, true, nil
	case errors.As(err, &exit) && (exit.ExitCode() > 0 && exit.ExitCode() < 128 || binary):
		return nil, false, nil
	}
	return nil, false, failure("merge-file", err, string(complaint))
}
