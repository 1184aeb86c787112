package policyfile

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"
)

func compiledSchema(t *testing.T) *jsonschema.Schema { return compiled(t, Schema()) }

func compiled(t *testing.T, text []byte) *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("policy.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("policy.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

// TestDocumented: every policy of the guides is valid, by schema and parser. A piece without a head of its own goes on with
// the one before it; what one inherits is the policy before it.
func TestDocumented(t *testing.T) {
	schema := compiledSchema(t)
	guides, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(guides) < 3 {
		t.Fatalf("no guides: %v", err)
	}
	for _, name := range append(guides, "../../README.md") {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		var policies []string
		service := ""
		for i, part := range strings.Split(string(data), "```") {
			text, ok := strings.CutPrefix(part, "yaml\n")
			switch {
			case !ok || i%2 == 0 || strings.HasPrefix(text, "openapi:"):
			case strings.HasPrefix(text, "zincdoor: "+HostVersion):
				if _, err := ReadHost(name, []byte(text)); err != nil {
					t.Errorf("%v\n%s", err, text)
				}
			case strings.HasPrefix(text, "zincdoor: "+ServiceVersion) || service != "":
				service += text
			case strings.HasPrefix(text, "zincdoor: 1"):
				policies = append(policies, text)
			case len(policies) == 0:
				policies = append(policies, "zincdoor: 1\n"+text)
			default:
				policies[len(policies)-1] += text
			}
		}
		if service != "" {
			var doc any
			if _, err := ReadService(name, []byte(service)); err != nil || yaml.Unmarshal([]byte(service), &doc) != nil || compiled(t, ServiceSchema()).Validate(doc) != nil {
				t.Errorf("%v, %v\n%s", err, compiled(t, ServiceSchema()).Validate(doc), service)
			}
		}
		for i, text := range policies {
			if !strings.Contains(text, "\ndoors:") {
				text += "doors: {d: {limits: [{count: new, most: 0}]}}\n"
			}
			var value any
			if err := load(text, &value); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, text)
			}
			if err := schema.Validate(value); err != nil {
				t.Errorf("%s: the schema says %v of\n%s", name, err, text)
			}
			before := Text{Name: "before", Data: []byte(policies[max(i-1, 0)])}
			own := Text{Name: name, Data: []byte(text), Find: func(r Inherit) (Text, error) { return before, nil }}
			if i > 0 {
				own.Data = anyDigest.ReplaceAll(own.Data, []byte(before.Digest()))
			}
			if _, err := Read(own); err != nil {
				t.Errorf("%v\n%s", err, text)
			}
		}
	}
}

var anyDigest = regexp.MustCompile(`sha256:[0-9a-f]{64}`)

