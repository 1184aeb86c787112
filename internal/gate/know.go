package gate

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/source"
)

// know finds in the case what the baseline, and what the change itself puts into it, accept. The way is the whole change
// from the side that the baseline was read from.
func (s *scene) know(c *judge.Case, way *change.Change, r *rules) error {
	view, err := s.view(way, r, c.Base)
	if err != nil {
		return err
	}
	c.Recognised = recognise.Recognise(c.Findings, r.baseline.Entries, view.View)
	c.Offers, c.Dropped, c.Whole = recogniseOffers(c, r.offers, r.whole, view.View), r.dropped, r.whole
	c.BaseRecognised = recognise.Recognise(c.Findings, c.Base, view.View)
	return view.unread
}

// recogniseOffers finds the findings that the change accepts for itself. An entry that only notes anew where an accepted
// finding stands is no offer.
func recogniseOffers(c *judge.Case, offers []baseline.Offer, whole bool, view recognise.View) []judge.Offer {
	if len(offers) == 0 {
		return nil
	}
	findingOf := map[baseline.Entry][]int{} // by the entry that recognises them
	for f, e := range c.Recognised.EntryOf {
		if e != recognise.None {
			entry := c.Baseline.Entries[e]
			findingOf[entry] = append(findingOf[entry], f)
		}
	}
	free := make([]bool, len(c.Findings)) // what an offer may be for
	for f, e := range c.Recognised.EntryOf {
		free[f] = e == recognise.None || whole
	}
	var left []judge.Offer
	var entries []baseline.Entry
	for _, o := range offers {
		if whole && o.SameReasons() && o.Entry.Measure == o.Was.Measure {
			continue
		}
		if o.Was != nil {
			at := findingOf[*o.Was]
			if o.SameReasons() && slices.ContainsFunc(at, func(f int) bool { return refreshes(c, o, f) }) {
				continue
			}
			for _, f := range at {
				free[f] = true
			}
		}
		left, entries = append(left, judge.Offer{Offer: o, Finding: recognise.None}), append(entries, o.Entry)
	}
	var findings []finding.Finding
	var index []int
	for f := range c.Findings {
		if free[f] {
			findings, index = append(findings, c.Findings[f]), append(index, f)
		}
	}
	view.Change = nil // the entries are of the judged state
	for f, e := range recognise.Recognise(findings, entries, view).EntryOf {
		if e != recognise.None {
			left[e].Finding = index[f]
		}
	}
	return left
}

// refreshes reports whether an entry says of a finding what can be seen of it, and no worse measure than was accepted.
func refreshes(c *judge.Case, o baseline.Offer, f int) bool {
	_, less := c.Policy.MeasureOf(c.Findings[f])
	return o.Entry.Describes(baseline.EntryFor(c.Findings[f], "")) && !finding.Worsened(o.Was.Measure, o.Entry.Measure, less)
}

// reading is what recognition may ask, and the first error of reading it.
type reading struct {
	recognise.View
	unread error
}

func (s *scene) view(way *change.Change, r *rules, base []baseline.Entry) (*reading, error) {
	view := &reading{View: recognise.View{Change: way, Aliases: r.policy.Aliases}}
	paths := map[string]bool{}
	renames := way.Renames()
	add := func(path string) {
		if path == "" || strings.HasPrefix(path, "/") {
			return
		}
		paths[path] = true
		if now, ok := renames[path]; ok {
			paths[now] = true
		}
	}
	for _, e := range slices.Concat(r.baseline.Entries, base) {
		add(e.Path)
	}
	for _, o := range r.offers {
		add(o.Entry.Path)
	}
	if len(paths) == 0 {
		return view, nil
	}
	lacking, err := s.head.Lacking(slices.Sorted(maps.Keys(paths)))
	if err != nil {
		return nil, err
	}
	text := func(data []byte, found bool, err error) *source.Text {
		if err != nil || !found {
			view.unread = cmp.Or(view.unread, err)
			return nil
		}
		return source.New(data)
	}
	view.Missing = func(path string) bool { return lacking[path] }
	view.NewText = func(path string) *source.Text { return text(s.head.Read(path)) }
	if s.diff != nil {
		view.OldText = func(path string) *source.Text { return text(s.diff.ReadOld(path)) }
	}
	return view, nil
}
