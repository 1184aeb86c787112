package recordfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Content is the content of a report, packed.
type Content struct {
	Digest string // the SHA-256 of what is packed, in hexadecimal digits
	Size   int64  // of what is packed, in bytes
	Data   []byte
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

// Compress compresses something.
func Compress(data []byte) []byte { return packer().EncodeAll(data, nil) }

// Decompress gives what Compress was given.
func Decompress(data []byte) ([]byte, error) {
	out, err := unpacker().DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("what is stored is damaged: %w", err)
	}
	return out, nil
}

// Unpack writes what was packed, without having all of it in memory.
func Unpack(to io.Writer, packed []byte) error {
	from, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	defer from.Close()
	if _, err := io.Copy(to, from); err != nil {
		return fmt.Errorf("what is stored is damaged, or can't be written: %w", err)
	}
	return nil
}

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

// contentJSON is a report as a line of JSON.
type contentJSON struct {
	Version string `json:"zincdoor"`
	Digest  string `json:"sha256"`
	Size    int64  `json:"size"`
	Data    string `json:"zstd"` // in base64
}

// ContentVersion is what a report's content calls itself where it is written as a line of JSON.
const ContentVersion = "report/1"

// ContentLine writes a report's content as a line of JSON, without a line end.
func ContentLine(c Content) ([]byte, error) {
	return plainJSON(contentJSON{ContentVersion, c.Digest, c.Size, base64.StdEncoding.EncodeToString(c.Data)})
}

// ReadContentLine reads what ContentLine wrote. Its content is held against its digest.
func ReadContentLine(line []byte) (c Content, err error) {
	var d contentJSON
	if err := json.Unmarshal(line, &d); err != nil || d.Version != ContentVersion {
		return c, errors.Join(errors.New("it is no report of the form "+ContentVersion), err)
	}
	packed, err := base64.StdEncoding.DecodeString(d.Data)
	if err != nil {
		return c, err
	}
	data, err := Decompress(packed)
	if err != nil {
		return c, err
	}
	if c = Pack(data); c.Digest != d.Digest || c.Size != d.Size {
		return c, errors.New("a report in it isn't what its digest says")
	}
	return c, nil
}

// Pack packs the content of a report.
func Pack(data []byte) Content {
	return Content{Digest: digestOf(data), Size: int64(len(data)), Data: Compress(data)}
}

// LineKind tells what a line is that Line or ContentLine wrote: "record/1", "report/1", or whatever else it calls itself.
func LineKind(line []byte) string {
	var d struct {
		Version string `json:"zincdoor"`
	}
	json.Unmarshal(line, &d)
	return d.Version
}
