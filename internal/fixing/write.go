package fixing

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
)

// trace is what a mending did, so that it can be taken back.
type trace struct {
	File  string   `json:"-"`
	Files []traced `json:"files"`
}

type traced struct {
	Path        string `json:"path"`
	Before      []byte `json:"before"` // in the work tree
	After       []byte `json:"after"`
	IndexBefore []byte `json:"index_before,omitempty"`
	IndexAfter  []byte `json:"index_after,omitempty"`
	Staged      bool   `json:"staged"`
}

func (s *Files) traceFile() (string, error) {
	dir, err := s.repo.GitDir()
	return filepath.Join(dir, "zincdoor-mended.json"), err
}

// Write writes mended files: index and work tree, each whole or not at all. What was there before is kept for Undo.
func (s *Files) Write(files []Fixed) error {
	name, err := s.traceFile()
	if err != nil {
		return err
	}
	lock := flock.New(filepath.Dir(name), flock.SetFlag(os.O_RDONLY))
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("the repository can't be locked: %w", err)
	}
	defer lock.Unlock()
	t := trace{}
	staged := map[string][]byte{}
	for _, f := range files {
		now, found, err := s.disk.Plain(f.Path)
		if err != nil || !found {
			return fmt.Errorf("%s can't be read any more: %w", f.Path, err)
		}
		if !s.staged && !bytes.Equal(now, f.Old) || s.staged && !bytes.Equal(now, f.disk) {
			return fmt.Errorf("%s was altered in the meantime; nothing is written", f.Path)
		}
		one := traced{Path: f.Path, Before: now, After: f.New, Staged: s.staged}
		if s.staged {
			one.IndexBefore, one.IndexAfter, one.After = f.Old, f.New, f.worktree
			staged[f.Path] = f.New
		}
		t.Files = append(t.Files, one)
	}
	if err := s.carryOut(&t, staged); err != nil {
		return errors.Join(fmt.Errorf("nothing is written: %w", err), s.restore(t))
	}
	data, err := json.Marshal(t)
	if err == nil {
		err = renameio.WriteFile(name, data, 0o600)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("what was there before can't be kept: %w", err), s.restore(t))
	}
	return nil
}

// carryOut puts the new texts into the index and the work tree.
func (s *Files) carryOut(t *trace, staged map[string][]byte) (err error) {
	if len(staged) > 0 {
		if err := s.repo.Writer().Stage(staged); err != nil {
			return err
		}
	}
	for i := range t.Files {
		one := &t.Files[i]
		if one.Staged && one.After == nil {
			if one.After, err = s.repo.Writer().Written(one.Path); err != nil {
				return err
			}
		}
		if err := s.replace(one.Path, one.After); err != nil {
			return err
		}
	}
	return nil
}

// restore puts back what was there before, in the index and the work tree.
func (s *Files) restore(t trace) error {
	staged := map[string][]byte{}
	for _, f := range t.Files {
		if f.Staged {
			staged[f.Path] = f.IndexBefore
		}
	}
	var failed error
	if len(staged) > 0 {
		failed = s.repo.Writer().Stage(staged)
	}
	for _, f := range t.Files {
		if now, _, err := s.disk.Plain(f.Path); err != nil || !bytes.Equal(now, f.Before) {
			failed = errors.Join(failed, s.replace(f.Path, f.Before))
		}
	}
	return failed
}

// replace writes a file of the work tree, keeping its mode.
func (s *Files) replace(path string, data []byte) error {
	file := filepath.Join(s.repo.Root, filepath.FromSlash(path))
	info, err := os.Lstat(file)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", path)
	}
	return renameio.WriteFile(file, data, info.Mode().Perm(), renameio.IgnoreUmask(), renameio.WithTempDir(filepath.Dir(file)))
}

// Undo takes back what was written last. Nothing is taken back where a file isn't any more as it was left.
func (s *Files) Undo() (paths []string, err error) {
	name, err := s.traceFile()
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is nothing to take back: fix has written nothing here, or it is taken back already")
	}
	var t trace
	if err == nil {
		err = json.Unmarshal(data, &t)
	}
	if err != nil {
		return nil, fmt.Errorf("what fix wrote can't be read: %w", err)
	}
	for _, f := range t.Files {
		now, found, err := s.disk.Plain(f.Path)
		if err != nil || !found || !bytes.Equal(now, f.After) {
			return nil, fmt.Errorf("%s isn't any more as fix left it, so nothing is taken back", f.Path)
		}
		if now, _, err := s.index.Read(f.Path); f.Staged && (err != nil || !bytes.Equal(now, f.IndexAfter)) {
			return nil, fmt.Errorf("what is staged of %s isn't any more as fix left it, so nothing is taken back", f.Path)
		}
		paths = append(paths, f.Path)
	}
	if err := s.restore(t); err != nil {
		return nil, err
	}
	return paths, os.Remove(name)
}
