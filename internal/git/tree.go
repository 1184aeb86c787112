package git

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/processors"
)

// ErrLink is the error of a path that is a symbolic link, or leads through one, where a plain file is asked for.
var ErrLink = errors.New("a symbolic link")

// Tree reads the files of one side. It must be closed, and is safe for concurrent use.
type Tree struct {
	repo    *Repo
	side    Side
	changed *Comparison // with this side as its new one; nil where there is none to look changes up in
	disk    *os.Root    // the work tree, for that side
	objects objects
	links   func() (map[string]string, error) // what listLinks gives, asked for once

	listing sync.Mutex
	folders map[string]map[string]string // the modes in a folder that was listed, and of those above it
}

// Tree opens a side for reading.
func (r *Repo) Tree(side Side) (*Tree, error) {
	t := &Tree{repo: r, side: side, objects: objects{repo: r}, folders: map[string]map[string]string{}}
	t.links = sync.OnceValues(t.listLinks)
	if side == Worktree {
		disk, err := os.OpenRoot(r.Root)
		if err != nil {
			return nil, err
		}
		t.disk = disk
	}
	return t, nil
}

// NewTree opens the new side. What the comparison has about its files is used to find them sooner; the rest is looked up
// on the old side, whose files they are.
func (c *Comparison) NewTree() (*Tree, error) {
	t, err := c.repo.Tree(c.new)
	if err == nil {
		t.changed = c
	}
	return t, err
}

// Worktree opens the work tree as far as the comparison's new side, which is the index, knows its files.
func (c *Comparison) Worktree() (*Tree, error) {
	t, err := c.repo.Tree(Worktree)
	if err == nil {
		t.changed = c
	}
	return t, err
}

// OldTexts hands to see the old contents of the files that the change modifies, renames or takes away, by their old path, as far as
// skip doesn't take their path on the new side, as Tree.ReadAll does. The comparison must not be whole.
func (c *Comparison) OldTexts(skip func(path string) bool, see func(path string, data []byte)) error {
	l, err := c.full()
	if err != nil {
		return err
	}
	var names, paths []string
	for _, f := range l.files {
		if f.Old != "" && f.Opaque == "" && !skip(f.Path) {
			names, paths = append(names, l.blobs[f.Path].old), append(paths, f.Old)
		}
	}
	return c.repo.AnyContent(names, func(i int, data []byte) { see(paths[i], data) })
}

// NewTexts hands to see the new contents of the files that the change adds or modifies, renames not regarded, as far as
// they are wanted. Where more than most are, none is read and left tells how many there are. The comparison must not be
// whole.
func (c *Comparison) NewTexts(most int, wanted func(path string) bool, see func(path string, data []byte)) (left int, err error) {
	l, err := c.plain()
	if err != nil {
		return 0, err
	}
	var names, paths []string
	for _, f := range l.files {
		if f.Status != change.Deleted && f.Opaque == "" && wanted(f.Path) {
			names, paths = append(names, l.blobs[f.Path].new), append(paths, f.Path)
		}
	}
	if len(paths) > most {
		return len(paths), nil
	}
	return 0, c.repo.EachContent(names, func(i int, data []byte) { see(paths[i], data) })
}

// ReadOld reads a file of the old side that the change modifies or takes away; found is false where it does neither.
func (c *Comparison) ReadOld(path string) (data []byte, found bool, err error) {
	names, err := c.oldNames()
	if err != nil || names[path] == "" {
		return nil, false, err
	}
	return c.contents.read(names[path])
}

// ReadOlds hands to see the files of the old side that ReadOld finds, as Tree.ReadAll does.
func (c *Comparison) ReadOlds(paths []string, see func(path string, data []byte)) error {
	known, err := c.oldNames()
	if err != nil {
		return err
	}
	var names, asked []string
	for _, path := range paths {
		if name := known[path]; name != "" {
			names, asked = append(names, name), append(asked, path)
		}
	}
	return c.repo.AnyContent(names, func(i int, data []byte) { see(asked[i], data) })
}

// nameOld names the old contents of the files that the change modifies or takes away, by their old paths.
func (c *Comparison) nameOld() (map[string]string, error) {
	l, err := c.full()
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, f := range l.files {
		name := l.blobs[f.Path].old
		if f.Old != "" && strings.Trim(name, "0") != "" {
			names[f.Old] = name
		}
	}
	return names, nil
}

