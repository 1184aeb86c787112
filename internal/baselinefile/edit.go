package baselinefile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/files"
)

// ErrUnread is the error of a file that is there and can't be read as a baseline.
var ErrUnread = errors.New("the baseline can't be read")

// Edit replaces the baseline in file by what change makes of it: of an empty one where there is no file, or of nil where
// there is one that can't be read. Where change gives nil or an error, nothing is written. Until it is whole, the new one stands in
// the folder aside.
func Edit(file, aside string, change func(old *baseline.Baseline, unread error) (*baseline.Baseline, error)) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	unlock, err := files.Lock(filepath.Dir(file))
	if err != nil {
		return fmt.Errorf("the baseline can't be locked: %w", err)
	}
	defer unlock()
	files.RemoveUnfinished(filepath.Join(aside, filepath.Base(file)), 0)
	old, unread := Open(file)
	edited, err := change(old, unread)
	if err != nil || edited == nil {
		return err
	}
	return save(edited, func(data []byte) error { return files.WriteFrom(aside, file, data, 0o644) })
}

// Open reads the baseline in file, an empty one where there is none.
func Open(file string) (*baseline.Baseline, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return &baseline.Baseline{}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnread, err)
	}
	b, err := Read(data)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrUnread, file, err)
	}
	return b, nil
}

// Copy keeps a baseline in another file, byte for byte. Nobody else may write that.
func Copy(file, to string) error {
	data, err := os.ReadFile(file)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err == nil {
		err = files.WriteLocked(to, data, 0o644)
	}
	if err != nil {
		return fmt.Errorf("the old baseline can't be saved: %w", err)
	}
	return nil
}

// Save puts a baseline in the place of what file holds, which nobody else may write.
func Save(file string, b *baseline.Baseline) error {
	return save(b, func(data []byte) error { return files.WriteLocked(file, data, 0o644) })
}

func save(b *baseline.Baseline, write func(data []byte) error) error {
	var data bytes.Buffer
	if err := Write(&data, b); err != nil {
		return err
	}
	if err := write(data.Bytes()); err != nil {
		return fmt.Errorf("the baseline can't be written: %w", err)
	}
	return nil
}
