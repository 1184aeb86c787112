package cached

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"time"

	"zincdoor/internal/files"
)

// Lists are what was found in contents, as packed numbers by the contents' names, kept in one file from one run to the next. A file that
// isn't whole, or is another build's, counts as empty: then all is found anew.
type Lists struct {
	file  string // "" where nothing is kept
	all   map[string][]byte
	fresh bool // there are some that the file doesn't have
}

// stored is the form of lists in their file, before the checksum.
type stored struct {
	Names []string
	Sizes []uint32
	Data  []byte // of all, one after the other
}

// OpenLists reads the lists of a kind. Depends is all that they depend on beside the contents.
func OpenLists(kind string, depends ...string) *Lists {
	l := &Lists{all: map[string][]byte{}}
	cache, err := os.UserCacheDir()
	if err != nil {
		return l
	}
	h := sha256.New()
	for _, part := range depends {
		fmt.Fprintf(h, "%d %s\n", len(part), part)
	}
	l.file = filepath.Join(cache, "zincdoor", kind, hex.EncodeToString(h.Sum(nil)[:16]))
	if data, err := os.ReadFile(l.file); err == nil {
		l.decode(data)
	}
	return l
}

func (l *Lists) decode(data []byte) {
	if len(data) < crc32.Size {
		return
	}
	data, sum := data[:len(data)-crc32.Size], binary.LittleEndian.Uint32(data[len(data)-crc32.Size:])
	var s stored
	if crc32.ChecksumIEEE(data) != sum || Unmarshal(data, &s) != nil || len(s.Names) != len(s.Sizes) {
		return
	}
	rest := s.Data
	for i, name := range s.Names {
		n := int(s.Sizes[i])
		if n > len(rest) {
			clear(l.all)
			return
		}
		l.all[name], rest = rest[:n:n], rest[n:]
	}
}

// Get is the list of a content; false where it isn't known.
func (l *Lists) Get(name string) (list []byte, known bool) {
	list, known = l.all[name]
	return list, known
}

// Put keeps the list of a content.
func (l *Lists) Put(name string, list []byte) { l.all[name], l.fresh = list, true }

// spare is how many more contents are kept than a run has seen: those of other branches.
const spare = 20_000

// Save keeps the lists of the contents that were seen, and some others. That they can't be written is no harm: the next run reads the
// contents once more.
func (l *Lists) Save(seen map[string]bool) {
	if !l.fresh || l.file == "" {
		return
	}
	size := 0
	for _, list := range l.all {
		size += len(list)
	}
	s := stored{Names: make([]string, 0, len(l.all)), Sizes: make([]uint32, 0, len(l.all)), Data: make([]byte, 0, size)}
	others := 0
	for name, list := range l.all {
		if !seen[name] {
			if others++; others > spare {
				continue
			}
		}
		s.Names, s.Sizes, s.Data = append(s.Names, name), append(s.Sizes, uint32(len(list))), append(s.Data, list...)
	}
	data, err := Marshal(s)
	if err != nil || os.MkdirAll(filepath.Dir(l.file), 0o700) != nil {
		return
	}
	l.removeOld()
	files.Write(l.file, binary.LittleEndian.AppendUint32(data, crc32.ChecksumIEEE(data)), 0o600)
}

// keptFor is how long lists are kept that no run has written: those of another build, or of a repository that is gone.
const keptFor = 30 * 24 * time.Hour

// removeOld removes what is beside these lists and nobody wrote for long.
func (l *Lists) removeOld() {
	beside, err := os.ReadDir(filepath.Dir(l.file))
	if err != nil {
		return
	}
	for _, one := range beside {
		if info, err := one.Info(); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > keptFor {
			os.Remove(filepath.Join(filepath.Dir(l.file), one.Name()))
		}
	}
}
