package lint

import (
	"encoding/binary"
	"os"
	"time"

	"zincdoor/internal/cached"
	"zincdoor/internal/files"
	"zincdoor/internal/git"
)

// notes are what is known of a copy: by what rules git wrote it, of the files that those altered what was written, and what was
// held against git's contents, when.
type notes struct {
	Rules   string
	Altered map[string]altered
	Seen    map[string]seen
	At      int64 // nanoseconds since 1970; nothing was let loose on the copy between then and what was seen
}

// seen is a file that held a content, and how the system can tell that it still does.
type seen struct {
	Content string
	Stamp   stamp
}

// stamp tells a file's state apart from all later ones.
type stamp struct {
	Size    int64
	Changed int64 // nanoseconds since 1970
	Node    uint64
	Mode    uint32
}

// settled is how much older than notes a change must be to be told apart from later ones: more than systems' clocks tick.
const settled = 10 * time.Millisecond

// altered is a file that git's conversions made something else of.
type altered struct {
	Content string // as git names it
	Sum     string // SHA-256 of what was written
}

// has reports whether a file was seen to hold what it should, and nothing has changed it since.
func (n notes) has(name string, e git.Entry, now stamp) bool {
	before, known := n.Seen[name]
	executable := now.Mode&0o100 != 0
	return known && before == seen{e.Content, now} && now.Changed < n.At-int64(settled) && (e.Link || executable == e.Executable)
}

// readNotes reads what was written down; nothing is known where that can't be read.
func readNotes(file string) notes {
	data, err := os.ReadFile(file)
	if err != nil {
		return notes{}
	}
	var k kept
	if cached.Unmarshal(data, &k) != nil {
		return notes{}
	}
	return notes{Rules: k.Rules, Altered: k.Altered, At: k.At, Seen: unpack(k.Seen)}
}

func (n notes) write(file string) error {
	data, err := cached.Marshal(kept{Rules: n.Rules, Altered: n.Altered, At: n.At, Seen: pack(n.Seen)})
	if err != nil {
		return err
	}
	return files.WriteLocked(file, data, 0o600)
}

// kept is how notes are written down. Files that were seen may be many, and are read before each run: each is its name and its
// content, with their lengths before them, and its stamp.
type kept struct {
	Rules   string
	Altered map[string]altered
	At      int64
	Seen    []byte
}

func pack(all map[string]seen) []byte {
	data := make([]byte, 0, 128*len(all))
	for name, s := range all {
		for _, text := range []string{name, s.Content} {
			data = binary.AppendUvarint(data, uint64(len(text)))
			data = append(data, text...)
		}
		for _, number := range []uint64{uint64(s.Stamp.Size), uint64(s.Stamp.Changed), s.Stamp.Node, uint64(s.Stamp.Mode)} {
			data = binary.LittleEndian.AppendUint64(data, number)
		}
	}
	return data
}

// unpack reads what pack wrote, as far as it is whole.
func unpack(data []byte) map[string]seen {
	all := make(map[string]seen, len(data)/128)
	whole := string(data) // of which all texts are parts
	at := 0
	text := func() (string, bool) {
		length, n := binary.Uvarint(data[at:])
		if n <= 0 || length > uint64(len(data)-at-n) {
			return "", false
		}
		from := at + n
		at = from + int(length)
		return whole[from:at], true
	}
	for at < len(data) {
		name, ok := text()
		content, too := "", false
		if ok {
			content, too = text()
		}
		if !too || len(data)-at < 32 {
			break
		}
		number := func(i int) uint64 { return binary.LittleEndian.Uint64(data[at+8*i:]) }
		all[name] = seen{content, stamp{Size: int64(number(0)), Changed: int64(number(1)), Node: number(2), Mode: uint32(number(3))}}
		at += 32
	}
	return all
}
