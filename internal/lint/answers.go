package lint

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"hash/crc32"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"sync"
	"time"

	"zincdoor/internal/files"
)

// Key names an answer: a hash of everything that it depends on.
type Key [sha256.Size]byte

// KeyOf hashes parts, so that no two lists of them come out alike.
func KeyOf(parts ...string) (k Key) {
	h := sha256.New()
	for _, part := range parts {
		var length [8]byte
		binary.LittleEndian.PutUint64(length[:], uint64(len(part)))
		h.Write(length[:])
		h.Write([]byte(part))
	}
	h.Sum(k[:0])
	return k
}

// Answers are what a linter said before, kept in one file. A file that isn't whole counts as empty.
type Answers struct {
	mutex   sync.Mutex
	file    string
	today   uint32
	stored  stored         // what the file held when it was read
	fresh   map[Key]answer // that were put since, or asked for on another day than before
	dropped map[Key]bool   // that were taken out since
	state   taken          // of the file when it was read
}

type answer struct {
	day  uint32 // on which it was last asked for, since 1970, UTC
	data []byte
}

const (
	keptDays    = 30
	mostAnswers = 256 << 20 // bytes of a file
)

// OpenAnswers reads the answers that a file holds.
func OpenAnswers(file string) *Answers {
	a := &Answers{file: file, today: uint32(time.Now().Unix() / (24 * 60 * 60)), fresh: map[Key]answer{}, dropped: map[Key]bool{}, state: take(file)}
	if data, err := os.ReadFile(file); err == nil {
		a.stored = parseStored(data)
	}
	return a
}

// find finds an answer that isn't too old.
func (a *Answers) find(key Key) (found answer, ok bool) {
	if found, ok = a.fresh[key]; ok || a.dropped[key] {
		return found, ok
	}
	found, ok = a.stored.find(key)
	return found, ok && found.day+keptDays >= a.today
}

// Get gives an answer.
func (a *Answers) Get(key Key) (data []byte, ok bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	found, ok := a.find(key)
	if ok && found.day != a.today {
		a.fresh[key] = answer{a.today, found.data}
	}
	return found.data, ok
}

// Has reports whether there is an answer.
func (a *Answers) Has(key Key) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	_, ok := a.find(key)
	return ok
}

// Put keeps an answer.
func (a *Answers) Put(key Key, data []byte) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.fresh[key] = answer{a.today, data}
}

// Among puts an answer of which only so many of a kind are kept: the first of them goes for it.
func (a *Answers) Among(kind, key Key, data []byte, most int) {
	order, _ := a.Get(kind)
	order = bytes.Clone(order)
	if !slices.ContainsFunc(slices.Collect(slices.Chunk(order, len(Key{}))), func(o []byte) bool { return bytes.Equal(o, key[:]) }) {
		order = append(order, key[:]...)
	}
	for len(order) > most*len(Key{}) {
		a.mutex.Lock()
		delete(a.fresh, Key(order[:len(Key{})]))
		a.dropped[Key(order[:len(Key{})])] = true
		a.mutex.Unlock()
		order = order[len(Key{}):]
	}
	a.Put(kind, order)
	a.Put(key, data)
}

// Save writes what was put, the latest first where it is too much, beside what another program has put there meanwhile.
func (a *Answers) Save() error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if len(a.fresh)+len(a.dropped) == 0 {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(a.file), 0o700); err != nil {
		return err
	}
	unlock, err := files.Lock(filepath.Dir(a.file))
	if err != nil {
		return err
	}
	defer unlock()
	if !a.state.is(take(a.file)) {
		a.stored = OpenAnswers(a.file).stored
	}
	all := maps.Clone(a.fresh)
	for key, theirs := range a.stored.all() {
		ours, known := all[key]
		if theirs.day+keptDays >= a.today && !a.dropped[key] && (!known || ours.day < theirs.day) {
			all[key] = theirs
		}
	}
	data := format(all)
	if err := files.WriteLocked(a.file, data, 0o600); err != nil {
		return err
	}
	a.stored, a.state = parseStored(data), take(a.file)
	clear(a.fresh)
	clear(a.dropped)
	return nil
}

