package service

import (
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// The bounds of requests.
const (
	mostAtOnce = 64               // that are answered; more are told to come again
	longest    = 20 * time.Second // that one for a page may take
	mostQuery  = 4 << 10          // bytes of an address
	mostForm   = 4 << 10          // bytes of what a form sends
	mostCall   = 1 << 20          // bytes of what a code host sends

	perSecond  = 50  // requests of one asker, in the long run
	burst      = 300 // that may come at once
	mostAskers = 10_000
)

// policyOfPages is what a browser may load for a page: our own style, plots and script, and no form sent elsewhere.
const policyOfPages = "default-src 'none'; style-src 'self'; img-src 'self'; script-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// guard answers within bounds, with what keeps a browser from doing more than show pages.
func (s *Service) guard(next http.Handler) http.Handler {
	room := make(chan struct{}, mostAtOnce)
	timed := http.TimeoutHandler(next, longest, "this took too long\n")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		h := w.Header()
		h.Set("Content-Security-Policy", policyOfPages)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		counted := &counting{ResponseWriter: w, code: http.StatusOK}
		defer func() {
			s.Metrics.answered(r, counted.code, time.Since(began))
			if s.Requests {
				s.Log.Info("request", "method", r.Method, "path", r.URL.Path, "status", counted.code, "bytes", counted.bytes, "ms", time.Since(began).Milliseconds(), "from", s.asker(r))
			}
		}()
		sends := r.Method == http.MethodPut || r.Method == http.MethodPost
		switch {
		case len(r.URL.RawQuery) > mostQuery || len(r.URL.EscapedPath()) > mostQuery:
			plain(counted, http.StatusRequestURITooLong, "the address is too long\n")
			return
		case !sends && r.ContentLength != 0:
			plain(counted, http.StatusRequestEntityTooLarge, "nothing can be sent here\n")
			return
		case !s.askers.take(s.asker(r)):
			h.Set("Retry-After", "1")
			plain(counted, http.StatusTooManyRequests, "too much is asked from there; come again in a second\n")
			return
		}
		if r.Method == http.MethodPut { // which has bounds of its own
			next.ServeHTTP(counted, r)
			return
		}
		select {
		case room <- struct{}{}:
			defer func() { <-room }()
		default:
			h.Set("Retry-After", "1")
			plain(counted, http.StatusServiceUnavailable, "too much is asked at once; come again in a second\n")
			return
		}
		timed.ServeHTTP(counted, r)
	})
}

// asker is the machine that a request comes from.
func (s *Service) asker(r *http.Request) string {
	if s.Proxy { // the last is what the proxy itself saw
		all := strings.Split(r.Header.Get("X-Forwarded-For"), ",")
		if last := strings.TrimSpace(all[len(all)-1]); net.ParseIP(last) != nil {
			return last
		}
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// secure reports whether a request came by TLS.
func (s *Service) secure(r *http.Request) bool {
	return r.TLS != nil || s.Proxy && r.Header.Get("X-Forwarded-Proto") == "https"
}

// askers bounds how much each asks.
type askers struct {
	mutex sync.Mutex
	all   map[string]*rate.Limiter
}

func newAskers() *askers { return &askers{all: map[string]*rate.Limiter{}} }

// take reports whether one may ask once more.
func (a *askers) take(name string) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	one := a.all[name]
	if one == nil {
		if len(a.all) >= mostAskers { // those that could ask as much as ever need no memory
			for other, is := range a.all {
				if is.Tokens() >= burst {
					delete(a.all, other)
				}
			}
		}
		if len(a.all) >= mostAskers {
			return false
		}
		one = rate.NewLimiter(perSecond, burst)
		a.all[name] = one
	}
	return one.Allow()
}

// counting notes what was answered.
type counting struct {
	http.ResponseWriter
	code, bytes int
}

// Unwrap gives what it stands before, for deadlines.
func (c *counting) Unwrap() http.ResponseWriter { return c.ResponseWriter }

func (c *counting) WriteHeader(code int) {
	c.code = code
	c.ResponseWriter.WriteHeader(code)
}

func (c *counting) Write(data []byte) (int, error) {
	n, err := c.ResponseWriter.Write(data)
	c.bytes += n
	return n, err
}
