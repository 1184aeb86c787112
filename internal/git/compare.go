package git

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"zincdoor/internal/core/change"
	"zincdoor/internal/process"
)

// Side is one state of the repository: a commit or tree by its name, or one of the two below.
type Side string

// The states that have no name of their own.
const (
	Index    Side = "index"
	Worktree Side = "worktree"
)

// renameLimit is how many added and removed files are compared with one another to find renames (the square of it in
// pairs); beyond it only renames without edits are found.
const renameLimit = 2000

// mostCompared is how many bytes files have at most that are compared here to find renames.
const mostCompared = 32 << 20

// Comparison is what lies between two sides. Each of its answers is found out when it is first asked for, and is a finished
// value from then on, which callers share and must not write to. It is safe for concurrent use, and needs CloseOld where
// ReadOld was used.
type Comparison struct {
	repo  *Repo
	old   Side
	new   Side
	args  []string
	whole bool // the files and all their lines come in one go
	paths []string
	env   []string          // of its commands, beside the repository's
	typed map[string][]byte // texts that files of the new side are to have, by path; nil for none

	// What differs without regard to renames is known long before these are found.
	plain    func() (*listing, error)
	full     func() (*listing, error)
	oldNames func() (map[string]string, error)
	contents objects // reads the old side's files
}

// listing is what differs.
type listing struct {
	files   []change.File   // with their lines only where the comparison is whole
	blobs   map[string]blob // by path on the new side; by path on the old side for deleted files
	left    map[string]bool // old paths of renamed files
	notices []string
}

// blob names the contents of a changed file on both sides; "" or zeros where a side has none or git didn't hash it.
type blob struct {
	old, new   string
	was        string // the old side's mode
	mode, kind string // the new side's mode; git's letter for the status
}

// Compare compares two sides. Old is a commit, a tree or Index, new is any side; between Index and Worktree, only
// tracked files are compared. A local change, which is small as a rule, is read with all its lines at once.
func (r *Repo) Compare(old, new Side) *Comparison {
	return r.compare(old, new, new == Index || new == Worktree)
}

// CompareLines compares two sides with all lines at once, of all files or of those at the given paths.
func (r *Repo) CompareLines(old, new Side, paths ...string) *Comparison {
	return r.compare(old, new, true, paths...)
}

// CompareContents compares the index with the work tree, everywhere or at the given paths, by what the files hold: whatever the
// index notes of their times, or of files that git skips.
func (r *Repo) CompareContents(paths ...string) (*Comparison, error) {
	entries, err := r.git(slices.Concat([]string{"ls-files", "--stage", "--full-name", "-z", "--"}, paths)...)
	if err != nil {
		return nil, err
	}
	scratch, err := r.scratchDir()
	if err != nil {
		return nil, err
	}
	index := filepath.Join(scratch, "contents")
	if err := os.Remove(index); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	c := r.CompareLines(Index, Worktree, paths...)
	c.env = []string{"GIT_INDEX_FILE=" + index}
	fill := r.command("update-index", "-z", "--index-info")
	fill.Stdin, fill.Env = bytes.NewReader(entries), append(fill.Env, c.env...)
	if _, complaint, err := process.Output(fill); err != nil {
		return nil, failure("update-index", err, string(complaint))
	}
	return c, nil
}

func (r *Repo) compare(old, new Side, whole bool, paths ...string) *Comparison {
	c := &Comparison{repo: r, old: old, new: new, whole: whole, paths: paths, contents: objects{repo: r}}
	switch {
	case new == Index:
		c.args = append(c.args, "diff-index", "--cached", string(old))
	case new == Worktree && old == Index:
		c.args = append(c.args, "diff", "--ours") // of a file that isn't merged yet
	case new == Worktree:
		// The porcelain command, as it alone tells a file whose time changed from one whose text did without writing
		// the index.
		c.args = append(c.args, "diff", string(old))
	default:
		c.args = append(c.args, "diff-tree", "-r", string(old), string(new))
	}
	c.full = sync.OnceValues(c.list)
	c.plain = c.full
	if !whole {
		c.plain = sync.OnceValues(c.listPlain)
	}
	c.oldNames = sync.OnceValues(c.nameOld)
	return c
}

