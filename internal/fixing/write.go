package fixing

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"zincdoor/internal/files"
	"zincdoor/internal/git"
)

// trace is what a fix writes, noted before it is written, so that it can be taken back: also by a later run, where this one is
// killed before all of it is written.
type trace struct {
	Files   []traced `json:"files"`
	Whole   bool     `json:"whole"`             // all of it was written
	Passing bool     `json:"passing,omitempty"` // the index was that of a commit being made, which need not have come about
}

// traced is one file of a trace.
type traced struct {
	Path        string `json:"path"`
	Before      []byte `json:"before"` // in the work tree
	After       []byte `json:"after"`
	Staged      bool   `json:"staged"`
	IndexBefore []byte `json:"index_before,omitempty"`
	IndexAfter  []byte `json:"index_after,omitempty"`
}

// ErrNothing is the error of taking back what was never written, or is taken back already.
var ErrNothing = errors.New("there is nothing to take back: no fix was written here, or it was taken back already")

// ErrAltered is the error of taking back what isn't there any more.
var ErrAltered = errors.New("was changed since the fix, so nothing is taken back")

func (s *Files) traceFile() (string, error) {
	dir, err := s.repo.GitDir()
	return filepath.Join(dir, "zincdoor", "fixed.json"), err
}

// lock keeps other fixes of this work tree out until unlock is called.
func (s *Files) lock() (unlock func(), name string, err error) {
	if name, err = s.traceFile(); err != nil {
		return nil, "", err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return nil, "", fmt.Errorf("git's folder can't be written: %w", err)
	}
	free, err := files.Lock(filepath.Dir(filepath.Dir(name)))
	if err != nil {
		return nil, "", fmt.Errorf("the repository can't be locked: %w", err)
	}
	files.RemoveUnfinished(name, 0)
	fresh := freshFolder(name)
	if err := errors.Join(files.RemoveAll(fresh), os.Mkdir(fresh, 0o700)); err != nil {
		return nil, "", errors.Join(fmt.Errorf("git's folder can't be written: %w", err), free())
	}
	return func() {
		files.RemoveAll(fresh)
		free()
	}, name, nil
}

// freshFolder is the folder for files that are to take others' places.
func freshFolder(traceFile string) string {
	return filepath.Join(filepath.Dir(traceFile), "fixing")
}

// readTrace reads what the last fix wrote; its error is ErrNothing where there is none.
func readTrace(name string) (t trace, err error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return trace{}, ErrNothing
	}
	if err == nil {
		err = json.Unmarshal(data, &t)
	}
	if err != nil {
		return trace{}, fmt.Errorf("what fix wrote last can't be read: %w; remove %s to do without taking it back", err, name)
	}
	return t, nil
}

