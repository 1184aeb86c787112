package finding

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"runtime"
	"strconv"
	"sync"
)

const idLength = 10 // hexadecimal digits; longer only where two findings would share an id

// IDs gives every finding a short name, in the order of the slice, which must be sorted by Order. The name is a hash
// of tool, rule, path, message, line text and ordinal among equals: the same in every verdict of the same tree,
// whatever line the finding stands on.
func IDs(findings []Finding) []string { return namesOf(keys(findings)) }

// namesOf gives every key a name of its own: its beginning, and of equal keys that of another one.
func namesOf(keys [][sha256.Size]byte) []string {
	ids := make([]string, len(keys))
	equals := make(map[uint64]int32, len(keys))
	taken := make(map[uint64]bool, len(keys)) // names of the usual length, as numbers
	longer := map[string]bool{}
	var parts []byte
	for i, key := range keys {
		var full [sha256.Size]byte
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

// keys are the digests of what findings are, by all processors at once: a long list spends much of its time here.
func keys(findings []Finding) [][sha256.Size]byte {
	all := make([][sha256.Size]byte, len(findings))
	workers := runtime.GOMAXPROCS(0)
	var wait sync.WaitGroup
	for w := range workers {
		wait.Go(func() {
			var room []byte
			long := map[string]string{} // many findings may stand on one long line
			for i := w * len(all) / workers; i < (w+1)*len(all)/workers; i++ {
				f := &findings[i]
				code := f.Code.Text
				if len(code) > longCode {
					if long[code] == "" {
						sum := sha256.Sum256([]byte(code))
						long[code] = string(sum[:])
					}
					code = long[code]
				}
				all[i], room = digest(room, f.Tool, f.Rule, f.Path, f.Message, code)
			}
		})
	}
	wait.Wait()
	return all
}

// longCode is how many bytes of code are hashed as they are; of longer ones the hash is.
const longCode = 1000

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
