package policy

import (
	"bytes"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// TestSchema: the schema for editors and the parser accept and refuse the same documents, as far as their shape goes.
func TestSchema(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
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
	for _, c := range []struct {
		text  string
		valid bool
	}{
		{whole, true}, {graded, true}, {building, true}, {string(BuiltinText()), true},
		{door("    - {count: new, most: 0, from: 2027-01-01, say: 'x', standing: [new, lapsed]}\n"), true},
		{door("    - {count: all, most: no-growth}\n"), true},
		{"zincdoor: 1\nreports: {gauge: {file: [a.txt, b.txt], as: diagnostics, clean: empty, version: '>=2.1 <3', covers: 'core/**', errors: findings, optional: true, tool: gauge}}\ndoors: {d: {needs: gauge, limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {sarif: {file: a.txt}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, ask: [gauge, --version], version: 2}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", true},
		{"zincdoor: 1\nreports: {gauge: {file: a.txt, ask: [gauge, --version]}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
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
		{door("    - {count: new, most: 0, only: true}\n"), false},
		{door("    - {count: new, most: 0, path: []}\n"), false},
		{door("    - {count: new, most: 0, each: folder}\n"), false},
		{door("    - {count: new, most: 0, each: file, per: 100-lines}\n"), false},
		{door("    - {count: new, most: 0, from: soon}\n"), false},
		{door("    - {count: new, most: 0}\n    acceptances: {need: [why]}\n"), false},
		{door("    - {count: new, most: 0}\n    acceptances: {most: 1, need: [who]}\n"), false},
		{door("    - {count: new, most: 0}\n    waivers: {codes: true}\n"), false},
		{"zincdoor: 1\nseverities: [{rule: x}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nseverities: [{rule: x, is: note, cap: note}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nmeasures: [{rule: x, number: first}]\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nteams: {a: {contact: x}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\ngroups: {a: {except: x}}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
		{"zincdoor: 1\nplace: {moved: ignore}\ndoors: {d: {limits: [{count: new, most: 0}]}}\n", false},
	} {
		var value any
		if err := yaml.Unmarshal([]byte(c.text), &value); err != nil {
			t.Fatalf("%v\n%s", err, c.text)
		}
		parsed, parseErr := Parse("p", []byte(c.text))
		if (parseErr == nil) != c.valid {
			t.Errorf("the parser says %v (%v) of\n%s", parsed != nil, parseErr, c.text)
		}
		if err := schema.Validate(value); (err == nil) != c.valid {
			t.Errorf("the schema says %v of\n%s", err, c.text)
		}
	}
}
