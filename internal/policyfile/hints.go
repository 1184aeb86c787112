package policyfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/house"
)

// Spot is a place in a policy file that somebody is typing: the text may be broken.
type Spot struct {
	Keys     []string // that lead there: of mappings, and Item for one of a list
	Value    bool     // a value is typed there, of the last key; else a key of what Keys lead to
	From, To int      // the bytes of the word that is typed there
}

// Item is an item of a list among the keys of a spot.
const Item = "[]"

// SpotAt finds what is typed at a byte of a policy file.
func SpotAt(text []byte, at int) Spot {
	s := &spotter{text: text, at: min(max(at, 0), len(text))}
	for s.next < len(s.text) || s.next == 0 {
		if spot, found := s.line(); found {
			return spot
		}
	}
	return s.spot(false, s.at)
}

// spotter goes through a text line by line, up to a byte.
type spotter struct {
	text   []byte
	at     int
	next   int // where the next line begins
	frames []frame
	words  int // how deep the key stands whose text of several lines is passed by; -1 for none
}

// frame is a key, or an item of a list, with how deep it stands.
type frame struct {
	indent int
	key    string
}

// spot is the spot at the byte, in a word that begins at from.
func (s *spotter) spot(value bool, from int) Spot {
	spot := Spot{Value: value, From: from, To: s.at}
	for _, f := range s.frames {
		spot.Keys = append(spot.Keys, f.key)
	}
	for spot.To < len(s.text) && !strings.ContainsRune(" \t\r\n,:{}[]#\"'", rune(s.text[spot.To])) {
		spot.To++
	}
	return spot
}

// line goes through a line. Found says that the byte is on it.
func (s *spotter) line() (spot Spot, found bool) {
	from := s.next
	end := len(s.text)
	if n := bytes.IndexByte(s.text[from:], '\n'); n >= 0 {
		end = from + n
	}
	s.next = min(end+1, len(s.text))
	if end == len(s.text) {
		s.next = len(s.text) + 1
	}
	here := s.at <= end
	line := string(s.text[from:end])
	indent := len(line) - len(strings.TrimLeft(line, " "))
	content := strings.TrimSpace(line)
	if s.words >= 0 && len(s.frames) > 0 && (content == "" || indent > s.words) && !here {
		return spot, false
	}
	if s.words >= 0 && indent > s.words && content != "" {
		return s.spot(true, s.at), here
	}
	s.words = -1
	if !here && (content == "" || content[0] == '#') {
		return spot, false
	}
	if here && s.at < from+indent || content == "" {
		indent = s.at - from
	}
	at := from + indent
	for at < end && s.text[at] == '-' && (at+1 == end || s.text[at+1] == ' ') {
		s.leave(at-from, true)
		s.frames = append(s.frames, frame{at - from, Item})
		for at++; at < end && s.text[at] == ' '; at++ {
		}
		if here && s.at <= at {
			return s.spot(false, s.at), true
		}
	}
	if len(s.frames) == 0 || s.frames[len(s.frames)-1].key != Item || s.frames[len(s.frames)-1].indent >= at-from {
		s.leave(at-from, false)
	}
	if at < end && (s.text[at] == '{' || s.text[at] == '[') {
		return s.flow(at)
	}
	key, value, has := cutKey(string(s.text[at:end]))
	if !has {
		if here {
			return s.spot(false, at), true
		}
		return spot, false
	}
	if here && s.at <= at+len(key) {
		return s.spot(false, at), true
	}
	s.frames = append(s.frames, frame{at - from, unquoted(key)})
	at += value
	for at < end && s.text[at] == ' ' {
		at++
	}
	switch {
	case at < end && (s.text[at] == '{' || s.text[at] == '['):
		return s.flow(at)
	case at < end && (s.text[at] == '|' || s.text[at] == '>'):
		s.words = s.frames[len(s.frames)-1].indent
	}
	if here {
		return s.spot(true, min(at, s.at)), true
	}
	return spot, false
}

// leave leaves the frames as deep as a line that begins there, or deeper; the item of a list may stand as deep as its key.
func (s *spotter) leave(indent int, item bool) {
	for n := len(s.frames); n > 0; n = len(s.frames) {
		f := s.frames[n-1]
		if f.indent < indent || item && f.indent == indent && f.key != Item {
			return
		}
		s.frames = s.frames[:n-1]
	}
}

