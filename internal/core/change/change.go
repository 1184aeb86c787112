// Package change knows what an author altered between two states of a repository: which files, which lines, and how
// a line of one side is found on the other. Lines are 1-based. It compares texts that are handed to it and asks no
// repository.
package change

import (
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
)

// Status is what happened to a file.
type Status byte

// The statuses, by the letters git uses for them.
const (
	Added    Status = 'A'
	Modified Status = 'M'
	Deleted  Status = 'D'
	Renamed  Status = 'R'
	Copied   Status = 'C'
	Retyped  Status = 'T' // a file became a link, or the reverse
)

// Submodule is the Opaque of a file that stands for another repository; what lies below its path is touched with it.
const Submodule = "a submodule"

// Hunk is one stretch of lines replaced by another, without context. Where OldCount is 0, OldStart is the line before
// the insertion; where NewCount is 0, NewStart is the line before the deletion (as in a unified diff of no context).
type Hunk struct {
	OldStart, OldCount int
	NewStart, NewCount int
	Removed, Added     []string // the lines without their line feed
}

// File is one file of a change. Paths are relative to the repository's root.
type File struct {
	Path   string // on the new side; on the old side where the file is deleted
	Old    string // on the old side; "" where the file is added
	Status Status
	Hunks  []Hunk // in order of lines

	// Opaque says why the file's lines can't be known ("binary", "submodule", …); "" where they can. Every line of
	// an opaque file counts as touched.
	Opaque string

	// Touched is the set of lines on the new side that are the author's, Worded that of the added lines that hold letters or
	// digits, touched or not.
	Touched, Worded Lines
}

// Change is all that an author altered. The zero value alters nothing.
type Change struct {
	Files []File // sorted by Path

	narrowed bool // other sides that the change also stands on were left out

	// Everything says that there is no old side: every file belongs to the change and every line is touched.
	Everything bool
}

// New makes a change of files, sorting them by path and working out their touched lines.
func New(files []File, rules Rules) *Change { return NewFrom(files, rules, nil) }

// NewFrom does as New, with what was worked out ahead, which is used up.
func NewFrom(files []File, rules Rules, ahead *Ahead) *Change {
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	touch(files, rules, ahead)
	return &Change{Files: files}
}

// DropTexts forgets the lines of the hunks, which take much memory and serve no purpose once it is settled what is
// touched; where follow is set, all but those that Follow needs. The hunks themselves stay. Those that the change was made of
// aren't written to.
func (c *Change) DropTexts(follow bool) {
	for i := range c.Files {
		f := &c.Files[i]
		keep := follow && f.Follows()
		f.Hunks = slices.Clone(f.Hunks)
		for n := range f.Hunks {
			f.Hunks[n].Removed = nil
			if !keep {
				f.Hunks[n].Added = nil
			}
		}
	}
}

// File returns the file that has path on the new side, nil where the change doesn't hold it.
func (c *Change) File(path string) *File {
	i, found := slices.BinarySearchFunc(c.Files, path, func(f File, p string) int { return strings.Compare(f.Path, p) })
	if !found {
		return nil
	}
	return &c.Files[i]
}

// OldPath is the path that the file now at path has on the old side; path itself where the change doesn't rename it.
func (c *Change) OldPath(path string) string {
	if f := c.File(path); f != nil && f.Status == Renamed {
		return f.Old
	}
	return path
}

// Renames gives the path that each renamed file has now, by the one it had on the old side.
func (c *Change) Renames() map[string]string {
	renames := map[string]string{}
	for _, f := range c.Files {
		if f.Status == Renamed {
			renames[f.Old] = f.Path
		}
	}
	return renames
}

// Narrow leaves to the author only what differs from another old side too: other is the change from that side to the
// same new one. Files that the other side has just so leave the change.
func (c *Change) Narrow(other *Change) {
	files := c.Files[:0]
	for _, f := range c.Files {
		o := other.File(f.Path)
		if o == nil {
			c.narrowed = true
			continue
		}
		switch {
		case o.Opaque != "":
		case f.Opaque != "":
			f.Opaque, f.Touched, f.Worded = "", o.Touched, o.Worded
		default:
			f.Touched = f.Touched.Intersect(o.Touched)
		}
		if f.Status == Added && o.Status != Added {
			f.Status, f.Old, f.Hunks = o.Status, o.Old, o.Hunks
		}
		files = append(files, f)
	}
	c.Files = files
}

// Widen leaves to the author also what differs from another old side: other is the change from that side to the same new one.
// Files that only the other side has otherwise come in as they are on both sides of this change, but for what is touched.
func (c *Change) Widen(other *Change) {
	for _, o := range other.Files {
		if o.Status == Deleted {
			continue
		}
		f := c.File(o.Path)
		if f == nil {
			at, _ := slices.BinarySearchFunc(c.Files, o.Path, func(f File, p string) int { return strings.Compare(f.Path, p) })
			c.Files = slices.Insert(c.Files, at, File{Path: o.Path, Old: o.Path, Status: Modified, Opaque: o.Opaque, Touched: o.Touched, Worded: o.Worded})
			continue
		}
		if f.Opaque == "" {
			f.Opaque, f.Touched, f.Worded = o.Opaque, f.Touched.Union(o.Touched), f.Worded.Union(o.Worded)
		}
	}
}

