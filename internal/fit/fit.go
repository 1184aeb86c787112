// Package fit knows what it takes to fit the door in a repository: a starter policy and git's hooks. It plans files
// before it writes any, remembers what it wrote, and takes exactly that away again.
package fit

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"github.com/google/renameio/v2"
	"io/fs"
	"os"
	"path/filepath"

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
	Written bool   // it is there already, just so
}

// theirs is the ending of the name under which a hook that was there before is kept and run.
const theirs = ".theirs"

// record is what earlier fittings wrote, kept in the repository's own folder.
type record struct {
	path  string
	Files []written `json:"files"`
}

type written struct {
	Path   string `json:"path"`
	What   string `json:"what"`
	Digest string `json:"sha256"`
	Aside  string `json:"aside,omitempty"`
}

func readRecord(gitDir string) (*record, error) {
	r := &record{path: filepath.Join(gitDir, "zincdoor-fitted.json")}
	data, err := os.ReadFile(r.path)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = json.Unmarshal(data, r)
	}
	if err != nil {
		return nil, fmt.Errorf("the record of what was fitted can't be read: %w", err)
	}
	return r, nil
}

func (r *record) save() error {
	if len(r.Files) == 0 {
		return ignoreAbsent(os.Remove(r.path))
	}
	data, err := json.MarshalIndent(r, "", "\t")
	if err != nil {
		return err
	}
	return files.Write(r.path, append(data, '\n'), 0o644)
}

func (r *record) find(path string) *written {
	for i := range r.Files {
		if r.Files[i].Path == path {
			return &r.Files[i]
		}
	}
	return nil
}

func ignoreAbsent(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// check finds out what stands in a file's place: nothing, the file itself, an older one of ours, or one of theirs,
// which a hook puts aside. A file of ours that was altered since is refused.
func (r *record) check(f *File, hook bool) error {
	old, err := os.ReadFile(f.Path)
	ours := r.find(f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case bytes.Equal(old, f.Text):
		f.Written = true
	case ours != nil && digest(old) == ours.Digest:
		f.Aside = "" // replaced; what was put aside stays there
	case ours != nil:
		return fmt.Errorf("%s was altered since it was fitted; put your lines elsewhere, or take it away by hand: %w", f.Path, ErrRefused)
	case hook:
		f.Aside = f.Path + theirs
		if _, err := os.Lstat(f.Aside); err == nil {
			return fmt.Errorf("%s is in the way of keeping %s: %w", f.Aside, f.Path, ErrRefused)
		}
	}
	return nil
}

// Apply writes the files that aren't there yet.
func Apply(gitDir string, planned []File) error {
	r, err := readRecord(gitDir)
	if err != nil {
		return err
	}
	for _, f := range planned {
		if f.Written {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
			return err
		}
		if f.Aside != "" {
			if err := os.Rename(f.Path, f.Aside); err != nil {
				return err
			}
		}
		if err := files.Write(f.Path, f.Text, f.Mode, renameio.IgnoreUmask()); err != nil {
			return err
		}
		now := written{Path: f.Path, What: f.What, Digest: digest(f.Text), Aside: f.Aside}
		if old := r.find(f.Path); old != nil {
			now.Aside = old.Aside
			*old = now
		} else {
			r.Files = append(r.Files, now)
		}
		if err := r.save(); err != nil {
			return err
		}
	}
	return nil
}

// Removal is what became of one file that was fitted.
type Removal struct {
	Path, What string
	Kept       bool   // it was altered since, and stays
	Back       string // what stood there before and is back, "" for nothing
}

// Remove takes away what was fitted and puts back what stood there before. With dry it only tells.
func Remove(gitDir string, dry bool) ([]Removal, error) {
	r, err := readRecord(gitDir)
	if err != nil {
		return nil, err
	}
	var all []Removal
	var left []written
	for _, w := range r.Files {
		removal := Removal{Path: w.Path, What: w.What, Back: w.Aside}
		data, err := os.ReadFile(w.Path)
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return nil, err
		case err == nil && digest(data) != w.Digest:
			removal.Kept, removal.Back = true, ""
			left = append(left, w)
		case !dry:
			if err := w.remove(); err != nil {
				return nil, err
			}
		}
		all = append(all, removal)
	}
	if dry {
		return all, nil
	}
	r.Files = left
	return all, r.save()
}

func (w written) remove() error {
	if err := ignoreAbsent(os.Remove(w.Path)); err != nil {
		return err
	}
	if w.Aside != "" {
		return ignoreAbsent(os.Rename(w.Aside, w.Path))
	}
	os.Remove(filepath.Dir(w.Path)) // only where nothing else is in it
	return nil
}