// TestSchema: the schema for editors and the parser accept and refuse the same documents, as far as their shape goes.
func TestSchema(t *testing.T) {
	schema := compiledSchema(t)
	for _, c := range []struct {
		text  string
		valid bool
	}{
		{whole, true}, {graded, true}, {building, true}, {string(BuiltinText()), true},
		{door("    - {count: new, most: 0, from: 2027-01-01, say: 'x', standing: [new, expired]}\n"), true},
		{door("    - {count: all, most: no-growth}\n"), true},
		{door("    - {count: new, most: 0, number: '>15', except: {rule: x, severity: note, exact: true, place: elsewhere, standing: worsened}}\n"), true},
		{door("    - {count: new, most: 0, number: 15}\n"), false},
		{door("    - {count: new, most: 0, except: {}}\n"), false},
		{door("    - {count: new, most: 0, except: {count: all}}\n"), false},
		{"zincdoor: 1\nseverities: [{rule: x, number: '>=2.5', except: {path: core, message: deep}, is: error}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nseverities: [{rule: x, except: {standing: new}, is: error}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {g: {file: a.txt, as: diagnostics, covers: core, except: {path: core/old}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {g: {file: a.txt, except: {rule: x}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {board: {as: html, each: //tr, message: td}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {file: [a.txt, b.txt], as: diagnostics, clean: empty, version: '>=2.1 <3', covers: 'core/**', errors: findings, optional: true, tool: gauge}}\ndoors: {d: {needs: gauge, limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {sarif: {file: a.txt}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, ask: [gauge, --version], version: 2}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, ask: [gauge, --version]}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {gauge: {as: json, each: [$.*, '$.*[*]'], rule: {member: 1}, path: {at: $.name, up: 1}, line: {at: $.posn, cut: ':(\\d+):', first: 0}, message: $.text, severity: $.grade, severities: {high: error}, clean: '^{}$', noise: '^#'}}\nreports: {g: {file: a.txt, as: gauge}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nrecipes: {gauge: {as: text, match: '^(?P<path>\\S+): (?P<message>.*)', then: '^  (?P<message>.*)', tool: {is: gauge}}}\nreports: {g: {file: a.txt, as: gauge, clean: empty}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nrecipes: {gauge: {as: csv, header: false, path: {nth: 1}, message: {nth: 2}}, log: {as: xml, each: //x, message: '@m'}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nsame: [[shadowed-name, -Wshadow]]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nsame: [[shadowed-name]]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nsame: [[]]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {gauge: {as: json, message: $.m}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {gauge: {as: csv, each: x, message: m}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {gauge: {as: text, message: {is: x}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {gauge: {as: json, each: $.x, message: {at: $.m, is: x}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nrecipes: {sarif: {as: json, each: $.x, message: $.m}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {run: [gauge, -q], folder: core, environment: {A: 1}, timeout: 90s, exits: {found: [1, 2], failed: 3}, output: stderr, files: 'core/**', given: changed, per: file, inputs: .gauge, base: true}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, file: a.txt, as: diagnostics}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, timeout: 90s}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, exits: {found: 256}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, file: [a.txt, b.txt]}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, output: both}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, per: tree}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nnotes: {'-Wshadow': 'One name, *two* things.'}\nlink: 'https://code.brackwater.example/{commit}/{path}#{line}'\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nlink: 'code/{path}'\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nlink: 'https://code.brackwater.example/'\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {blank-ends: on, conflict-marks: true, bad-utf8: off, line-width: {most: 100, tab: 4, path: 'core/**', except: [a, b]}, file-size: {most: 512KiB}, line-ends: {want: lf}, identifiers: {find: 'func (\\w+)', match: '^[a-z]'}, forbid: {no-feet: {text: feet, with: metres, say: 'Metres.'}}, require: {owner: {text: '^// Owner', path: '**/*.go'}}}\ndoors: {d: {needs: house, limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {run: gauge, fix: [gauge, --rewrite]}}\ndoors: {d: {fix: true, limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\ndoors: {d: {fix: yes, limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {blank-end: on}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {blank-ends: {most: 3}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {file-name: on}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {file-size: {most: big}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nhouse: {require: {owner: {say: x}}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {house: {file: a.txt}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {as: sarif}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, clean: empty}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nfirm: [place, teams]\nseverities: [{tag: security, floor: error, firm: true}]\n" + door("    - {count: new, most: 0, firm: true}\n    waivers: {firm: true}\n")[len("zincdoor: 1\n"):], true},
		{"zincdoor: 1\nfirm: doors\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nseverities: [{tag: security, cap: note, firm: true}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ninherit: [{git: ../standards, path: door.yaml}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ninherit: {path: door.yaml, digest: abc}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{door("    - {count: touched, most: 2, per: 100-lines, place: touched}\n"), true},
		{"zincdoor: 1\n", false},
		{"zincdoor: 2\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nlader: [a]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ndoors: {d: {judges: staged}}\n", false},
		{"zincdoor: 1\ndoors: {d: {limits: []}}\n", false},
		{"zincdoor: 1\ndoors: {d: {judges: commits, limits: [{count: new, most: 0}]}}\n", false},
		{door("    - {count: new}\n"), false},
		{door("    - {count: newer, most: 0}\n"), false},
		{door("    - {count: new, most: -1}\n"), false},
		{door("    - {count: new, most: few}\n"), false},
		{door("    - {count: new, most: 0, exact: true}\n"), false},
		{door("    - {count: new, most: 0, path: []}\n"), false},
		{door("    - {count: new, most: 0, each: folder}\n"), false},
		{door("    - {count: new, most: 0, each: file, per: 100-lines}\n"), false},
		{door("    - {count: new, most: 0, from: soon}\n"), false},
		{door("    - {count: new, most: 0}\n    acceptances: {need: [why]}\n"), false},
		{door("    - {count: new, most: 0}\n    acceptances: {most: 1, need: [who]}\n"), false},
		{door("    - {count: new, most: 0}\n    waivers: {codes: true}\n"), false},
		{"zincdoor: 1\nseverities: [{rule: x}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nseverities: [{rule: x, is: note, cap: note}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nnumbers: [{rule: x, number: first}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ncost: {rule: {x: 1h30m, y: 0}, severity: {note: 5m}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\ncost: {rule: {x: 90s}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ncost: {rule: {x: 30}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ncost: {rules: {x: 30m}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nteams: {a: {contact: x}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ngroups: {a: {except: x}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nplace: {moved: ignore}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
	} {
		var value any
		if err := load(c.text, &value); err != nil {
			t.Fatalf("%v\n%s", err, c.text)
		}
		parsed, parseErr := parse("p", []byte(c.text))
		if (parseErr == nil) != c.valid {
			t.Errorf("the parser says %v (%v) of\n%s", parsed != nil, parseErr, c.text)
		}
		if err := schema.Validate(value); (err == nil) != c.valid {
			t.Errorf("the schema says %v of\n%s", err, c.text)
		}
	}
}

// load reads YAML as a schema sees it, where a date is a text.
func load(text string, value *any) error {
	var n yaml.Node
	if err := yaml.Load([]byte(text), &n); err != nil {
		return err
	}
	var dates func(n *yaml.Node)
	dates = func(n *yaml.Node) {
		if n.ShortTag() == "!!timestamp" {
			n.Tag = "!!str"
		}
		for _, inner := range n.Content {
			dates(inner)
		}
	}
	dates(&n)
	return n.Decode(value)
}
