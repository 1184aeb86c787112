package history

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"hash"

	"github.com/klauspost/compress/zstd"
)

// mostPacked bounds a report that is kept, in bytes as it is stored: a greater one isn't.
const mostPacked = 64 << 20

// Packing packs the content of a report while it is read. It is used by one goroutine.
type Packing struct {
	sum  hash.Hash
	to   *zstd.Encoder
	out  bytes.Buffer
	size int64
	much bool
}

// NewPacking begins.
func NewPacking() *Packing {
	p := &Packing{sum: sha256.New()}
	p.to, _ = zstd.NewWriter(&p.out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2)) // fails for wrong options alone
	return p
}

// Write takes the next of the content. It never fails.
func (p *Packing) Write(data []byte) (int, error) {
	p.size += int64(len(data))
	if p.much = p.much || p.out.Len() > mostPacked || p.size > mostUnpacked; !p.much {
		p.sum.Write(data)
		p.to.Write(data)
	}
	return len(data), nil
}

// Content is what was packed; fits is false where that is too much to be kept.
func (p *Packing) Content() (c Content, fits bool) {
	p.to.Close()
	fits = !p.much && p.out.Len() <= mostPacked
	return Content{Digest: hex.EncodeToString(p.sum.Sum(nil)), Size: p.size, Data: p.out.Bytes()}, fits
}
