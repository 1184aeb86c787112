package history

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// mostPacked bounds a report that is kept, in bytes as it is stored: a greater one isn't.
const mostPacked = 64 << 20

// Packing packs the content of a report while it is read, beside who reads it. It is used by one goroutine, and must be ended.
type Packing struct {
	pieces chan []byte
	done   sync.WaitGroup

	// What is known at the end.
	sum  hash.Hash
	out  bytes.Buffer
	size int64
	much bool
}

// mostPieces is how many pieces may wait to be packed.
const mostPieces = 64

// NewPacking begins.
func NewPacking() *Packing {
	p := &Packing{sum: sha256.New(), pieces: make(chan []byte, mostPieces)}
	p.done.Go(p.pack)
	return p
}

func (p *Packing) pack() {
	to, _ := zstd.NewWriter(&p.out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1)) // fails for wrong options alone
	for piece := range p.pieces {
		p.size += int64(len(piece))
		if p.much = p.much || p.out.Len() > mostPacked || p.size > mostUnpacked; !p.much {
			p.sum.Write(piece)
			to.Write(piece) // into memory, which never fails
		}
	}
	to.Close()
}

// Write takes the next of the content. It never fails.
func (p *Packing) Write(data []byte) (int, error) {
	if len(data) > 0 {
		p.pieces <- bytes.Clone(data)
	}
	return len(data), nil
}

// End ends it, and gives what was packed; fits is false where that is too much to be kept.
func (p *Packing) End() (c Content, fits bool) {
	close(p.pieces)
	p.done.Wait()
	fits = !p.much && p.out.Len() <= mostPacked
	return Content{Digest: hex.EncodeToString(p.sum.Sum(nil)), Size: p.size, Data: p.out.Bytes()}, fits
}
