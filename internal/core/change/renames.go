package change

import (
	"cmp"
	"errors"
	"path"
	"slices"
	"sync"

	"zincdoor/internal/core/processors"
)

// Entry is a file that one side of a change has and the other doesn't.
type Entry struct {
	Path    string
	Mode    string // as git writes it; regular files begin with "100"
	Content string // names what is in it: two entries with the same name have the same bytes
	Size    int    // of the content, in bytes
}

// IsRegular reports whether it is a plain file, no link and no submodule.
func (e *Entry) IsRegular() bool { return len(e.Mode) > 3 && e.Mode[:3] == "100" }

func (e *Entry) name() string { return path.Base(e.Path) }

// Contents hands the contents that have the names to see, each once for each time it is named, in any order; those that can't be had
// are left out. It is called by several goroutines at once, and the data is good until it returns.
type Contents func(names []string, see func(i int, data []byte)) error

// Renames finds which of the added files are removed ones under other names: for each its index, or -1. It pairs them as git does
// (diff --find-renames=50%, from Git 2.44 on), and so that a file is renamed once: first those with the same content, the same file
// name going first; then those that alone have their file name, where three quarters of the larger one are in both; of the others
// those of which half is, the likest pairs first. Where more than limit times limit pairs would be left to compare, these last are
// left out, and skipped is true.
//
// Contents are asked for twice at most. An error is one of theirs, or ErrNotHere.
func Renames(removed, added []Entry, limit int, contents Contents) (from []int, skipped bool, err error) {
	r := &renames{removed: removed, added: added, contents: contents, from: make([]int, len(added)), gone: make([]bool, len(removed))}
	for i := range r.from {
		r.from[i] = -1
	}
	r.pairSame()
	olds, news := r.left()
	few := len(olds)*len(news) <= limit*limit
	alone := r.alone(olds, news)
	if few {
		err = r.read(olds, news)
	} else {
		err = r.read(alone.olds(), alone.news())
	}
	if err != nil {
		return nil, false, err
	}
	for _, p := range alone {
		if r.likeness(p.old, p.new, leastAlone) >= leastAlone {
			r.pair(p.old, p.new)
		}
	}
	if olds, news = r.left(); len(olds)*len(news) > limit*limit {
		return r.from, true, nil
	}
	if !few {
		if err := r.read(olds, news); err != nil {
			return nil, false, err
		}
	}
	r.pairLikest(olds, news)
	return r.from, false, nil
}

// renames is the pairing at work. Its pieces are made by several goroutines, each entry's by one.
type renames struct {
	removed, added []Entry
	contents       Contents
	from           []int  // for each added file
	gone           []bool // removed files that are renamed

	reading    sync.Mutex
	olds, news map[int]*pieces
	cut        int // how many pieces there are
}

// mostPieces bounds how many pieces are held, of all contents; 8 bytes each.
const mostPieces = 16 << 20

// ErrNotHere is the error of contents that are missing or too large, one of them or all together: another way to find renames is wanted.
var ErrNotHere = errors.New("contents can't be compared here")

func (r *renames) pair(old, new int) { r.from[new], r.gone[old] = old, true }

// left are the removed and the added files that aren't paired yet.
func (r *renames) left() (olds, news []int) {
	for i, gone := range r.gone {
		if !gone {
			olds = append(olds, i)
		}
	}
	for i, old := range r.from {
		if old < 0 {
			news = append(news, i)
		}
	}
	return olds, news
}

// mostSame is how many files of one content are looked at for one with the same name.
const mostSame = 100

// pairSame pairs files of the same content: in order, the same file name going first.
func (r *renames) pairSame() {
	byContent := map[string][]int{}
	for i := range r.removed {
		byContent[r.removed[i].Content] = append(byContent[r.removed[i].Content], i)
	}
	for i := range r.added {
		new, best, looked := &r.added[i], -1, 0
		for _, n := range byContent[new.Content] {
			old := &r.removed[n]
			if r.gone[n] || !(old.IsRegular() && new.IsRegular()) && old.Mode != new.Mode {
				continue
			}
			if old.name() == new.name() {
				best = n
				break
			}
			if best < 0 {
				best = n
			}
			if looked++; looked > mostSame {
				break
			}
		}
		if best >= 0 {
			r.pair(best, i)
		}
	}
}

// alone are the pairs of a removed and an added file that alone have their file name.
func (r *renames) alone(olds, news []int) (all pairs) {
	one := func(of []int, entries []Entry) map[string]int {
		byName := make(map[string]int, len(of))
		for _, i := range of {
			name := entries[i].name()
			if _, twice := byName[name]; twice {
				byName[name] = -1
			} else {
				byName[name] = i
			}
		}
		return byName
	}
	byName := one(news, r.added)
	for name, old := range one(olds, r.removed) {
		if new, there := byName[name]; there && new >= 0 && old >= 0 {
			all = append(all, pair{old, new})
		}
	}
	return all
}

