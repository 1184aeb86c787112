package history

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"maps"
	"runtime"
	"slices"
	"sync"

	fast "github.com/go-json-experiment/json"
	"golang.org/x/crypto/blake2b"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/verdictfile"
)

// parts is how many parts the files of a branch are put into, by their names: small ones for a change to replace, and few enough to
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
