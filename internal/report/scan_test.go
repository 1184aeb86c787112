package report

import (
	"encoding/json"
	"hash/maphash"
	"io"
	"reflect"
	"strings"
	"testing"

	"zincdoor/internal/core/finding"
)

// FuzzScan: the scanner takes for JSON what the standard library does, and reads the same strings.
func FuzzScan(f *testing.F) {
	for _, text := range []string{
		`{"a":[1,-0.5e+3,true,false,null,"x\u00e9\n"],"b":{}}`, `[]`, `[1,]`, `{"a":1,}`, `{"a" 1}`, `01`, `-`, `1e`, `"\x"`, `"\u12g4"`, "\"a\nb\"", `{"a":1}}`, `[[[]]`, `nul`, ` "a long string with ünïcode and a \\ in it" `, "\"\x1f\"",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s := scan{b: []byte(text + " ")} // so that a number has an end
		ok := s.skip()
		if ok {
			_, more := s.next()
			ok = !more
		}
		if valid := json.Valid([]byte(text)); ok != valid {
			t.Errorf("%q: valid %v, scanned %v (%q at %d)", text, valid, ok, s.fault, s.i)
		}
		var want string
		if json.Unmarshal([]byte(text), &want) == nil && len(text) > 0 {
			s := scan{b: []byte(text)}
			if c, ok := s.next(); ok && c == '"' {
				if got, ok := s.string(); !ok || got.escaped && got.string() != want {
					t.Errorf("%q: read %q, want %q", text, got.string(), want)
				}
			}
		}
	})
}

// FuzzQuick: a result that is read quickly makes the same finding as one that is taken apart whole.
func FuzzQuick(f *testing.F) {
	for _, text := range []string{
		`{"ruleId":"a","ruleIndex":0,"level":"note","message":{"text":"m\u00e9 {0}","markdown":"x"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/a%20b.c","uriBaseId":"ROOT","index":3},"region":{"startLine":4,"startColumn":2,"endLine":5,"endColumn":9,"snippet":{"text":"a\n b"}}}},{"physicalLocation":{"region":{"startLine":9}}}],"partialFingerprints":{"x/v1":"1:\t2"},"rank":12,"occurrenceCount":3,"baselineState":"new","suppressions":[],"codeFlows":null}`,
		`{"kind":"review","message":{},"locations":[],"fingerprints":{"a":"1","b":"2"},"partialFingerprints":{"c":"3"}}`,
		`{"rule\u0049d":"a","message":{"text":"m"}}`, `{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"index":0}}}],"properties":{"x":1}}`,
		`{"level":5}`, `{"message":{"text":"m"},"message":{"id":"x"}}`, `{"locations":[{"physicalLocation":{"region":{"startLine":-1,"startColumn":1e2}}}]}`, `{"fingerprints":{"a":1}}`,
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		report := func() *run {
			s := &sarif{window: newWindow(nil, 0), seen: seen{seed: maphash.MakeSeed()}, report: &Report{Relative: map[string]string{}}}
			return &run{sarif: s, Tool: toolObject{Driver: component{Name: "gauge", Rules: []descriptor{{ID: "a"}, {ID: "b"}}}}, Artifacts: []artifact{{Location: artifactLocation{URI: "x.c"}}}}
		}
		quickly := report()
		q := plainResult{index: -1, rule: -1}
		s := scan{b: []byte(text)}
		if c, ok := s.next(); !ok || c != '{' || !q.read(&s, false) || q.slow || q.details {
			return
		}
		quickly.fill(&q)
		whole := report()
		if err := whole.sarif.unmarshal(q.raw, &whole.one, 0); err != nil {
			return // a member twice, which is settled by its last value
		}
		var one, other finding.Finding
		quickly.finding(&one, &quickly.one)
		whole.finding(&other, &whole.one)
		if quickly.one.noFault() != whole.one.noFault() || !reflect.DeepEqual(one, other) {
			t.Errorf("%s\nquickly %+v\nwhole   %+v", text, one, other)
		}
	})
}

// TestSmallPieces: however little a reader gives at a time, a long value is begun anew only a few times.
func TestSmallPieces(t *testing.T) {
	value := `"` + strings.Repeat("x", 8<<20) + `"`
	f := newWindow(dripping{strings.NewReader(value)}, 0)
	times := 0
	_, err := f.read(func(s *scan) bool {
		times++
		_, ok := s.string()
		return ok
	})
	if err != nil || times > 30 {
		t.Errorf("begun %d times, %v", times, err)
	}
}

// dripping gives 1,000 bytes at a time.
type dripping struct{ in io.Reader }

func (d dripping) Read(data []byte) (int, error) { return d.in.Read(data[:min(len(data), 1000)]) }
