package lint

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
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

// Answers are what a linter said before, kept in one file: a head, a checksum over the rest, then each answer with its
// key, the day it was last asked for and its length. A file that isn't whole counts as empty.
type Answers struct {
	mutex   sync.Mutex
	file    string
	today   uint32
	answers map[Key]answer
	dropped map[Key]bool // that were taken out since they were read
	state   taken        // of the file when it was read
	altered bool
}

type answer struct {
	day  uint32 // since 1970, UTC
	data []byte
}

const (
	answersHead = "zincdoor answers 1\n"
	keptDays    = 30
	mostAnswers = 256 << 20 // bytes of a file
)

// OpenAnswers reads the answers that a file holds.
func OpenAnswers(file string) *Answers {
	a := &Answers{file: file, today: uint32(time.Now().Unix() / (24 * 60 * 60)), answers: map[Key]answer{}, dropped: map[Key]bool{}, state: take(file)}
	data, err := os.ReadFile(file)
	if err != nil || !bytes.HasPrefix(data, []byte(answersHead)) || len(data) < len(answersHead)+sha256.Size {
		return a
	}
	sum, rest := data[len(answersHead):len(answersHead)+sha256.Size], data[len(answersHead)+sha256.Size:]
	if now := sha256.Sum256(rest); !bytes.Equal(sum, now[:]) {
		return a
	}
	const head = len(Key{}) + 8
	for len(rest) >= head {
		key, day, length := Key(rest[:len(Key{})]), binary.LittleEndian.Uint32(rest[len(Key{}):]), int(binary.LittleEndian.Uint32(rest[len(Key{})+4:]))
		if length > len(rest)-head {
			break
		}
		if day+keptDays >= a.today {
			a.answers[key] = answer{day, rest[head : head+length : head+length]}
		}
		rest = rest[head+length:]
	}
	return a
}

// Get gives an answer.
func (a *Answers) Get(key Key) (data []byte, ok bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	found, ok := a.answers[key]
	if ok && found.day != a.today {
		a.answers[key] = answer{a.today, found.data}
		a.altered = true
	}
	return found.data, ok
}

// Has reports whether there is an answer.
func (a *Answers) Has(key Key) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	_, ok := a.answers[key]
	return ok
}

// Put keeps an answer.
func (a *Answers) Put(key Key, data []byte) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.answers[key] = answer{a.today, data}
	a.altered = true
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
		delete(a.answers, Key(order[:len(Key{})]))
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
	if !a.altered {
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
		for key, theirs := range OpenAnswers(a.file).answers {
			if ours, known := a.answers[key]; !a.dropped[key] && (!known || ours.day < theirs.day) {
				a.answers[key] = theirs
			}
		}
	}
	keys := make([]Key, 0, len(a.answers))
	for key := range a.answers {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(x, y Key) int {
		if by := int(a.answers[y].day) - int(a.answers[x].day); by != 0 {
			return by
		}
		return bytes.Compare(x[:], y[:])
	})
	rest := []byte{}
	for _, key := range keys {
		one := a.answers[key]
		if len(rest)+len(one.data) > mostAnswers {
			continue
		}
		rest = append(rest, key[:]...)
		rest = binary.LittleEndian.AppendUint32(rest, one.day)
		rest = binary.LittleEndian.AppendUint32(rest, uint32(len(one.data)))
		rest = append(rest, one.data...)
	}
	sum := sha256.Sum256(rest)
	if err := files.WriteLocked(a.file, slices.Concat([]byte(answersHead), sum[:], rest), 0o600); err != nil {
		return err
	}
	a.altered, a.state = false, take(a.file)
	return nil
}
