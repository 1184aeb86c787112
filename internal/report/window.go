package report

import (
	"bytes"
	"fmt"
	"io"
)

// window gives the bytes of a reader in stretches that hold a whole value.
type window struct {
	in         io.Reader
	buf        []byte
	start, end int   // what is read and not used yet
	base       int64 // where buf begins in the report
	eof        bool
	size       int64 // of the whole report, 0 where that isn't known
	scan       scan
	pointer    func() string // the JSON pointer of what is read

	// swap takes over a stretch that is read on from, and gives room for the next one; nil where the room stays.
	swap func(stretch []byte) (room []byte, err error)
}

const firstStretch = 1 << 20 // bytes

func newWindow(in io.Reader, size int64) *window {
	return &window{in: in, size: size, buf: make([]byte, firstStretch)}
}

// expect guesses, from how many there were up to an offset, how many of something a whole report of a size holds; 0 where that can't
// be told.
func expect(soFar int, offset, size int64) int {
	if size <= 0 || offset <= 0 {
		return 0
	}
	return int(float64(soFar) * float64(size) / float64(offset) * 1.02)
}

// offset is where the next byte stands in the report, from 0.
func (f *window) offset() int64 { return f.base + int64(f.start) }

// shift makes room of what is used up.
func (f *window) shift() (err error) {
	room := f.buf
	if f.swap != nil {
		if room, err = f.swap(f.buf); err != nil {
			return err
		}
	}
	copy(room, f.buf[f.start:f.end])
	f.buf, f.base, f.end, f.start = room, f.base+int64(f.start), f.end-f.start, 0
	return nil
}

// more reads on. What is used up makes room.
func (f *window) more() error {
	if f.eof {
		return io.ErrUnexpectedEOF
	}
	if f.start > 0 {
		if err := f.shift(); err != nil {
			return err
		}
	}
	if f.end == len(f.buf) {
		if len(f.buf) >= longestValue() {
			return fmt.Errorf("byte %d: a value is over %d MiB long: %w", f.offset(), longestValue()>>20, ErrMalformed)
		}
		f.buf = append(f.buf, make([]byte, len(f.buf))...)
	}
	for {
		n, err := f.in.Read(f.buf[f.end:])
		f.end += n
		switch {
		case err == io.EOF:
			f.eof = true
			return nil
		case err != nil:
			return err
		case n > 0:
			return nil
		}
	}
}

// peek looks at the next byte; io.EOF where there is none.
func (f *window) peek() (byte, error) {
	for f.start == f.end {
		if f.eof {
			return 0, io.EOF
		}
		if err := f.more(); err != nil {
			return 0, err
		}
	}
	return f.buf[f.start], nil
}

// line takes the next line without its line window, at most mostText bytes of it.
func (f *window) line() ([]byte, error) {
	var kept []byte
	for {
		stretch := f.buf[f.start:f.end]
		at := bytes.IndexByte(stretch, '\n')
		take := stretch
		if at >= 0 {
			take = stretch[:at]
		}
		kept = append(kept, take[:min(len(take), mostText-len(kept))]...)
		f.start += len(take)
		if at >= 0 {
			f.start++
			return kept, nil
		}
		if f.eof {
			return kept, nil
		}
		if err := f.more(); err != nil {
			return nil, err
		}
	}
}

// read lets a part be read from what is there, from the beginning again whenever it ends too soon. ended is true where
// read stopped at the end of an object or array.
func (f *window) read(read func(s *scan) bool) (ended bool, err error) {
	for {
		f.scan.b, f.scan.i, f.scan.fault = f.buf[f.start:f.end], 0, ""
		ok := read(&f.scan)
		switch {
		case ok, f.scan.ended():
			f.start += f.scan.i
			return !ok, nil
		case f.scan.fault != "":
			return false, fmt.Errorf("byte %d, at %q: %s: %w", f.offset()+int64(f.scan.i), f.pointer(), f.scan.fault, ErrMalformed)
		}
		switch err := f.double(); err {
		case nil:
		case io.ErrUnexpectedEOF:
			return false, fmt.Errorf("byte %d, at %q: the log is cut off: %w", f.base+int64(f.end), f.pointer(), ErrMalformed)
		default:
			return false, err
		}
	}
}

// double reads on until there is twice as much as there was, however little the reader gives at a time: what is read from the
// beginning again is so never more than the double of it all.
func (f *window) double() error {
	want := min(2*(f.end-f.start), longestValue())
	for {
		if err := f.more(); err != nil {
			return err
		}
		if f.eof || f.end-f.start >= want {
			return nil
		}
	}
}

// value takes the next value whole. It is good until the next one is read.
func (f *window) value() (raw []byte, err error) {
	_, err = f.read(func(s *scan) bool {
		if _, ok := s.next(); !ok {
			return false
		}
		from := s.i
		if !s.skip() {
			return false
		}
		raw = s.b[from:s.i]
		return true
	})
	return raw, err
}
