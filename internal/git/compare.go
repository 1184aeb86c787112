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
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
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

// Comparison is what lies between two sides. It runs beside its caller: Files waits for the list of files, Lines for
// their hunks.
type Comparison struct {
	repo     *Repo
	old, new Side
	args     []string

	// What differs without regard to renames is known long before these are found.
	plain      *Comparison // its files and blobs stand once plainKnown is closed
	plainKnown chan struct{}
	filled     map[string]bool // by path on the new side: the lines were asked for
	guessed    map[string]guess
	fresh      map[string][]change.Hunk // the whole texts of new files, by path

	oldObjects objects           // reads the old side's files
	oldNames   map[string]string // their hashes, by their paths there

	listed, done chan struct{}
	files        []change.File
	names        []change.File   // the same as they are first listed
	unlisted     error           // why they can't be listed
	blobs        map[string]blob // by path on the new side; by path on the old side for deleted files
	left         map[string]bool // old paths of renamed files
	whole        bool
	binary       []string // files that came out as binary
	notices      []string
	err          error
}

// blob names the contents of a changed file on both sides; "" or zeros where a side has none or git didn't hash it.
type blob struct {
	old, new   string
	mode, kind string // the new side's mode; git's letter for the status
}

// Compare compares two sides. Old is a commit, a tree or Index, new is any side; between Index and Worktree, only
// tracked files are compared.
func (r *Repo) Compare(old, new Side) *Comparison {
	c := &Comparison{repo: r, old: old, new: new, blobs: map[string]blob{}, left: map[string]bool{}, filled: map[string]bool{}, guessed: map[string]guess{}, fresh: map[string][]change.Hunk{}}
	switch {
	case new == Index:
		c.args = append(c.args, "diff-index", "--cached", string(old))
	case new == Worktree && old == Index:
		c.args = append(c.args, "diff")
	case new == Worktree:
		// The porcelain command, as it alone tells a file whose time changed from one whose text did without writing
		// the index.
		c.args = append(c.args, "diff", string(old))
	default:
		c.args = append(c.args, "diff-tree", "-r", string(old), string(new))
	}
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

// Start begins the comparison: of the list of files alone, or with whole of all their lines in the same go. Paths limit
// it; none means all files.
func (c *Comparison) Start(whole bool, paths ...string) {
	c.whole = whole
	c.listed, c.done, c.plainKnown = make(chan struct{}), make(chan struct{}), make(chan struct{})
	if !whole {
		go c.listPlain()
	}
	go func() {
		defer close(c.done)
		if c.err = c.run(paths); c.err == nil {
			return
		}
		select {
		case <-c.listed:
		default:
			c.unlisted = c.err
			close(c.listed)
		}
	}()
}

func (c *Comparison) run(paths []string) error {
	if c.new == Worktree && c.old != Index {
		if err := c.repo.IncludeUntracked(); err != nil {
			return err
		}
	}
	flags := []string{"--raw"}
	if c.whole {
		flags = append(flags, patchFlags...)
	}
	complaint, err := c.repo.stream(func(out io.Reader) error {
		in := bufio.NewReaderSize(out, 1<<16)
		if err := c.readRaw(in); err != nil {
			return err
		}
		c.names = slices.Clone(c.files)
		close(c.listed)
		if !c.whole {
			return nil
		}
		return c.readHunks(in)
	}, c.command(flags, paths)...)
	if strings.Contains(complaint, "rename detection was skipped") {
		c.notices = append(c.notices, fmt.Sprintf(
			"too many files were added and removed to look for edited renames (over %d by %d): a renamed and edited file counts as added", renameLimit, renameLimit))
	}
	if err == nil && len(c.binary) > 0 {
		err = c.asText()
	}
	return err
}

// Old is the comparison's old side.
func (c *Comparison) Old() Side { return c.old }

// Started reports whether Start was called.
func (c *Comparison) Started() bool { return c.done != nil }

// listPlain lists the files that differ, taking a renamed one for one that is gone and one that is new.
func (c *Comparison) listPlain() {
	defer close(c.plainKnown)
	c.plain = c.repo.Compare(c.old, c.new)
	_, c.plain.err = c.repo.stream(func(out io.Reader) error {
		return c.plain.readRaw(bufio.NewReaderSize(out, 1<<16))
	}, c.command([]string{"--raw", "--no-renames"}, nil)...)
}

// Plain lists the files that differ without regard to renames, with the lines of those modified in place that were
// wanted. It is there long before Files, unless the comparison is whole.
func (c *Comparison) Plain(wanted func(path string) bool) ([]change.File, error) {
	<-c.plainKnown
	if c.plain.err != nil {
		return nil, c.plain.err
	}
	modified := map[string]blob{}
	for _, f := range c.plain.files {
		if f.Status == change.Modified && f.Opaque == "" && wanted(f.Path) {
			modified[f.Path] = c.plain.blobs[f.Path]
			c.filled[f.Path] = true
		}
	}
	guesses := c.guessRenames(wanted)
	for path, g := range guesses {
		modified[path] = g.blob
	}
	parsed, err := c.diffBlobs(modified)
	for i := range c.plain.files {
		f := &c.plain.files[i]
		if p, ok := parsed[f.Path]; ok && f.Status == change.Modified {
			take(f, p)
		}
	}
	for path, g := range guesses {
		if p, ok := parsed[path]; ok || g.blob.old == g.blob.new {
			g.lines = p
			c.guessed[path] = g
		}
	}
	return c.plain.files, err
}

// KnowFresh tells the lines of a file that is new by its name, so that they needn't be asked for.
func (c *Comparison) KnowFresh(path string, hunks []change.Hunk) { c.fresh[path] = hunks }

// guess is a rename that was guessed before renames were looked for, with the lines between the two files.
type guess struct {
	old   string // path
	blob  blob
	lines change.File
}

// guessRenames pairs the wanted new files with those that are gone by the same file name, where only one of each bears
// it: most renames are moves to another folder, and their lines can be read while git still looks for them.
func (c *Comparison) guessRenames(wanted func(path string) bool) map[string]guess {
	type bearers struct{ added, deleted []string }
	byName := map[string]*bearers{}
	for _, f := range c.plain.files {
		if f.Opaque != "" || f.Status != change.Added && f.Status != change.Deleted {
			continue
		}
		name := path.Base(f.Path)
		if byName[name] == nil {
			byName[name] = &bearers{}
		}
		if b := byName[name]; f.Status == change.Added {
			b.added = append(b.added, f.Path)
		} else {
			b.deleted = append(b.deleted, f.Path)
		}
	}
	guesses := map[string]guess{}
	for _, b := range byName {
		if len(b.added) == 1 && len(b.deleted) == 1 && wanted(b.added[0]) {
			old, new := b.deleted[0], b.added[0]
			guesses[new] = guess{old: old, blob: blob{old: c.plain.blobs[old].old, new: c.plain.blobs[new].new}}
		}
	}
	return guesses
}

// Alters reports whether the file at path differs between the sides, as soon as that is known.
func (c *Comparison) Alters(path string) (bool, error) {
	from, err := c, error(nil)
	if c.whole {
		_, err = c.Files()
	} else {
		<-c.plainKnown
		from, err = c.plain, c.plain.err
	}
	_, altered := from.blobs[path]
	return altered || from.left[path], err
}

// Fresh reports whether a path is new by its name, be its file a renamed one or not. The comparison must not be whole.
func (c *Comparison) Fresh(path string) bool {
	<-c.plainKnown
	return c.plain.blobs[path].kind == "A"
}

// fillBlobs reads the diffs of some files into the list.
func (c *Comparison) fillBlobs(blobs map[string]blob) error {
	parsed, err := c.diffBlobs(blobs)
	for i := range c.files {
		if p, ok := parsed[c.files[i].Path]; ok {
			take(&c.files[i], p)
		}
	}
	return err
}

// Files lists the files that differ. Their hunks are there only after Lines or Fill.
func (c *Comparison) Files() ([]change.File, error) {
	_, err := c.Names()
	return c.files, err
}

// Names lists the files that differ without their hunks, which may still be read meanwhile.
func (c *Comparison) Names() ([]change.File, error) {
	<-c.listed
	if c.unlisted != nil {
		return nil, c.unlisted
	}
	return c.names, nil
}

// Lines waits until the comparison has ended and returns the files as they are known then. The notices say what
// couldn't be looked at in full.
func (c *Comparison) Lines() (files []change.File, notices []string, err error) {
	<-c.done
	return c.files, c.notices, c.err
}

// Listed reports whether Files would answer at once.
func (c *Comparison) Listed() bool {
	select {
	case <-c.listed:
		return true
	default:
		return false
	}
}

// readRaw reads git's raw format, ":mode mode object object status", a tab, then one path or two, up to the empty line
// that ends it.
func (c *Comparison) readRaw(in *bufio.Reader) error {
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
		c.add(fields, old, path)
	}
}

