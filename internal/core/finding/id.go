package finding

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"strconv"
)

const idLength = 10 // hexadecimal digits; longer only where two findings would share an id

// IDs gives every finding a short name, in the order of the slice, which must be sorted by Order. The name is a hash
// of tool, rule, path, message, line text and ordinal among equals: the same in every verdict of the same tree,
// whatever line the finding stands on.
func IDs(findings []Finding) []string {
	ids := make([]string, len(findings))
	equals := make(map[uint64]int32, len(findings))
	taken := make(map[uint64]bool, len(findings)) // names of the usual length, as numbers
	longer := map[string]bool{}
	var parts []byte
	for i := range findings {
		f := &findings[i]
		var key, full [sha256.Size]byte
		key, parts = digest(parts, f.Tool, f.Rule, f.Path, f.Message, f.Code.Text)
		short := binary.BigEndian.Uint64(key[:])
		ordinal := equals[short]
		equals[short]++
		if full = key; ordinal > 0 {
			full, parts = digest(parts, string(key[:]), strconv.Itoa(int(ordinal)))
		}
		if name := binary.BigEndian.Uint64(full[:]) >> (64 - 4*idLength); !taken[name] {
			taken[name] = true
			ids[i] = hex.EncodeToString(full[:idLength/2])
			continue
		}
		length := idLength + 1
		for name := hex.EncodeToString(full[:]); ; length++ {
			if ids[i] = name[:length]; !longer[ids[i]] || length == len(name) {
				break
			}
		}
		longer[ids[i]] = true
	}
	return ids
}

// digest hashes parts, so that no two lists of them come out alike. The bytes are room to work in.
func digest(room []byte, parts ...string) ([sha256.Size]byte, []byte) {
	room = room[:0]
	for _, part := range parts {
		room = strconv.AppendInt(room, int64(len(part)), 10)
		room = append(room, ':')
		room = append(room, part...)
	}
	return sha256.Sum256(room), room
}
