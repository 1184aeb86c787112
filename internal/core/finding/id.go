package finding

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
)

const idLength = 10 // hexadecimal digits; longer only where two findings would share an id

// IDs gives every finding a short name, in the order of the slice, which must be sorted by Order. The name is a hash
// of tool, rule, path, message, line text and ordinal among equals: the same in every verdict of the same tree,
// whatever line the finding stands on.
func IDs(findings []Finding) []string {
	ids := make([]string, len(findings))
	equals := make(map[[sha256.Size]byte]int, len(findings))
	taken := make(map[string]bool, len(findings))
	for i, f := range findings {
		key := digest(f.Tool, f.Rule, f.Path, f.Message, f.Code.Text)
		ordinal := equals[key]
		equals[key]++
		full := digest(string(key[:]), strconv.Itoa(ordinal))
		name := hex.EncodeToString(full[:])
		length := idLength
		for taken[name[:length]] && length < len(name) {
			length++
		}
		ids[i] = name[:length]
		taken[ids[i]] = true
	}
	return ids
}

func digest(parts ...string) [sha256.Size]byte {
	var all []byte
	for _, part := range parts {
		all = strconv.AppendInt(all, int64(len(part)), 10)
		all = append(all, ':')
		all = append(all, part...)
	}
	return sha256.Sum256(all)
}
