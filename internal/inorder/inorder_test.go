package inorder

import (
	"bytes"
	"errors"
	"strconv"
	"strings"
	"testing"
)

func TestWrite(t *testing.T) {
	for _, n := range []int{0, 1, 2, atOnce, atOnce + 1, 7*atOnce + 3} {
		var got bytes.Buffer
		if err := Write(&got, n, ",", func(to []byte, i int) ([]byte, error) { return strconv.AppendInt(to, int64(i), 10), nil }); err != nil {
			t.Fatal(n, err)
		}
		var want []string
		for i := range n {
			want = append(want, strconv.Itoa(i))
		}
		if got.String() != strings.Join(want, ",") {
			t.Errorf("%d items: %.60q", n, got.String())
		}
	}
}

// TestErrors: the first error of an item or of the writer ends it, in the order of items.
func TestErrors(t *testing.T) {
	bad := errors.New("bad")
	for _, n := range []int{10, 9 * atOnce} {
		var got bytes.Buffer
		err := Write(&got, n, "", func(to []byte, i int) ([]byte, error) {
			if i == n-1 {
				return nil, bad
			}
			return append(to, 'x'), nil
		})
		if !errors.Is(err, bad) {
			t.Errorf("%d items: %v", n, err)
		}
		if err := Write(full{}, n, "", func(to []byte, i int) ([]byte, error) { return append(to, 'x'), nil }); !errors.Is(err, errFull) {
			t.Errorf("%d items, no room: %v", n, err)
		}
	}
}

var errFull = errors.New("no room")

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errFull }
