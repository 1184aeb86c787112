package git

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

// TestAnyContent: many contents are read each once, packed or not, whatever their order; what isn't there is left out.
func TestAnyContent(t *testing.T) {
	r, run := scratchRepository(t)
	var names []string
	for _, part := range []struct{ from, to int }{{0, orderedFrom}, {orderedFrom, orderedFrom + 200}} { // of which the first is packed
		var files strings.Builder
		for i := part.from; i < part.to; i++ {
			file := filepath.Join(r.Root, "many", fmt.Sprint(i))
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(manyContent(i)), 0o644); err != nil {
				t.Fatal(err)
			}
			fmt.Fprintln(&files, file)
		}
		hash := exec.Command("git", "-C", r.Root, "hash-object", "-w", "--stdin-paths")
		hash.Stdin = strings.NewReader(files.String())
		out, err := hash.Output()
		if err != nil {
			t.Fatal(err)
		}
		if names = append(names, strings.Fields(string(out))...); part.from == 0 {
			run("add", "many")
			run("commit", "-q", "-m", "many")
			run("repack", "-q", "-a", "-d")
		}
	}
	missing := strings.Repeat("0", 39) + "1"
	for _, n := range []int{0, 1, sharedFrom - 1, sharedFrom + 1, orderedFrom - 1, orderedFrom + 200} {
		asked := append([]string{missing}, names[:n]...)
		if n > 0 {
			asked = append(asked, names[n-1], names[0])
		}
		var mutex sync.Mutex
		seen := map[int]string{}
		err := r.AnyContent(asked, func(i int, data []byte) {
			mutex.Lock()
			defer mutex.Unlock()
			if _, twice := seen[i]; twice {
				t.Errorf("%d of %d was seen twice", i, n)
			}
			seen[i] = string(data)
		})
		if err != nil || len(seen) != len(asked)-1 {
			t.Fatalf("%d of %d were seen: %v", len(seen), len(asked)-1, err)
		}
		for i, data := range seen {
			of := i - 1
			switch {
			case i == n+1:
				of = n - 1
			case i == n+2:
				of = 0
			}
			if want := manyContent(of); data != want {
				t.Errorf("%d of %d is %.20q, want %.20q", i, n, data, want)
			}
		}
	}
}

// TestSmallContent: contents that are too large are left out, and those behind them are read as ever.
func TestSmallContent(t *testing.T) {
	r, _ := scratchRepository(t)
	const most = 2*readAtOnce + 5
	var names, want []string
	for _, size := range []int{0, 10, most + 1, most, readAtOnce, 3 * most, 7} {
		text := strings.Repeat("y", size)
		hash := exec.Command("git", "-C", r.Root, "hash-object", "-w", "--stdin")
		hash.Stdin = strings.NewReader(text)
		out, err := hash.Output()
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, strings.TrimSpace(string(out)))
		if size <= most {
			want = append(want, text)
		}
	}
	var got []string
	if err := r.anyContent(names, most, func(_ int, data []byte) { got = append(got, string(data)) }); err != nil || !slices.Equal(got, want) {
		t.Errorf("%d contents of %d: %v", len(got), len(want), err)
	}
}

// manyContent is the content of one of many files: mostly small, some as large as what is read at once, or larger than the room that
// is kept.
func manyContent(i int) string {
	size := i % 7 * 1000
	switch i {
	case 10, 11, 12:
		size = readAtOnce - 24 + i
	case 20, 22:
		size = 3 * readAtOnce
	case 21:
		size = mostRoom + 1
	}
	return fmt.Sprintf("content %d\n%s", i, strings.Repeat("x", size))
}
