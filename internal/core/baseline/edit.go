package baseline

import (
	"cmp"
	"slices"

	"zincdoor/internal/core/finding"
)

// Minus gives the entries that others lacks, each as often as it does.
func Minus(entries, others []Entry) []Entry {
	left := make(map[Entry]int, len(others))
	for _, e := range others {
		left[e]++
	}
	var more []Entry
	for _, e := range entries {
		if left[e]--; left[e] < 0 {
			more = append(more, e)
		}
	}
	return more
}

// Replace gives the baseline with some entries taken out and others put in. Entries that aren't there aren't missed.
func (b *Baseline) Replace(out, in []Entry) *Baseline {
	return &Baseline{Covers: b.Covers, Entries: slices.Concat(Minus(b.Entries, out), in)}
}

// Cover adds covers that aren't there yet.
func (b *Baseline) Cover(covers []Cover) {
	for _, c := range covers {
		if !slices.ContainsFunc(b.Covers, func(o Cover) bool {
			return o.Tool == c.Tool && slices.Equal(o.Paths, c.Paths) && slices.Equal(o.Except, c.Except)
		}) {
			b.Covers = append(b.Covers, c)
		}
	}
}

// WithoutTool gives the baseline without what it has of one tool.
func (b *Baseline) WithoutTool(tool string) *Baseline {
	return &Baseline{
		Covers:  slices.DeleteFunc(slices.Clone(b.Covers), func(c Cover) bool { return c.Tool == tool }),
		Entries: slices.DeleteFunc(slices.Clone(b.Entries), func(e Entry) bool { return e.Tool == tool }),
	}
}

// RenameTool gives a list in which a tool is called otherwise.
func (b *Baseline) RenameTool(was, now string) *Baseline {
	named := &Baseline{Covers: slices.Clone(b.Covers), Entries: slices.Clone(b.Entries)}
	for i := range named.Covers {
		if named.Covers[i].Tool == was {
			named.Covers[i].Tool = now
		}
	}
	for i := range named.Entries {
		if named.Entries[i].Tool == was {
			named.Entries[i].Tool = now
		}
	}
	return named
}

// Refresh describes an accepted finding as it stands now, for the same reasons as before. What it measured stays as it
// was accepted, unless it has become less bad: less says that less of it is worse. What isn't known of it now, since its file isn't
// there or its report says less, stays too.
func (e Entry) Refresh(f finding.Finding, measure string, less bool) Entry {
	now := EntryFor(f, e.Severity).For(e)
	now.Measure = measure
	if finding.Worsened(e.Measure, measure, less) {
		now.Measure, now.Message = e.Measure, e.Message
	}
	if now.Text == "" && f.Region.Line > 0 {
		now.Text, now.Before, now.After, now.Twins = e.Text, e.Before, e.After, e.Twins
	}
	now.Fingerprints = cmp.Or(now.Fingerprints, e.Fingerprints)
	return now
}

// Merge joins what two sides made of a base: what either side took out is out, what either put in is in, once where both
// put in the same. Of an entry that both altered, the acceptance that ends first stays.
func Merge(base, ours, theirs *Baseline) *Baseline {
	gone := Minus(base.Entries, ours.Entries)
	gone = append(gone, Minus(Minus(base.Entries, theirs.Entries), gone)...) // what both took out was taken out once
	kept := Minus(base.Entries, gone)
	our, their := Minus(ours.Entries, base.Entries), Minus(theirs.Entries, base.Entries)
	merged := &Baseline{Entries: slices.Concat(kept, our)}
	merged.Cover(ours.Covers)
	merged.Cover(theirs.Covers)

	// Of what both sides put in, the same finding is one entry.
	same := map[identity][]int{}
	for i, e := range merged.Entries[len(kept):] {
		same[e.identity()] = append(same[e.identity()], len(kept)+i)
	}
	for _, e := range their {
		id := e.identity()
		if at := same[id]; len(at) > 0 {
			same[id] = at[1:]
			merged.Entries[at[0]] = stricter(merged.Entries[at[0]], e)
			continue
		}
		merged.Entries = append(merged.Entries, e)
	}
	return merged
}

// identity is what an entry says of the finding, without what people say of it.
type identity struct{ path, tool, rule, message, text, before, after string }

func (e Entry) identity() identity {
	return identity{e.Path, e.Tool, e.Rule, e.Message, e.Text, e.Before, e.After}
}

// stricter is the entry whose acceptance ends first; of equal ones the same whichever side is ours.
func stricter(a, b Entry) Entry {
	end := func(e Entry) string { return cmp.Or(e.Until, "9999-12-31") }
	if c := cmp.Or(cmp.Compare(end(a), end(b)), cmp.Compare(b.On, a.On), Order(a, b)); c > 0 {
		return b
	}
	return a
}

// SameFinding reports whether two entries speak of the same finding, whatever people say of it.
func (e Entry) SameFinding(o Entry) bool { return e.identity() == o.identity() }

// IDs gives every entry a short name, in the order of the slice: the one that its finding had when it was accepted, so long as
// the list then had no equal one. The name of a base finding is made the same way.
func IDs(entries []Entry) []string {
	order := Sorted(entries)
	names := finding.Names(len(order), func(i int) finding.Identity {
		e := &entries[order[i]]
		return finding.Identity{Tool: e.Tool, Rule: e.Rule, Path: e.Path, Message: e.Message, Code: e.Text}
	})
	ids := make([]string, len(entries))
	for i, at := range order {
		ids[at] = names[i]
	}
	return ids
}

// Order sorts entries as the file has them: by path, tool, rule and line, then by everything else that tells two apart.
func Order(a, b Entry) int {
	return cmp.Or(
		cmp.Compare(a.Path, b.Path),
		cmp.Compare(a.Tool, b.Tool),
		cmp.Compare(a.Rule, b.Rule),
		cmp.Compare(a.Line, b.Line),
		cmp.Compare(a.Text, b.Text),
		cmp.Compare(a.Message, b.Message),
		cmp.Compare(a.Before, b.Before),
		cmp.Compare(a.After, b.After),
		cmp.Compare(a.On, b.On),
		cmp.Compare(a.Until, b.Until),
		cmp.Compare(a.By, b.By),
		cmp.Compare(a.Reason, b.Reason),
	)
}

// Sorted gives the indices of entries in the order of the file.
func Sorted(entries []Entry) []int {
	at := make([]int, len(entries))
	for i := range at {
		at[i] = i
	}
	order := func(a, b int) int { return Order(entries[a], entries[b]) }
	if !slices.IsSortedFunc(at, order) { // as the file is
		slices.SortStableFunc(at, order)
	}
	return at
}
