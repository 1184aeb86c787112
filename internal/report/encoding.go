package report

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// decode gives a report as UTF-8 text without a byte-order mark: unpacked where it is compressed by gzip, and from UTF-16
// where a mark says so. It holds little at once, however much is packed.
func decode(in *bufio.Reader) (*bufio.Reader, error) {
	for range 3 { // compressed, of UTF-16, with a mark
		head, err := in.Peek(3)
		if err != nil && err != io.EOF {
			return nil, err
		}
		switch {
		case bytes.HasPrefix(head, []byte{0xEF, 0xBB, 0xBF}):
			_, err := in.Discard(3)
			return in, err
		case bytes.HasPrefix(head, []byte{0xFF, 0xFE}), bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
			in = bufio.NewReaderSize(transform.NewReader(in, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder()), 1<<16)
			return in, nil
		case bytes.HasPrefix(head, []byte{0x1F, 0x8B}):
			packed, err := gzip.NewReader(in)
			if err != nil {
				return nil, fmt.Errorf("byte 0: the compressed report is broken: %w", ErrMalformed)
			}
			in = bufio.NewReaderSize(&unpacking{in: packed}, 1<<16)
		default:
			return in, nil
		}
	}
	return in, nil
}

// unpacking reports a compressed report that is broken or cut off, in the words of this package.
type unpacking struct {
	in   io.Reader
	read int64
}

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.in.Read(p)
	u.read += int64(n)
	if err != nil && err != io.EOF {
		what := "broken"
		if errors.Is(err, io.ErrUnexpectedEOF) {
			what = "cut off"
		}
		err = fmt.Errorf("after %d bytes, unpacked: the compressed report is %s: %w", u.read, what, ErrMalformed)
	}
	return n, err
}
