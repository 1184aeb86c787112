package git

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// ErrLink is the error of a path that is a symbolic link, or leads through one, where a plain file is asked for.
var ErrLink = errors.New("a symbolic link")

// Tree reads the files of one side. It holds a git process and must be closed. It isn't safe for concurrent use.
type Tree struct {
	repo *Repo
	side Side
	disk *os.Root // the work tree, for that side

	batch *exec.Cmd
	ask   io.WriteCloser
	reply *bufio.Reader
}

// Tree opens a side for reading.
func (r *Repo) Tree(side Side) (*Tree, error) {
	t := &Tree{repo: r, side: side}
	if side == Worktree {
		disk, err := os.OpenRoot(r.Root)
		if err != nil {
			return nil, err
		}
		t.disk = disk
	}
	return t, nil
}

// Close ends the git process.
func (t *Tree) Close() error {
	if t.disk != nil {
		t.disk.Close()
	}
	if t.batch == nil {
		return nil
	}
	t.ask.Close()
	return t.batch.Wait()
}

// Read returns a file's content; found is false where the side has no file at path. In the work tree only files
// that the index holds are found.
func (t *Tree) Read(path string) (data []byte, found bool, err error) {
	if !fs.ValidPath(path) || path == "." {
		return nil, false, nil
	}
	if t.side != Worktree {
		return t.object(t.nameOf(path))
	}
	if tracked, err := t.tracked(path); err != nil || !tracked {
		return nil, false, err
	}
	return t.onDisk(path)
}

func (t *Tree) nameOf(path string) string {
	if t.side == Index {
		return ":0:" + path
	}
	return string(t.side) + ":" + path
}

// tracked reports whether the index holds the path, merged or not.
func (t *Tree) tracked(path string) (bool, error) {
	for _, stage := range []string{":0:", ":2:", ":3:"} {
		if _, found, err := t.object(stage + path); found || err != nil {
			return found, err
		}
	}
	return false, nil
}

// onDisk reads a regular file of the work tree, never through a link that leads out of it.
func (t *Tree) onDisk(name string) (data []byte, found bool, err error) {
	local := filepath.FromSlash(name)
	info, err := t.disk.Lstat(local)
	if err != nil || !info.Mode().IsRegular() {
		return nil, false, ignoreAbsent(err)
	}
	f, err := t.disk.Open(local)
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	data, err = io.ReadAll(f)
	return data, err == nil, err
}

func ignoreAbsent(err error) error {
	var where *fs.PathError
	if errors.Is(err, fs.ErrNotExist) || errors.As(err, &where) && strings.Contains(where.Err.Error(), "not a directory") {
		return nil
	}
	return err
}

// object asks git for one object's content. Only blobs are found.
func (t *Tree) object(name string) (data []byte, found bool, err error) {
	if strings.ContainsRune(name, '\n') {
		return t.single(name)
	}
	if t.batch == nil {
		if err := t.start(); err != nil {
			return nil, false, err
		}
	}
	if _, err := io.WriteString(t.ask, name+"\n"); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	head, err := t.reply.ReadString('\n')
	if err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	fields := strings.Fields(head)
	if len(fields) < 3 || strings.HasSuffix(head, " missing\n") || strings.HasSuffix(head, " ambiguous\n") {
		return nil, false, nil
	}
	size, err := strconv.Atoi(fields[len(fields)-1])
	if err != nil {
		return nil, false, fmt.Errorf("git cat-file answered %q", head)
	}
	data = make([]byte, size+1) // a line feed follows the content
	if _, err := io.ReadFull(t.reply, data); err != nil {
		return nil, false, fmt.Errorf("git cat-file ended: %w", err)
	}
	return data[:size], fields[len(fields)-2] == "blob", nil
}

func (t *Tree) start() error {
	t.batch = t.repo.command("cat-file", "--batch")
	var err error
	if t.ask, err = t.batch.StdinPipe(); err != nil {
		return err
	}
	out, err := t.batch.StdoutPipe()
	if err != nil {
		return err
	}
	t.reply = bufio.NewReaderSize(out, 1<<16)
	return t.batch.Start()
}

// single reads an object whose name has a line feed, which git's batches can't ask for.
func (t *Tree) single(name string) (data []byte, found bool, err error) {
	data, err = t.repo.git("cat-file", "blob", name)
	return data, err == nil, nil
}

// Lacking tells which of the paths the side has no file at.
func (t *Tree) Lacking(paths []string) (map[string]bool, error) {
	lacking := map[string]bool{}
	if len(paths) == 0 {
		return lacking, nil
	}
	list := []string{"ls-files", "--full-name", "-z"}
	if t.side != Index && t.side != Worktree {
		list = []string{"ls-tree", "-r", "-z", "--name-only", "--full-tree", string(t.side)}
	}
	out, err := t.repo.git(list...)
	if err != nil {
		return nil, err
	}
	present := map[string]bool{}
	for name := range strings.SplitSeq(string(out), "\x00") {
		present[name] = true
	}
	for _, p := range paths {
		switch {
		case !present[p]:
			lacking[p] = true
		case t.side == Worktree:
			if _, err := t.disk.Lstat(filepath.FromSlash(p)); err != nil && ignoreAbsent(err) == nil {
				lacking[p] = true
			}
		}
	}
	return lacking, nil
}

// Plain reads a file that must be plain: a symbolic link in its place, or in that of a folder above it, is an error
// that wraps ErrLink. Unlike Read it finds untracked files of the work tree too.
func (t *Tree) Plain(name string) (data []byte, found bool, err error) {
	for at := name; at != "."; at = path.Dir(at) {
		link, err := t.isLink(at)
		if err != nil {
			return nil, false, err
		}
		if link {
			return nil, false, fmt.Errorf("%s is %w, which is refused there: put a plain file or folder in its place", at, ErrLink)
		}
	}
	if t.side == Worktree {
		return t.onDisk(name)
	}
	return t.Read(name)
}

func (t *Tree) isLink(name string) (bool, error) {
	const linkMode = "120000 "
	switch t.side {
	case Worktree:
		info, err := t.disk.Lstat(filepath.FromSlash(name))
		if err != nil {
			return false, ignoreAbsent(err)
		}
		return info.Mode()&fs.ModeSymlink != 0, nil
	case Index:
		out, err := t.repo.git("ls-files", "--stage", "--full-name", "--", name)
		return strings.HasPrefix(string(out), linkMode), err
	default:
		out, err := t.repo.git("ls-tree", "--full-tree", string(t.side), "--", name)
		return strings.HasPrefix(string(out), linkMode), err
	}
}