type pairs []pair

func (all pairs) olds() (olds []int) {
	for _, p := range all {
		olds = append(olds, p.old)
	}
	return olds
}

func (all pairs) news() (news []int) {
	for _, p := range all {
		news = append(news, p.new)
	}
	return news
}

// From which likeness on, of mostLikeness, a file is a renamed one: where both alone have their file name, and else.
const (
	mostLikeness  = 60000
	leastLikeness = mostLikeness / 2
	leastAlone    = (leastLikeness + mostLikeness) / 2
)

// likeness is how much of the larger of two files is in both, of mostLikeness; 0 where that can't be as much as least. Only regular files
// are compared.
func (r *renames) likeness(old, new, least int) int {
	a, b := r.olds[old], r.news[new]
	if a == nil || b == nil || !a.near(b, least) {
		return 0
	}
	return a.likeness(b, a.shared(b))
}

// mostCandidates is how many removed files are kept for each added one, those that are most like it.
const mostCandidates = 4

// candidate is a pair that may be a rename.
type candidate struct {
	pair
	likeness int
	named    int // 1 where both have the same file name
}

// better puts the likest first, and of equals those with the same file name.
func better(a, b candidate) int {
	return cmp.Or(cmp.Compare(b.likeness, a.likeness), cmp.Compare(b.named, a.named))
}

// pairLikest pairs the files that are left, the likest first.
func (r *renames) pairLikest(olds, news []int) {
	index := newPieceIndex(olds, r.olds)
	names := make([]string, len(olds))
	for i, old := range olds {
		names[i] = r.removed[old].name()
	}
	kept := make([][]candidate, len(news))
	shared := make([][]int32, processors.Most())
	processors.Each(len(news), func(worker, n int) {
		b := r.news[news[n]]
		if b == nil {
			return
		}
		if shared[worker] == nil {
			shared[worker] = make([]int32, len(olds))
		}
		common, name := shared[worker], r.added[news[n]].name()
		index.share(b, common)
		for i, old := range olds {
			c := candidate{pair: pair{old, news[n]}}
			if a := r.olds[old]; a != nil && a.near(b, leastLikeness) {
				c.likeness = a.likeness(b, int(common[i]))
			}
			if names[i] == name {
				c.named = 1
			}
			kept[n], common[i] = keep(kept[n], c), 0
		}
	})
	all := slices.Concat(kept...)
	slices.SortStableFunc(all, better)
	for _, c := range all {
		if c.likeness >= leastLikeness && !r.gone[c.old] && r.from[c.new] < 0 {
			r.pair(c.old, c.new)
		}
	}
}

// keep keeps the best candidates, a new one in the place of the first of the worst.
func keep(kept []candidate, c candidate) []candidate {
	if len(kept) < mostCandidates {
		return append(kept, c)
	}
	worst := 0
	for i := range kept {
		if better(kept[i], kept[worst]) > 0 {
			worst = i
		}
	}
	if better(kept[worst], c) > 0 {
		kept[worst] = c
	}
	return kept
}

// sizesOf are the sizes of some files, in order.
func sizesOf(entries []Entry, which []int) (sizes []int) {
	for _, i := range which {
		sizes = append(sizes, entries[i].Size)
	}
	slices.Sort(sizes)
	return sizes
}

// mayBeLike reports whether half of the larger of two contents may be in both, of one of a size and any of others.
func mayBeLike(size int, others []int) bool {
	at, _ := slices.BinarySearch(others, (size+1)/2)
	return at < len(others) && others[at] <= 2*size
}

// read reads the contents of files that aren't read yet, as far as their sizes leave a doubt, and cuts them into pieces.
func (r *renames) read(olds, news []int) error {
	if r.olds == nil {
		r.olds, r.news = make(map[int]*pieces, len(olds)), make(map[int]*pieces, len(news))
	}
	type wanted struct {
		of map[int]*pieces
		i  int
	}
	var names []string
	var all []wanted
	want := func(of map[int]*pieces, entries []Entry, which []int, sizes []int) {
		for _, i := range which {
			if of[i] == nil && entries[i].IsRegular() && mayBeLike(entries[i].Size, sizes) {
				names, all = append(names, entries[i].Content), append(all, wanted{of, i})
			}
		}
	}
	want(r.olds, r.removed, olds, sizesOf(r.added, news))
	want(r.news, r.added, news, sizesOf(r.removed, olds))
	if len(names) == 0 {
		return nil
	}
	err := r.contents(names, func(i int, data []byte) {
		cut := cutIntoPieces(data)
		r.reading.Lock()
		defer r.reading.Unlock()
		if r.cut += len(cut.of); r.cut <= mostPieces {
			all[i].of[all[i].i] = cut
		}
	})
	if err == nil && r.cut > mostPieces {
		err = ErrNotHere
	}
	return err
}
