package baseline

import "zincdoor/internal/core/finding"

// Addition is an entry that a change puts into the list.
type Addition struct {
	Entry Entry
	Was   *Entry // the entry that it takes the place of, nil for a new one
}

// Additions tells what a change makes of the list: what it puts in, each with what that takes the place of, and what it
// takes out for good. An entry takes the place of another one of the same finding, else of one that has the same tool
// and the same reasons (its finding was noted anew).
func Additions(before, after []Entry) (offers []Addition, dropped []Entry) {
	out := Minus(before, after)
	taken := make([]bool, len(out))
	for _, e := range Minus(after, before) {
		offers = append(offers, Addition{Entry: e})
	}
	pair := func(key func(e Entry) Entry) {
		at := map[Entry][]int{}
		for i, e := range out {
			if !taken[i] {
				at[key(e)] = append(at[key(e)], i)
			}
		}
		for i := range offers {
			o := &offers[i]
			if key := key(o.Entry); o.Was == nil && len(at[key]) > 0 {
				o.Was = &out[at[key][0]]
				taken[at[key][0]] = true
				at[key] = at[key][1:]
			}
		}
	}
	pair(func(e Entry) Entry {
		return Entry{Path: e.Path, Tool: e.Tool, Rule: e.Rule, Message: e.Message, Text: e.Text, Before: e.Before, After: e.After}
	})
	for _, rule := range []bool{true, false} { // the tool may have renamed the rule
		pair(func(e Entry) Entry {
			key := Entry{Tool: e.Tool, Message: finding.Skeleton(e.Message)}.For(e)
			if rule {
				key.Rule = e.Rule
			}
			return key
		})
	}
	for i, e := range out {
		if !taken[i] {
			dropped = append(dropped, e)
		}
	}
	return offers, dropped
}

// SameReasons reports whether an offer leaves the reasons of what it takes the place of as they are.
func (o Addition) SameReasons() bool {
	return o.Was != nil && o.Was.For(o.Entry) == *o.Was
}

// Describes reports whether an entry says of a finding what a fresh one would.
func (e Entry) Describes(fresh Entry) bool {
	return e.Tool == fresh.Tool && e.Rule == fresh.Rule && e.Path == fresh.Path && e.Text == fresh.Text && e.Before == fresh.Before && e.After == fresh.After
}
