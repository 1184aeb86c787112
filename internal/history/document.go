package history

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"runtime"
	"slices"
	"sync"
	"time"

	fast "github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/crypto/blake2b"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/verdictfile"
)

// version is what a record calls itself where it is written as a line of JSON.
const version = "record/1"

// recordJSON is the record/1 document.
type recordJSON struct {
	Version    string                    `json:"zincdoor"`
	ID         string                    `json:"id"`
	Repository string                    `json:"repository"`
	Branch     string                    `json:"branch,omitempty"`
	Tree       string                    `json:"tree,omitempty"`
	Time       time.Time                 `json:"time"`
	Took       int64                     `json:"took_ms"`
	Imported   bool                      `json:"imported,omitempty"`
	Apart      int                       `json:"findings_apart,omitempty"`
	Tallies    map[record.By][]tallyJSON `json:"tallies"`
	Reports    []reportJSON              `json:"reports,omitempty"`
	Verdict    json.RawMessage           `json:"verdict"`
}

type reportJSON struct {
	Name   string `json:"name"`
	Format string `json:"format,omitempty"`
	Digest string `json:"sha256"`
	Size   int64  `json:"size"`
}

type tallyJSON struct {
	Name     string                 `json:"name"`
	Findings int                    `json:"findings"`
	Cost     int                    `json:"cost,omitempty"`
	By       map[judge.Standing]int `json:"by"`
}

// describe is a record as a document, around its verdict's.
func describe(r *record.Record, verdict []byte) recordJSON {
	d := recordJSON{
		Version: version, ID: r.ID, Repository: r.Repository, Branch: r.Branch, Tree: r.Tree, Time: r.Time, Took: r.Took.Milliseconds(), Imported: r.Imported,
		Apart: r.Apart, Tallies: map[record.By][]tallyJSON{}, Verdict: verdict,
	}
	for by, tallies := range r.Tallies {
		for _, t := range tallies {
			d.Tallies[by] = append(d.Tallies[by], tallyJSON(t))
		}
	}
	for _, report := range r.Reports {
		d.Reports = append(d.Reports, reportJSON(report))
	}
	return d
}

// record reads the document, and beside the verdict's findings those of further arrays.
func (d recordJSON) record(arrays ...[]byte) (*record.Record, error) {
	verdict, err := verdictfile.Read(d.Verdict, arrays...)
	if err != nil {
		return nil, err
	}
	r := &record.Record{
		ID: d.ID, Repository: d.Repository, Branch: d.Branch, Tree: d.Tree, Time: d.Time.UTC(), Took: time.Duration(d.Took) * time.Millisecond, Imported: d.Imported,
		Apart: d.Apart, Tallies: map[record.By][]record.Tally{}, Verdict: verdict,
	}
	for by, tallies := range d.Tallies {
		for _, t := range tallies {
			r.Tallies[by] = append(r.Tallies[by], record.Tally(t))
		}
	}
	for _, report := range d.Reports {
		r.Reports = append(r.Reports, record.Report(report))
	}
	return r, nil
}

// Line writes a record as a line of JSON, without a line end: the record/1 document.
func Line(r *record.Record) ([]byte, error) {
	var verdict bytes.Buffer
	if err := verdictfile.Write(&verdict, r.Verdict); err != nil {
		return nil, err
	}
	return plainJSON(describe(r, verdict.Bytes()))
}

// ReadLine reads a record that Line wrote.
func ReadLine(line []byte) (*record.Record, error) {
	var d recordJSON
	if err := json.Unmarshal(line, &d); err != nil {
		return nil, fmt.Errorf("it is no record: %w", err)
	}
	switch {
	case d.Version != version:
		return nil, fmt.Errorf("it is no record of the form %s: it calls itself %q", version, d.Version)
	case !isID(d.ID) || d.Time.IsZero():
		return nil, fmt.Errorf("it is no record: it has no id or no time")
	}
	return d.record()
}

func isID(id string) bool {
	raw, err := hex.DecodeString(id)
	return err == nil && len(raw) == 8
}

func plainJSON(v any) ([]byte, error) {
	var out bytes.Buffer
	to := json.NewEncoder(&out)
	to.SetEscapeHTML(false)
	err := to.Encode(v)
	return bytes.TrimSuffix(out.Bytes(), []byte("\n")), err
}

