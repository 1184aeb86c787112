package policy

import (
	"fmt"
	"testing"
)

// TestStanding: which push doors stand at a ref, and whether it is guarded.
func TestStanding(t *testing.T) {
	push := func(name string, refs ...string) Door { return Door{Name: name, Judges: Push, Refs: refs} }
	for _, c := range []struct {
		name  string
		doors []Door
		ref   string
		want  string
	}{
		{"the only one", []Door{push("push")}, "refs/heads/main", "[push] true"},
		{"the only one, elsewhere", []Door{push("push")}, "refs/heads/low", "[push] false"},
		{"named", []Door{push("push"), push("guard", "main", "release/*")}, "refs/heads/release/1", "[guard] true"},
		{"not named", []Door{push("push"), push("guard", "main", "release/*")}, "refs/heads/low", "[push] false"},
		{"none", []Door{push("guard", "release/*")}, "refs/heads/main", "[] false"},
		{"the longer", []Door{push("any", "**"), push("release", "release/*"), push("first", "release/1")}, "refs/heads/release/1", "[first] true"},
		{"the longer before its wildcard", []Door{push("any", "*"), push("release", "rel*")}, "refs/heads/release", "[release] true"},
		{"a tag isn't a branch", []Door{push("push"), push("guard", "v*")}, "refs/tags/v1", "[push] false"},
		{"a whole ref", []Door{push("push"), push("tags", "refs/tags/v*")}, "refs/tags/v1", "[tags] true"},
		{"no further folder", []Door{push("push"), push("guard", "release/*")}, "refs/heads/release/1/x", "[push] false"},
		{"other kinds", []Door{{Name: "merge", Judges: Branch}, {Name: "any"}}, "refs/heads/main", "[any] true"},
	} {
		p := &Policy{Doors: c.doors}
		if got := fmt.Sprintf("[%s] %v", Names(p.Standing(c.ref)), p.Guards(c.ref, "refs/heads/main")); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}
