package client

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
)

// TestSend: a report is sent again while that may help, and no longer.
func TestSend(t *testing.T) {
	for name, c := range map[string]struct {
		answers []int // one after the other
		body    string
		want    string // "" for taken
		refused bool
		calls   int
	}{
		"taken":                {[]int{201}, `{"state": "taken", "size": 3}`, "", false, 1},
		"busy, then taken":     {[]int{503, 201}, `{"state": "taken", "size": 3}`, "", false, 2},
		"too much, then taken": {[]int{429, 200}, `{"state": "taken", "size": 3}`, "", false, 2},
		"other content":        {[]int{409}, `{"problem": "there is other content"}`, "there is other content", true, 1},
		"no such service":      {[]int{404}, `<html>`, "is no service of this kind", true, 1},
		"a redirect":           {[]int{302}, ``, "is no service of this kind", true, 1},
		"never":                {[]int{500, 500, 500}, `x`, "500 Internal Server Error", false, 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			calls := 0
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				code := c.answers[min(calls, len(c.answers)-1)]
				calls++
				from, err := zstd.NewReader(r.Body)
				if err != nil {
					t.Fatal(err)
				}
				content, err := io.ReadAll(from)
				if err != nil || string(content) != "abc" || r.Header.Get("Authorization") != "Bearer 5d01c2a7.secret" || r.URL.EscapedPath() != "/api/v1/repositories/quay.example%2Ftideboard/evidence/a1/compiler" || r.FormValue("pull") != "12" {
					t.Errorf("%s %v: %q, %v", r.URL, r.Header, content, err)
				}
				w.Header().Set("Location", "http://127.0.0.1:1/")
				w.WriteHeader(code)
				io.WriteString(w, c.body)
			}))
			defer server.Close()
			sender, err := New(Service{Address: server.URL + "/", Token: "5d01c2a7.secret", Patience: 2500 * time.Millisecond})
			if err != nil {
				t.Fatal(err)
			}
			answer, err := sender.Send(t.Context(), Report{Repository: "quay.example/tideboard", Commit: "a1", Name: "compiler", Pull: "12", Content: []byte("abc")})
			switch {
			case c.want == "" && (err != nil || answer != Answer{"taken", 3}):
				t.Errorf("%+v, %v", answer, err)
			case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want) || errors.Is(err, ErrRefused) != c.refused || strings.Contains(err.Error(), "secret")):
				t.Errorf("%v", err)
			}
			if calls != c.calls {
				t.Errorf("%d calls, not %d", calls, c.calls)
			}
		})
	}
	for address, want := range map[string]string{"records.example": "one like https://", "http://records.example": "unencrypted", "https://a:b@records.example": "without a name", "file:///x": "one like https://"} {
		if _, err := New(Service{Address: address}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", address, err)
		}
	}
}
