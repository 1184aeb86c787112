package app

import (
	"context"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/measuring"
)

// Duplicated is duplicated code.
type Duplicated struct {
	*Sizes
	Copies []measure.Copied // in the order of paths and lines
}

// Duplicates finds duplicated code: of a change what it touches enough of to be a copy by itself.
func Duplicates(ctx context.Context, q MeasureRequest) (*Duplicated, error) {
	t, err := q.open(ctx)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	d := &Duplicated{}
	if d.Sizes, err = t.measure(false, nil); err != nil {
		return nil, err
	}
	var looked []string
	for _, f := range d.Files {
		looked = append(looked, f.Path)
	}
	found, err := measuring.Duplicates(measuring.DuplicatesRequest{
		Choice: &measuring.Choice{Policy: t.policy}, Repo: t.repo, Side: t.Side, From: measuring.Of(t.Tree),
	}, looked)
	if err != nil {
		return nil, err
	}
	for _, f := range d.Files {
		for _, c := range found[f.Path] {
			if d.Change != nil {
				touched := d.Change.Touched(f.Path, c.Code)
				if touched.Count() < t.policy.Duplication.Lines {
					continue
				}
				c.Code = touched
			}
			d.Copies = append(d.Copies, c)
		}
	}
	return d, nil
}

// Counted is how many lines could be duplicates: those with code, of a change those of them that it touches.
func (d *Duplicated) Counted() (lines int) {
	for _, f := range d.Files {
		code := f.Code
		if d.Change != nil {
			code = d.Change.Touched(f.Path, code)
		}
		lines += code.Count()
	}
	return lines
}
