package change

import (
	"math"
	"sync"

	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/source"
)

// Rules say which differences make a line the author's. The zero value is the default: differences of white space
// and moved blocks don't, and neither do deletions beside it.
type Rules struct {
	CountSpace bool // a line that differs only in white space is touched
	CountMoved bool // a block that only moved within the change is touched
	Flows      bool // a finding is touched when a step of its code flow is
	Seams      bool // the two lines around a pure deletion are touched
}

// touch works out the Touched lines of every file. Moved blocks are looked for across all of them.
func touch(files []File, rules Rules, ahead *Ahead) {
	added, removed := make([]runs, len(files)), make([]runs, len(files))
	processors.Each(len(files), func(_, i int) { added[i], removed[i] = ahead.take(&files[i], rules) })
	if !rules.CountMoved {
		dropMoved(added, removed)
	}
	for i := range files {
		files[i].Touched, files[i].Worded = files[i].touchedOf(added[i], rules), added[i].worded()
	}
}

// Ahead is what was worked out of the hunks of files before their change is made. A nil one is empty. It is safe for concurrent use.
type Ahead struct {
	rules Rules
	mutex sync.Mutex
	known map[*Hunk][2]runs // added and removed, by a file's first hunk
}

// WorkAhead begins to make a change of files, before all of them are known. Their hunks must stay as they are.
func WorkAhead(files []File, rules Rules) *Ahead {
	a := &Ahead{rules: rules, known: make(map[*Hunk][2]runs, len(files))}
	processors.Each(len(files), func(_, i int) { a.of(&files[i]) })
	return a
}

// of gives the lines that a file's hunks add and remove, and keeps them. They aren't to be written to.
func (a *Ahead) of(f *File) (added, removed runs) {
	if len(f.Hunks) == 0 {
		return nil, nil
	}
	a.mutex.Lock()
	both, known := a.known[&f.Hunks[0]]
	a.mutex.Unlock()
	if !known {
		both[0], both[1] = unmatched(f, a.rules)
		a.mutex.Lock()
		a.known[&f.Hunks[0]] = both
		a.mutex.Unlock()
	}
	return both[0], both[1]
}

// take gives these lines to who will write to them, and forgets them.
func (a *Ahead) take(f *File, rules Rules) (added, removed runs) {
	if a == nil || len(f.Hunks) == 0 || a.rules != rules {
		return unmatched(f, rules)
	}
	added, removed = a.of(f)
	a.mutex.Lock()
	defer a.mutex.Unlock()
	delete(a.known, &f.Hunks[0])
	return added, removed
}

func (f *File) touchedOf(added runs, rules Rules) Lines {
	if f.Status == Copied || f.Opaque != "" {
		return Lines{{1, math.MaxInt}}
	}
	var touched []int
	h := 0
	seamsBefore := func(line int) {
		for ; rules.Seams && h < len(f.Hunks) && f.Hunks[h].NewStart < line; h++ {
			if at := f.Hunks[h]; at.NewCount == 0 {
				touched = append(touched, max(at.NewStart, 1), at.NewStart+1)
			}
		}
	}
	for _, line := range added {
		if !line.used {
			seamsBefore(line.number)
			touched = append(touched, line.number)
		}
	}
	seamsBefore(math.MaxInt)
	return LinesOf(touched)
}

// runs are the lines of one side of a file that the change alone has, in order; lines whose numbers follow one
// another form a run.
type runs []runLine

// worded are the lines that hold letters or digits.
func (r runs) worded() Lines {
	var lines []int
	for _, line := range r {
		if line.weight > 0 {
			lines = append(lines, line.number)
		}
	}
	return LinesOf(lines)
}

type runLine struct {
	text   string
	mark   uint64 // of the text
	number int
	weight int32 // the text's letters and digits
	used   bool  // found again on the other side
}

func newRunLine(number int, text string) runLine {
	return runLine{number: number, text: text, mark: source.Mark(text), weight: int32(source.Weight(text))}
}

// is reports whether two lines differ in white space at most.
func (l runLine) is(other runLine) bool {
	return l.mark == other.mark && source.Collapse(l.text) == source.Collapse(other.text)
}

// unmatched lists the lines that f's hunks add and remove, less those that differ from their counterpart in the same
// hunk in nothing but white space.
func unmatched(f *File, rules Rules) (added, removed runs) {
	olds, news := 0, 0
	for _, h := range f.Hunks {
		olds, news = olds+len(h.Removed), news+len(h.Added)
	}
	added, removed = make(runs, 0, news), make(runs, 0, olds)
	for _, h := range f.Hunks {
		var pairs []pair
		if !rules.CountSpace && len(h.Removed) > 0 && len(h.Added) > 0 {
			pairs = align(collapseAll(h.Removed), collapseAll(h.Added))
		}
		oldUsed, newUsed := make([]bool, len(h.Removed)), make([]bool, len(h.Added))
		for _, p := range pairs {
			oldUsed[p.old], newUsed[p.new] = true, true
		}
		for i, text := range h.Removed {
			if !oldUsed[i] {
				removed = append(removed, newRunLine(h.OldStart+i, text))
			}
		}
		for i, text := range h.Added {
			if !newUsed[i] {
				added = append(added, newRunLine(h.NewStart+i, text))
			}
		}
	}
	return added, removed
}

func collapseAll(lines []string) []string {
	all := make([]string, len(lines))
	for i, line := range lines {
		all[i] = source.Collapse(line)
	}
	return all
}
