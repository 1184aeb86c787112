package git

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Stage puts new contents of files into the index, which keeps their modes. The files must be in it.
func (r *Repo) Stage(files map[string][]byte) error {
	var input bytes.Buffer
	out, err := r.git("ls-files", "--stage", "--full-name", "-z")
	if err != nil {
		return err
	}
	modes := map[string]string{}
	for entry := range strings.SplitSeq(string(out), "\x00") {
		about, path, _ := strings.Cut(entry, "\t")
		if fields := strings.Fields(about); len(fields) == 3 && fields[2] == "0" {
			modes[path] = fields[0]
		}
	}
	for path, data := range files {
		if modes[path] == "" {
			return fmt.Errorf("%s isn't in the index", path)
		}
		hash := r.command("hash-object", "-w", "--stdin")
		hash.Stdin = bytes.NewReader(data)
		name, err := hash.Output()
		if err != nil {
			return failure("hash-object", err, "")
		}
		fmt.Fprintf(&input, "%s %s 0\t%s\x00", modes[path], strings.TrimSpace(string(name)), path)
	}
	update := r.command("update-index", "-z", "--index-info")
	update.Stdin = &input
	if out, err := update.CombinedOutput(); err != nil {
		return failure("update-index", err, string(out))
	}
	return nil
}

// Written is a content of the index as git writes it into the work tree at path.
func (r *Repo) Written(path string) ([]byte, error) {
	return r.git("cat-file", "--filters", ":0:"+path)
}

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
