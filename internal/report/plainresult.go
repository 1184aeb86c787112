package report

import (
	"bytes"
	"hash/maphash"
	"unicode/utf8"

	"zincdoor/internal/core/finding"
)

// plainResult is what nearly all results hold, read without taking the result apart as a whole. Its texts are parts of the
// window, good until that reads on.
type plainResult struct {
	raw []byte // the whole result

	ruleID, level, kind, state, message text
	uri, base, snippet                  text
	rule, index                         int // -1 for none
	region                              [4]int
	occurrences, rank                   int
	fingerprints, partial               []named

	slow    bool // it holds something else that matters
	details bool // it holds something to show
}

// named is a text with its name.
type named struct{ name, value text }

// clear makes it the result that holds nothing. Its lists keep their room.
func (q *plainResult) clear() {
	*q = plainResult{index: -1, rule: -1, fingerprints: q.fingerprints[:0], partial: q.partial[:0]}
}

// read reads a result. Of several locations the first counts, with last the last.
func (q *plainResult) read(s *scan, last bool) bool {
	if !s.take('{') {
		return false
	}
	from := s.i - 1
	for first := true; ; first = false {
		name, ok := s.member(first)
		if !ok {
			q.raw = s.b[from:s.i]
			return q.end(s)
		}
		q.slow = q.slow || name.escaped // as a member's name hardly ever is
		switch string(name.raw) {
		case "ruleId":
			ok = q.text(s, &q.ruleID)
		case "ruleIndex":
			ok = q.whole(s, &q.rule)
		case "level":
			ok = q.text(s, &q.level)
		case "kind":
			ok = q.text(s, &q.kind)
		case "baselineState":
			ok = q.text(s, &q.state)
		case "occurrenceCount":
			ok = q.whole(s, &q.occurrences)
		case "rank":
			ok = q.whole(s, &q.rank)
		case "message":
			ok = q.object(s, (*plainResult).messageMember)
		case "locations":
			ok = q.locations(s, last)
		case "fingerprints":
			ok = q.object(s, (*plainResult).fingerprint)
		case "partialFingerprints":
			ok = q.object(s, (*plainResult).partialFingerprint)
		case "properties":
			ok = q.object(s, (*plainResult).property)
		case "codeFlows", "relatedLocations", "fixes":
			ok = q.unlessEmpty(s, &q.details)
		case "suppressions", "rule", "provenance", "taxa":
			ok = q.unlessEmpty(s, &q.slow)
		default:
			ok = s.skip()
		}
		if !ok {
			return false
		}
	}
}

// end is whether an object or array has come to its end.
func (q *plainResult) end(s *scan) bool {
	if !s.ended() {
		return false
	}
	s.fault = ""
	return true
}

// text reads a string; another value is left to the slow way, which tells what is wrong with it.
func (q *plainResult) text(s *scan, into *text) (ok bool) {
	c, ok := s.next()
	if !ok {
		return false
	}
	if c != '"' {
		q.slow = true
		return s.skip()
	}
	*into, ok = s.string()
	return ok
}

func (q *plainResult) whole(s *scan, into *int) bool {
	n, plain, ok := s.whole()
	*into, q.slow = n, q.slow || !plain
	return ok
}

// object reads an object by its members.
func (q *plainResult) object(s *scan, member func(q *plainResult, s *scan, name []byte) bool) bool {
	c, ok := s.next()
	if !ok {
		return false
	}
	if c != '{' {
		q.slow = true
		return s.skip()
	}
	s.i++
	for first := true; ; first = false {
		name, ok := s.member(first)
		if !ok {
			return q.end(s)
		}
		q.slow = q.slow || name.escaped
		if !member(q, s, name.raw) {
			return false
		}
	}
}

func (q *plainResult) messageMember(s *scan, name []byte) bool {
	switch string(name) {
	case "text":
		return q.text(s, &q.message)
	case "id", "arguments":
		q.slow = true
	}
	return s.skip()
}

func (q *plainResult) locations(s *scan, last bool) bool {
	c, ok := s.next()
	if !ok {
		return false
	}
	if c != '[' {
		q.slow = true
		return s.skip()
	}
	s.i++
	for n := 0; ; n++ {
		if !s.element(']', n == 0) {
			return q.end(s)
		}
		if n > 0 && !last {
			if !s.skip() {
				return false
			}
			continue
		}
		q.uri, q.base, q.snippet, q.index, q.region = text{}, text{}, text{}, -1, [4]int{}
		if !q.object(s, (*plainResult).locationMember) {
			return false
		}
	}
}

func (q *plainResult) locationMember(s *scan, name []byte) bool {
	switch string(name) {
	case "physicalLocation":
		return q.object(s, (*plainResult).physicalMember)
	case "logicalLocations":
		return q.unlessEmpty(s, &q.details)
	}
	return s.skip()
}

