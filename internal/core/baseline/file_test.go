package baseline

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestWriteIsTheSameInAnyOrder(t *testing.T) {
	b := &Baseline{
		Covers:  []Cover{{Tool: "gcc", Paths: []string{Everywhere}}, {Tool: "farecheck", Paths: []string{PathGlob("fares/[a].go")}}},
		Entries: taken(found("core/tide.c", "a;!\n<b>;!?\nc;?")),
	}
	var first bytes.Buffer
	if err := b.Write(&first); err != nil {
		t.Fatal(err)
	}
	read, err := Read(bytes.NewReader(first.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 10 {
		random.Shuffle(len(read.Entries), func(i, j int) { read.Entries[i], read.Entries[j] = read.Entries[j], read.Entries[i] })
		random.Shuffle(len(read.Covers), func(i, j int) { read.Covers[i], read.Covers[j] = read.Covers[j], read.Covers[i] })
		var again bytes.Buffer
		if err := read.Write(&again); err != nil {
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
		_, err := Read(strings.NewReader(c.text))
		if !errors.Is(err, ErrFile) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: error %v, want %q", c.name, err, c.say)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(head + `{"tool":"gcc","rule":"x","path":"a","message":"m","severity":"error","why":"debt","on":"2026-11-23"}`)
	f.Fuzz(func(t *testing.T, text string) {
		b, err := Read(strings.NewReader(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		if err := b.Write(&out); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(&out); err != nil {
			t.Fatalf("what was read and written can't be read: %v", err)
		}
	})
}
