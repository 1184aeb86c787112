package git

import (
	"errors"
	"maps"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/change"
)

// WithTexts is the comparison as it would be if files of its new side, the work tree, had other texts, by their paths: such as those
// that an editor holds and hasn't saved. A file that git doesn't track and ignores, or that isn't one of the repository's, stays as it is.
// Which files are renamed ones isn't found out
// anew. It takes time for these files alone.
func (c *Comparison) WithTexts(texts map[string][]byte) (*Comparison, error) {
	before, err := c.full()
	if err != nil {
		return nil, err
	}
	l := &listing{files: slices.Clone(before.files), blobs: maps.Clone(before.blobs), left: before.left, notices: before.notices}
	typed := &Comparison{repo: c.repo, old: c.old, new: c.new, args: c.args, whole: true, contents: objects{repo: c.repo}, typed: map[string][]byte{}}
	maps.Copy(typed.typed, c.typed)
	asked := map[string]blob{}
	for _, path := range slices.Sorted(maps.Keys(texts)) {
		b, part, err := c.typedFile(l, path)
		if err != nil {
			return nil, err
		}
		if !part {
			continue
		}
		typed.typed[path] = texts[path]
		if b.new, err = c.repo.Writer().keep(path, texts[path]); err != nil {
			return nil, err
		}
		asked[path] = b
	}
	if err := typed.compareTyped(l, asked); err != nil {
		return nil, err
	}
	typed.full = func() (*listing, error) { return l, nil }
	typed.plain = typed.full
	typed.oldNames = sync.OnceValues(typed.nameOld)
	return typed, nil
}

// typedFile finds a file among those that differ, or puts it there, and its content on the old side. Part is false where its text has no
// part in the comparison.
func (c *Comparison) typedFile(l *listing, path string) (b blob, part bool, err error) {
	if at := slices.IndexFunc(l.files, func(f change.File) bool { return f.Path == path }); at >= 0 {
		b = l.blobs[path]
		if b.mode == submodule || b.mode == link || b.kind == "U" {
			return b, false, nil
		}
		if f := &l.files[at]; f.Status == change.Deleted {
			f.Status = change.Modified
			b.kind = string(change.Modified)
			l.blobs[path] = b
		}
		return b, true, nil
	}
	out, err := c.repo.git("ls-tree", "-z", "--full-tree", string(c.old), "--", path)
	if err != nil {
		return b, false, err
	}
	f := change.File{Status: change.Added, Path: path}
	b = blob{mode: "100644", kind: string(change.Added)}
	about, _, found := strings.Cut(string(out), "\t")
	if fields := strings.Fields(about); found && len(fields) == 3 {
		if fields[0] == link || fields[1] != "blob" {
			return b, false, nil
		}
		f.Status, f.Old = change.Modified, path
		b = blob{old: fields[2], mode: fields[0], kind: string(change.Modified)}
	} else if ignored, err := c.repo.Ignores(path); ignored || err != nil {
		return b, false, err
	}
	l.blobs[path], l.files = b, append(l.files, f)
	return b, true, nil
}

// compareTyped gives some files their lines anew. Those that are then the same on both sides leave the listing.
func (c *Comparison) compareTyped(l *listing, asked map[string]blob) error {
	read, err := c.diffBlobs(asked)
	if err != nil {
		return err
	}
	l.files = slices.DeleteFunc(l.files, func(f change.File) bool {
		b, is := asked[f.Path]
		same := is && b.old == b.new && f.Status == change.Modified
		if same {
			delete(l.blobs, f.Path)
		}
		return same
	})
	for i := range l.files {
		f := &l.files[i]
		if _, is := asked[f.Path]; is && f.Status != change.Retyped {
			f.Hunks, f.Opaque = nil, ""
			take(f, read[f.Path])
		}
	}
	slices.SortFunc(l.files, func(a, b change.File) int { return strings.Compare(a.Path, b.Path) })
	return nil
}

// Ignores reports whether git ignores a file of the work tree that it doesn't track.
func (r *Repo) Ignores(path string) (bool, error) {
	// It takes no literal paths, and none of those that begin so for magic.
	cmd := r.command("--no-literal-pathspecs", "check-ignore", "--quiet", "--no-index", "--", "./"+path)
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return false, nil
	}
	return err == nil, err
}