// diffFlags settle everything that configuration could change.
var diffFlags = []string{
	"--no-ext-diff", "--no-textconv", "--no-color", "--no-relative", "--full-index", "--no-abbrev",
	"--src-prefix=a/", "--dst-prefix=b/", "--diff-algorithm=myers", "--indent-heuristic",
	"-O/dev/null", "--ignore-submodules=dirty", "--submodule=short", "--find-renames=50%",
	fmt.Sprintf("-l%d", renameLimit),
}

// patchFlags ask for the lines, without context.
var patchFlags = []string{"--patch", "--unified=0", "--inter-hunk-context=0"}

func (c *Comparison) command(flags []string, paths []string) []string {
	return slices.Concat(c.args[:1], diffFlags, flags, c.args[1:], []string{"--"}, paths)
}

func (c *Comparison) stream(read func(io.Reader) error, args ...string) (complaint string, err error) {
	cmd := c.repo.command(args...)
	cmd.Env = append(cmd.Env, c.env...)
	return streamCommand(cmd, read)
}

// list lists the files that differ, and where the comparison is whole reads all their lines in the same go.
func (c *Comparison) list() (*listing, error) {
	if c.new == Worktree && c.old != Index {
		if err := c.repo.IncludeUntracked(); err != nil {
			return nil, err
		}
	}
	flags := []string{"--raw"}
	if c.whole {
		flags = append(flags, patchFlags...)
	} else if !c.repo.isPartial() {
		if l, err := c.listRenamed(); !errors.Is(err, change.ErrNotHere) {
			return l, err
		}
	}
	l := newListing()
	var binary []string
	complaint, err := c.stream(func(out io.Reader) (err error) {
		in := bufio.NewReaderSize(out, 1<<16)
		if err = l.readRaw(in); err == nil && c.whole {
			binary, err = l.readHunks(in)
		}
		return err
	}, c.command(flags, c.paths)...)
	if err == nil && len(binary) > 0 {
		err = c.asText(l, binary)
	}
	if strings.Contains(complaint, "rename detection was skipped") {
		l.noteSkipped()
	}
	return l, err
}

// noteSkipped says that not all renames were looked for.
func (l *listing) noteSkipped() {
	l.notices = append(l.notices, fmt.Sprintf(
		"too many files were added and removed to look for edited renames (over %d by %d), so a renamed and edited file counts as added", renameLimit, renameLimit))
}

