package git

import (
	"bytes"
	"fmt"
	"strings"
)

// Writer changes a repository: its index and its own configuration. It takes git's locks, and runs the filters that git's
// attributes name, as git itself does when it writes a file.
type Writer struct{ repo *Repo }

// Writer gives what changes the repository.
func (r *Repo) Writer() Writer { return Writer{r} }

// Stage puts new contents of files into the index, which keeps their modes. The files must be in it.
func (w Writer) Stage(files map[string][]byte) error {
	r := w.repo
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
func (w Writer) Written(path string) ([]byte, error) {
	return w.repo.git("cat-file", "--filters", ":0:"+path)
}

// SetLocal sets a value of the repository's own configuration, unless it has one.
func (w Writer) SetLocal(key, value string) error {
	if _, err := w.repo.git("config", "--local", "--get", key); err == nil {
		return nil
	}
	_, err := w.repo.git("config", "--local", key, value)
	return err
}

// UnsetLocal takes a value out of the repository's own configuration, where it is that one. Other keys of its section stay;
// a section that is empty then goes.
func (w Writer) UnsetLocal(key, value string) error {
	if now, err := w.repo.git("config", "--local", "--get", key); err != nil || strings.TrimSpace(string(now)) != value {
		return nil
	}
	_, err := w.repo.git("config", "--local", "--unset", key)
	return err
}