func (q *plainResult) physicalMember(s *scan, name []byte) bool {
	switch string(name) {
	case "artifactLocation":
		return q.object(s, (*plainResult).artifactMember)
	case "region":
		return q.object(s, (*plainResult).regionMember)
	}
	return s.skip()
}

func (q *plainResult) artifactMember(s *scan, name []byte) bool {
	switch string(name) {
	case "uri":
		return q.text(s, &q.uri)
	case "uriBaseId":
		return q.text(s, &q.base)
	case "index":
		return q.whole(s, &q.index)
	}
	return s.skip()
}

func (q *plainResult) regionMember(s *scan, name []byte) bool {
	switch string(name) {
	case "startLine":
		return q.whole(s, &q.region[0])
	case "startColumn":
		return q.whole(s, &q.region[1])
	case "endLine":
		return q.whole(s, &q.region[2])
	case "endColumn":
		return q.whole(s, &q.region[3])
	case "snippet":
		return q.object(s, (*plainResult).snippetMember)
	}
	return s.skip()
}

func (q *plainResult) snippetMember(s *scan, name []byte) bool {
	if string(name) == "text" {
		return q.text(s, &q.snippet)
	}
	return s.skip()
}

func (q *plainResult) property(s *scan, name []byte) bool {
	q.slow = q.slow || string(name) == "tags" || string(name) == "zincdoor"
	return s.skip()
}

func (q *plainResult) fingerprint(s *scan, name []byte) bool {
	return q.named(s, name, &q.fingerprints)
}

func (q *plainResult) partialFingerprint(s *scan, name []byte) bool {
	return q.named(s, name, &q.partial)
}

func (q *plainResult) named(s *scan, name []byte, into *[]named) bool {
	one := named{name: text{raw: name}}
	if !q.text(s, &one.value) {
		return false
	}
	if string(one.name.raw) != finding.OwnFingerprint {
		*into = append(*into, one)
	}
	return true
}

// unlessEmpty passes a value by, and notes that it is there unless it is an empty array or null.
func (q *plainResult) unlessEmpty(s *scan, there *bool) bool {
	c, ok := s.next()
	if !ok {
		return false
	}
	from := s.i
	if !s.skip() {
		return false
	}
	*there = *there || c != 'n' && !(c == '[' && len(bytes.TrimSpace(s.b[from+1:s.i-1])) == 0)
	return true
}

// seen keeps strings that were read lately, so that the same bytes give the same string.
type seen struct {
	seed  maphash.Seed
	slots [4096]struct{ raw, plain string }
}

func (k *seen) string(t text) string {
	if len(t.raw) == 0 {
		return ""
	}
	slot := &k.slots[maphash.Bytes(k.seed, t.raw)%uint64(len(k.slots))]
	if slot.raw != string(t.raw) {
		slot.raw = string(t.raw)
		if slot.plain = slot.raw; t.escaped || !utf8.ValidString(slot.raw) {
			slot.plain = t.string()
		}
	}
	return slot.plain
}

// fill makes a result of what was read quickly. What it doesn't hold is left empty from result to result, since emptying all of one
// takes longer than filling it.
func (r *run) fill(q *plainResult) {
	seen := &r.sarif.seen
	if !r.filled {
		r.one, r.place, r.filled = result{}, [1]location{}, true
	}
	one := &r.one
	one.RuleID, one.Level, one.Kind, one.BaselineState = seen.string(q.ruleID), seen.string(q.level), seen.string(q.kind), seen.string(q.state)
	one.Occurrences, one.Rank, one.plain, one.fingerprints = q.occurrences, float64(q.rank), true, seen.fingerprints(q)
	one.Message.Text = q.message.string() // which is another one nearly always
	one.RuleIndex, one.Locations = nil, nil
	if q.rule >= 0 {
		r.ruleIndex = q.rule
		one.RuleIndex = &r.ruleIndex
	}
	snippet := seen.string(q.snippet)
	if len(q.uri.raw) > 0 || q.index >= 0 || q.region[0] > 0 || snippet != "" {
		region := &r.place[0].Physical.Region
		region.StartLine, region.StartColumn, region.EndLine, region.EndColumn = q.region[0], q.region[1], q.region[2], q.region[3]
		region.Snippet.Text = snippet
		artifact := &r.place[0].Physical.Artifact
		artifact.URI, artifact.BaseID, artifact.Index = seen.string(q.uri), seen.string(q.base), nil
		if q.index >= 0 {
			r.artifactIndex = q.index
			artifact.Index = &r.artifactIndex
		}
		one.Locations = r.place[:]
	}
}

// fingerprints are the fingerprints of a result, or, where it has none, those that are a part of one.
func (k *seen) fingerprints(q *plainResult) finding.Fingerprints {
	list := q.fingerprints
	if len(list) == 0 {
		list = q.partial
	}
	if len(list) == 1 {
		return finding.OneFingerprint(k.string(list[0].name), list[0].value.string())
	}
	all := make(map[string]string, len(list))
	for _, p := range list {
		all[p.name.string()] = p.value.string()
	}
	return finding.PackFingerprints(all)
}
