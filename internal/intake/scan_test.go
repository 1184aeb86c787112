package intake

import (
	"encoding/json"
	"testing"
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
