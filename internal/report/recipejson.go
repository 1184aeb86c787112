package report

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"
)

// json reads one JSON value, or several one after another, and finds the findings in each by JSONPath (RFC 9535). A value has at most
// longestDocument bytes, and 10,000 others one in the other.
func (c *recipeReader) json(in *bufio.Reader) error {
	levels := make([]*jsonpath.Path, len(c.Each))
	for i, each := range c.Each {
		levels[i] = jsonpath.MustParse(each) // which the policy has checked
	}
	paths := map[string]*jsonpath.Path{}
	for name, f := range c.Fields {
		if f.At != "" {
			paths[name] = jsonpath.MustParse(f.At)
		}
	}
	bounded := &bounded{in: in, left: longestDocument()}
	d := json.NewDecoder(bounded)
	d.UseNumber()
	for number := 1; ; number++ {
		var value any
		bounded.left = longestDocument()
		err := d.Decode(&value)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return jsonError(err, bounded.read, number)
		}
		at := ""
		if number > 1 || d.More() {
			at = fmt.Sprintf("value %d, ", number)
		}
		if err := c.nodes(levels, paths, []node{{value: value}}, at); err != nil {
			return err
		}
	}
}

func jsonError(err error, offset int64, number int) error {
	var syntax *json.SyntaxError
	switch {
	case errors.Is(err, errTooLong):
		return fmt.Errorf("byte %d: value %d is over %d MiB long: %w", offset, number, longestDocument()>>20, ErrMalformed)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("byte %d: value %d is cut off: %w", offset, number, ErrMalformed)
	case errors.As(err, &syntax):
		return fmt.Errorf("byte %d: no JSON: %v: %w", max(syntax.Offset-1, 0), err, ErrMalformed)
	}
	return err
}

// node is a value on the way to a finding, with the members that enclose it, outermost first.
type node struct {
	value   any
	members []string
	where   string
}

// nodes goes on from the last of the nodes that lead to it, one of each level so far.
func (c *recipeReader) nodes(levels []*jsonpath.Path, paths map[string]*jsonpath.Path, way []node, at string) error {
	last := way[len(way)-1]
	depth := len(way) - 1
	if depth == len(levels) {
		return c.node(paths, way, at)
	}
	all := levels[depth].SelectLocated(last.value)
	if depth+1 == len(levels) && !c.covers {
		if err := c.report.roomFor(len(all)); err != nil { // before each takes more
			return err
		}
	}
	for _, found := range all {
		next := node{value: found.Node, members: last.members[:len(last.members):len(last.members)], where: last.where + strings.TrimPrefix(found.Path.String(), "$")}
		for _, step := range found.Path {
			if name, ok := step.(spec.Name); ok {
				next.members = append(next.members, string(name))
			}
		}
		if err := c.nodes(levels, paths, append(way[:len(way):len(way)], next), at); err != nil {
			return err
		}
	}
	return nil
}

// node makes the last of the nodes a finding.
func (c *recipeReader) node(paths map[string]*jsonpath.Path, way []node, at string) error {
	v := c.constants()
	self := way[len(way)-1]
	for name, f := range c.Fields {
		value := ""
		switch {
		case f.Member > 0:
			if n := len(self.members) - f.Member; n >= 0 {
				value = self.members[n]
			}
		case f.At != "":
			for _, found := range paths[name].Select(way[len(way)-1-f.Up].value) {
				value = jsonText(found)
				break
			}
		default:
			continue
		}
		if value = cut(f, value); value != "" {
			v[name] = value
		}
	}
	return c.add(v, at+"$"+self.where)
}

// jsonText is a value as text: strings and numbers as they are, nothing for null.
func jsonText(value any) string {
	switch typed := value.(type) {
	case nil:
		return ""
	case string:
		return typed
	case json.Number:
		return typed.String()
	case bool:
		return fmt.Sprint(typed)
	}
	data, err := json.Marshal(value)
	if err != nil {
		return ""
	}
	return string(data)
}

var errTooLong = errors.New("too long")

// bounded is a reader that fails when more is read than it has left.
type bounded struct {
	in   io.Reader
	left int64
	read int64 // in all
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errTooLong
	}
	n, err := b.in.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	b.read += int64(n)
	return n, err
}
