package change

import (
	"slices"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Carrier brings what a report says of one state of the code to another one: its places, line by line.
type Carrier struct {
	// Between is what differs between the two states. It leads from the report's to the judged one, or where Back is set
	// the other way round.
	Between *Change
	Back    bool
}

// Carry brings a finding to the judged state, with the places of its fixes and flows. It is false where that state doesn't
// have its line, and the finding is of no use then. A fix whose place is gone goes; so does one that counts from the
// beginning of a file that differs.
func (c Carrier) Carry(f *finding.Finding) bool {
	if d := f.Extra; d != nil {
		d.Fixes = slices.DeleteFunc(slices.Clone(d.Fixes), func(fix finding.Fix) bool {
			for i := range fix.Edits {
				e := &fix.Edits[i]
				if e.Offset != nil && c.differs(e.Path) || !c.place(&e.Path, &e.Region) {
					return true
				}
			}
			return false
		})
		for _, flow := range d.Flows {
			for i := range flow {
				if !c.place(&flow[i].Path, &flow[i].Region) {
					flow[i].Region = finding.Region{}
				}
			}
		}
	}
	return c.place(&f.Path, &f.Region)
}

// CarryLine brings a line to the judged state. It is false where that doesn't have it.
func (c Carrier) CarryLine(path string, line int) (now string, at int, there bool) {
	region := finding.Region{Line: line}
	there = c.place(&path, &region)
	return path, region.Line, there
}

// file is the file that has a path in the report's state, nil where nothing of it differs.
func (c Carrier) file(path string) *File {
	for i := range c.Between.Files {
		file := &c.Between.Files[i]
		if c.Back && file.Path == path || !c.Back && file.Old == path {
			return file
		}
	}
	return nil
}

// differs reports whether a file's text isn't the same in both states.
func (c Carrier) differs(path string) bool {
	file := c.file(path)
	return file != nil && (len(file.Hunks) > 0 || file.Opaque != "")
}

// place brings a place to the judged state.
func (c Carrier) place(path *string, region *finding.Region) bool {
	file := c.file(*path)
	switch {
	case file == nil:
		return true
	case c.Back:
		return move(path, region, file.Old, file.OldLine)
	}
	return move(path, region, file.Path, file.NewLine)
}

func move(path *string, region *finding.Region, now string, to func(int) int) bool {
	if now == "" {
		return false
	}
	*path = now
	if region.Line == 0 {
		return true
	}
	line := to(region.Line)
	if line == 0 {
		return false
	}
	if region.EndLine > 0 {
		region.EndLine += line - region.Line
	}
	region.Line = line
	return true
}

// Conflict is the path of the first file of the change that a report of another state can't speak for, "" where there is none:
// between is what differs from the report's state to the judged one. A file must be the same in both, white space aside; one
// that the change takes away must be gone in both.
func (c *Change) Conflict(between *Change) string {
	names := map[string]bool{} // of all files of the change, on both sides
	for _, f := range c.Files {
		names[f.Path], names[f.Old] = true, true
	}
	delete(names, "")
	for i := range between.Files {
		f := &between.Files[i]
		if own := c.Everything || names[f.Path] || names[f.Old]; own && !f.sameText() {
			return f.Path
		}
	}
	return ""
}

// sameText reports whether a file says the same on both sides, white space and blank lines aside.
func (f *File) sameText() bool {
	if f.Status != Modified || f.Opaque != "" {
		return false
	}
	for _, h := range f.Hunks {
		if !slices.Equal(words(h.Removed), words(h.Added)) {
			return false
		}
	}
	return true
}

// words are the lines that say something, their white space collapsed.
func words(lines []string) (all []string) {
	for _, line := range lines {
		if line = source.Collapse(line); line != "" {
			all = append(all, line)
		}
	}
	return all
}

// HalfStaged is the first file of the change that differs between the index and the work tree too, by its path in the
// index; "" where there is none. between leads from the index to the work tree.
func (c *Change) HalfStaged(between *Change) string {
	for i := range between.Files {
		if old := between.Files[i].Old; c.File(old) != nil {
			return old
		}
	}
	return ""
}