// CloseOld ends what ReadOld holds open.
func (c *Comparison) CloseOld() error { return c.contents.close() }

// FilesWith lists the files of a side that hold a text, those that are untracked and not ignored included in the work
// tree. Binary files are left out.
func (r *Repo) FilesWith(text string, side Side) ([]string, error) {
	args := []string{"grep", "-I", "--files-with-matches", "--full-name", "-z", "--fixed-strings", "-e", text}
	prefix := ""
	switch side {
	case Worktree:
		args = append(args, "--untracked")
	case Index:
		args = append(args, "--cached")
	default:
		args, prefix = append(args, string(side)), string(side)+":"
	}
	out, err := r.git(args...)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return nil, nil // nothing is found
	}
	var files []string
	for name := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		if name != "" {
			files = append(files, strings.TrimPrefix(name, prefix))
		}
	}
	return files, err
}

// Close ends what the tree holds open.
func (t *Tree) Close() error {
	if t.disk != nil {
		t.disk.Close()
	}
	return t.objects.close()
}

// Read returns a file's content; found is false where the side has no file at path. In the work tree only files
// that git tracks, or that were included, are found.
func (t *Tree) Read(path string) (data []byte, found bool, err error) {
	if !fs.ValidPath(path) || path == "." {
		return nil, false, nil
	}
	if t.side != Index && t.side != Worktree { // one file is found there sooner than all that differ
		return t.objects.read(t.stored(path))
	}
	name, err := t.nameOf(path)
	if err != nil || name == "" {
		return nil, false, err
	}
	if t.side == Index {
		return t.objects.read(name)
	}
	if name != known { // all that git is asked is whether it knows the path
		_, found, err = t.objects.read(name)
		if err == nil && !found && t.changed == nil {
			_, found, err = t.objects.read(":2:" + path) // not merged yet
		}
		if err != nil || !found {
			return nil, false, err
		}
	}
	return t.onDisk(path)
}

// askedSingly is how many contents are asked for one by one, as the rest of a run asks for so few of them too.
const askedSingly = 32

// EachContent reads contents by their hashes as Repo.EachContent does.
func (t *Tree) EachContent(names []string, see func(i int, data []byte)) error {
	if len(names) > askedSingly {
		return t.repo.EachContent(names, see)
	}
	for i, name := range names {
		data, found, err := t.objects.read(name)
		if err != nil {
			return err
		}
		if found {
			see(i, data)
		}
	}
	return nil
}

// ReadAll reads many files at once and hands their contents to see, by path; files that the side doesn't have are left
// out, and so may some be that it has. The contents come in any order, see may be called by several goroutines at once, and the
// data is good until it returns.
func (t *Tree) ReadAll(paths []string, see func(path string, data []byte)) error {
	if t.side == Worktree && len(paths) < listedFrom {
		return nil // who asks for so few reads them one by one
	}
	paths = slices.DeleteFunc(slices.Clone(paths), func(path string) bool { return !fs.ValidPath(path) || strings.ContainsRune(path, '\n') })
	var names, asked, unknown []string
	for _, path := range paths {
		name, err := t.nameOf(path)
		switch {
		case err != nil:
			return err
		case name == t.stored(path): // which the comparison doesn't know
			unknown = append(unknown, path)
		case name != "":
			names, asked = append(names, name), append(asked, path)
		}
	}
	listed, err := t.listed(unknown)
	if err != nil {
		return err
	}
	for _, path := range unknown {
		name := t.stored(path)
		if listed != nil {
			name = listed[path]
		}
		if name != "" {
			names, asked = append(names, name), append(asked, path)
		}
	}
	if t.side == Worktree {
		return t.allOnDisk(asked, see)
	}
	return t.repo.AnyContent(names, func(i int, data []byte) { see(asked[i], data) })
}

// listedFrom is from how many paths on all of a tree is listed once, since git looks for each by itself for longer.
const listedFrom = 500

// listed names the contents of files, "" for one that isn't there; nil where they are better asked for by their paths.
func (t *Tree) listed(paths []string) (map[string]string, error) {
	if len(paths) < listedFrom || t.side == Index && t.changed == nil {
		return nil, nil
	}
	names := make(map[string]string, len(paths))
	for _, path := range paths {
		names[path] = ""
	}
	err := t.repo.eachEntry(t.base(), func(mode, object, path string) {
		if _, asked := names[path]; asked && mode != submodule {
			names[path] = object
		}
	})
	return names, err
}