// submodule and link are the modes of what isn't a file of text.
const (
	submodule = "160000"
	link      = "120000"
)

func (c *Comparison) add(fields []string, old, path string) {
	f := change.File{Status: change.Status(fields[4][0]), Path: path, Old: old}
	switch f.Status {
	case change.Added:
		f.Old = ""
	case change.Renamed:
		c.left[old] = true
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
	c.files = append(c.files, f)
	c.blobs[path] = blob{old: fields[2], new: fields[3], mode: fields[1], kind: fields[4]}
}

// readHunks reads the patch that follows and puts its hunks into the files.
func (c *Comparison) readHunks(in io.Reader) error {
	parsed, err := change.ReadUnified(in)
	if err != nil {
		return err
	}
	at := make(map[string]int, len(c.files))
	for i, f := range c.files {
		at[f.Path] = i
	}
	for _, p := range parsed {
		i, known := at[p.Path]
		switch {
		case !known || c.files[i].Opaque != "":
		case p.Opaque != "":
			c.binary = append(c.binary, p.Path)
		default:
			take(&c.files[i], p)
		}
	}
	return nil
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
func (c *Comparison) asText() error {
	paths := c.binary
	c.binary = nil
	return c.fill([]string{"--text"}, paths)
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

// Fill reads the lines of some of the listed files, as far as they aren't known yet. It needs sides that git has hashed:
// a commit's or a tree's.
func (c *Comparison) Fill(wanted func(f change.File) bool) error {
	files, err := c.Files()
	if err != nil || c.whole {
		return err
	}
	<-c.plainKnown
	known := map[string]change.File{}
	for _, f := range c.plain.files {
		if f.Status == change.Modified && c.filled[f.Path] {
			known[f.Path] = f
		}
	}
	missing := map[string]blob{}
	for i := range files {
		f := &files[i]
		plain, already := known[f.Path]
		switch {
		case already && f.Hunks == nil:
			f.Opaque, f.Hunks = plain.Opaque, plain.Hunks
		case f.Status == change.Renamed && f.Opaque == "" && c.guessed[f.Path].old == f.Old:
			take(f, c.guessed[f.Path].lines)
			c.filled[f.Path] = true
		case f.Status == change.Added && f.Opaque == "" && c.fresh[f.Path] != nil:
			take(f, change.File{Hunks: c.fresh[f.Path]})
			c.filled[f.Path] = true
		case !c.filled[f.Path] && f.Opaque == "" && wanted(*f):
			missing[f.Path] = c.blobs[f.Path]
			c.filled[f.Path] = true
		}
	}
	return c.fillBlobs(missing)
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

func (c *Comparison) fill(flags, paths []string) error {
	_, err := c.repo.stream(c.readHunks, c.command(append(flags, patchFlags...), paths)...)
	return err
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
func (r *Repo) IncludeUntracked() error {
	if r.included {
		return nil
	}
	r.included = true
	list, err := r.untracked()
	if err != nil || len(list) == 0 {
		return err
	}
	scratch, err := r.scratchDir()
	if err != nil {
		return err
	}
	copied := filepath.Join(scratch, "index")
	where, err := r.git("rev-parse", "--path-format=absolute", "--git-path", "index")
	if err != nil {
		return err
	}
	if err := copyIndex(strings.TrimSuffix(string(where), "\n"), copied); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
		out, err := add.CombinedOutput()
		if err == nil {
			break
		}
		if tries == addTries || !bytes.Contains(out, []byte("did not match any files")) {
			return failure("add", err, string(out))
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
