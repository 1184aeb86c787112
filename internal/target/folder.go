package target

import (
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
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
)

// folder reads the files that a patch speaks of from a folder, as far as the patch fits them: a file whose text doesn't
// hold the patch's new lines is another state of it.
type folder struct {
	root  *os.Root
	files map[string]*change.File
	unfit []string // files of the patch whose text the folder doesn't have
}

func openFolder(dir string, files []change.File) (*folder, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	f := &folder{root: root, files: map[string]*change.File{}}
	for i := range files {
		file := &files[i]
		if file.Status == change.Deleted {
			continue
		}
		f.files[file.Path] = file
		data, found, err := f.plain(file.Path)
		if err != nil || !found || !fits(source.New(data), file) {
			f.unfit = append(f.unfit, file.Path)
		}
	}
	return f, nil
}

// fits reports whether the text holds the new side of every hunk.
func fits(text *source.Text, file *change.File) bool {
	for _, h := range file.Hunks {
		for i, line := range h.Added {
			if h.NewStart+i > text.Len() || text.Line(h.NewStart+i) != strings.TrimSuffix(line, "\r") {
				return false
			}
		}
	}
	return true
}

func (f *folder) notices() []string {
	if len(f.unfit) == 0 {
		return nil
	}
	return []string{fmt.Sprintf(
		"the folder doesn't hold the patched text of %s: findings there are recognised by rule, path and message only", ClipList(f.unfit))}
}

// ClipList names at most three of a list.
func ClipList(list []string) string {
	if len(list) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
	}
	return strings.Join(list, ", ")
}

// Read returns the text of a file, for a file of the patch only where it fits.
func (f *folder) Read(name string) (data []byte, found bool, err error) {
	if slices.Contains(f.unfit, name) {
		return nil, false, nil
	}
	return f.plain(name)
}

// ReadAll reads nothing ahead: a folder's files are read as they are needed.
func (f *folder) ReadAll([]string, func(path string, data []byte)) error { return nil }

// Has reports whether the patched state has a file at path.
func (f *folder) Has(name string) bool {
	if f.files[name] != nil {
		return true
	}
	_, found, err := f.Plain(name)
	return found && err == nil
}

// Link tells where the symbolic link at a path leads, as it is written; false where there is no link.
func (f *folder) Link(name string) (to string, link bool, err error) {
	local := filepath.FromSlash(name)
	if info, err := f.root.Lstat(local); err != nil || info.Mode()&fs.ModeSymlink == 0 || f.files[name] != nil {
		return "", false, nil
	}
	to, err = f.root.Readlink(local)
	return filepath.ToSlash(to), err == nil, err
}

func (f *folder) plain(name string) (data []byte, found bool, err error) {
	if !fs.ValidPath(name) || name == "." {
		return nil, false, nil
	}
	local := filepath.FromSlash(name)
	info, err := f.root.Lstat(local)
	if err != nil || !info.Mode().IsRegular() {
		return nil, false, nil
	}
	file, err := f.root.Open(local)
	if err != nil {
		return nil, false, err
	}
	defer file.Close()
	data, err = io.ReadAll(file)
	return data, err == nil, err
}

// Plain reads a file that must not be a symbolic link nor lie behind one.
func (f *folder) Plain(name string) (data []byte, found bool, err error) {
	for at := name; at != "."; at = path.Dir(at) {
		info, err := f.root.Lstat(filepath.FromSlash(at))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, false, err
		}
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return nil, false, fmt.Errorf("%s is %w, which isn't allowed there; use a plain file or folder", at, git.ErrLink)
		}
	}
	return f.plain(name)
}

// Paths lists the files that the patch speaks of; the folder may be large and no repository.
func (f *folder) Paths() ([]string, error) { return slices.Sorted(maps.Keys(f.files)), nil }

// Lacking tells which paths the folder has nothing at and the patch doesn't bring.
func (f *folder) Lacking(paths []string) (map[string]bool, error) {
	lacking := map[string]bool{}
	for _, p := range paths {
		if !f.Has(p) {
			lacking[p] = true
		}
	}
	return lacking, nil
}

// Close releases the folder.
func (f *folder) Close() error { return f.root.Close() }
