package git

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"zincdoor/internal/process"
)

// Entry is a file of a side.
type Entry struct {
	Content    string // a name: two files of one name hold the same
	Executable bool
	Link       bool // a symbolic link
}

// Changed lists the files and symbolic links of the new side that the comparison found to differ, by path. It waits for
// the list of files.
func (c *Comparison) Changed() (map[string]Entry, error) {
	l, err := c.full()
	if err != nil {
		return nil, err
	}
	all := map[string]Entry{}
	for _, f := range l.files {
		if b := l.blobs[f.Path]; b.kind != "D" && b.mode != submodule {
			all[f.Path] = Entry{Content: b.new, Executable: b.mode == "100755", Link: b.mode == link}
		}
	}
	return all, nil
}

// About is roughly how many files differ: renamed ones may count twice, since renames aren't waited for. It is 0 where
// that can't be told.
func (c *Comparison) About() int {
	l, err := c.plain()
	if err != nil {
		return 0
	}
	return len(l.files)
}

// Contents names the contents of a side's regular files, by path.
func (r *Repo) Contents(side Side) (map[string]string, error) {
	entries, err := r.Entries(side)
	return ContentsOf(entries), err
}

// ContentsOf names the contents of the regular files among some entries, by path.
func ContentsOf(entries map[string]Entry) map[string]string {
	all := make(map[string]string, len(entries))
	for path, e := range entries {
		if !e.Link {
			all[path] = e.Content
		}
	}
	return all
}

// Entries lists a side's files and symbolic links by path. In the work tree they are those that git tracks or that were
// included.
func (r *Repo) Entries(side Side) (map[string]Entry, error) {
	all := map[string]Entry{}
	err := r.eachEntry(side, func(mode, object, path string) {
		if strings.HasPrefix(mode, "100") || mode == link {
			all[path] = Entry{Content: object, Executable: mode == "100755", Link: mode == link}
		}
	})
	if err != nil {
		return nil, err
	}
	if side == Worktree {
		err = r.overlay(all)
	}
	return all, err
}

// eachEntry shows the mode, the object and the path of each entry of a side, for the work tree of the index; of files in conflict
// none.
func (r *Repo) eachEntry(side Side, see func(mode, object, path string)) error {
	args := []string{"ls-files", "--stage", "--full-name", "-z"} // mode, object, stage
	stored := side != Index && side != Worktree
	if stored {
		args = []string{"ls-tree", "-r", "-z", "--full-tree", string(side)} // mode, type, object
	}
	out, err := r.git(args...)
	for entry := range strings.SplitSeq(string(out), "\x00") {
		about, path, _ := strings.Cut(entry, "\t")
		mode, rest, _ := strings.Cut(about, " ")
		first, second, whole := strings.Cut(rest, " ")
		switch {
		case !whole:
		case stored:
			see(mode, second, path)
		case second == "0":
			see(mode, first, path)
		}
	}
	return err
}

// overlay puts in what differs between the index and the work tree.
func (r *Repo) overlay(all map[string]Entry) error {
	out, err := r.git("diff-files", "--name-only", "--ignore-submodules=all", "-z")
	if err != nil {
		return err
	}
	for path := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		if path == "" {
			continue
		}
		file := filepath.Join(r.Root, filepath.FromSlash(path))
		info, err := os.Lstat(file)
		if err != nil || !info.Mode().IsRegular() && info.Mode()&os.ModeSymlink == 0 {
			delete(all, path)
			continue
		}
		e := Entry{Link: info.Mode()&os.ModeSymlink != 0, Executable: info.Mode()&0o100 != 0}
		var data []byte
		if e.Link {
			var target string
			target, err = os.Readlink(file)
			data = []byte(target)
		} else {
			data, err = os.ReadFile(file)
		}
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		e.Content = "text:" + hex.EncodeToString(sum[:])
		all[path] = e
	}
	return nil
}

// ConversionRules are what git's conversions depend on beside the attributes in the tree: two equal ones convert alike.
func (r *Repo) ConversionRules() (string, error) {
	var where []byte
	var wrong error
	var asked sync.WaitGroup
	asked.Go(func() { where, wrong = r.git("rev-parse", "--path-format=absolute", "--git-path", "info/attributes") })
	out, err := r.git("config", "--null", "--get-regexp", `^(core\.(autocrlf|eol|symlinks|attributesfile|bigfilethreshold)|filter\..*)$`)
	asked.Wait()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		err = nil // none is set
	}
	if err := errors.Join(err, wrong); err != nil {
		return "", err
	}
	data, err := os.ReadFile(strings.TrimSuffix(string(where), "\n"))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return string(out) + string(data), err
}

// Branch is the name of the branch that is checked out, "" where there is none.
func (r *Repo) Branch() string {
	out, err := r.git("symbolic-ref", "--quiet", "HEAD")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// CheckOut writes files of the index or of a commit into an empty folder, as git writes them into a work tree. Paths
// limit it; nil means all files. Nothing of the repository or its work tree changes.
func (r *Repo) CheckOut(side Side, dir string, paths []string) error {
	env := append(r.environment(), "GIT_WORK_TREE="+dir)
	run := func(input []byte, args ...string) error {
		cmd := r.command(args...)
		cmd.Env, cmd.Stdin = env, bytes.NewReader(input)
		if _, complaint, err := process.Output(cmd); err != nil {
			return failure(args[0], err, string(complaint))
		}
		return nil
	}
	if side != Index {
		own, err := r.scratchDir()
		if err != nil {
			return err
		}
		scratch, err := os.MkdirTemp(own, "index-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(scratch)
		env = append(env, "GIT_INDEX_FILE="+filepath.Join(scratch, "index"))
		if err := run(nil, "read-tree", string(side)); err != nil {
			return err
		}
	}
	if paths == nil {
		return run(nil, "checkout-index", "--quiet", "--all", "--ignore-skip-worktree-bits")
	}
	return run([]byte(strings.Join(paths, "\x00")+"\x00"), "checkout-index", "--quiet", "--stdin", "-z", "--ignore-skip-worktree-bits")
}

// Unaltered reports whether the files that are tracked are as HEAD has them, in the work tree and in the index.
func (r *Repo) Unaltered() bool {
	if r.Bare {
		return false
	}
	out, err := r.git("status", "--porcelain", "-z", "--untracked-files=no", "--ignore-submodules=none")
	return len(out) == 0 && err == nil
}

// Clean reports whether the work tree holds just what HEAD does, files aside that git ignores.
func (r *Repo) Clean() (bool, error) {
	if r.Bare {
		return false, nil
	}
	out, err := r.git("status", "--porcelain", "-z", "--untracked-files=normal", "--ignore-submodules=none")
	return len(out) == 0, err
}