// listRenamed lists the files that differ, by their plain list: git itself takes long to find renames, since it compares each new
// file with each that is gone. All contents must be here; the error wraps change.ErrNotHere where these are better left to git.
func (c *Comparison) listRenamed() (*listing, error) {
	plain, err := c.plain()
	if err != nil {
		return nil, err
	}
	var gone, fresh []change.Entry
	for _, f := range plain.files {
		switch b := plain.blobs[f.Path]; f.Status {
		case change.Deleted:
			gone = append(gone, change.Entry{Path: f.Path, Mode: b.was, Content: b.old})
		case change.Added:
			fresh = append(fresh, change.Entry{Path: f.Path, Mode: b.mode, Content: b.new})
		}
	}
	if len(gone) == 0 || len(fresh) == 0 {
		return plain, nil
	}
	if err := c.repo.measure(gone, fresh); err != nil {
		return nil, err
	}
	from, skipped, err := change.Renames(gone, fresh, renameLimit, func(names []string, see func(i int, data []byte)) error {
		var seen atomic.Int64
		err := c.repo.anyContent(names, mostCompared, func(i int, data []byte) {
			seen.Add(1)
			see(i, data)
		})
		if err == nil && int(seen.Load()) < len(names) {
			err = change.ErrNotHere
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	l, n := newListing(), 0
	renamed := map[string]bool{}
	for _, old := range from {
		if old >= 0 {
			renamed[gone[old].Path] = true
		}
	}
	for _, f := range plain.files {
		b := plain.blobs[f.Path]
		switch {
		case f.Status == change.Deleted && renamed[f.Path]:
		case f.Status == change.Added:
			if old := from[n]; old >= 0 {
				l.add([]string{gone[old].Mode, b.mode, gone[old].Content, b.new, string(change.Renamed)}, gone[old].Path, f.Path)
			} else {
				l.files, l.blobs[f.Path] = append(l.files, f), b
			}
			n++
		default:
			l.files, l.blobs[f.Path] = append(l.files, f), b
		}
	}
	if skipped {
		l.noteSkipped()
	}
	return l, nil
}

// measure finds the sizes of files' contents.
func (r *Repo) measure(files ...[]change.Entry) error {
	var all []*change.Entry
	var names []string
	for _, some := range files {
		for i := range some {
			all, names = append(all, &some[i]), append(names, some[i].Content)
		}
	}
	told, err := r.tell("%(objectsize)", names)
	if err != nil {
		return err
	}
	for i, f := range all {
		size, err := strconv.Atoi(told[i])
		if err != nil && f.IsRegular() { // unlike a submodule's commit, it should be there
			return change.ErrNotHere
		}
		f.Size = size
	}
	return nil
}

// listPlain lists the files that differ, taking a renamed one for one that is gone and one that is new.
func (c *Comparison) listPlain() (*listing, error) {
	l := newListing()
	_, err := c.stream(func(out io.Reader) error {
		return l.readRaw(bufio.NewReaderSize(out, 1<<16))
	}, c.command([]string{"--raw", "--no-renames"}, nil)...)
	return l, err
}

func newListing() *listing { return &listing{blobs: map[string]blob{}, left: map[string]bool{}} }

// Old is the comparison's old side.
func (c *Comparison) Old() Side { return c.old }

// Files lists the files that differ, with their lines only where the comparison is whole.
func (c *Comparison) Files() ([]change.File, error) {
	l, err := c.full()
	if err != nil {
		return nil, err
	}
	return l.files, nil
}

// Alters reports whether the file at path differs between the sides, as soon as that is known.
func (c *Comparison) Alters(path string) (bool, error) {
	l, err := c.plain()
	if err != nil {
		return false, err
	}
	_, altered := l.blobs[path]
	return altered || l.left[path], nil
}

// IsFresh reports whether a path is new by its name, be its file a renamed one or not. It is false where that can't be
// told.
func (c *Comparison) IsFresh(path string) bool {
	l, err := c.plain()
	return err == nil && l.blobs[path].kind == "A"
}

// Lines are the files that differ, of which some have their lines.
type Lines struct {
	Files   []change.File   // in git's order
	Read    map[string]bool // the paths, on the new side, of those whose lines were read
	Notices []string        // what couldn't be looked at in full
}

// Known is what is known of the lines before Lines is asked. The zero value is nothing.
type Known struct {
	Fresh map[string][]change.Hunk // the whole texts of new files, by path
	Lines *Lines                   // an earlier answer, which stays as it is
}

// Lines reads the lines of the wanted files, as far as they aren't known yet. Unless the comparison is whole, it needs
// sides that git has hashed: a commit's or a tree's.
func (c *Comparison) Lines(known Known, wanted func(f change.File) bool) (*Lines, error) {
	l, err := c.full()
	if err != nil {
		return nil, err
	}
	all := &Lines{Files: slices.Clone(l.files), Read: map[string]bool{}, Notices: l.notices}
	if c.whole {
		return all, nil
	}
	if before := known.Lines; before != nil {
		copy(all.Files, before.Files)
		maps.Copy(all.Read, before.Read)
	}
	missing := map[string]blob{}
	for i := range all.Files {
		f := &all.Files[i]
		switch {
		case all.Read[f.Path], f.Opaque != "":
			continue
		case f.Status == change.Added && known.Fresh[f.Path] != nil:
			take(f, change.File{Hunks: known.Fresh[f.Path]})
		case wanted(*f):
			missing[f.Path] = l.blobs[f.Path]
		default:
			continue
		}
		all.Read[f.Path] = true
	}
	read, err := c.diffBlobs(missing)
	for i := range all.Files {
		if p, ok := read[all.Files[i].Path]; ok {
			take(&all.Files[i], p)
		}
	}
	return all, err
}

// readRaw reads git's raw format, ":mode mode object object status", a tab, then one path or two, up to the empty line
// that ends it.
func (l *listing) readRaw(in *bufio.Reader) error {
	for {
		line, err := in.ReadString('\n')
		if line = strings.TrimSuffix(line, "\n"); line == "" {
			if err == io.EOF {
				err = nil
			}
			return err
		}
		if err != nil {
			return err
		}
		head, names, _ := strings.Cut(line, "\t")
		fields := strings.Fields(strings.TrimPrefix(head, ":"))
		old, path, renamed := strings.Cut(names, "\t")
		if !renamed {
			path = old
		}
		old, bad := change.Unquote(old)
		path, worse := change.Unquote(path)
		if len(fields) != 5 || errors.Join(bad, worse) != nil {
			return fmt.Errorf("git printed %q where a changed file should stand", line)
		}
		l.add(fields, old, path)
	}
}

// submodule and link are the modes of what isn't a file of text.
const (
	submodule = "160000"
	link      = "120000"
)

func (l *listing) add(fields []string, old, path string) {
	f := change.File{Status: change.Status(fields[4][0]), Path: path, Old: old}
	switch f.Status {
	case change.Added:
		f.Old = ""
	case change.Renamed:
		l.left[old] = true
	case 'U':
		f.Status, f.Opaque = change.Modified, "not merged yet"
	case change.Retyped:
		f.Opaque = "of another type than before"
	}
	switch {
	case fields[0] == submodule || fields[1] == submodule:
		f.Opaque = change.Submodule
	case fields[1] == link && f.Opaque == "":
		f.Opaque = "a symbolic link"
	}
	if n := len(l.files); n > 0 && l.files[n-1].Path == path && l.blobs[path].kind == "U" { // what it is beside that comes behind it
		l.files = l.files[:n-1]
	}
	l.files = append(l.files, f)
	l.blobs[path] = blob{old: fields[2], new: fields[3], was: fields[0], mode: fields[1], kind: fields[4]}
}

// readHunks reads the patch that follows and puts its hunks into the files. It lists those that git takes for binary.
func (l *listing) readHunks(in io.Reader) (binary []string, err error) {
	parsed, err := change.ReadUnified(in)
	if err != nil {
		return nil, err
	}
	at := make(map[string]int, len(l.files))
	for i, f := range l.files {
		at[f.Path] = i
	}
	for _, p := range parsed {
		i, known := at[p.Path]
		switch {
		case !known || l.files[i].Opaque != "":
		case p.Opaque != "":
			binary = append(binary, p.Path)
		default:
			take(&l.files[i], p)
		}
	}
	return binary, nil
}

// take gives a file the lines that were read of it, unless these aren't lines of text.
func take(f *change.File, read change.File) {
	switch {
	case read.Opaque != "" || hasNUL(read.Hunks):
		f.Opaque = "binary"
	case isPointer(read.Hunks):
		f.Opaque = "kept elsewhere for its size"
	default:
		f.Hunks = read.Hunks
	}
}

// asText asks for the files that git takes for binary once more, as text: an attribute may have said so of a text.
// Those that hold NUL bytes are opaque.
func (c *Comparison) asText(l *listing, binary []string) error {
	_, err := c.stream(func(in io.Reader) error {
		_, err := l.readHunks(in)
		return err
	}, c.command(append([]string{"--text"}, patchFlags...), binary)...)
	return err
}

// maxPathBytes bounds the paths given to one git command.
const maxPathBytes = 64 << 10

// TooMany reports whether so many paths are better not given to git one by one.
func TooMany(paths []string) bool {
	size := 0
	for _, p := range paths {
		size += len(p) + 1
	}
	return size > maxPathBytes
}

// diffBlobs gives the diffs of some files, by path. What git takes for binary is asked for once more as text: an
// attribute may have said so of a text.
func (c *Comparison) diffBlobs(blobs map[string]blob) (map[string]change.File, error) {
	if len(blobs) == 0 {
		return nil, nil
	}
	paths := slices.Sorted(maps.Keys(blobs))
	parsed := make(map[string]change.File, len(paths))
	diff := func(flags []string, among func(path string) bool) error {
		var pairs []pair
		for i, path := range paths {
			if b := blobs[path]; b.old != b.new && among(path) {
				pairs = append(pairs, pair{i, b.old, b.new})
			}
		}
		if len(pairs) == 0 {
			return nil
		}
		files, err := c.repo.diffPairs(pairs, flags...)
		for _, f := range files {
			if i, bad := pairIndex(f); bad == nil && i < len(paths) {
				parsed[paths[i]] = f
			}
		}
		return err
	}
	if err := diff(nil, func(string) bool { return true }); err != nil {
		return nil, err
	}
	return parsed, diff([]string{"--text"}, func(path string) bool { return parsed[path].Opaque != "" })
}

// isPointer reports whether the lines that were added are of a text that stands for a large file kept elsewhere: what
// changed in it then is its hash, and its size as a rule.
func isPointer(hunks []change.Hunk) bool {
	hash := false
	for _, h := range hunks {
		for _, line := range h.Added {
			key, _, _ := strings.Cut(line, " ")
			if key != "version" && key != "oid" && key != "size" && !strings.HasPrefix(key, "ext-") {
				return false
			}
			hash = hash || strings.HasPrefix(line, "oid sha256:")
		}
	}
	return hash
}

func hasNUL(hunks []change.Hunk) bool {
	nul := func(line string) bool { return strings.IndexByte(line, 0) >= 0 }
	return slices.ContainsFunc(hunks, func(h change.Hunk) bool {
		return slices.ContainsFunc(h.Removed, nul) || slices.ContainsFunc(h.Added, nul)
	})
}

// IncludeUntracked makes git see the work tree's files that it neither tracks nor ignores, so that they are compared,
// and found to be renamed, like all others: it notes them in a copy of the index.
func (r *Repo) IncludeUntracked() error { return r.included() }

func (r *Repo) includeUntracked() error {
	list, err := r.untracked()
	if err != nil || len(list) == 0 {
		return err
	}
	copied, err := r.ownIndex("index")
	if err != nil {
		return err
	}
	r.addToEnvironment("GIT_INDEX_FILE=" + copied)
	env, err := r.ownStore()
	if err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		add := r.command("add", "--intent-to-add", "--pathspec-from-file=-", "--pathspec-file-nul")
		add.Stdin, add.Env = bytes.NewReader(list), env
		_, complaint, err := process.Output(add)
		if err == nil {
			break
		}
		if tries == addTries || !bytes.Contains(complaint, []byte("did not match any files")) {
			return failure("add", err, string(complaint))
		}
		if list, err = r.untracked(); err != nil || len(list) == 0 { // a file is gone since it was listed
			return err
		}
	}
	r.readOwnStore(env)
	return nil
}

// addTries is how often untracked files are listed anew, since others write and remove files meanwhile.
const addTries = 5

// untracked lists the files that git neither tracks nor ignores, each ended by a NUL.
func (r *Repo) untracked() (list []byte, err error) {
	out, err := r.git("ls-files", "--others", "--exclude-standard", "--full-name", "-z")
	for name := range bytes.SplitAfterSeq(out, []byte{0}) {
		if !bytes.HasSuffix(name, []byte("/\x00")) { // another repository's folder
			list = append(list, name...)
		}
	}
	return list, err
}

// ownIndex is a copy of the index in a folder of our own, under a name; nothing is there where the repository has none yet.
func (r *Repo) ownIndex(name string) (copied string, err error) {
	scratch, err := r.scratchDir()
	if err != nil {
		return "", err
	}
	where, err := r.git("rev-parse", "--path-format=absolute", "--git-path", "index")
	if err != nil {
		return "", err
	}
	copied = filepath.Join(scratch, name)
	if err := copyIndex(strings.TrimSuffix(string(where), "\n"), copied); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return copied, nil
}

// copyIndex copies an index with its time, by which git knows which files may have changed in the moment it was written.
func copyIndex(from, to string) error {
	info, err := os.Stat(from)
	if err != nil {
		return err
	}
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	if err := os.WriteFile(to, data, 0o600); err != nil {
		return err
	}
	return os.Chtimes(to, info.ModTime(), info.ModTime())
}
