package change

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// TestSuspects: a text is suspected where any of its windows is a suspect with enough letters and digits around it.
func TestSuspects(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 17))
	kinds := []string{"", "}", "tide = low(1);", "\ttide = low(1);", "ebb();", "flood = depth(here, there);", "pier = 7;"}
	some := func(n int) (lines []string) {
		for range n {
			lines = append(lines, kinds[random.IntN(len(kinds))])
		}
		return lines
	}
	found := 0
	for round := range 600 {
		added, text := some(4+random.IntN(5)), strings.Join(some(random.IntN(60)), "\n")
		f := File{Path: "a", Old: "a", Status: Modified, Hunks: []Hunk{{OldStart: 1, NewStart: 2, NewCount: len(added), Added: added}}}
		suspects := NewSuspects(WorkAhead([]File{f}, Rules{}))
		suspects.Add(f, []int{2 + random.IntN(len(added)), 2})
		want := false
		old := &markedLines{}
		old.cut([]byte(text))
		for n := 0; n+movedLines <= len(old.lines); n++ {
			for _, at := range suspects.windows[window{old.mark(n), old.mark(n + 1), old.mark(n + 2)}] {
				want = want || weight(suspects.added[at.file], at.index, old, n) >= movedWeight
			}
		}
		if got := suspects.MayComeFrom([]byte(text)); got != want {
			t.Fatalf("round %d: %q is suspected to hold a part of %q: %v", round, text, added, got)
		}
		if want {
			found++
		}
	}
	if found < 50 || found > 550 {
		t.Errorf("%d of 600 texts were suspected", found)
	}
}
