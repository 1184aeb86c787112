package app

import (
	"context"
	"fmt"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/evidence"
	"zincdoor/internal/target"
)

// Covering is what tests cover of the files that are measured.
type Covering struct {
	*Sizes
	Coverage *measure.Reported
	Notices  []string // what people should know of how the coverage files were read
}

// Cover reads coverage files, as the gate does, and measures what they speak of.
func Cover(ctx context.Context, q MeasureRequest, files []string) (*Covering, error) {
	t, err := q.open(ctx)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	given := evidence.Given{Dir: q.Dir, Alone: true}
	for _, file := range files {
		one := evidence.File{Name: policy.Coverage, Path: file}
		if recipe, path, named := strings.Cut(file, "="); named && t.policy.Recipe(recipe) != nil {
			one = evidence.File{Name: recipe, Path: path}
		}
		given.Files = append(given.Files, one)
	}
	read, err := evidence.Collect(ctx, evidence.Request{Target: t.Target, Policy: t.policy, Given: given})
	if err != nil {
		return nil, err
	}
	for _, e := range read.Evidence {
		switch {
		case e.Sound():
		case e.State == judge.Missing:
			return nil, target.WrongCall("--coverage %s: %s", e.Name, e.Problem)
		default:
			return nil, fmt.Errorf("--coverage %s: %s", e.Name, e.Problem)
		}
	}
	if read.Coverage == nil { // nothing is staged
		read.Coverage = measure.NewReported()
	}
	c := &Covering{Coverage: read.Coverage, Notices: read.Notices}
	c.Sizes, err = t.measure(true, func(path string) bool { return read.Coverage.Coverage[path] != nil || read.Coverage.Expects(path) })
	if err != nil {
		return nil, fmt.Errorf("measuring what tests cover: %w", err)
	}
	return c, nil
}

// Text is the text of a file of a change, nil where it isn't known.
func (c *Covering) Text(path string) *source.Text { return c.texts[path] }

// Rows counts lines by a scope: of a change the lines that it touches alone.
func (c *Covering) Rows(of measure.Scope) []measure.CoveredRow {
	return c.Coverage.CoverRows(c.Files, of, func(path string, line int) bool {
		return c.Change == nil || c.Change.Touches(path, line)
	}, c.Change != nil)
}
