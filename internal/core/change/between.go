package change

import "zincdoor/internal/core/source"

// Between is what differs between two texts of one file, both whole. How their lines end makes no difference.
func Between(path string, old, new *source.Text) File {
	f := File{Path: path, Old: path, Status: Modified}
	olds, news := old.Span(1, old.Len()), new.Span(1, new.Len())
	at := pair{}
	hunk := func(to pair) {
		h := Hunk{OldStart: at.old + 1, OldCount: to.old - at.old, NewStart: at.new + 1, NewCount: to.new - at.new}
		if h.OldCount == 0 && h.NewCount == 0 {
			return
		}
		h.Removed, h.Added = olds[at.old:to.old], news[at.new:to.new]
		if h.OldCount == 0 {
			h.OldStart--
		}
		if h.NewCount == 0 {
			h.NewStart--
		}
		f.Hunks = append(f.Hunks, h)
	}
	for _, p := range align(olds, news) {
		hunk(p)
		at = pair{p.old + 1, p.new + 1}
	}
	hunk(pair{len(olds), len(news)})
	return f
}
