// Package fit knows what it takes to fit the door in a repository: a starter policy and git's hooks. It plans files
// before it writes any, remembers what it wrote, and takes exactly that away again.
package fit

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"zincdoor/internal/files"
)

// ErrRefused is the error of a fitting that would harm something; the reason and the way out are wrapped around it.
var ErrRefused = errors.New("refused")

// File is one file of a fitting.
type File struct {
	Path    string // absolute
	What    string // for people: "policy", "commit hook"
	Text    []byte
	Mode    fs.FileMode
	Aside   string // where a file of theirs that is in the place goes; "" where there is none
	Dead    bool   // that is a link which leads nowhere
	Written bool   // it is there already, just so
}

// theirs is the ending of the name under which a hook that was there before is kept and run.
const theirs = ".theirs"

// check finds out what is in a file's place: nothing, the file itself, an older one of ours, or one of theirs, which a hook
// puts aside, be it a link that leads nowhere. A file of ours that was altered since is refused.
func (r *record) check(f *File, hook bool) error {
	info, err := os.Lstat(f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	ours := r.find(f.Path)
	old, err := os.ReadFile(f.Path)
	if errors.Is(err, fs.ErrNotExist) && info.Mode()&fs.ModeSymlink != 0 {
		f.Dead, err = true, nil // theirs too
	}
	switch {
	case err != nil:
		return err
	case bytes.Equal(old, f.Text):
		f.Written = true
	case ours.wrote(old):
		f.Aside = "" // replaced; what was put aside stays there
	case ours != nil && !ours.interrupted():
		return fmt.Errorf("%s was changed since it was fitted; move your lines elsewhere, or remove the file by hand: %w", f.Path, ErrRefused)
	case hook:
		f.Aside = f.Path + theirs
		if aside, err := os.Lstat(f.Aside); err == nil && !os.SameFile(aside, info) {
			return fmt.Errorf("%s is in the way of keeping %s: %w", f.Aside, f.Path, ErrRefused)
		}
	}
	return nil
}

// Apply writes the files that aren't there yet. Each is noted before it is written, and what it replaces is there all the time,
// under its name or under the one aside, so that a fitting that is killed can be gone on with or taken away.
func Apply(gitDir string, planned []File) error {
	r, unlock, err := openRecord(gitDir)
	if err != nil {
		return err
	}
	defer unlock()
	for _, f := range planned {
		files.RemoveUnfinished(filepath.Join(filepath.Dir(r.path), filepath.Base(f.Path)), 0)
		if f.Written {
			continue
		}
		if err := r.note(f); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
			return err
		}
		if f.Aside != "" {
			if err := putAside(f.Path, f.Aside); err != nil {
				return err
			}
		}
		if err := files.WriteExactly(filepath.Dir(r.path), f.Path, f.Text, f.Mode); err != nil {
			return err
		}
	}
	return nil
}

// Note notes that a file was written by other means, so that it is taken away like the others.
func Note(gitDir string, f File) error {
	r, unlock, err := openRecord(gitDir)
	if err != nil {
		return err
	}
	defer unlock()
	return r.note(f)
}

// putAside gives a file another name beside its own, or renames it where a file can't have two.
func putAside(path, aside string) error {
	err := os.Link(path, aside)
	if err == nil || errors.Is(err, fs.ErrExist) {
		return nil // it is the file itself, as was checked
	}
	return os.Rename(path, aside)
}

// Removal is what became of one file that was fitted.
type Removal struct {
	Path, What string
	Kept       string // why it stays, "" where it doesn't
	Back       string // what stood there before and is back, "" for nothing
}

// Remove takes away what was fitted and puts back what stood there before. With dry it only tells.
func Remove(gitDir string, dry bool) ([]Removal, error) {
	r, unlock, err := openRecord(gitDir)
	if err != nil {
		return nil, err
	}
	defer unlock()
	var all []Removal
	var left []written
	var made []string
	for _, w := range r.Files {
		removal, stays, err := w.remove(dry)
		if err != nil {
			return all, err
		}
		if stays {
			left = append(left, w)
		}
		all, made = append(all, removal), append(made, w.Made...)
	}
	if dry {
		return all, nil
	}
	slices.SortFunc(made, func(a, b string) int { return len(b) - len(a) })
	for _, dir := range made {
		os.Remove(dir) // only where nothing else is in it
	}
	r.Files = left
	return all, r.save()
}

// remove takes a file away, and reports whether it stays noted since it couldn't be.
func (w written) remove(dry bool) (removal Removal, stays bool, err error) {
	removal = Removal{Path: w.Path, What: w.What, Back: w.Aside}
	data, unread := os.ReadFile(w.Path)
	now, err := os.Lstat(w.Path)
	absent := errors.Is(err, fs.ErrNotExist)
	if err != nil && !absent || unread != nil && !errors.Is(unread, fs.ErrNotExist) {
		return removal, true, errors.Join(err, unread)
	}
	aside, err := os.Lstat(w.Aside)
	hasAside := err == nil
	switch {
	case !absent && !w.wrote(data) && hasAside && (os.SameFile(now, aside) || sameContent(w.Aside, data)):
		if dry {
			return removal, false, nil
		}
		return removal, false, os.Remove(w.Aside) // what was there before stands there already
	case !absent && !w.wrote(data) && w.Aside != "" && !hasAside:
		return removal, false, nil // it was put back, by hand or by a removal that was killed
	case !absent && !w.wrote(data):
		removal.Kept, removal.Back = "was altered since", ""
		return removal, true, nil
	case w.Aside != "" && !hasAside && !absent:
		removal.Kept, removal.Back = fmt.Sprintf("calls the earlier hook, which is missing from %s", w.Aside), ""
		return removal, true, nil
	case dry:
		return removal, false, nil
	case hasAside:
		return removal, false, os.Rename(w.Aside, w.Path)
	}
	return removal, false, ignoreAbsent(os.Remove(w.Path))
}

func sameContent(file string, data []byte) bool {
	other, err := os.ReadFile(file)
	return err == nil && bytes.Equal(other, data)
}

func ignoreAbsent(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
