package memory

import (
	"fmt"
	"io"
)

// Limit is a reader that fails once more than most bytes are read.
func Limit(in io.Reader, most int64) io.Reader { return &limited{in, most, most} }

type limited struct {
	in         io.Reader
	left, most int64
}

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		var one [1]byte
		if n, err := l.in.Read(one[:]); n == 0 {
			return 0, err
		}
		return 0, fmt.Errorf("it is over %d MiB long", l.most>>20)
	}
	n, err := l.in.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	return n, err
}
