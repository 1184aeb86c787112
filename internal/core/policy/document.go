package policy

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// document is a parsed YAML file, from which values are taken with their places. Scalars are read as written (no
// guessing of types), and every complaint is kept, so that one run tells all of them.
type document struct {
	file     string
	root     ast.Node
	anchors  map[string]ast.Node
	problems Problems
}

func newDocument(file string, data []byte) (*document, error) {
	d := &document{file: file, anchors: map[string]ast.Node{}}
	parsed, err := parser.ParseBytes(data, 0)
	if err != nil {
		d.syntax(err)
		return nil, d.problems
	}
	var bodies []ast.Node
	for _, doc := range parsed.Docs {
		if doc.Body != nil && doc.Body.Type() != ast.DirectiveType {
			bodies = append(bodies, doc.Body)
		}
	}
	switch len(bodies) {
	case 0:
		d.problems = append(d.problems, Problem{File: file, Text: `the policy is empty; it begins with "zincdoor: 1"`})
		return nil, d.problems
	case 1:
	default:
		d.complain(bodies[1], "a policy is one YAML document, a second one begins here")
		return nil, d.problems
	}
	d.root = bodies[0]
	ast.Walk(anchorsOf(d.anchors), d.root)
	return d, nil
}

func (d *document) syntax(err error) {
	var broken *yaml.SyntaxError
	if errors.As(err, &broken) && broken.Token != nil {
		d.at(broken.Token, "%s", broken.Message)
		return
	}
	d.problems = append(d.problems, Problem{File: d.file, Text: err.Error()})
}

// anchorsOf collects the nodes that anchors name.
type anchorsOf map[string]ast.Node

func (a anchorsOf) Visit(n ast.Node) ast.Visitor {
	if anchor, ok := n.(*ast.AnchorNode); ok {
		a[anchor.Name.GetToken().Value] = anchor.Value
	}
	return a
}

func (d *document) at(t *token.Token, format string, args ...any) {
	d.problems = append(d.problems, Problem{d.file, t.Position.Line, t.Position.Column, fmt.Sprintf(format, args...)})
}

func (d *document) complain(n ast.Node, format string, args ...any) {
	d.at(startOf(n), format, args...)
}

// startOf is the token that a node begins with.
func startOf(n ast.Node) *token.Token {
	if m, ok := n.(*ast.MappingNode); ok && !m.IsFlowStyle && len(m.Values) > 0 {
		return m.Values[0].Key.GetToken() // a block mapping's own token is its first colon
	}
	return n.GetToken()
}

// result gives the problems in order of lines, nil where there are none.
func (d *document) result() error {
	if len(d.problems) == 0 {
		return nil
	}
	return d.problems.sorted()
}

// resolve follows anchors and aliases.
func (d *document) resolve(n ast.Node) ast.Node {
	for range 10 {
		switch typed := n.(type) {
		case *ast.AnchorNode:
			n = typed.Value
		case *ast.AliasNode:
			target := d.anchors[typed.Value.GetToken().Value]
			if target == nil {
				d.complain(n, "no anchor &%s", typed.Value.GetToken().Value)
				return &ast.NullNode{BaseNode: &ast.BaseNode{}, Token: typed.GetToken()}
			}
			n = target
		default:
			return n
		}
	}
	return n
}

// field is a key of a mapping with its value.
type field struct {
	name  string
	key   ast.Node
	value ast.Node
}

// fields lists a mapping's keys in the order of the file. It complains where n isn't a mapping.
func (d *document) fields(n ast.Node, what string) []field {
	var values []*ast.MappingValueNode
	switch typed := d.resolve(n).(type) {
	case *ast.MappingNode:
		values = typed.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{typed}
	default:
		d.complain(n, "%s must be a mapping of keys to values, not %s", what, kindOf(typed))
		return nil
	}
	var fields []field
	for _, v := range values {
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			d.complain(v.Key, "merge keys (<<) are not part of YAML 1.2; write the keys out")
			continue
		}
		name, ok := scalar(v.Key)
		if !ok {
			d.complain(v.Key, "a key must be plain text")
			continue
		}
		fields = append(fields, field{name, v.Key, v.Value})
	}
	return fields
}

// keys says what a mapping may hold: and how each key is read.
type keys struct {
	what string
	read map[string]func(ast.Node)
	need []string
	seen func(field) // is told of each key before it is read; may be nil
}

// mapping reads a mapping by its keys, complaining of every key that doesn't belong and every needed one that lacks.
func (d *document) mapping(n ast.Node, k keys) {
	present := map[string]bool{}
	complaints := len(d.problems)
	for _, f := range d.fields(n, k.what) {
		present[f.name] = true
		switch read := k.read[f.name]; {
		case read != nil:
			if k.seen != nil {
				k.seen(f)
			}
			read(f.value)
		default:
			d.complain(f.key, "unknown key %q in %s%s", f.name, k.what, k.suggest(f.name))
		}
	}
	for _, name := range k.need {
		if !present[name] && len(d.problems) == complaints {
			d.complain(n, "%s needs the key %q", k.what, name)
		}
	}
}

func (k keys) suggest(word string) string {
	var known []string
	for name := range k.read {
		known = append(known, name)
	}
	if nearest := Nearest(word, known); nearest != "" {
		return fmt.Sprintf("; did you mean %q?", nearest)
	}
	slices.Sort(known)
	return "; it may hold " + strings.Join(known, ", ")
}

// text reads a scalar as written. It complains of anything else and of an empty one.
func (d *document) text(n ast.Node, what string) string {
	s, ok := scalar(d.resolve(n))
	if !ok || s == "" {
		d.complain(n, "%s must be one value, not %s", what, kindOf(d.resolve(n)))
		return ""
	}
	return s
}

// texts reads one scalar or a list of them. An empty list is a complaint.
func (d *document) texts(n ast.Node, what string) []string {
	list, ok := d.resolve(n).(*ast.SequenceNode)
	if !ok {
		if s := d.text(n, what); s != "" {
			return []string{s}
		}
		return nil
	}
	if len(list.Values) == 0 {
		d.complain(n, "%s is an empty list, which selects nothing", what)
	}
	var all []string
	for _, item := range list.Values {
		if s := d.text(item, what); s != "" {
			all = append(all, s)
		}
	}
	return all
}

func (d *document) boolean(n ast.Node, what string) bool {
	s := d.text(n, what)
	if s != "true" && s != "false" && s != "" {
		d.complain(n, "%s is true or false, not %q", what, s)
	}
	return s == "true"
}

// scalar gives a scalar's text; false for null, lists, mappings and everything else.
func scalar(n ast.Node) (string, bool) {
	switch typed := n.(type) {
	case *ast.StringNode:
		return typed.Value, true
	case *ast.LiteralNode:
		return strings.TrimSpace(typed.Value.Value), true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return typed.GetToken().Value, true
	}
	return "", false
}

func kindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.NullNode:
		return "nothing"
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.TagNode:
		return "a tagged value"
	}
	return "a single value"
}
