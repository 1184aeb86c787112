package policyfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/syntax"
)

// document is a parsed YAML file, from which values are taken with their places. Scalars are read as written (no
// guessing of types), and every complaint is kept, so that one run tells all of them.
type document struct {
	file     string
	root     *yaml.Node
	problems Problems
	more     int // problems beyond mostProblems
}

// mostProblems is how many problems of one policy are kept; the others are counted.
const mostProblems = 200

// newDocument reads a file that holds one document; what it is called and begins with is for messages.
func newDocument(file string, data []byte, what, begins string) (*document, error) {
	d := &document{file: file}
	documents, err := syntax.YAML(data)
	var fault *syntax.Fault
	switch {
	case errors.As(err, &fault):
		text := fault.Text
		if fault.Begins > 0 && fault.Begins < fault.Line {
			text += fmt.Sprintf(", in what begins on line %d", fault.Begins)
		}
		d.problems = append(d.problems, Problem{file, fault.Line, fault.Column, text})
	case err != nil:
		d.problems = append(d.problems, Problem{File: file, Text: err.Error()})
	case len(documents) == 0:
		d.problems = append(d.problems, Problem{File: file, Text: what + " is empty; it begins with " + begins})
	case len(documents) > 1:
		d.complain(documents[1], "%s is one YAML document, a second one begins here", what)
	default:
		d.root = documents[0]
		return d, nil
	}
	return nil, d.problems
}

func (d *document) complain(n *yaml.Node, format string, args ...any) {
	if len(d.problems) >= mostProblems {
		d.more++
		return
	}
	d.problems = append(d.problems, Problem{d.file, n.Line, n.Column, fmt.Sprintf(format, args...)})
}

// result gives the problems in order of lines, nil where there are none.
func (d *document) result() error {
	if len(d.problems) == 0 {
		return nil
	}
	sorted := d.problems.sorted()
	if d.more > 0 {
		sorted = append(sorted, Problem{File: d.file, Text: fmt.Sprintf("and %d more problems", d.more)})
	}
	return sorted
}

// resolve follows an alias to what its anchor names.
func resolve(n *yaml.Node) *yaml.Node {
	for range 10 {
		if n.Kind != yaml.AliasNode || n.Alias == nil {
			break
		}
		n = n.Alias
	}
	return n
}

// field is a key of a mapping with its value.
type field struct {
	name  string
	key   *yaml.Node
	value *yaml.Node
}

// fields lists a mapping's keys in the order of the file. It complains where n isn't a mapping, and of a key that is there
// twice.
func (d *document) fields(n *yaml.Node, what string) []field {
	m := resolve(n)
	if m.Kind != yaml.MappingNode {
		d.complain(n, "%s must be a mapping of keys to values, not %s", what, kindOf(m))
		return nil
	}
	var fields []field
	lines := map[string]int{}
	for i := 0; i+1 < len(m.Content); i += 2 {
		key, value := m.Content[i], m.Content[i+1]
		if key.ShortTag() == "!!merge" {
			d.complain(key, "merge keys (<<) are not part of YAML 1.2; write the keys out")
			continue
		}
		name, ok := scalar(key)
		switch {
		case !ok:
			d.complain(key, "a key must be plain text")
		case lines[name] > 0:
			d.complain(key, "the key %q is on line %d already", name, lines[name])
		default:
			fields = append(fields, field{name, key, value})
			lines[name] = key.Line
		}
	}
	return fields
}

// keys says what a mapping may hold: and how each key is read.
type keys struct {
	what string
	read map[string]func(*yaml.Node)
	need []string
	seen func(field) // gets each key before it is read; may be nil
}

// mapping reads a mapping by its keys, complaining of every key that doesn't belong and every needed one that lacks.
func (d *document) mapping(n *yaml.Node, k keys) {
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
func (d *document) text(n *yaml.Node, what string) string {
	s, ok := scalar(resolve(n))
	if !ok || s == "" {
		d.complain(n, "%s must be one value, not %s", what, kindOf(resolve(n)))
		return ""
	}
	return s
}

// texts reads one scalar or a list of them. An empty list is a complaint.
func (d *document) texts(n *yaml.Node, what string) []string {
	list := resolve(n)
	if list.Kind != yaml.SequenceNode {
		if s := d.text(n, what); s != "" {
			return []string{s}
		}
		return nil
	}
	if len(list.Content) == 0 {
		d.complain(n, "%s is an empty list, which selects nothing", what)
	}
	var all []string
	for _, item := range list.Content {
		if s := d.text(item, what); s != "" {
			all = append(all, s)
		}
	}
	return all
}

func (d *document) boolean(n *yaml.Node, what string) bool {
	s := d.text(n, what)
	if s != "true" && s != "false" && s != "" {
		d.complain(n, "%s is true or false, not %q", what, s)
	}
	return s == "true"
}

// scalar gives a scalar's text; false for null, lists, mappings and everything else.
func scalar(n *yaml.Node) (string, bool) {
	if n.Kind != yaml.ScalarNode || n.ShortTag() == "!!null" || n.Style&yaml.TaggedStyle != 0 {
		return "", false
	}
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return strings.TrimSpace(n.Value), true
	}
	return n.Value, true
}

func kindOf(n *yaml.Node) string {
	switch {
	case n.Style&yaml.TaggedStyle != 0:
		return "a tagged value"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Kind == yaml.MappingNode:
		return "a mapping"
	case n.Kind == yaml.ScalarNode && n.ShortTag() == "!!null":
		return "nothing"
	}
	return "a single value"
}
