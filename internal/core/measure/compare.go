package measure

import (
	"slices"

	"zincdoor/internal/core/change"
)

// Growth is by how much a number is more than before; known is false where there was nothing to compare with.
func (r Row) Growth(of Number) (by int, known bool) {
	if r.Before == nil {
		return 0, false
	}
	return r.Numbers[of] - r.Before[of], true
}

// altered reports whether a number isn't what it was.
func (r Row) altered() bool {
	for number, n := range r.Numbers {
		if r.Before != nil && r.Before[number] != n {
			return true
		}
	}
	return false
}

// identity is what a row is compared by: a file, or a function by its name, the nth of that name in its file; or a language.
type identity struct {
	path, name string
	nth        int
}

// Compare gives rows the numbers that they had before a change, and leaves out those that it neither touches nor alters. A function
// is the one of the same name in the same file, or in that which the file was renamed from; or the one that most of its unchanged lines
// were of; or the only one of its name that went from another file.
func Compare(rows, before []Row, c *change.Change) []Row {
	old := map[string]string{} // paths, by those of now
	for _, f := range c.Files {
		old[f.Path] = f.Old
	}
	was := map[identity]*Row{}
	each := func(rows []Row, path func(r *Row) string, see func(id identity, r *Row)) {
		times := map[identity]int{}
		for i := range rows {
			r := &rows[i]
			id := identity{path: path(r), name: r.Function}
			if r.Path == "" {
				id.name = r.Language
			}
			n := times[id]
			times[id]++
			id.nth = n
			see(id, r)
		}
	}
	each(before, func(r *Row) string { return r.Path }, func(id identity, r *Row) { was[id] = r })
	var fresh []*Row
	each(rows, func(r *Row) string { return old[r.Path] }, func(id identity, r *Row) {
		if b := was[id]; b != nil && (r.Path == "" || id.path != "") {
			r.Before = b.Numbers
			delete(was, id)
		} else if r.Function != "" {
			fresh = append(fresh, r)
		}
	})
	fresh = slices.DeleteFunc(fresh, func(r *Row) bool {
		if id, found := survives(r, was, c); found {
			r.Before = was[id].Numbers
			delete(was, id)
		}
		return r.Before != nil
	})
	gone := map[string][]*Row{} // by their names
	for id, r := range was {
		gone[id.name] = append(gone[id.name], r)
	}
	came := map[string]int{}
	for _, r := range fresh {
		came[r.Function]++
	}
	for _, r := range fresh {
		if all := gone[r.Function]; len(all) == 1 && came[r.Function] == 1 {
			r.Before = all[0].Numbers
		}
	}
	var left []Row
	for _, r := range rows {
		if r.Function == "" || r.altered() || touches(c, r) {
			left = append(left, r)
		}
	}
	return left
}

// survives finds which of some functions that were there before most unchanged lines of one are of.
func survives(r *Row, was map[identity]*Row, c *change.Change) (most identity, found bool) {
	f := c.File(r.Path)
	if f == nil || f.Old == "" || f.Opaque != "" {
		return most, false
	}
	votes := map[identity]int{}
	for n := r.Lines.First; n <= r.Lines.Last; n++ {
		at := f.OldLine(n)
		for id, old := range was {
			if at > 0 && id.path == f.Old && old.Lines.First <= at && at <= old.Lines.Last {
				votes[id]++
			}
		}
	}
	for id, n := range votes {
		if n > votes[most] || n == votes[most] && was[id].Lines.First < was[most].Lines.First {
			most, found = id, true
		}
	}
	return most, found
}

// touches reports whether a change touches a line of a function.
func touches(c *change.Change, r Row) bool {
	return c.File(r.Path) != nil && c.TouchesAny(r.Path, r.Lines)
}
