// Package baselinefile knows the list of accepted findings as a file: a header line, then an entry a line. It reads and
// writes it, and replaces it whole under a lock, so that of two runs at once the second sees what the first wrote, and one
// that is cut short leaves the old file.
package baselinefile

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	jsonv2 "github.com/go-json-experiment/json"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/memory"
)

// version is the header's mark of the form this package reads and writes.
const version = "baseline/1"

// The bounds of a file: how long it may be, where there is memory for it, and a line of it. The time that reading takes grows with its
// length; its depth is that of an entry.
const (
	mostBytes = 512 << 20 // bytes
	mostPart  = 4         // of the memory there is
	mostLine  = 1 << 20   // bytes
)

// usualLine is how many bytes an entry's line has at least, as a rule.
const usualLine = 230

// ErrMalformed is the error of a baseline file that can't be read; the line and what is wrong there are wrapped around it.
var ErrMalformed = errors.New("broken baseline")

// header is the file's first line.
type header struct {
	Version string           `json:"zincdoor"`
	Covers  []baseline.Cover `json:"covers"`
}

// Read reads a baseline file: the header line, then an entry a line. A line that can't be read, a key it doesn't know
// and a version it doesn't know are errors that name the line. Of the data nothing is kept.
func Read(data []byte) (*baseline.Baseline, error) {
	if most := memory.Share(mostBytes, mostPart); int64(len(data)) > most {
		return nil, fmt.Errorf("the list is over %d MiB long: %w", most>>20, ErrMalformed)
	}
	b := &baseline.Baseline{Entries: make([]baseline.Entry, 0, len(data)/usualLine)}
	for number := 1; ; number++ {
		line, rest, more := bytes.Cut(data, []byte("\n"))
		if len(line) > mostLine {
			return nil, fmt.Errorf("line %d: it is over %d MiB long: %w", number, mostLine>>20, ErrMalformed)
		}
		if line = bytes.TrimSpace(line); len(line) > 0 {
			if err := readLine(b, number, line); err != nil {
				return nil, fmt.Errorf("line %d: %w", number, err)
			}
		} else if number == 1 {
			return nil, fmt.Errorf("line 1: no header: %w", ErrMalformed)
		}
		if !more {
			return b, nil
		}
		data = rest
	}
}

// conflictMarks begin the lines by which git marks what it couldn't merge.
var conflictMarks = []string{"<<<<<<<", "|||||||", "=======", ">>>>>>>"}

func readLine(b *baseline.Baseline, number int, line []byte) error {
	for _, mark := range conflictMarks {
		if bytes.HasPrefix(line, []byte(mark)) {
			return fmt.Errorf("it has git's conflict marks. After zincdoor fit, git merges baselines by itself: git checkout --merge with the file's path merges it again, then git add it: %w", ErrMalformed)
		}
	}
	if number == 1 {
		return readHeader(b, line)
	}
	before := &baseline.Entry{}
	if n := len(b.Entries); n > 0 {
		before = &b.Entries[n-1]
	}
	var e baseline.Entry
	if !quickly(line, &e, before) {
		e = baseline.Entry{}
		if err := strict(line, &e); err != nil {
			return err
		}
	}
	if e.Tool == "" || e.Message == "" && e.Rule == "" {
		return fmt.Errorf("an entry needs tool, and rule or message: %w", ErrMalformed)
	}
	for _, date := range []string{e.On, e.Until} {
		if date == "" || date == before.On {
			continue
		}
		if _, err := time.Parse(time.DateOnly, date); err != nil {
			return fmt.Errorf("%q is no date like 2027-02-01: %w", date, ErrMalformed)
		}
	}
	b.Entries = append(b.Entries, e)
	return nil
}

func readHeader(b *baseline.Baseline, line []byte) error {
	var mark struct {
		Version string `json:"zincdoor"`
	}
	if err := json.Unmarshal(line, &mark); err != nil {
		return fmt.Errorf("the header is no JSON object (%v): %w", err, ErrMalformed)
	}
	if mark.Version != version {
		return fmt.Errorf("the header says %q, this program reads %q: %w", mark.Version, version, ErrMalformed)
	}
	var h header
	if err := strict(line, &h); err != nil {
		return err
	}
	b.Covers = h.Covers
	return nil
}

func strict(line []byte, into any) error {
	if jsonv2.Unmarshal(line, into, jsonv2.RejectUnknownMembers(true)) == nil {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(line)) // slower, and better at telling what is wrong
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("%s: %w", strings.TrimPrefix(err.Error(), "json: "), ErrMalformed)
	}
	if _, err := d.Token(); err != io.EOF {
		return fmt.Errorf("something follows the JSON object: %w", ErrMalformed)
	}
	return nil
}

// Write writes the file: the same bytes for the same covers and entries in whatever order they come.
func Write(w io.Writer, b *baseline.Baseline) error {
	covers := slices.Clone(b.Covers)
	slices.SortFunc(covers, func(x, y baseline.Cover) int {
		return cmp.Or(cmp.Compare(x.Tool, y.Tool), slices.Compare(x.Paths, y.Paths), slices.Compare(x.Except, y.Except))
	})
	entries := slices.Clone(b.Entries)
	slices.SortFunc(entries, baseline.Order)

	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	if covers == nil {
		covers = []baseline.Cover{}
	}
	if err := out.Encode(header{Version: version, Covers: covers}); err != nil {
		return err
	}
	for _, e := range entries {
		if err := out.Encode(e); err != nil {
			return err
		}
	}
	return nil
}