// cutKey cuts a line in its key and where its value begins.
func cutKey(line string) (key string, value int, has bool) {
	if line != "" && (line[0] == '"' || line[0] == '\'') {
		end := strings.IndexByte(line[1:], line[0])
		if end < 0 || !strings.HasPrefix(line[end+2:], ":") {
			return "", 0, false
		}
		return line[:end+2], end + 3, true
	}
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '#' && i > 0 && line[i-1] == ' ':
			return "", 0, false
		case line[i] == ':' && (i+1 == len(line) || line[i+1] == ' '):
			return line[:i], i + 1, true
		}
	}
	return "", 0, false
}

func unquoted(key string) string { return strings.Trim(strings.TrimSpace(key), `"'`) }

// bracket is one that is open, with how many keys lead to it.
type bracket struct {
	sign  byte
	depth int
}

// flow goes through a text in brackets, on however many lines.
func (s *spotter) flow(at int) (spot Spot, found bool) {
	var opened []bracket
	word := -1     // where the present word begins
	after := false // a colon came, so that it is a value
	here := func() Spot {
		from := s.at
		if word >= 0 {
			from = word
		}
		return s.spot(after || opened[len(opened)-1].sign == '[', from)
	}
	for ; at <= len(s.text); at++ {
		if at == s.at && len(opened) > 0 {
			return here(), true
		}
		if at == len(s.text) {
			break
		}
		c := s.text[at]
		switch {
		case c == '"' || c == '\'':
			if word < 0 {
				word = at
			}
			for at++; at < len(s.text) && s.text[at] != c && s.text[at] != '\n' && at != s.at; at++ {
			}
			if at == s.at {
				return here(), true
			}
		case c == '#' && at > 0 && (s.text[at-1] == ' ' || s.text[at-1] == '\n'):
			for at+1 < len(s.text) && s.text[at+1] != '\n' && at+1 != s.at {
				at++
			}
		case c == '{' || c == '[':
			opened = append(opened, bracket{c, len(s.frames)})
			if c == '[' {
				s.frames = append(s.frames, frame{-1, Item})
			}
			word, after = -1, false
		case c == '}' || c == ']':
			s.frames = s.frames[:opened[len(opened)-1].depth]
			if opened = opened[:len(opened)-1]; len(opened) == 0 {
				return s.rest(at + 1)
			}
			word, after = -1, opened[len(opened)-1].sign == '{'
		case c == ',':
			if last := opened[len(opened)-1]; last.sign == '{' {
				s.frames = s.frames[:last.depth]
			}
			word, after = -1, false
		case c == ':' && word >= 0 && !after && opened[len(opened)-1].sign == '{' && (at+1 == len(s.text) || strings.IndexByte(" \n\t{[", s.text[at+1]) >= 0):
			s.frames = append(s.frames, frame{-1, unquoted(string(s.text[word:at]))})
			word, after = -1, true
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		case word < 0:
			word = at
		}
	}
	s.next = len(s.text) + 1
	return spot, false
}

// rest goes on behind brackets, with the next line.
func (s *spotter) rest(at int) (spot Spot, found bool) {
	end := len(s.text)
	if n := bytes.IndexByte(s.text[at:], '\n'); n >= 0 {
		end = at + n
	}
	if s.next = end + 1; s.at <= end {
		return s.spot(true, s.at), true
	}
	return spot, false
}

// Hint is something that may be written in a policy.
type Hint struct {
	Name   string
	About  string   // what it is, in a sentence or a few words; "" where there is no more to say
	Values []string // that a key takes, where they are few
	Keys   []string // that may stand under a key
}

