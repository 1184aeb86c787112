package policyfile

import (
	"slices"
	"strings"
	"testing"
)

// TestSpotAt: the keys that lead to the mark are found, in whatever form the policy is written and however broken it is.
func TestSpotAt(t *testing.T) {
	tests := []struct{ text, keys, word string }{
		{"¦", "", ""},
		{"zinc¦", "", "zinc"},
		{"zincdoor: 1\ndo¦", "", "do"},
		{"zincdoor: 1\ndoors:\n  commit:\n    jud¦", "doors commit", "jud"},
		{"doors:\n  commit:\n    judges: sta¦ged\n", "doors commit judges=", "staged"},
		{"doors:\n  commit:\n    judges: ¦", "doors commit judges=", ""},
		{"doors:\n  commit:\n    judges: staged\n    ¦", "doors commit", ""},
		{"doors:\n  commit:\n    judges: staged\n  ¦", "doors", ""},
		{"doors:\n  commit:\n    limits:\n      - cou¦", "doors commit limits []", "cou"},
		{"doors:\n  commit:\n    limits:\n    - count: new\n      sev¦", "doors commit limits []", "sev"},
		{"doors:\n  commit:\n    limits:\n    - count: new\n    - ¦", "doors commit limits []", ""},
		{"doors:\n  commit:\n    limits:\n    - {count: new, sev¦}\n", "doors commit limits []", "sev"},
		{"doors:\n  commit: {judges: staged, limits: [{count: ¦", "doors commit limits [] count=", ""},
		{"doors:\n  commit: {judges: staged, limits: [{count: new}, {cou¦", "doors commit limits []", "cou"},
		{"doors: {commit: {waivers: {code: true}, mo¦", "doors commit", "mo"},
		{"doors:\n  commit: {judges: staged,\n    mode: adv¦\n", "doors commit mode=", "adv"},
		{"notes:\n  x: |\n    doors:\n      a: b\nhou¦", "", "hou"},
		{"paths: {a: [x, y¦]}\n", "paths a []=", "y"},
		{"house:\n  # a remark: here\n  spe¦", "house", "spe"},
		{"house: {spelling: on}\ndoors: ¦", "doors=", ""},
	}
	for _, test := range tests {
		at := strings.Index(test.text, "¦")
		text := strings.Replace(test.text, "¦", "", 1)
		spot := SpotAt([]byte(text), at)
		keys := strings.Join(spot.Keys, " ")
		if spot.Value {
			keys += "="
		}
		if keys != test.keys || text[spot.From:spot.To] != test.word {
			t.Errorf("%q: %q, word %q; want %q, word %q", test.text, keys, text[spot.From:spot.To], test.keys, test.word)
		}
	}
}

// TestHints: keys and values come from the schema, through all its forms.
func TestHints(t *testing.T) {
	names := func(spot Spot) (all []string) {
		for _, h := range Hints(spot) {
			all = append(all, h.Name)
		}
		return all
	}
	tests := []struct {
		keys  string
		value bool
		has   string
	}{
		{"", false, "zincdoor doors house reports severities"},
		{"doors commit", false, "judges mode limits waivers"},
		{"doors commit judges", true, "staged worktree branch"},
		{"doors commit limits []", false, "count severity most measure of least"},
		{"doors commit limits [] count", true, "new all"},
		{"house", false, "spelling blank-ends"},
		{"house blank-ends", true, "on off"},
		{"reports gcc", false, "run file per watch"},
		{"severities []", false, "rule is"},
	}
	for _, test := range tests {
		got := names(Spot{Keys: strings.Fields(test.keys), Value: test.value})
		for _, name := range strings.Fields(test.has) {
			if !slices.Contains(got, name) {
				t.Errorf("%s: %v, without %s", test.keys, got, name)
			}
		}
	}
	if h, ok := HintOn([]string{"doors", "commit", "judges"}); !ok || !slices.Contains(h.Values, "staged") {
		t.Errorf("judges: %+v", h)
	}
	if h, ok := HintOn([]string{"house", "blank-ends"}); !ok || h.About == "" {
		t.Errorf("blank-ends: %+v", h)
	}
	if _, ok := HintOn([]string{"doors", "commit", "nothing"}); ok {
		t.Error("a key that there isn't has a hint")
	}
}

// FuzzSpotAt: whatever the text and wherever the byte, a spot is found within it, and every byte's spot holds that byte.
func FuzzSpotAt(f *testing.F) {
	f.Add([]byte("doors:\n  a: {limits: [{count: new, 'x\": y}]}\n  - - b: |\n   c\n#\n"), 20)
	f.Fuzz(func(t *testing.T, text []byte, at int) {
		spot := SpotAt(text, at)
		if at = min(max(at, 0), len(text)); spot.From < 0 || spot.From > at || spot.To < at || spot.To > len(text) {
			t.Fatalf("%q at %d: %+v", text, at, spot)
		}
		Hints(spot)
	})
}
