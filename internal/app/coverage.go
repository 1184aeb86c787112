package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/source"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
)

// Covering is what tests cover of the files that are measured.
type Covering struct {
	*Sizes
	Coverage measure.Coverage // by paths of the repository
	Unknown  []string         // paths of the coverage files that lead nowhere, sorted

	// Unmentioned are files of a kind that the coverage files speak of, though not of these, sorted.
	Unmentioned []string
}

// Cover reads coverage files and measures what they speak of.
func Cover(ctx context.Context, q MeasureRequest, files []string) (*Covering, error) {
	read := measure.Coverage{}
	for _, file := range files {
		one, err := readCoverage(target.InDir(q.Dir, file))
		if errors.Is(err, report.ErrNoCoverage) || errors.Is(err, fs.ErrNotExist) {
			return nil, target.WrongCall("--coverage %s: %v", file, err)
		} else if err != nil {
			return nil, fmt.Errorf("%s can't be read: %w", file, err)
		}
		read.Join(one)
	}
	q.KeepTexts = true
	sizes, err := Measure(ctx, q)
	if err != nil {
		return nil, err
	}
	c := &Covering{Sizes: sizes}
	c.place(read)
	kinds := map[string]bool{}
	for file, lines := range c.Coverage {
		kinds[path.Ext(file)] = true
		f, measured := sizes.file(file)
		if !measured {
			continue
		}
		for n := range lines {
			if n > f.Lines {
				return nil, fmt.Errorf("the coverage files speak of %s:%d, and the file has %d lines: they were made from another text; run the tests again", file, n, f.Lines)
			}
			if !f.Code.Has(n) { // Go's blocks take in comments
				delete(lines, n)
			}
		}
	}
	for _, f := range sizes.Files {
		if c.Coverage[f.Path] == nil && kinds[path.Ext(f.Path)] {
			c.Unmentioned = append(c.Unmentioned, f.Path)
		}
	}
	return c, nil
}

// Text is the text of a file of a change, nil where it isn't known.
func (c *Covering) Text(path string) *source.Text { return c.texts[path] }

// Rows counts lines by a scope: of a change the lines that it touches alone.
func (c *Covering) Rows(of measure.Scope) []measure.CoveredRow {
	unmentioned := c.Unmentioned
	if c.Change == nil { // nothing says that tests should come there
		unmentioned = nil
	}
	return c.Coverage.CoverRows(c.Files, of, func(path string, line int) bool {
		return c.Change == nil || c.Change.Touches(path, line)
	}, unmentioned)
}

func readCoverage(file string) (measure.Coverage, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return report.ReadCoverage(in)
}

// place leads the paths of coverage files to those of the repository: as they stand, below its root, or by what they and the
// repository's files end in.
func (c *Covering) place(read measure.Coverage) {
	c.Coverage = measure.Coverage{}
	known := map[string]bool{}
	for _, p := range c.Sizes.paths {
		known[p] = true
	}
	take := func(from, to string) bool {
		if !known[to] {
			return false
		}
		c.Coverage.Join(measure.Coverage{to: read[from]})
		return true
	}
	var unknown []string
	for _, p := range read.Paths() {
		local := filepath.ToSlash(p)
		if rest, under := strings.CutPrefix(local, filepath.ToSlash(c.Sizes.root)+"/"); under {
			local = rest
		}
		if !take(p, path.Clean(local)) {
			unknown = append(unknown, p)
		}
	}
	mapped, found := report.FindMapping(unknown, c.Sizes.paths, func(string) bool { return false })
	for _, p := range unknown {
		if to, ok := mapped.Apply(p); !found || !ok || !take(p, to) {
			c.Unknown = append(c.Unknown, p)
		}
	}
	slices.Sort(c.Unknown)
}
