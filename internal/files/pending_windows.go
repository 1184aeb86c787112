package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Pending is a file that isn't there yet: it takes the place of another one once it is whole. It must be cleaned up.
type Pending struct {
	*os.File
	to   string
	done bool
}

// NewPending begins a file that is to take the place of file, in a folder on the same volume. Modes don't matter here.
func NewPending(file, folder string, _ fs.FileMode) (*Pending, error) {
	f, err := os.CreateTemp(folder, "."+filepath.Base(file)) // as RemoveUnfinished knows them
	if err != nil {
		return nil, err
	}
	return &Pending{File: f, to: file}, nil
}

// CloseAtomicallyReplace has the file take its place.
func (p *Pending) CloseAtomicallyReplace() error {
	if err := errors.Join(p.Sync(), p.Close()); err != nil {
		return err
	}
	p.done = true
	return os.Rename(p.Name(), p.to) // which replaces what is there, in one step
}

// Cleanup removes what didn't take its place.
func (p *Pending) Cleanup() error {
	if p.done {
		return nil
	}
	p.done = true
	return errors.Join(p.Close(), os.Remove(p.Name()))
}

func writeWhole(folder, file string, data []byte, perm fs.FileMode, _ bool) error {
	p, err := NewPending(file, folder, perm)
	if err != nil {
		return err
	}
	defer p.Cleanup()
	if _, err := p.Write(data); err != nil {
		return err
	}
	return p.CloseAtomicallyReplace()
}