// Parts is how many parts the files of a branch are put into, by their names: small ones for a change to replace, and few enough to
// write all of them at once.
const parts = 4096

// part is some files' findings: an array of them as verdicts have them.
type part struct {
	number int64
	digest []byte // of data: its BLAKE2b (RFC 7693), 16 bytes
	data   []byte
}

// divide puts findings into parts, in the order of their numbers. What is equal is written equally, so that a part which no change
// touches stays the same. Several parts are written at once.
func divide(all []judge.Finding) []part {
	of := map[int64][]int{}
	path, number := "", int64(-1)
	for i := range all {
		if f := &all[i]; number < 0 || f.Path != path {
			path, number = f.Path, partOf(f.Path)
		}
		of[number] = append(of[number], i)
	}
	divided := make([]part, 0, len(of))
	for _, number := range slices.Sorted(maps.Keys(of)) {
		divided = append(divided, part{number: number})
	}
	var writers sync.WaitGroup
	for some := range slices.Chunk(divided, len(divided)/runtime.GOMAXPROCS(0)+1) {
		writers.Go(func() {
			for i := range some {
				some[i].write(all, of[some[i].number])
			}
		})
	}
	writers.Wait()
	return divided
}

func (p *part) write(all []judge.Finding, these []int) {
	out := make([]byte, 0, 320*len(these))
	for n, i := range these {
		out = append(out, "[,"[min(n, 1)])
		out = verdictfile.AppendFinding(out, &all[i])
	}
	p.data = append(out, ']')
	sum, _ := blake2b.New(digestSize, nil) // fails for a wrong size or key alone
	sum.Write(p.data)
	p.digest = sum.Sum(nil)
}

const digestSize = 16

// partOf is the part that a file is in.
func partOf(path string) int64 {
	h := fnv.New32a()
	h.Write([]byte(path))
	return int64(h.Sum32() % parts)
}

// digestOf is the SHA-256 of something, in hexadecimal digits.
func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// name gives a record its id: a hash of its document and of its findings.
func name(document []byte, divided []part) string {
	h := sha256.New()
	h.Write(document)
	for _, p := range divided {
		h.Write(p.digest)
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// The encoder and the decoder are made when they are needed: programs that record nothing start without.
var (
	packer = sync.OnceValue(func() *zstd.Encoder {
		made, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1)) // fails for wrong options alone
		return made
	})
	unpacker = sync.OnceValue(func() *zstd.Decoder {
		made, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostUnpacked))
		return made
	})
)

// mostUnpacked bounds what is made of something compressed, in bytes.
const mostUnpacked = 1 << 30

func pack(data []byte) []byte { return packer().EncodeAll(data, nil) }

func unpack(data []byte) ([]byte, error) {
	out, err := unpacker().DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("what is stored is damaged: %w", err)
	}
	return out, nil
}

// identity is what a finding is known by in the states of a branch.
type identity struct {
	ID    string `json:"id"`
	Entry string `json:"entry"` // of what recognised it, "" where nothing did
}

// identify reads the identities of the findings of a part.
func identify(array []byte) (all []identity, err error) {
	if err := fast.Unmarshal(array, &all); err != nil {
		return nil, fmt.Errorf("what is stored is damaged: %w", err)
	}
	return all, nil
}

// differ finds what came and what went between two states of some files, and what goes on under another id.
func differ(old, new []identity) (events []event) {
	known := func(all []identity) map[string]string { // to the finding itself, by its id and by that of what recognised it
		ids := make(map[string]string, 2*len(all))
		for _, f := range all {
			ids[f.Entry] = f.ID
		}
		for _, f := range all {
			ids[f.ID] = f.ID
		}
		delete(ids, "")
		return ids
	}
	before, after, goesOn := known(old), known(new), map[string]bool{}
	for _, f := range new {
		was := cmp.Or(before[f.ID], before[f.Entry])
		switch {
		case was == "":
			events = append(events, event{kind: came, finding: f.ID})
		case was != f.ID:
			events = append(events, event{kind: became, finding: f.ID, was: was})
			goesOn[was] = true
		}
	}
	for _, f := range old {
		if after[f.ID] == "" && after[f.Entry] == "" && !goesOn[f.ID] {
			events = append(events, event{kind: went, finding: f.ID})
		}
	}
	return events
}