// base is the side that has the tree's files but for those that the comparison knows.
func (t *Tree) base() Side {
	if t.changed != nil && (t.side == Index || t.side == Worktree) {
		return t.changed.old
	}
	return t.side
}

// stored is how git finds the content that the base has at a path.
func (t *Tree) stored(path string) string {
	if base := t.base(); base != Index && base != Worktree {
		return string(base) + ":" + path
	}
	return ":0:" + path
}

// allOnDisk reads regular files of the work tree.
func (t *Tree) allOnDisk(paths []string, see func(path string, data []byte)) error {
	failed := make([]error, processors.Most())
	processors.Each(len(paths), func(worker, i int) {
		data, found, err := t.onDisk(paths[i])
		failed[worker] = cmp.Or(failed[worker], err)
		if found {
			see(paths[i], data)
		}
	})
	return errors.Join(failed...)
}

// known names a file of the work tree that the comparison has seen.
const known = "known"

// nameOf is how git finds the content at a path: by its hash where the comparison tells it, else through the commit or
// the index. It is "" where the comparison tells that there is none.
func (t *Tree) nameOf(path string) (string, error) {
	c := t.changed
	if c == nil {
		return t.stored(path), nil
	}
	if t.side != Index && t.side != Worktree { // without waiting for renames: the new side's files are the same
		l, err := c.plain()
		if err != nil {
			return "", err
		}
		if b, changed := l.blobs[path]; changed && b.kind != "D" && b.mode != submodule {
			return b.new, nil
		}
		return t.stored(path), nil
	}
	l, err := c.full()
	if err != nil {
		return "", err
	}
	b, changed := l.blobs[path]
	switch {
	case changed && b.kind == "D":
		return "", nil
	case changed && t.side == Worktree:
		return known, nil
	case changed && b.kind == "U":
		return ":2:" + path, nil
	case changed && b.mode == submodule:
		return "", nil
	case changed:
		return b.new, nil
	}
	if l.left[path] {
		return "", nil
	}
	return t.stored(path), nil
}

// onDisk reads a regular file of the work tree, or its text in the place of that, never through a link that leads out of it.
func (t *Tree) onDisk(name string) (data []byte, found bool, err error) {
	if t.changed != nil {
		if text, typed := t.changed.typed[name]; typed {
			return text, true, nil
		}
	}
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

// Paths lists all files of the side; in the work tree, all that git tracks or that were included.
func (t *Tree) Paths() ([]string, error) {
	list := []string{"ls-files", "--full-name", "-z"}
	if t.side != Index && t.side != Worktree {
		list = []string{"ls-tree", "-r", "-z", "--name-only", "--full-tree", string(t.side)}
	}
	out, err := t.repo.git(list...)
	return strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"), err
}

// Link tells where the symbolic link at a path leads, as it is written; false where there is no link.
func (t *Tree) Link(name string) (to string, link bool, err error) {
	if t.side == Worktree {
		local := filepath.FromSlash(name)
		if info, err := t.disk.Lstat(local); err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return "", false, ignoreAbsent(err)
		}
		to, err = t.disk.Readlink(local)
		return filepath.ToSlash(to), err == nil, err
	}
	links, err := t.links()
	blob, link := links[name]
	if err != nil || !link {
		return "", false, err
	}
	data, found, err := t.objects.read(blob)
	return string(data), found, err
}

// listLinks lists all symbolic links of a side that isn't the work tree, with the objects that say where they lead.
func (t *Tree) listLinks() (map[string]string, error) {
	links := map[string]string{}
	err := t.repo.eachEntry(t.side, func(mode, object, path string) {
		if mode == link {
			links[path] = object
		}
	})
	return links, err
}