// stored are the answers of a file: a head, a checksum over the rest, their number, then for each its key, its day, its length and
// where its data ends, in the order of keys; then the data of all.
type stored struct{ index, data []byte }

const (
	storedHead = "zincdoor answers 2\n"
	storedRest = len(storedHead) + 4 // where what the checksum is over begins
	entrySize  = len(Key{}) + 12
)

var checksum = sync.OnceValue(func() *crc32.Table { return crc32.MakeTable(crc32.Castagnoli) })

// parseStored reads a file; none are in one that isn't whole.
func parseStored(file []byte) stored {
	if !bytes.HasPrefix(file, []byte(storedHead)) || len(file) < storedRest+4 {
		return stored{}
	}
	rest := file[storedRest:]
	number := uint64(binary.LittleEndian.Uint32(rest))
	if binary.LittleEndian.Uint32(file[len(storedHead):]) != crc32.Checksum(rest, checksum()) || number > uint64(len(rest)-4)/uint64(entrySize) {
		return stored{}
	}
	end := 4 + int(number)*entrySize
	return stored{rest[4:end], rest[end:]}
}

// find finds the answer of a key.
func (s stored) find(key Key) (found answer, ok bool) {
	at, ok := sort.Find(len(s.index)/entrySize, func(i int) int { return bytes.Compare(key[:], s.index[i*entrySize:i*entrySize+len(key)]) })
	if !ok {
		return answer{}, false
	}
	return s.at(at)
}

// at is the answer at a place of the index; ok is false where its data can't be there.
func (s stored) at(i int) (found answer, ok bool) {
	about := s.index[i*entrySize+len(Key{}):]
	day, length, end := binary.LittleEndian.Uint32(about), binary.LittleEndian.Uint32(about[4:]), binary.LittleEndian.Uint32(about[8:])
	if uint64(end) > uint64(len(s.data)) || length > end {
		return answer{}, false
	}
	return answer{day, s.data[end-length : end : end]}, true
}

// all gives each answer by its key.
func (s stored) all() iter.Seq2[Key, answer] {
	return func(yield func(Key, answer) bool) {
		for i := range len(s.index) / entrySize {
			if found, ok := s.at(i); ok && !yield(Key(s.index[i*entrySize:i*entrySize+len(Key{})]), found) {
				return
			}
		}
	}
}

// format writes answers as parseStored reads them, those that were asked for last where not all have room.
func format(all map[Key]answer) []byte {
	keys := slices.SortedFunc(maps.Keys(all), func(x, y Key) int {
		return cmp.Or(cmp.Compare(all[y].day, all[x].day), bytes.Compare(x[:], y[:]))
	})
	size := 0
	keys = slices.DeleteFunc(keys, func(key Key) bool {
		if size+entrySize+len(all[key].data) > mostAnswers {
			return true
		}
		size += entrySize + len(all[key].data)
		return false
	})
	slices.SortFunc(keys, func(x, y Key) int { return bytes.Compare(x[:], y[:]) })
	file := make([]byte, storedRest, storedRest+4+size)
	file = binary.LittleEndian.AppendUint32(file, uint32(len(keys)))
	end := uint32(0)
	for _, key := range keys {
		one := all[key]
		end += uint32(len(one.data))
		file = append(file, key[:]...)
		for _, number := range []uint32{one.day, uint32(len(one.data)), end} {
			file = binary.LittleEndian.AppendUint32(file, number)
		}
	}
	for _, key := range keys {
		file = append(file, all[key].data...)
	}
	copy(file, storedHead)
	binary.LittleEndian.PutUint32(file[len(storedHead):], crc32.Checksum(file[storedRest:], checksum()))
	return file
}
