package finding

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"strconv"

	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/source"
)

const idLength = 16 // hexadecimal digits; longer only where two findings would share an id

// IDs gives every finding a short name, in the order of the slice, which must be sorted by Order. The name is a hash
// of tool, rule, path, message, line text and ordinal among equals: the same in every verdict of the same tree,
// whatever line the finding is on.
func IDs(findings []Finding) []string {
	hashes := make([]map[string]string, processors.Most())
	return namesOf(keys(len(findings), func(worker, i int) Identity {
		f := &findings[i]
		id := Identity{f.Tool, f.Rule, f.Path, f.Message, ""}
		switch {
		case f.Code == (source.Code{}):
		case len(f.Code.Text) > longCode: // many findings may be on one long line
			if hashes[worker] == nil {
				hashes[worker] = map[string]string{}
			}
			if id.Code = hashes[worker][f.Code.Text]; id.Code == "" {
				id.Code = source.Hash(f.Code.Text)
				hashes[worker][f.Code.Text] = id.Code
			}
		default:
			id.Code = source.Hash(f.Code.Text)
		}
		return id
	}))
}

// Identity is what a finding's name is made of. Code is the hash of its line, "" where it has none.
type Identity struct{ Tool, Rule, Path, Message, Code string }

// Names gives what findings are a name each, as IDs does for findings: n of them, in the same order.
func Names(n int, identity func(i int) Identity) []string {
	return namesOf(keys(n, func(_, i int) Identity { return identity(i) }))
}

// namesOf gives every key a name of its own: its beginning, and of equal keys that of another one.
func namesOf(keys [][sha256.Size]byte) []string {
	ids := make([]string, len(keys))
	equals := make(map[uint64]int32, len(keys)) // by the beginning of a key, which is the name of the first that has it
	others := map[uint64]bool{}                 // names of the usual length beside these
	longer := map[string]bool{}
	var parts []byte
	for i, key := range keys {
		full, short := key, binary.BigEndian.Uint64(key[:])
		ordinal := equals[short]
		equals[short]++
		free := !others[short]
		if ordinal > 0 {
			full, parts = digest(parts, string(key[:]), strconv.Itoa(int(ordinal)))
			name := binary.BigEndian.Uint64(full[:])
			free = !others[name] && equals[name] == 0
			others[name] = true
		}
		if free {
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
func keys(n int, identity func(worker, i int) Identity) [][sha256.Size]byte {
	all := make([][sha256.Size]byte, n)
	buffers := make([][]byte, processors.Most())
	processors.Each(n, func(worker, i int) {
		id := identity(worker, i)
		all[i], buffers[worker] = digest(buffers[worker], id.Tool, id.Rule, id.Path, id.Message, id.Code)
	})
	return all
}

// longCode is from how many bytes on the hash of a line is kept for the next finding on it.
const longCode = 1000

// digest hashes parts, so that no two lists of them come out alike. The buffer is used again.
func digest(buffer []byte, parts ...string) ([sha256.Size]byte, []byte) {
	buffer = buffer[:0]
	for _, part := range parts {
		buffer = strconv.AppendInt(buffer, int64(len(part)), 10)
		buffer = append(buffer, ':')
		buffer = append(buffer, part...)
	}
	return sha256.Sum256(buffer), buffer
}
