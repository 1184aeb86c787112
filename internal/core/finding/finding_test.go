package finding

import (
	"slices"
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

func TestIDs(t *testing.T) {
	line := source.Code{Text: "int h;"}
	ids := func(findings ...Finding) []string {
		for i := range findings {
			findings[i].Code = line
		}
		return IDs(findings)
	}
	first := ids(at("a.c", 4, "hides"), at("a.c", 9, "hides"), at("b.c", 4, "hides"))
	if first[0] == first[1] || first[1] == first[2] || len(first[0]) != 10 {
		t.Errorf("ids are not apart: %v", first)
	}
	moved := ids(at("a.c", 14, "hides"), at("a.c", 19, "hides"), at("b.c", 4, "hides"))
	if !slices.Equal(first, moved) {
		t.Errorf("ids depend on line numbers: %v, then %v", first, moved)
	}
}
