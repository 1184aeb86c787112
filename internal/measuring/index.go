package measuring

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zincdoor/internal/cached"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/files"
)

// index are the prints of files by their contents, kept from one run to the next. A file that isn't whole, or is another build's, counts
// as empty: then all is read anew.
type index struct {
	file   string // "" where nothing is kept
	prints map[string][]uint64
	fresh  bool // there are some that the file doesn't have
}

// stored is the form of an index in its file, before the checksum.
type stored struct {
	Names  []string
	Counts []uint32
	Prints []byte // of all, one after the other, 8 bytes each
}

// openIndex reads the index of a repository. Where is the folder that indexes are kept in, and depends is all that prints depend on
// beside the contents.
func openIndex(where string, depends ...string) *index {
	x := &index{prints: map[string][]uint64{}}
	if where == "" {
		return x
	}
	h := sha256.New()
	for _, part := range depends {
		fmt.Fprintf(h, "%d %s\n", len(part), part)
	}
	x.file = filepath.Join(where, hex.EncodeToString(h.Sum(nil)[:16]))
	if data, err := os.ReadFile(x.file); err == nil {
		x.decode(data)
	}
	return x
}

func (x *index) decode(data []byte) {
	if len(data) < crc32.Size {
		return
	}
	data, sum := data[:len(data)-crc32.Size], binary.LittleEndian.Uint32(data[len(data)-crc32.Size:])
	var s stored
	if crc32.ChecksumIEEE(data) != sum || cached.Unmarshal(data, &s) != nil || len(s.Names) != len(s.Counts) {
		return
	}
	all := make([]uint64, len(s.Prints)/8)
	for i := range all {
		all[i] = binary.LittleEndian.Uint64(s.Prints[8*i:])
	}
	for i, name := range s.Names {
		n := int(s.Counts[i])
		if n > len(all) {
			clear(x.prints)
			return
		}
		x.prints[name], all = all[:n:n], all[n:]
	}
}

// spare is how many more contents are kept than a run has seen: those of other branches.
const spare = 20_000

// save keeps the prints of the contents that were seen, and of some others. That it can't be written is no harm: the next run reads
// the files once more.
func (x *index) save(seen map[string]bool) {
	if !x.fresh || x.file == "" {
		return
	}
	var s stored
	others := 0
	for name, prints := range x.prints {
		if strings.HasPrefix(name, unkept) {
			continue
		}
		if !seen[name] {
			if others++; others > spare {
				continue
			}
		}
		s.Names, s.Counts = append(s.Names, name), append(s.Counts, uint32(len(prints)))
		for _, p := range prints {
			s.Prints = binary.LittleEndian.AppendUint64(s.Prints, p)
		}
	}
	data, err := cached.Marshal(s)
	if err != nil || os.MkdirAll(filepath.Dir(x.file), 0o700) != nil {
		return
	}
	x.removeOld()
	files.Write(x.file, binary.LittleEndian.AppendUint32(data, crc32.ChecksumIEEE(data)), 0o600)
}

// keptFor is how long an index is kept that no run has written: that of another build, or of a repository that is gone.
const keptFor = 30 * 24 * time.Hour

// removeOld removes the indexes beside this one that nobody wrote for long.
func (x *index) removeOld() {
	beside, err := os.ReadDir(filepath.Dir(x.file))
	if err != nil {
		return
	}
	for _, one := range beside {
		if info, err := one.Info(); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > keptFor {
			os.Remove(filepath.Join(filepath.Dir(x.file), one.Name()))
		}
	}
}

// add notes the prints of a content.
func (x *index) add(name string, prints []measure.Print) {
	all := make([]uint64, len(prints))
	for i, p := range prints {
		all[i] = p.Hash
	}
	x.prints[name] = all
	x.fresh = x.fresh || !strings.HasPrefix(name, unkept)
}