// Lacking tells which of the paths the side has no file at.
func (t *Tree) Lacking(paths []string) (map[string]bool, error) {
	lacking := map[string]bool{}
	if len(paths) == 0 {
		return lacking, nil
	}
	all, err := t.Paths()
	if err != nil {
		return nil, err
	}
	present := make(map[string]bool, len(all))
	for _, name := range all {
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
	away, err := t.Away(slices.Collect(maps.Keys(lacking)))
	maps.DeleteFunc(lacking, func(p string, _ bool) bool { return away[p] })
	return lacking, err
}

// Away tells which of the paths have a file of the side that isn't on disk, since git was told to leave it out of the work tree
// (git sparse-checkout): whoever looks at the work tree knows nothing of it.
func (t *Tree) Away(paths []string) (map[string]bool, error) {
	away := map[string]bool{}
	if t.side != Worktree {
		return away, nil
	}
	absent := slices.DeleteFunc(slices.Clone(paths), func(p string) bool {
		_, err := t.disk.Lstat(filepath.FromSlash(p))
		return err == nil || ignoreAbsent(err) != nil
	})
	if len(absent) == 0 {
		return away, nil
	}
	out, err := t.repo.git("ls-files", "-t", "-z")
	if err != nil {
		return nil, err
	}
	skipped := map[string]bool{}
	for line := range strings.SplitSeq(string(out), "\x00") {
		if p, ok := strings.CutPrefix(line, "S "); ok {
			skipped[p] = true
		}
	}
	for _, p := range absent {
		if skipped[p] {
			away[p] = true
		}
	}
	return away, nil
}

// Tracks reports whether the index has a file at path.
func (r *Repo) Tracks(path string) (bool, error) {
	out, err := r.git("ls-files", "--full-name", "-z", "--", path)
	return len(out) > 0, err
}

// Plain reads a file that must be plain: a symbolic link in its place, or in that of a folder above it, is an error
// that wraps ErrLink. Unlike Read it finds untracked files of the work tree too.
func (t *Tree) Plain(name string) (data []byte, found bool, err error) {
	links, err := t.Links(name)
	if err != nil {
		return nil, false, err
	}
	if len(links) > 0 {
		return nil, false, fmt.Errorf("%s is %w, which isn't allowed there; use a plain file or folder", links[0], ErrLink)
	}
	if t.side == Worktree {
		return t.onDisk(name)
	}
	return t.Read(name)
}

// Links lists which of a path and the folders above it are symbolic links.
func (t *Tree) Links(name string) (links []string, err error) {
	var all []string
	for at := name; at != "."; at = path.Dir(at) {
		all = append(all, at)
	}
	if t.side == Worktree {
		for _, at := range all {
			info, err := t.disk.Lstat(filepath.FromSlash(at))
			if err != nil && ignoreAbsent(err) != nil {
				return nil, err
			}
			if err == nil && info.Mode()&fs.ModeSymlink != 0 {
				links = append(links, at)
			}
		}
		return links, nil
	}
	staged := t.side == Index && t.changed != nil
	t.objects.begin() // since what isn't a link will be read
	modes, err := t.modesAround(name, all)
	if err != nil {
		return nil, err
	}
	l := &listing{}
	if staged {
		if l, err = t.changed.full(); err != nil {
			return nil, err
		}
	}
	for _, at := range all {
		b, changed := l.blobs[at]
		switch {
		case changed && b.mode == link, !changed && modes[at] == link:
			links = append(links, at)
		case changed && b.kind != "D":
			return links, nil // a plain file now, whatever it was
		}
	}
	return links, nil
}

// modesAround gives git's modes of a file and of the folders above it, which all are. What git says of a folder of a commit is asked
// for once, with all that is in it.
func (t *Tree) modesAround(name string, all []string) (map[string]string, error) {
	if t.base() == Index {
		return t.modes(append([]string{"ls-files", "--stage", "--full-name", "-z", "--"}, all...))
	}
	folder := path.Dir(name)
	if folder == "." {
		return t.modes([]string{"ls-tree", "-z", "--full-tree", string(t.base()), "--", name})
	}
	t.listing.Lock()
	defer t.listing.Unlock()
	modes, known := t.folders[folder]
	if known {
		return modes, nil
	}
	modes, err := t.modes(append([]string{"ls-tree", "-t", "-z", "--full-tree", string(t.base()), "--", folder + "/"}, all[1:]...))
	if err == nil {
		t.folders[folder] = modes
	}
	return modes, err
}

// modes gives the modes of what git lists, by path.
func (t *Tree) modes(list []string) (map[string]string, error) {
	out, err := t.repo.git(list...)
	modes := map[string]string{}
	for entry := range strings.SplitSeq(string(out), "\x00") {
		if head, at, ok := strings.Cut(entry, "\t"); ok {
			modes[at], _, _ = strings.Cut(head, " ")
		}
	}
	return modes, err
}
