package git

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
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

// Comparison is what lies between two sides.
type Comparison struct {
	repo      *Repo
	args      []string
	untracked bool
}

// Compare compares two sides. Old is a commit, a tree or Index, new is any side; between Index and Worktree, only
// tracked files are compared.
func (r *Repo) Compare(old, new Side) Comparison {
	c := Comparison{repo: r}
	switch {
	case new == Index:
		c.args = append(c.args, "diff-index", "--cached", string(old))
	case new == Worktree && old == Index:
		c.args = append(c.args, "diff")
	case new == Worktree:
		// The porcelain command, as it alone tells a file whose time changed from one whose text did without writing
		// the index.
		c.args, c.untracked = append(c.args, "diff", string(old)), true
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

func (c Comparison) command(flags []string, paths []string) []string {
	args := slices.Concat(c.args[:1], diffFlags, flags, c.args[1:], []string{"--"}, paths)
	return args
}

// Files lists the files that differ, without their lines. The notices say what couldn't be looked at in full.
func (c Comparison) Files() (files []change.File, notices []string, err error) {
	if c.untracked {
		if err := c.repo.IncludeUntracked(); err != nil {
			return nil, nil, err
		}
	}
	complaint, err := c.repo.stream(func(out io.Reader) error {
		data, err := io.ReadAll(out)
		if err != nil {
			return err
		}
		files, err = parseRaw(data)
		return err
	}, c.command([]string{"--raw", "-z"}, nil)...)
	if err != nil {
		return nil, nil, err
	}
	if strings.Contains(complaint, "rename detection was skipped") {
		notices = append(notices, fmt.Sprintf(
			"too many files were added and removed to look for edited renames (over %d by %d): a renamed and edited file counts as added", renameLimit, renameLimit))
	}
	return files, notices, nil
}

// parseRaw reads git's raw format with NUL ends: ":mode mode object object status", then one path or two.
func parseRaw(data []byte) ([]change.File, error) {
	var files []change.File
	fields := strings.Split(string(bytes.TrimSuffix(data, []byte{0})), "\x00")
	for i := 0; i < len(fields) && fields[i] != ""; {
		head := strings.Fields(strings.TrimPrefix(fields[i], ":"))
		if len(head) != 5 || i+1 >= len(fields) {
			return nil, fmt.Errorf("git printed %q where a changed file should stand", fields[i])
		}
		f := change.File{Status: change.Status(head[4][0]), Path: fields[i+1], Old: fields[i+1]}
		i += 2
		switch f.Status {
		case change.Renamed, change.Copied:
			if i >= len(fields) {
				return nil, fmt.Errorf("git printed no second path for %q", f.Old)
			}
			f.Path = fields[i]
			i++
		case change.Added:
			f.Old = ""
		case 'U':
			f.Status, f.Opaque = change.Modified, "not merged yet"
		case change.Retyped:
			f.Opaque = "of another type than before"
		}
		if head[0] == submodule || head[1] == submodule {
			f.Opaque = "a submodule"
		}
		files = append(files, f)
	}
	return files, nil
}

const submodule = "160000"

// IncludeUntracked makes git see the work tree's files that it neither tracks nor ignores, so that they are compared,
// and found to be renamed, like all others: it notes them in a copy of the index.
func (r *Repo) IncludeUntracked() error {
	if r.scratch != "" {
		return nil
	}
	out, err := r.git("ls-files", "--others", "--exclude-standard", "--full-name", "-z")
	if err != nil {
		return err
	}
	var list []byte
	for name := range bytes.SplitAfterSeq(out, []byte{0}) {
		if !bytes.HasSuffix(name, []byte("/\x00")) { // another repository's folder
			list = append(list, name...)
		}
	}
	if len(list) == 0 {
		return nil
	}
	if r.scratch, err = os.MkdirTemp("", "zincdoor-"); err != nil {
		return fmt.Errorf("no temporary folder can be made (TMPDIR names where): %w", err)
	}
	copied := filepath.Join(r.scratch, "index")
	where, err := r.git("rev-parse", "--path-format=absolute", "--git-path", "index")
	if err != nil {
		return err
	}
	data, err := os.ReadFile(strings.TrimSuffix(string(where), "\n"))
	if err == nil {
		err = os.WriteFile(copied, data, 0o600)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	r.env = append(r.env, "GIT_INDEX_FILE="+copied)
	add := r.command("add", "--intent-to-add", "--pathspec-from-file=-", "--pathspec-file-nul")
	add.Stdin = bytes.NewReader(list)
	if out, err := add.CombinedOutput(); err != nil {
		return failure("add", err, string(out))
	}
	return nil
}

// maxPathBytes bounds the paths given to one git command; a longer list means all files.
const maxPathBytes = 64 << 10

// Fill reads the lines of those files that wanted names, into their Hunks. Files that git takes for binary are asked
// for as text; where they hold NUL bytes they become opaque.
func (c Comparison) Fill(files []change.File, wanted func(path string) bool) error {
	byPath := map[string]*change.File{}
	var paths []string
	size := 0
	for i := range files {
		f := &files[i]
		if f.Opaque != "" || !wanted(f.Path) {
			continue
		}
		byPath[f.Path] = f
		paths = append(paths, f.Path)
		if f.Old != "" && f.Old != f.Path {
			paths = append(paths, f.Old)
		}
		size += len(f.Path) + len(f.Old)
	}
	if len(paths) == 0 {
		return nil
	}
	limit := paths
	if size > maxPathBytes {
		limit = nil
	}
	binary, err := c.hunks(byPath, nil, limit)
	if err != nil || len(binary) == 0 {
		return err
	}
	stillBinary, err := c.hunks(byPath, []string{"--text"}, binary)
	for _, path := range stillBinary {
		byPath[path].Opaque = "binary"
	}
	return err
}

// hunks runs the diff and puts its hunks into the files. It returns the paths that came out as binary.
func (c Comparison) hunks(byPath map[string]*change.File, flags, paths []string) (binary []string, err error) {
	read := func(out io.Reader) error {
		parsed, err := change.ReadUnified(out)
		if err != nil {
			return err
		}
		for _, p := range parsed {
			f := byPath[p.Path]
			switch {
			case f == nil:
			case p.Opaque != "" || hasNUL(p.Hunks):
				binary = append(binary, p.Path)
			default:
				f.Hunks = p.Hunks
			}
		}
		return nil
	}
	if _, err := c.repo.stream(read, c.command(append(flags, "--patch", "--unified=0", "--inter-hunk-context=0"), paths)...); err != nil {
		return nil, err
	}
	return binary, nil
}

func hasNUL(hunks []change.Hunk) bool {
	for _, h := range hunks {
		for _, line := range slices.Concat(h.Removed, h.Added) {
			if strings.IndexByte(line, 0) >= 0 {
				return true
			}
		}
	}
	return false
}
