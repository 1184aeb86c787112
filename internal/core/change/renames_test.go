package change

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestRenames: contents are named by themselves here.
func TestRenames(t *testing.T) {
	lines := func(from, to int) string {
		var all strings.Builder
		for n := from; n < to; n++ {
			fmt.Fprintf(&all, "depth of gauge %d\n", n)
		}
		return all.String()
	}
	plain := func(path, content string) Entry { return Entry{path, "100644", content, len(content)} }
	most := lines(0, 100)
	for _, c := range []struct {
		name           string
		removed, added []Entry
		limit          int
		want           []int
		skipped        bool
	}{
		{"nothing", nil, []Entry{plain("a", most)}, 9, []int{-1}, false},
		{"the same content, the same name first", []Entry{plain("a/x", most), plain("a/y", most)}, []Entry{plain("b/y", most), plain("b/z", most)}, 9, []int{1, 0}, false},
		{"one content alone, of two files", []Entry{plain("a", most)}, []Entry{plain("b", most), plain("c", most)}, 9, []int{0, -1}, false},
		{"half of it", []Entry{plain("a", most)}, []Entry{plain("b", lines(48, 148))}, 9, []int{0}, false},
		{"less than half of it", []Entry{plain("a", most)}, []Entry{plain("b", lines(52, 152))}, 9, []int{-1}, false},
		{"the likest first", []Entry{plain("a", most), plain("b", lines(20, 120))}, []Entry{plain("c", lines(25, 125)), plain("d", lines(12, 112))}, 9, []int{1, 0}, false},
		{"the only one of its name, three quarters of it", []Entry{plain("a/x", most), plain("a/y", lines(20, 120))}, []Entry{plain("b/x", lines(22, 122))}, 9, []int{0}, false},
		{"the only one of its name, less of it", []Entry{plain("a/x", most), plain("a/y", lines(20, 120))}, []Entry{plain("b/x", lines(30, 130))}, 9, []int{1}, false},
		{"other line ends", []Entry{plain("a", most)}, []Entry{plain("b", strings.ReplaceAll(most, "\n", "\r\n"))}, 9, []int{0}, false},
		{"another kind of file", []Entry{{"a", "120000", most, len(most)}}, []Entry{plain("b", most)}, 9, []int{-1}, false},
		{"an edited link", []Entry{{"a", "120000", most, len(most)}}, []Entry{{"b", "120000", lines(1, 100), 0}}, 9, []int{-1}, false},
		{"twice as long", []Entry{plain("a", lines(10, 60))}, []Entry{plain("b", lines(10, 110))}, 9, []int{-1}, false},
		{"nearly twice as long", []Entry{plain("a", lines(10, 61))}, []Entry{plain("b", lines(10, 110))}, 9, []int{0}, false},
		{"empty files", []Entry{plain("a", "")}, []Entry{plain("b", "")}, 9, []int{0}, false},
		{"a content that can't be had", []Entry{plain("a", "-"), plain("b", most)}, []Entry{plain("c", lines(1, 100))}, 9, []int{1}, false},
		{"too many", []Entry{plain("a", most), plain("b/x", lines(200, 300)), plain("c", "same")}, []Entry{plain("d", lines(1, 100)), plain("e", lines(2, 100)), plain("d/x", lines(201, 300)), plain("f", "same")}, 1, []int{-1, -1, 1, 2}, true},
		{"just as many as may be", []Entry{plain("a", most)}, []Entry{plain("d", lines(1, 100))}, 1, []int{0}, false},
	} {
		got, skipped, err := Renames(c.removed, c.added, c.limit, func(names []string, see func(i int, data []byte)) error {
			for i, name := range names {
				if name != "-" {
					see(i, []byte(name))
				}
			}
			return nil
		})
		if err != nil || skipped != c.skipped || !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, %v, %v; want %v, %v", c.name, got, skipped, err, c.want, c.skipped)
		}
	}
	broken := errors.New("broken")
	if _, _, err := Renames([]Entry{plain("a", "x")}, []Entry{plain("b", "y")}, 9, func([]string, func(int, []byte)) error { return broken }); !errors.Is(err, broken) {
		t.Errorf("the error is %v", err)
	}
}
