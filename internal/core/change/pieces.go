package change

import (
	"bytes"
	"slices"
	"sync"
)

// pieces are a content as renames are told by it: how many bytes there are of each piece. A piece is a line with its end, or 64 bytes
// of a longer one; which it is, a number below pieceKinds says, that pieces share now and then.
type pieces struct {
	size int     // of the content, in bytes
	of   []piece // one of each kind
}

type piece struct{ kind, bytes int32 }

const (
	longestPiece = 64 // bytes
	pieceKinds   = 107927
)

// cutIntoPieces cuts a content. In a text, what ends a line is a line feed, be there a carriage return before it or not.
func cutIntoPieces(data []byte) *pieces {
	p := &pieces{size: len(data)}
	isText := bytes.IndexByte(data[:min(len(data), binaryAhead)], 0) < 0
	seats := pieceSeats.Get().(*[pieceKinds]int32)
	defer pieceSeats.Put(seats)
	p.of = make([]piece, 0, len(data)/longestPiece+8)
	for at := 0; at < len(data); {
		n, low, high := int32(0), uint32(0), uint32(0)
		for at < len(data) && n < longestPiece {
			c := data[at]
			at++
			if c == '\r' && isText && at < len(data) && data[at] == '\n' {
				continue
			}
			low, high = low<<7^high>>25, high<<7^low>>25
			low += uint32(c)
			if n++; c == '\n' {
				break
			}
		}
		kind := int32((low + high*97) % pieceKinds)
		if seat := seats[kind]; seat > 0 {
			p.of[seat-1].bytes += n
			continue
		}
		p.of = append(p.of, piece{kind, n})
		seats[kind] = int32(len(p.of))
	}
	for _, one := range p.of {
		seats[one.kind] = 0
	}
	return p
}

// pieceSeats are tables of where each kind of piece is among those of one content, one more than its index; all zeros while they aren't
// in use.
var pieceSeats = sync.Pool{New: func() any { return new([pieceKinds]int32) }}

// binaryAhead is how many bytes of a content are looked at for a NUL byte, which no text has.
const binaryAhead = 8000

// near reports whether the sizes of two contents allow for a likeness.
func (p *pieces) near(other *pieces, least int) bool {
	large, small := max(p.size, other.size), min(p.size, other.size)
	return large*(mostLikeness-least) >= (large-small)*mostLikeness
}

// likeness is how much of the larger content is in both.
func (p *pieces) likeness(new *pieces, shared int) int {
	if new.size == 0 {
		return 0
	}
	return shared * mostLikeness / max(p.size, new.size)
}

// shared is how many bytes are in both.
func (p *pieces) shared(other *pieces) (bytes int) {
	have := pieceSeats.Get().(*[pieceKinds]int32)
	defer pieceSeats.Put(have)
	for _, one := range p.of {
		have[one.kind] = one.bytes
	}
	for _, one := range other.of {
		bytes += int(min(one.bytes, have[one.kind]))
	}
	for _, one := range p.of {
		have[one.kind] = 0
	}
	return bytes
}

// pieceIndex finds the removed files that have a piece, so that an added file isn't compared with each of them.
type pieceIndex struct {
	from  []int32 // for each kind where its files begin
	files []piece // which of the removed files, in the place of the kind, and how many bytes it has of it
}

func newPieceIndex(olds []int, of map[int]*pieces) *pieceIndex {
	x := &pieceIndex{from: make([]int32, pieceKinds+1)}
	for _, old := range olds {
		if p := of[old]; p != nil {
			for _, one := range p.of {
				x.from[one.kind+1]++
			}
		}
	}
	for k := range pieceKinds {
		x.from[k+1] += x.from[k]
	}
	x.files = make([]piece, x.from[pieceKinds])
	next := slices.Clone(x.from)
	for i, old := range olds {
		if p := of[old]; p != nil {
			for _, one := range p.of {
				x.files[next[one.kind]] = piece{int32(i), one.bytes}
				next[one.kind]++
			}
		}
	}
	return x
}

// share adds, for each removed file, how many bytes it shares with a content.
func (x *pieceIndex) share(p *pieces, shared []int32) {
	for _, one := range p.of {
		for _, f := range x.files[x.from[one.kind]:x.from[one.kind+1]] {
			shared[f.kind] += min(one.bytes, f.bytes)
		}
	}
}
