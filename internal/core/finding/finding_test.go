package finding

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/source"
)

func at(path string, line int, message string) Finding {
	return Finding{Tool: "gcc", Rule: "-Wshadow", Level: Warning, Path: path, Region: Region{Line: line}, Message: message}
}

func TestMerge(t *testing.T) {
	twice := at("core/tide.c", 4, "hides")
	twice.Sources = []string{"b"}
	worse := at("core/tide.c", 4, "hides")
	worse.Level, worse.Sources = Error, []string{"a"}
	other := at("core/tide.c", 4, "hides a local")
	got := Merge([]Finding{other, twice, at("core/gauge.c", 9, "x"), worse, twice})
	if len(got) != 3 || got[0].Path != "core/gauge.c" {
		t.Fatalf("Merge gave %+v", got)
	}
	if m := got[1]; m.Occurrences != 3 || m.Level != Error || !slices.Equal(m.Sources, []string{"a", "b"}) {
		t.Errorf("the merged finding is %+v", m)
	}
}

// TestMergeKeepsApart: what lies outside the repository is another finding though all else is the same, and a suppression
// is of the one finding it was made for.
func TestMergeKeepsApart(t *testing.T) {
	inside := at("core/tide.c", 4, "hides")
	outside := inside
	outside.Outside = true
	suppressed := inside
	suppressed.Suppressed = true
	for _, c := range []struct {
		name string
		all  []Finding
		want string // occurrences of each, with what it is
	}{
		{"inside and outside in turn", []Finding{inside, outside, inside, outside}, "2 2o"},
		{"outside first", []Finding{outside, inside}, "1 1o"},
		{"one of two suppressed", []Finding{suppressed, inside}, "2"},
		{"both suppressed", []Finding{suppressed, suppressed}, "2s"},
	} {
		var got []string
		for _, f := range Merge(c.all) {
			text := fmt.Sprint(f.Occurrences)
			if f.Outside {
				text += "o"
			}
			if f.Suppressed {
				text += "s"
			}
			got = append(got, text)
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", c.name, text, c.want)
		}
	}
}

// TestNamesOfEqualBeginnings: keys that begin alike have names of their own all the same.
func TestNamesOfEqualBeginnings(t *testing.T) {
	key := func(differs int) (k [32]byte) {
		for i := range k {
			k[i] = 0xAB
		}
		if differs < len(k) {
			k[differs] = 0xCD
		}
		return k
	}
	names := namesOf([][32]byte{key(6), key(7), key(31), key(32), key(6)})
	seen := map[string]bool{}
	for i, name := range names {
		if seen[name] || len(name) < 16 {
			t.Errorf("name %d of %v is short or taken", i, names)
		}
		seen[name] = true
	}
}

func TestIDs(t *testing.T) {
	line := source.Code{Text: "int h;"}
	ids := func(findings ...Finding) []string {
		for i := range findings {
			findings[i].Code = line
		}
		return IDs(findings)
	}
	first := ids(at("a.c", 4, "hides"), at("a.c", 9, "hides"), at("b.c", 4, "hides"))
	if first[0] == first[1] || first[1] == first[2] || len(first[0]) != 16 {
		t.Errorf("ids are not apart: %v", first)
	}
	moved := ids(at("a.c", 14, "hides"), at("a.c", 19, "hides"), at("b.c", 4, "hides"))
	if !slices.Equal(first, moved) {
		t.Errorf("ids depend on line numbers: %v, then %v", first, moved)
	}
}