func (t trace) save(name string) error {
	data, err := json.Marshal(t)
	if err == nil {
		err = files.WriteLocked(name, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("what was there before can't be kept: %w", err)
	}
	return nil
}

// Write writes fixed files: index and work tree, each file whole or not at all, with its owner, mode and other names. What was
// there before is kept for Undo. Where something can't be written, all is put back.
func (s *Files) Write(fixed []Fixed) error {
	unlock, name, err := s.lock()
	if err != nil {
		return err
	}
	defer unlock()
	earlier, err := readTrace(name)
	if err != nil && !errors.Is(err, ErrNothing) {
		return err
	}
	t := trace{}
	if t.Passing, err = s.repo.Writer().Passes(); err != nil {
		return err
	}
	for _, f := range fixed {
		now, found, err := s.disk.Plain(f.Path)
		switch {
		case err != nil || !found:
			return fmt.Errorf("%s can't be read any more, so nothing is written: %w", f.Path, errors.Join(err, fs.ErrNotExist))
		case !bytes.Equal(now, f.disk):
			return fmt.Errorf("%s was changed in the meantime, so nothing is written", f.Path)
		}
		one := traced{Path: f.Path, Before: now, After: f.worktree, Staged: s.staged}
		if s.staged {
			one.IndexBefore, one.IndexAfter = f.Old, f.New
		}
		t.Files = append(t.Files, one)
	}
	if err := t.save(name); err != nil {
		return fmt.Errorf("nothing is written: %w", err)
	}
	err = s.carryOut(t)
	if err == nil {
		t.Whole = true
		err = t.save(name)
	}
	if err == nil {
		return nil
	}
	failed := s.restore(t)
	switch {
	case failed != nil:
		return errors.Join(fmt.Errorf("not all is written: %w", err), fmt.Errorf("and not all could be put back (zincdoor fix --undo tries again): %w", failed))
	case len(earlier.Files) > 0:
		failed = earlier.save(name)
	default:
		failed = os.Remove(name)
	}
	return errors.Join(fmt.Errorf("nothing is written: %w", err), failed)
}

// carryOut puts the new texts into the index and the work tree.
func (s *Files) carryOut(t trace) error {
	if err := s.stage(t.Files, func(f traced) []byte { return f.IndexAfter }); err != nil {
		return err
	}
	for _, f := range t.Files {
		if err := s.replace(f.Path, f.After); err != nil {
			return err
		}
	}
	return nil
}

// stage puts a text of each file that is fixed in the index there.
func (s *Files) stage(all []traced, text func(traced) []byte) (err error) {
	objects := map[string]string{}
	for _, f := range all {
		if !f.Staged {
			continue
		}
		if objects[f.Path], err = s.repo.Writer().Store(text(f)); err != nil {
			return err
		}
	}
	return s.repo.Writer().Stage(objects)
}

// restore puts back what was there before, in the index and the work tree.
func (s *Files) restore(t trace) error {
	index, err := s.repo.Tree(git.Index) // as it is now
	if err != nil {
		return err
	}
	defer index.Close()
	var altered []traced
	for _, f := range t.Files {
		if now, found, err := index.Read(f.Path); f.Staged && err == nil && found && bytes.Equal(now, f.IndexAfter) {
			altered = append(altered, f)
		}
	}
	failed := s.stage(altered, func(f traced) []byte { return f.IndexBefore })
	for _, f := range t.Files {
		if now, _, err := s.disk.Plain(f.Path); err != nil || !bytes.Equal(now, f.Before) {
			failed = errors.Join(failed, s.replace(f.Path, f.Before))
		}
	}
	return failed
}

// Recover takes back what a fix that was interrupted had written, but for files that were altered since, which stay as they are. The
// paths of both are given; there are none where no fix was interrupted.
func (s *Files) Recover() (back, altered []string, err error) {
	unlock, name, err := s.lock()
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	t, err := readTrace(name)
	if errors.Is(err, ErrNothing) || err == nil && t.Whole {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	t.Files = slices.DeleteFunc(t.Files, func(f traced) bool {
		now, found, err := s.disk.Plain(f.Path)
		if err == nil && found && f.isOneOf(now) {
			back = append(back, f.Path)
			return false
		}
		altered = append(altered, f.Path)
		return true
	})
	if err := s.restore(t); err != nil {
		return nil, nil, fmt.Errorf("what an interrupted fix had written can't be taken back: %w", err)
	}
	return back, altered, os.Remove(name)
}

// Undo takes back what was written last, and what an interrupted fix had written of it. Nothing is taken back where a file isn't
// any more as it was left.
func (s *Files) Undo() (paths []string, err error) {
	unlock, name, err := s.lock()
	if err != nil {
		return nil, err
	}
	defer unlock()
	t, err := readTrace(name)
	if err != nil {
		return nil, err
	}
	for _, f := range t.Files {
		now, found, err := s.disk.Plain(f.Path)
		if err != nil || !found || !f.isOneOf(now) {
			return nil, fmt.Errorf("%s %w", f.Path, ErrAltered)
		}
		staged, _, err := s.index.Read(f.Path)
		if f.Staged && !t.Passing && (err != nil || !bytes.Equal(staged, f.IndexAfter) && !bytes.Equal(staged, f.IndexBefore)) {
			return nil, fmt.Errorf("what is staged of %s %w", f.Path, ErrAltered)
		}
		paths = append(paths, f.Path)
	}
	if err := s.restore(t); err != nil {
		return nil, fmt.Errorf("not everything could be taken back; fix this, and call zincdoor fix --undo again: %w", err)
	}
	return paths, os.Remove(name)
}

// isOneOf reports whether a text is the file's before or after the fix, or is between them since writing it in place was cut off.
func (f traced) isOneOf(now []byte) bool {
	return bytes.Equal(now, f.Before) || bytes.Equal(now, f.After) || isCutOff(now, f.After, f.Before) || isCutOff(now, f.Before, f.After)
}

// isCutOff reports whether a text begins as over and goes on as under, which over was being written onto.
func isCutOff(now, over, under []byte) bool {
	same := 0
	for same < len(now) && same < len(over) && now[same] == over[same] {
		same++
	}
	return bytes.Equal(now[same:], under[min(same, len(under)):])
}
