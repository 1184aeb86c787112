package measuring

import (
	"encoding/binary"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"zincdoor/internal/cached"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
)

// duplicates finds duplicated code in a state of the repository.
type duplicates struct {
	measure.Duplication
	choice *Choice
	from   State
	prints map[string][]uint64 // by the names of contents
	names  map[string]string   // of the files' contents, by their paths; "" for one whose content has no name
	paths  []string            // sorted
}

// DuplicatesRequest says where to look.
type DuplicatesRequest struct {
	Choice *Choice
	Repo   *git.Repo // nil for none: then nothing is kept
	Side   git.Side
	From   State
	Paths  []string // of all files, where there is no repository

	Changes func(path string) bool // files that a change alters, of which nothing is kept; nil for none
}

// Duplicates finds the duplicated code of the files that are looked at, by their paths.
func Duplicates(q DuplicatesRequest, looked []string) (map[string][]measure.Copied, error) {
	d, err := newDuplicates(q)
	if err != nil {
		return nil, err
	}
	return d.find(looked)
}

// newDuplicates lists the files of a state, and readies their prints: those that were kept, and those of files that have to be read.
func newDuplicates(q DuplicatesRequest) (*duplicates, error) {
	d := &duplicates{Duplication: q.Choice.Policy.Duplication, choice: q.Choice, from: q.From, names: map[string]string{}}
	paths := q.Paths
	if q.Repo != nil {
		entries, err := q.Repo.Entries(q.Side)
		if err != nil {
			return nil, err
		}
		paths = paths[:0:0]
		for p, e := range entries {
			if e.Link {
				continue
			}
			if paths = append(paths, p); q.Changes == nil || !q.Changes(p) {
				d.names[p] = e.Content
			}
		}
	}
	d.paths = d.choice.Left(paths)
	slices.Sort(d.paths)
	return d, d.fill(q.Repo)
}

// open opens what is kept of a repository's prints.
func (d *duplicates) open(repo *git.Repo) *cached.Lists {
	marker := ""
	if m := d.choice.Policy.Marker; m != nil {
		marker = m.String()
	}
	return cached.OpenLists("prints", lint.Build(), repo.CommonDir(), strconv.Itoa(d.Tokens), strconv.FormatBool(d.FoldNames), strconv.FormatBool(d.FoldValues), marker)
}

// name is what the prints of a file are kept under: its content and, since that says how it is read, its kind.
func (d *duplicates) name(p string) string {
	if d.names[p] == "" {
		return unkept + p
	}
	return d.names[p] + path.Ext(p)
}

// unkept begins the names of what isn't kept.
const unkept = "path:"

// fill reads the prints of all files: those that are kept, and those of files that have to be read.
func (d *duplicates) fill(repo *git.Repo) error {
	d.prints = map[string][]uint64{}
	keeps := &cached.Lists{}
	if repo != nil {
		keeps = d.open(repo)
	}
	var unread []string
	seen := map[string]bool{}
	for _, p := range d.paths {
		name := d.name(p)
		if seen[name] {
			continue
		}
		seen[name] = true
		if list, known := keeps.Get(name); known {
			d.prints[name] = unpacked(list)
		} else {
			unread = append(unread, p)
		}
	}
	if len(unread) == 0 {
		return nil
	}
	var mutex sync.Mutex
	err := d.choice.Read(unread, d.from, func(p string, data []byte) {
		prints := d.Prints(d.Read(p, data))
		mutex.Lock()
		defer mutex.Unlock()
		d.prints[d.name(p)] = hashesOf(prints)
	})
	if err != nil || repo == nil {
		return err
	}
	for _, p := range unread {
		if name := d.name(p); !strings.HasPrefix(name, unkept) {
			keeps.Put(name, packed(d.prints[name])) // of what is no text that is looked at, nothing
		}
	}
	keeps.Save(seen)
	return nil
}

func hashesOf(prints []measure.Print) []uint64 {
	all := make([]uint64, len(prints))
	for i, p := range prints {
		all[i] = p.Hash
	}
	return all
}

func packed(prints []uint64) (list []byte) {
	for _, p := range prints {
		list = binary.LittleEndian.AppendUint64(list, p)
	}
	return list
}

func unpacked(list []byte) []uint64 {
	prints := make([]uint64, len(list)/8)
	for i := range prints {
		prints[i] = binary.LittleEndian.Uint64(list[8*i:])
	}
	return prints
}

// atOnce is how many files are held at once.
const atOnce = 500

// find finds the duplicated code of the files that are looked at.
func (d *duplicates) find(looked []string) (map[string][]measure.Copied, error) {
	counts, has := map[uint64]int{}, map[uint64]bool{}
	for _, p := range looked {
		for _, print := range d.prints[d.name(p)] {
			has[print] = true
		}
	}
	for _, p := range d.paths {
		for _, print := range d.prints[d.name(p)] {
			if has[print] {
				counts[print]++
			}
		}
	}
	shared := func(print uint64) bool { return counts[print] > 1 }
	candidates := func(paths []string) []string {
		return slices.DeleteFunc(slices.Clone(paths), func(p string) bool { return !slices.ContainsFunc(d.prints[d.name(p)], shared) })
	}
	finder := measure.NewFinder(d.Duplication, shared)
	mine := map[string]bool{}
	for _, p := range looked {
		mine[p] = true
	}
	looked = candidates(looked)
	others := candidates(slices.DeleteFunc(slices.Clone(d.paths), func(p string) bool { return mine[p] }))
	if len(looked) == 0 {
		return nil, nil
	}
	err := d.inOrder(looked, func(p string, t measure.Tokens) { finder.Learn(p, t, true) })
	if err == nil {
		err = d.inOrder(others, func(p string, t measure.Tokens) { finder.Learn(p, t, false) })
	}
	all := map[string][]measure.Copied{}
	if err == nil {
		err = d.inOrder(looked, func(p string, t measure.Tokens) {
			if found := finder.Find(p, t); len(found) > 0 {
				all[p] = found
			}
		})
	}
	if err == nil {
		err = d.locate(all)
	}
	return all, err
}

// locate finds the lines on which the other places are.
func (d *duplicates) locate(all map[string][]measure.Copied) error {
	leads := map[string][]*measure.Copied{} // by the files that they lead to
	for _, some := range all {
		for i := range some {
			leads[some[i].Other] = append(leads[some[i].Other], &some[i])
		}
	}
	return d.inOrder(slices.Sorted(maps.Keys(leads)), func(p string, t measure.Tokens) {
		for _, c := range leads[p] {
			c.Locate(t)
		}
	})
}

// inOrder reads the tokens of files, and hands them over in the order of the paths.
func (d *duplicates) inOrder(paths []string, see func(p string, t measure.Tokens)) error {
	for some := range slices.Chunk(paths, atOnce) {
		var mutex sync.Mutex
		tokens := map[string]measure.Tokens{}
		err := d.choice.Read(some, d.from, func(p string, data []byte) {
			t := d.Read(p, data)
			mutex.Lock()
			defer mutex.Unlock()
			tokens[p] = t
		})
		if err != nil {
			return err
		}
		for _, p := range some {
			see(p, tokens[p])
		}
	}
	return nil
}
