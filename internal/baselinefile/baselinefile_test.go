package baselinefile

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
)

func TestWriteIsTheSameInAnyOrder(t *testing.T) {
	b := &baseline.Baseline{
		Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{baseline.Everywhere}}, {Tool: "farecheck", Paths: []string{baseline.PathGlob("fares/[a].go")}}},
		Entries: []baseline.Entry{
			{Path: "core/tide.c", Tool: "gcc", Rule: "shadow", Line: 1, Message: "<x>", Text: "a1", On: "2026-10-01"},
			{Path: "core/tide.c", Tool: "gcc", Rule: "shadow", Line: 2, Message: "'x'", Text: "b2", On: "2026-10-01", Until: "2027-01-01"},
			{Path: "core/tide.c", Tool: "gcc", Rule: "shadow", Line: 2, Message: "'x'", Text: "b2", On: "2026-10-01", By: "Tide Desk"},
			{Path: "core/tide.c", Tool: "gcc", Rule: "format", Line: 2, Message: "'x'", Text: "b2", Before: "c3"},
		},
	}
	var first bytes.Buffer
	if err := Write(&first, b); err != nil {
		t.Fatal(err)
	}
	read, err := Read(first.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 10 {
		random.Shuffle(len(read.Entries), func(i, j int) { read.Entries[i], read.Entries[j] = read.Entries[j], read.Entries[i] })
		random.Shuffle(len(read.Covers), func(i, j int) { read.Covers[i], read.Covers[j] = read.Covers[j], read.Covers[i] })
		var again bytes.Buffer
		if err := Write(&again, read); err != nil {
			t.Fatal(err)
		}
		if again.String() != first.String() {
			t.Fatalf("other bytes:\n%s\nthan\n%s", &again, &first)
		}
	}
	for path, want := range map[string]bool{"fares/[a].go": true, "fares/a.go": false} {
		if got := read.CoversFinding("farecheck", path); got != want {
			t.Errorf("%s covered: %v, want %v", path, got, want)
		}
	}
}

const head = `{"zincdoor":"baseline/1","covers":[]}` + "\n"

func TestReadErrors(t *testing.T) {
	for _, c := range []struct{ name, text, say string }{
		{"empty", "", "line 1: no header"},
		{"newer version", `{"zincdoor":"baseline/2","cover":1}`, `line 1: the header says "baseline/2"`},
		{"no JSON", head + "\nnonsense\n", "line 3: "},
		{"cut off", head + `{"tool":"gcc","rule":"x"`, "line 2: "},
		{"unknown key", head + `{"tool":"gcc","rule":"x","untill":"2027-01-01"}`, `unknown field "untill"`},
		{"no tool", head + `{"rule":"x"}`, "line 2: an entry needs tool"},
		{"bad date", head + `{"tool":"gcc","rule":"x","until":"soon"}`, `"soon" is no date`},
		{"two on a line", head + `{"tool":"gcc","rule":"x"} {}`, "something follows"},
	} {
		_, err := Read([]byte(c.text))
		if !errors.Is(err, ErrMalformed) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: error %v, want %q", c.name, err, c.say)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(head + `{"tool":"gcc","rule":"x","path":"a","message":"m","severity":"error","why":"debt","on":"2026-11-23"}`)
	f.Add(head + `{"path":"a","tool":"gcc","rule":"é","line":12,"message":"m","text":"45e20bb81c98","twins":0,"why":"debt","on":"2026-11-23","on":"2026-11-24"}`)
	f.Fuzz(func(t *testing.T, text string) {
		for line := range strings.SplitSeq(text, "\n") {
			var quick, slow baseline.Entry
			if quickly([]byte(line), &quick, &baseline.Entry{Path: "a"}) && (strict([]byte(line), &slow) != nil || quick != slow) {
				t.Fatalf("%q is read as %+v, want %+v", line, quick, slow)
			}
		}
		b, err := Read([]byte(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		if err := Write(&out, b); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(out.Bytes()); err != nil {
			t.Fatalf("what was read and written can't be read: %v", err)
		}
	})
}