// Hints are what may be written at a spot: keys, or values of its last key. They are sorted.
func Hints(spot Spot) (all []Hint) {
	seen := map[string]bool{}
	for _, node := range walk(spot.Keys) {
		if spot.Value {
			for _, value := range node.values() {
				if !seen[value] {
					seen[value] = true
					all = append(all, Hint{Name: value})
				}
			}
			continue
		}
		for _, key := range slices.Sorted(maps.Keys(node.Properties)) {
			if !seen[key] {
				seen[key] = true
				all = append(all, hintOf(key, []*schemaNode{node.Properties[key]}))
			}
		}
	}
	slices.SortFunc(all, func(a, b Hint) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// HintOn is what there is to say of a key, by the keys that lead to it, itself the last; false where there is no such key.
func HintOn(keys []string) (h Hint, ok bool) {
	if len(keys) == 0 {
		return h, false
	}
	var nodes []*schemaNode
	last := keys[len(keys)-1]
	for _, node := range walk(keys[:len(keys)-1]) {
		if next := node.Properties[last]; next != nil {
			nodes = append(nodes, next)
		} else if node.Others != nil && !node.Others.nothing && last != Item {
			nodes = append(nodes, node.Others)
		}
	}
	if len(nodes) == 0 {
		return h, false
	}
	return hintOf(last, nodes), true
}

func hintOf(key string, nodes []*schemaNode) Hint {
	h := Hint{Name: key}
	for _, node := range nodes {
		if h.About == "" {
			h.About = node.Description
		}
		for _, one := range forms(node, nil) {
			for _, value := range one.values() {
				if !slices.Contains(h.Values, value) {
					h.Values = append(h.Values, value)
				}
			}
			for _, under := range slices.Sorted(maps.Keys(one.Properties)) {
				if !slices.Contains(h.Keys, under) {
					h.Keys = append(h.Keys, under)
				}
			}
			if h.About == "" {
				h.About = one.Description
			}
		}
	}
	if ours := house.RuleOf(key); ours != nil && h.About == "" {
		h.About = ours.Text().Short
	}
	return h
}

// schemaNode is a part of the schema, as far as it tells what may be written.
type schemaNode struct {
	Ref         string                 `json:"$ref"`
	Description string                 `json:"description"`
	Properties  map[string]*schemaNode `json:"properties"`
	Others      *schemaNode            `json:"additionalProperties"`
	Items       *schemaNode            `json:"items"`
	AnyOf       []*schemaNode          `json:"anyOf"`
	OneOf       []*schemaNode          `json:"oneOf"`
	Then        *schemaNode            `json:"then"`
	Else        *schemaNode            `json:"else"`
	Enum        []any                  `json:"enum"`
	Const       any                    `json:"const"`
	Defs        map[string]*schemaNode `json:"$defs"`

	nothing bool // it allows nothing
}

// UnmarshalJSON reads a part, of which true and false are some too.
func (n *schemaNode) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] != '{' {
		n.nothing = string(data) == "false"
		return nil
	}
	type plain schemaNode // without this method
	return json.Unmarshal(data, (*plain)(n))
}

// values are those that are named one by one. Those that YAML writes in several ways are named once.
func (n *schemaNode) values() (all []string) {
	for _, value := range append(n.Enum, n.Const) {
		switch value := value.(type) {
		case string:
			all = append(all, value)
		case bool, float64:
			all = append(all, fmt.Sprint(value))
		}
	}
	if slices.Contains(all, "on") {
		return []string{"on", "off"}
	}
	return slices.Compact(all)
}

// schemaRoot is the schema, read once.
var schemaRoot = sync.OnceValue(func() *schemaNode {
	root := &schemaNode{}
	if err := json.Unmarshal(schema, root); err != nil {
		panic(err) // it is part of the program and tested
	}
	return root
})

// forms are all forms that a part of the schema allows.
func forms(n *schemaNode, seen []string) (all []*schemaNode) {
	if n == nil || n.nothing {
		return nil
	}
	all = append(all, n)
	if name, ok := strings.CutPrefix(n.Ref, "#/$defs/"); ok && !slices.Contains(seen, name) {
		all = append(all, forms(schemaRoot().Defs[name], append(seen, name))...)
	}
	for _, next := range slices.Concat(n.AnyOf, n.OneOf, []*schemaNode{n.Then, n.Else}) {
		all = append(all, forms(next, seen)...)
	}
	return all
}

// walk follows keys through the schema.
func walk(keys []string) []*schemaNode {
	nodes := forms(schemaRoot(), nil)
	for _, key := range keys {
		var next []*schemaNode
		for _, n := range nodes {
			switch {
			case key == Item:
				next = append(next, forms(n.Items, nil)...)
			case n.Properties[key] != nil:
				next = append(next, forms(n.Properties[key], nil)...)
			case n.Others != nil:
				next = append(next, forms(n.Others, nil)...)
			}
		}
		nodes = next
	}
	return nodes
}
