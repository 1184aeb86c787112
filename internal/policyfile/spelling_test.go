package policyfile

import (
	"strings"
	"testing"
)

// TestSpelling: the check on spelling is read and written, valid by the schema, and refused where it makes no sense.
func TestSpelling(t *testing.T) {
	schema := compiledSchema(t)
	text := func(setting string) string {
		return "zincdoor: 1\nhouse:\n  spelling: " + setting + "\ndoors: {d: {needs: house, limits: [{count: new, most: 0}]}}\n"
	}
	for setting, want := range map[string]string{
		"on": "on",
		"{identifiers: true, known: 0, path: docs}":                 "{path: docs, identifiers: true, known: 0}",
		"{dictionaries: [words/de.dic, words/quay.txt]}":            "{dictionaries: [words/de.dic, words/quay.txt]}",
		"{own-words: words/ours.txt, instead: {jetty: pontoon}}":    "{own-words: words/ours.txt, instead: {jetty: pontoon}}",
		"{own-words: [a.txt, b.txt]}":                               "{own-words: [a.txt, b.txt]}",
		"{own-words: {fares: fares/words.txt, \"core/**\": c.txt}}": "{own-words: {fares: fares/words.txt, core/**: c.txt}}",
	} {
		file, err := Parse("p.yaml", []byte(text(setting)))
		if err != nil {
			t.Errorf("%s: %v", setting, err)
			continue
		}
		written := string(file.Write(false))
		_, rest, _ := strings.Cut(written, "  spelling: ")
		got, _, _ := strings.Cut(rest, "\n")
		if strings.ReplaceAll(got, `"`, "") != want {
			t.Errorf("%s is written as %s, want %s", setting, got, want)
		}
		if _, err := Parse("p.yaml", []byte(written)); err != nil {
			t.Errorf("%s: %v", written, err)
		}
		var value any
		if err := load(text(setting), &value); err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(value); err != nil {
			t.Errorf("the schema says %v of %s", err, setting)
		}
	}
	for setting, want := range map[string]string{
		"{dictionaries: ../de.dic}":       "a plain path",
		"{own-words: /etc/words}":         "a plain path",
		"{instead: {\"two words\": one}}": "no word of letters",
		"{known: few}":                    "a whole number",
		"{most: 3}":                       "most",
	} {
		if _, err := Parse("p.yaml", []byte(text(setting))); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", setting, err, want)
		}
	}
}
