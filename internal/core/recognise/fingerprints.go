package recognise

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// fingerprint is one fingerprint: what a tool calls it, and its value.
type fingerprint struct {
	mark
	value string
}

func fingerprintsOf(s *side) []fingerprint {
	var all []fingerprint
	for one := range strings.FieldsSeq(s.prints) {
		if at := strings.LastIndexByte(one, ':'); at > 0 {
			all = append(all, fingerprint{mark{s.tool, one[:at]}, one[at+1:]})
		}
	}
	return all
}

// mark is a kind of fingerprint: what a tool calls it.
type mark struct {
	tool name
	name string
}

// matchFingerprints pairs what has the same fingerprint, once among the findings and once among the entries. It says which
// fingerprints it doesn't believe, and why.
func (m *matcher) matchFingerprints() (distrusted []string) {
	findings, entries := bearers(m.findings), bearers(m.entries)
	if len(findings) == 0 || len(entries) == 0 {
		return nil
	}
	doubts := map[mark]string{}
	m.doubtUnsteady(doubts)
	doubtShared(doubts, m.findings, findings)
	doubtShared(doubts, m.entries, entries)
	for i := range m.findings {
		f := &m.findings[i]
		for _, p := range fingerprintsOf(f) {
			if at := entries[p]; len(at) == 1 && len(findings[p]) == 1 && doubts[p.mark] == "" && m.entries[at[0]].mayBe(f) {
				m.pair(at[0], i, stage{})
			}
		}
	}
	for _, of := range slices.SortedFunc(maps.Keys(doubts), func(a, b mark) int {
		return cmp.Or(cmp.Compare(m.names.text(a.tool), m.names.text(b.tool)), cmp.Compare(a.name, b.name))
	}) {
		distrusted = append(distrusted, fmt.Sprintf("the fingerprints %q of %s aren't used: %s", of.name, m.names.text(of.tool), doubts[of]))
	}
	return distrusted
}

// mayBe reports whether nothing else speaks against what a fingerprint says: the rule is the same, and so is the code or
// the message. A line that the change brought isn't one that it kept, whatever a tool says of a copy.
func (s *side) mayBe(f *side) bool {
	brought := f.state == altered && (s.state == kept || s.state == resting)
	return s.rule == f.rule && (s.coded && s.text == f.text || s.skeleton == f.skeleton) && !brought
}

// holders lists who has each fingerprint.
func bearers(sides []side) map[fingerprint][]int {
	all := map[fingerprint][]int{}
	for i := range sides {
		for _, p := range fingerprintsOf(&sides[i]) {
			all[p] = append(all[p], i)
		}
	}
	return all
}

// doubtShared doubts fingerprints that are the same for findings of different rules or of different code.
func doubtShared(doubts map[mark]string, sides []side, bearers map[fingerprint][]int) {
	for p, at := range bearers {
		first := &sides[at[0]]
		for _, i := range at[1:] {
			if s := &sides[i]; s.rule != first.rule || s.text != first.text {
				doubts[p.mark] = "they are the same for different findings"
			}
		}
	}
}

// unsteadyPart is which part of the findings that surely are the same may have other fingerprints than before: one in
// so many.
const unsteadyPart = 10

// doubtUnsteady doubts fingerprints that differ where everything else is the same, once on each side.
func (m *matcher) doubtUnsteady(doubts map[mark]string) {
	then, now := bySelf(m.entries), bySelf(m.findings)
	same, other := map[mark]int{}, map[mark]int{}
	for t, at := range now {
		if len(at) != 1 || len(then[t]) != 1 {
			continue
		}
		before := map[mark]string{}
		for _, p := range fingerprintsOf(&m.entries[then[t][0]]) {
			before[p.mark] = p.value
		}
		for _, p := range fingerprintsOf(&m.findings[at[0]]) {
			switch before[p.mark] {
			case "":
			case p.value:
				same[p.mark]++
			default:
				other[p.mark]++
			}
		}
	}
	for name, n := range other {
		if n*unsteadyPart > same[name]+n {
			doubts[name] = "they differ from run to run for the same finding"
		}
	}
}

// bySelf lists sides by all that is known of them.
func bySelf(sides []side) map[trait][]int {
	all := map[trait][]int{}
	for i := range sides {
		if sides[i].prints != "" {
			t := sides[i].full(sides[i].message)
			all[t] = append(all[t], i)
		}
	}
	return all
}
