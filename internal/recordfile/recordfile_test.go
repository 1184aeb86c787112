package recordfile

import (
	"bytes"
	"testing"
	"time"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
)

func small() *record.Record {
	f := judge.Finding{Finding: &finding.Finding{Tool: "gcc", Rule: "-Wunused", Path: "core/tide.c", Message: "unused 'x'", Region: finding.Region{Line: 3}}, ID: "00000000000000a1", Severity: "warning"}
	r := &record.Record{Repository: "tideboard", Branch: "refs/heads/main", Time: time.Date(2030, 3, 1, 8, 0, 0, 0, time.UTC), Took: time.Second, Apart: 2}
	r.Verdict = judge.Verdict{Door: "push", Outcome: judge.Open, Findings: []judge.Finding{f}}
	r.Tallies = map[record.By][]record.Tally{record.ByRule: {{Name: "-Wunused", Findings: 1, By: map[judge.Standing]int{judge.New: 1}}}}
	r.Reports = []record.Report{{Name: "compiler", Digest: digestOf(nil), Size: 3}}
	return r
}

// TestName: an imported record's id depends on what it says, any other has one of its own, and keeps it.
func TestName(t *testing.T) {
	one, same, other := small(), small(), small()
	other.Time = other.Time.Add(time.Millisecond)
	for _, imported := range []bool{true, false} {
		for _, r := range []*record.Record{one, same, other} {
			r.ID, r.Imported = "", imported
			if err := Name(r); err != nil || !IsID(r.ID) {
				t.Fatal(r.ID, err)
			}
		}
		if (one.ID == same.ID) != imported || one.ID == other.ID {
			t.Errorf("imported %v: the ids are %s, %s and %s", imported, one.ID, same.ID, other.ID)
		}
		id := one.ID
		one.Apart++
		if err := Name(one); err != nil || one.ID != id {
			t.Errorf("named again: %s, %v", one.ID, err)
		}
	}
}

// TestContent: what was packed comes back, also as a line; altered it doesn't, and what is too big isn't kept.
func TestContent(t *testing.T) {
	text := bytes.Repeat([]byte("core/tide.c:1:1: warning: deep\n"), 9000)
	packing := NewPacking()
	for piece := range bytes.Lines(text) {
		packing.Write(piece)
	}
	c, fits := packing.End()
	if !fits || c.Digest != Pack(text).Digest || c.Size != int64(len(text)) || len(c.Data) > len(text)/10 {
		t.Fatalf("packed: %v, %s, %d of %d bytes", fits, c.Digest, len(c.Data), c.Size)
	}
	if back, err := Decompress(c.Data); err != nil || !bytes.Equal(back, text) {
		t.Errorf("unpacked: %v", err)
	}
	line, err := ContentLine(c)
	if err != nil {
		t.Fatal(err)
	}
	if read, err := ReadContentLine(line); err != nil || read.Digest != c.Digest {
		t.Errorf("read: %v", err)
	}
	altered := bytes.Replace(line, []byte(c.Digest), []byte(digestOf(line)), 1)
	for _, wrong := range [][]byte{altered, line[:len(line)/2], []byte("{}"), []byte(`{"zincdoor":"report/1","zstd":"AAAA"}`)} {
		if _, err := ReadContentLine(wrong); err == nil {
			t.Errorf("read: %.80s", wrong)
		}
	}
}

// FuzzLine: no line makes reading fail otherwise than with an error, and what is read is written and read the same.
func FuzzLine(f *testing.F) {
	line, _ := Line(small())
	f.Add(bytes.Replace(line, []byte(`"id":""`), []byte(`"id":"0123456789abcdef"`), 1))
	f.Add([]byte(`{"zincdoor":"record/1","id":"0123456789abcdef","time":"2030-03-01T08:00:00Z","verdict":{"zincdoor":"verdict/1","limits":[{"kind":"per 3 lines"}]}}`))
	f.Fuzz(func(t *testing.T, line []byte) {
		r, err := ReadLine(line)
		if err != nil {
			return
		}
		once, err := Line(r)
		if err != nil {
			t.Skip() // a time that JSON can't hold
		}
		again, err := ReadLine(once)
		if err != nil {
			t.Fatalf("%v\n%s", err, once)
		}
		if twice, _ := Line(again); !bytes.Equal(once, twice) {
			t.Fatalf("\n%s\n%s", once, twice)
		}
	})
}