// Hide makes all of a file count as touched, if it is one of the change: why says why its lines can't be known.
func (c *Change) Hide(path, why string) {
	if f := c.File(path); f != nil && f.Opaque == "" {
		f.Opaque = why
	}
}

// Only reports whether the change alters nothing but files that take says, on either side. A merge of what is known does
// alter something, though no line of it is the author's.
func (c *Change) Only(take func(path string) bool) bool {
	if c.Everything || c.narrowed {
		return false
	}
	for _, f := range c.Files {
		if !take(f.Path) || f.Old != "" && !take(f.Old) {
			return false
		}
	}
	return true
}

// OldLine carries a line of the new side to the old side. It is 0 where the line was added or modified.
func (f *File) OldLine(line int) int { return carry(f.Hunks, line, newSide, oldSide) }

// NewLine carries a line of the old side to the new side. It is 0 where the line was removed or modified.
func (f *File) NewLine(line int) int { return carry(f.Hunks, line, oldSide, newSide) }

// oldSide and newSide give a hunk's stretch of lines: its first, and how many. An empty one begins after the hunk.
func oldSide(h Hunk) (first, count int) { return stretch(h.OldStart, h.OldCount) }
func newSide(h Hunk) (first, count int) { return stretch(h.NewStart, h.NewCount) }

func stretch(start, count int) (first, size int) {
	if count == 0 {
		return start + 1, 0
	}
	return start, count
}

func carry(hunks []Hunk, line int, from, to func(Hunk) (first, count int)) int {
	shift := 0
	for _, h := range hunks {
		first, count := from(h)
		if line < first {
			break
		}
		if line < first+count {
			return 0
		}
		_, other := to(h)
		shift += other - count
	}
	return line + shift
}

// Place is where a finding stands to a change.
type Place string

// The three places.
const (
	OnTouched Place = "touched"   // on a line added or modified
	InFile    Place = "file"      // in a file of the change, on another line
	Elsewhere Place = "elsewhere" // in no file of the change
)

// longRegion is the number of lines up to which a region counts as a whole even where there is nothing to compare
// the finding with.
const longRegion = 10

// Holding is the file of the change at path, or the submodule of the change that path lies in; nil where there is neither.
func (c *Change) Holding(path string) *File {
	if f := c.File(path); f != nil {
		return f
	}
	return c.InSubmodule(path)
}

// InSubmodule is the submodule of the change that path lies in, nil where there is none.
func (c *Change) InSubmodule(path string) *File {
	for i, r := range path {
		if r == '/' {
			if f := c.File(path[:i]); f != nil && f.Opaque == Submodule {
				return f
			}
		}
	}
	return nil
}

// Touches reports whether a line of the new side is the author's.
func (c *Change) Touches(path string, line int) bool {
	return c.Place(path, finding.Region{Line: line}, true) == OnTouched
}

// TouchesAny reports whether any line of a stretch is the author's.
func (c *Change) TouchesAny(path string, lines Span) bool {
	return c.Place(path, finding.Region{Line: lines.First, EndLine: lines.Last}, true) == OnTouched
}

// Touched gives those of some lines of a file that are the author's.
func (c *Change) Touched(path string, lines Lines) Lines {
	f := c.Holding(path)
	switch {
	case c.Everything, f != nil && f.Status != Deleted && f.Opaque != "":
		return lines
	case f == nil || f.Status == Deleted:
		return nil
	}
	return lines.Intersect(f.Touched)
}

// TouchedLines is the number of lines that are the author's and hold letters or digits, in the files that are taken, as far as they
// can be told.
func (c *Change) TouchedLines(take func(path string) bool) (n int) {
	for _, f := range c.Files {
		if f.Opaque == "" && f.Status != Copied && take(f.Path) {
			n += f.Touched.Intersect(f.Worded).Count()
		}
	}
	return n
}

// Place tells where a finding at path and region stands. Where there is nothing to compare the finding with
// (compared is false), a region of more than ten lines counts by its first line.
func (c *Change) Place(path string, region finding.Region, compared bool) Place {
	if path == "" {
		return Elsewhere
	}
	if c.Everything {
		return OnTouched
	}
	return c.Holding(path).Place(region, compared)
}

// Place is Change.Place for the file that holds the finding's path, nil where none does.
func (f *File) Place(region finding.Region, compared bool) Place {
	if f == nil || f.Status == Deleted {
		return Elsewhere
	}
	last := region.Last()
	if !compared && last-region.Line >= longRegion {
		last = region.Line
	}
	switch {
	case f.Opaque != "", region.Line == 0 && f.Status == Added, f.Touched.Meets(region.Line, last):
		return OnTouched
	default:
		return InFile
	}
}
