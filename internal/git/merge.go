package git

import (
	"fmt"
	"os"
	"path/filepath"
)

// Merge brings what differs between two texts into a third one, which stands on the first. It is false where both altered
// the same lines.
func (r *Repo) Merge(mine, base, theirs []byte) (merged []byte, clean bool, err error) {
	dir, err := os.MkdirTemp("", "zincdoor-")
	if err != nil {
		return nil, false, fmt.Errorf("no temporary folder can be made (TMPDIR names where): %w", err)
	}
	defer os.RemoveAll(dir)
	names := []string{"mine", "base", "theirs"}
	for i, data := range [][]byte{mine, base, theirs} {
		names[i] = filepath.Join(dir, names[i])
		if err := os.WriteFile(names[i], data, 0o600); err != nil {
			return nil, false, err
		}
	}
	cmd := r.command("merge-file", "-p", "-q", names[0], names[1], names[2])
	merged, err = cmd.Output()
	if code := cmd.ProcessState.ExitCode(); code > 0 && code < 128 {
		return nil, false, nil
	}
	return merged, err == nil, err
}
