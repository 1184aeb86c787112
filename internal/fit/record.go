package fit

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/files"
)

// record is what earlier fittings wrote, kept in the repository's own folder.
type record struct {
	path     string
	Files    []written `json:"files"`
	Settings []Setting `json:"settings,omitempty"`
}

// Setting is a value that was set in the repository's own configuration.
type Setting struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

type written struct {
	Path    string   `json:"path"`
	What    string   `json:"what"`
	Digests []string `json:"sha256"` // of the texts that it had; the last is its own
	Aside   string   `json:"aside,omitempty"`
	Made    []string `json:"made,omitempty"` // the folders that were made for it, the innermost first
}

// openRecord reads what was fitted and keeps other fittings out until unlock is called.
func openRecord(gitDir string) (r *record, unlock func(), err error) {
	free, err := files.Lock(gitDir)
	if err != nil {
		return nil, nil, fmt.Errorf("the repository can't be locked: %w", err)
	}
	if r, err = readRecord(gitDir); err != nil {
		return nil, nil, errors.Join(err, free())
	}
	files.RemoveUnfinished(r.path, 0)
	return r, func() { free() }, nil
}

func readRecord(gitDir string) (*record, error) {
	r := &record{path: filepath.Join(gitDir, "zincdoor", "fitted.json")}
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
	if len(r.Files)+len(r.Settings) == 0 {
		err := ignoreAbsent(os.Remove(r.path))
		os.Remove(filepath.Dir(r.path)) // only where nothing else is in it
		return err
	}
	data, err := json.MarshalIndent(r, "", "\t")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(r.path), 0o755)
	}
	if err != nil {
		return err
	}
	return files.WriteLocked(r.path, append(data, '\n'), 0o644)
}

func (r *record) find(path string) *written {
	for i := range r.Files {
		if r.Files[i].Path == path {
			return &r.Files[i]
		}
	}
	return nil
}

// note notes a file that will be written.
func (r *record) note(f File) error {
	w := r.find(f.Path)
	if w == nil {
		r.Files = append(r.Files, written{Path: f.Path})
		w = &r.Files[len(r.Files)-1]
	}
	w.What = f.What
	w.Digests = append(slices.DeleteFunc(w.Digests, func(d string) bool { return d == digest(f.Text) }), digest(f.Text))
	if f.Aside != "" {
		w.Aside = f.Aside
	}
	for dir := filepath.Dir(f.Path); ; dir = filepath.Dir(dir) {
		if _, err := os.Lstat(dir); err == nil || slices.Contains(w.Made, dir) {
			break
		}
		w.Made = append(w.Made, dir)
	}
	return r.save()
}

// wrote reports whether a text is one that was written. Nothing was where there is no record.
func (w *written) wrote(text []byte) bool {
	return w != nil && slices.Contains(w.Digests, digest(text))
}

// interrupted reports whether what stood in the file's place was to be put aside and wasn't replaced yet.
func (w *written) interrupted() bool {
	if w.Aside == "" {
		return false
	}
	aside, err := os.Lstat(w.Aside)
	if errors.Is(err, fs.ErrNotExist) {
		return true
	}
	now, wrong := os.Lstat(w.Path)
	return err == nil && wrong == nil && os.SameFile(aside, now)
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// NoteSetting notes a value that will be set in the repository's own configuration.
func NoteSetting(gitDir, key, value string) error {
	r, unlock, err := openRecord(gitDir)
	if err != nil {
		return err
	}
	defer unlock()
	if s := (Setting{key, value}); !slices.Contains(r.Settings, s) {
		r.Settings = append(r.Settings, s)
	}
	return r.save()
}

// Settings are the values that fittings have set.
func Settings(gitDir string) ([]Setting, error) {
	r, err := readRecord(gitDir)
	if err != nil {
		return nil, err
	}
	return r.Settings, nil
}

// ForgetSettings forgets them, once they are unset.
func ForgetSettings(gitDir string) error {
	r, unlock, err := openRecord(gitDir)
	if err != nil {
		return err
	}
	defer unlock()
	r.Settings = nil
	return r.save()
}

// WrotePolicy reports whether a policy is one that a fitting wrote, by its digest: "sha256:" and 64 hexadecimal digits; "" asks
// whether a fitting wrote any.
func WrotePolicy(gitDir, digest string) bool {
	r, err := readRecord(gitDir)
	sum, ok := strings.CutPrefix(digest, "sha256:")
	return err == nil && (ok || digest == "") && slices.ContainsFunc(r.Files, func(w written) bool {
		return w.What == policyName && (digest == "" || slices.Contains(w.Digests, sum))
	})
}
