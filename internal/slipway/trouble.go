package slipway

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// The troubles that a slipway can be told to make, for those who write clients. They come at fixed turns, so that each run is the same.
const (
	Slow        = "slow" // every fifth answer takes slowness
	Unavailable = "503"  // every third call isn't done, and asks to come again
	Cut         = "cut"  // every fourth answer is cut off: by turns before the call is done, and after
)

// Troubles lists them.
var Troubles = []string{Slow, Unavailable, Cut}

const slowness = 300 * time.Millisecond

func checkTroubles(all []string) error {
	for _, trouble := range all {
		if !slices.Contains(Troubles, trouble) {
			return fmt.Errorf("--trouble is one or several of %s, not %q", strings.Join(Troubles, ", "), trouble)
		}
	}
	return nil
}

type counter = atomic.Int64

// troubled answers a call, with the troubles that are wanted. Git has none of them.
func (s *Slipway) troubled(w http.ResponseWriter, r *http.Request) {
	if len(s.Trouble) == 0 || !strings.HasPrefix(r.URL.Path, "/"+Interface+"/") {
		s.mux.ServeHTTP(w, r)
		return
	}
	n := s.calls.Add(1)
	has := func(trouble string, every int64) bool { return slices.Contains(s.Trouble, trouble) && n%every == 0 }
	if has(Slow, 5) {
		select {
		case <-time.After(slowness):
		case <-r.Context().Done():
			return
		}
	}
	switch {
	case has(Unavailable, 3):
		w.Header().Set("Retry-After", "0")
		fail(w, problem{code: http.StatusServiceUnavailable, text: "not just now"})
	case has(Cut, 4):
		cutOff(w, r, s.mux, n%8 == 0)
	default:
		s.mux.ServeHTTP(w, r)
	}
}

// cutOff ends the connection in the middle of the answer, or without having done anything.
func cutOff(w http.ResponseWriter, r *http.Request, handler http.Handler, done bool) {
	answer := &kept{header: http.Header{}, code: http.StatusOK}
	if done {
		handler.ServeHTTP(answer, r)
	}
	connection, buffer, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer connection.Close()
	if done {
		body := answer.body.Bytes()
		fmt.Fprintf(buffer, "HTTP/1.1 %d %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", answer.code, http.StatusText(answer.code), len(body)+1, body[:len(body)/2])
		buffer.Flush()
	}
}

// kept is an answer that isn't sent.
type kept struct {
	header http.Header
	code   int
	body   bytes.Buffer
}

func (k *kept) Header() http.Header            { return k.header }
func (k *kept) WriteHeader(code int)           { k.code = code }
func (k *kept) Write(data []byte) (int, error) { return k.body.Write(data) }

// Rate is how many calls a user may make in a time. The zero value is any number.
type Rate struct {
	Calls int
	In    time.Duration
}

// ParseRate reads CALLS/TIME, as in 60/1m.
func ParseRate(text string) (r Rate, err error) {
	calls, in, ok := strings.Cut(text, "/")
	if r.Calls, err = strconv.Atoi(calls); err == nil && ok {
		r.In, err = time.ParseDuration(in)
	}
	if err != nil || !ok || r.Calls < 1 || r.In <= 0 {
		return Rate{}, errors.New("a rate is CALLS/TIME, as in 60/1m, not " + strconv.Quote(text))
	}
	return r, nil
}

// window counts the calls of a user.
type window struct {
	until time.Time
	calls int
}

// limited refuses a call of a user who has made all that there may be for now.
func (s *Slipway) limited(w http.ResponseWriter, u *user) error {
	if s.Rate.Calls == 0 {
		return nil
	}
	name := ""
	if u != nil {
		name = u.Name
	}
	now := time.Now()
	is := s.limits[name]
	if is == nil || now.After(is.until) {
		is = &window{until: now.Add(s.Rate.In)}
		s.limits[name] = is
	}
	if is.calls >= s.Rate.Calls {
		left := time.Until(is.until)
		w.Header().Set("Retry-After", strconv.Itoa(int((left+time.Second-1)/time.Second)))
		return problem{code: http.StatusTooManyRequests, text: fmt.Sprintf("%d calls in %s are enough", s.Rate.Calls, s.Rate.In)}
	}
	is.calls++
	return nil
}
