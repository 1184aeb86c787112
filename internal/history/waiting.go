package history

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/record"
	"zincdoor/internal/files"
	"zincdoor/internal/recordfile"
)

// Waiting is a folder of records that couldn't be put into their store: a file each, compressed, in the form of Line and, after
// that, of ContentLine.
type Waiting string

const waitingEnd = ".jsonl.zst"

// mostWaiting is how many records wait at most: whoever can't record for longer loses the oldest of them.
const mostWaiting = 1000

// Keep lets a record wait, with its reports. It needs an id; where it has none, it gets one.
func (w Waiting) Keep(r *record.Record, contents []recordfile.Content) error {
	if err := os.MkdirAll(string(w), 0o777); err != nil {
		return err
	}
	if err := recordfile.Name(r); err != nil {
		return err
	}
	line, err := recordfile.Line(r)
	if err != nil {
		return err
	}
	out := append(line, '\n')
	for _, c := range contents {
		line, err := recordfile.ContentLine(c)
		if err != nil {
			return err
		}
		out = append(append(out, line...), '\n')
	}
	all, err := w.list()
	if err != nil {
		return err
	}
	for len(all) >= mostWaiting {
		os.Remove(filepath.Join(string(w), all[0]))
		all = all[1:]
	}
	file := fmt.Sprintf("%s-%s%s", r.Time.Format("20060102T150405.000"), r.ID, waitingEnd)
	return files.Write(filepath.Join(string(w), file), recordfile.Compress(out), 0o666)
}

// list lists the files of those that wait, the oldest first.
func (w Waiting) list() (all []string, err error) {
	entries, err := os.ReadDir(string(w))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), waitingEnd) && !strings.HasPrefix(e.Name(), ".") {
			all = append(all, e.Name())
		}
	}
	slices.Sort(all)
	return all, err
}

// TakeIn puts the records that wait into a store. Each is removed once it is in; one that can't be read is set aside, and told of.
func (w Waiting) TakeIn(ctx context.Context, s *Store) (taken int, notices []string, err error) {
	all, err := w.list()
	if err != nil {
		return 0, nil, err
	}
	for _, file := range all {
		at := filepath.Join(string(w), file)
		packed, err := os.ReadFile(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue // another run has taken it in
		} else if err != nil {
			return taken, notices, err
		}
		r, contents, err := readWaiting(packed)
		if err != nil {
			notices = append(notices, fmt.Sprintf("a record that waited can't be read, and stays in %s.damaged: %v", at, err))
			if err := os.Rename(at, at+".damaged"); err != nil {
				return taken, notices, err
			}
			continue
		}
		if err := s.Put(ctx, r, contents); err != nil {
			return taken, notices, err
		}
		if err := os.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return taken, notices, err
		}
		taken++
	}
	return taken, notices, nil
}

func readWaiting(packed []byte) (*record.Record, []recordfile.Content, error) {
	data, err := recordfile.Decompress(packed)
	if err != nil {
		return nil, nil, err
	}
	line, rest, _ := bytes.Cut(data, []byte("\n"))
	r, err := recordfile.ReadLine(line)
	if err != nil {
		return nil, nil, err
	}
	var contents []recordfile.Content
	for line := range bytes.Lines(rest) {
		c, err := recordfile.ReadContentLine(line)
		if err != nil {
			return nil, nil, err
		}
		contents = append(contents, c)
	}
	return r, contents, nil
}
