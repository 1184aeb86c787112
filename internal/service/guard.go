package service

import (
	"net/http"
	"time"
)

// The bounds of requests.
const (
	mostAtOnce = 64               // that are answered; more are told to come again
	longest    = 20 * time.Second // that one may take
	mostQuery  = 4 << 10          // bytes of an address
)

// policyOfPages is what a browser may load for a page: our own style and plots, no script, and no form sent elsewhere.
const policyOfPages = "default-src 'none'; style-src 'self'; img-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

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
			if s.Log != nil {
				s.Log.Info("request", "method", r.Method, "path", r.URL.Path, "status", counted.code, "bytes", counted.bytes, "ms", time.Since(began).Milliseconds())
			}
		}()
		switch {
		case len(r.URL.RawQuery) > mostQuery || len(r.URL.Path) > mostQuery:
			plain(counted, http.StatusRequestURITooLong, "the address is too long\n")
			return
		case r.ContentLength != 0:
			plain(counted, http.StatusRequestEntityTooLarge, "nothing can be sent here\n")
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

// counting notes what was answered.
type counting struct {
	http.ResponseWriter
	code, bytes int
}

func (c *counting) WriteHeader(code int) {
	c.code = code
	c.ResponseWriter.WriteHeader(code)
}

func (c *counting) Write(data []byte) (int, error) {
	n, err := c.ResponseWriter.Write(data)
	c.bytes += n
	return n, err
}
