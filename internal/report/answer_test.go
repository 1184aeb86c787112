package report

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
)

// TestAnswer: a report that was kept comes back as it was, and what a tool said of several lots of files is one report.
func TestAnswer(t *testing.T) {
	read := func(text string, form Form) *Report {
		t.Helper()
		r, err := Read(strings.NewReader(text), form)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	log := `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge","version":"2.1","rules":[{"id":"TIDE1","shortDescription":{"text":"Deep."},"helpUri":"https://gauge.brackwater.example","properties":{"tags":["tide"]}}]}},
		"results":[{"ruleId":"TIDE1","level":"error","message":{"text":"a"},"partialFingerprints":{"p":"1"},"rank":5,"locations":[{"physicalLocation":{"artifactLocation":{"uri":"PATH"},"region":{"startLine":2,"snippet":{"text":"x"}}}}],
		"codeFlows":[{"threadFlows":[{"locations":[{"location":{"message":{"text":"s"}}}]}]}],"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"PATH"},"replacements":[{"deletedRegion":{"charOffset":4,"charLength":2},"insertedContent":{"text":"y"}}]}]}]}]}]}`
	one := read(strings.ReplaceAll(log, "PATH", "core/tide.c"), Form{})
	data, err := one.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	plain := func(r *Report) string { // empty and no list are the same
		text, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		return strings.NewReplacer("[]", "null", "{}", "null").Replace(string(text))
	}
	if plain(again) != plain(one) {
		t.Errorf("%s\n%s", plain(again), plain(one))
	}
	for cut := range data[:len(data)-1] {
		Decode(data[:cut]) // an error or another report, but no panic
	}

	other := read(strings.ReplaceAll(strings.ReplaceAll(log, "PATH", "core/quay.c"), "TIDE1", "TIDE2"), Form{})
	one.Join(other)
	if len(one.Tools) != 1 || len(one.Rules) != 2 || len(one.Findings) != 2 {
		t.Errorf("%+v", one)
	}
	stopped := read("core/tide.c:1:1: fatal error: gone\n", Form{Format: policy.Diagnostics})
	one.Join(stopped)
	if one.Whole() {
		t.Error("that one of them stopped looking is lost")
	}
	one.EachPath(func(path *string) { *path = "x/" + *path })
	if f := one.Findings[0]; f.Path != "x/core/tide.c" || f.Extra.Fixes[0].Edits[0].Path != "x/core/tide.c" {
		t.Errorf("%+v %+v", f, f.Extra)
	}
}

// TestFixIts: what compilers tell programs to fix hangs on its finding; what hangs on a note is one of several ways.
func TestFixIts(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"one", "a.c:3:21: error: expected ';' [-Wx]\nfix-it:\"a.c\":{3:21-3:21}:\";\"\n", "a.c {3 21 3 21} \";\""},
		{"two of one finding", "a.c:3:8: warning: w [-Wx]\nfix-it:\"a.c\":{3:6-3:6}:\"(\"\nfix-it:\"b \\\"q\\\".c\":{3:11-3:12}:\"a\\tb\\n\"\n", "a.c {3 6 3 6} \"(\"; b \"q\".c {3 11 3 12} \"a\\tb\\n\""},
		{"of a note", "a.c:3:8: warning: w [-Wx]\na.c:3:8: note: n\nfix-it:\"a.c\":{3:6-3:6}:\"(\"\n", ""},
		{"before all", "fix-it:\"a.c\":{3:6-3:6}:\"(\"\na.c:3:8: warning: w [-Wx]\n", ""},
		{"quotes of every locale stay", "a.c:3:8: warning: w [-Wx]\nfix-it:\"a.c\":{3:6-3:6}:\"‘’\"\n", "a.c {3 6 3 6} \"‘’\""},
		{"broken", "a.c:3:8: warning: w [-Wx]\nfix-it:\"a.c\":{3:6}:\"(\"\n", ""},
	} {
		r, err := Read(strings.NewReader(c.text), Form{Format: policy.Diagnostics})
		if err != nil || len(r.Findings) == 0 {
			t.Fatalf("%s: %v", c.name, err)
		}
		var got []string
		for _, fix := range r.Findings[0].Details().Fixes {
			for _, e := range fix.Edits {
				if !e.Bytes {
					t.Errorf("%s: its columns aren't bytes", c.name)
				}
				got = append(got, fmt.Sprintf("%s %v %q", e.Path, e.Region, e.Text))
			}
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %s, want %s", c.name, strings.Join(got, "; "), c.want)
		}
	}
}

// TestDeletedRegions: what a fix takes out is taken exactly as the report says (SARIF 2.1.0, 3.57.3).
func TestDeletedRegions(t *testing.T) {
	for _, c := range []struct {
		region, inserted string
		want             finding.Edit
	}{
		{`{"startLine":2,"startColumn":5,"endColumn":5}`, `{"text":"x"}`, finding.Edit{Region: finding.Region{Line: 2, Column: 5, EndLine: 2, EndColumn: 5}, Text: "x"}},
		{`{"startLine":2,"startColumn":5}`, `{"text":"x"}`, finding.Edit{Region: finding.Region{Line: 2, Column: 5, EndLine: 2}, Text: "x"}},
		{`{"startLine":2,"endLine":4,"endColumn":1}`, `{"text":""}`, finding.Edit{Region: finding.Region{Line: 2, EndLine: 4, EndColumn: 1}}},
		{`{"charOffset":7,"charLength":0}`, `{"text":"x"}`, finding.Edit{Offset: &finding.Offset{At: 7}, Text: "x"}},
		{`{"byteOffset":7,"byteLength":2}`, `{"binary":"AAEC"}`, finding.Edit{Offset: &finding.Offset{At: 7, Length: 2, Bytes: true}, Text: "\x00\x01\x02"}},
		{`{"startLine":1,"startColumn":1,"endColumn":4,"snippet":{"text":"int"}}`, `{"text":"long"}`, finding.Edit{Region: finding.Region{Line: 1, Column: 1, EndLine: 1, EndColumn: 4}, Text: "long", Was: "int"}},
	} {
		log := `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"artifacts":[{"location":{"uri":"a.c"},"hashes":{"sha-256":"ab"}}],"results":[{"message":{"text":"m"},"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"a.c"},"replacements":[{"deletedRegion":` + c.region + `,"insertedContent":` + c.inserted + `}]}]}]}]}]}`
		r, err := Read(strings.NewReader(log), Form{})
		if err != nil {
			t.Fatal(err)
		}
		c.want.Path, c.want.Hash = "a.c", "ab"
		if got := r.Findings[0].Extra.Fixes[0].Edits[0]; !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v %+v, want %+v %+v", c.region, got, got.Offset, c.want, c.want.Offset)
		}
	}
	r, err := Read(strings.NewReader(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[{"message":{"text":"m"},"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"a.c"},"replacements":[{"deletedRegion":{"startLine":1},"insertedContent":{"binary":"?"}}]}]}]}]}]}`), Form{})
	if err != nil || len(r.Findings[0].Extra.Fixes[0].Edits) != 0 {
		t.Errorf("broken base64 is put in: %+v, %v", r.Findings[0].Extra, err)
	}
}
