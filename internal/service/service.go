// Package service knows what a team asks of one place for many repositories, over HTTP: it takes reports in, shows what was recorded as
// pages that a browser shows, says what is worth a notice as a feed, and how it is itself. It bounds what a caller can make it do. What
// is done with reports is the jobs' to know, and what is kept the ledger's.
package service

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/jobs"
	"zincdoor/internal/service/ledger"
)

// Options are what a service starts from.
type Options struct {
	Records  *app.Records
	Ledger   *ledger.Ledger
	Jobs     *jobs.Jobs                   // nil where nothing is judged
	Settings *policyfile.Service          // nil for none
	Secret   func(variable string) string // of the environment
	Now      func() time.Time             // nil for the clock
	Log      *slog.Logger                 // gets what was taken, refused and what went wrong; nil for none
	Requests bool                         // Log gets a line for each request too
	Proxy    bool                         // a proxy in front says in X-Forwarded-For who asks, and in X-Forwarded-Proto by what
	Metrics  *Metrics                     // nil for none
}

// Service answers requests. Several may be answered at once.
type Service struct {
	Options
	mux     *http.ServeMux
	askers  *askers
	sending chan struct{} // room for reports that come in
}

// New readies a service.
func New(o Options) *Service {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Settings == nil {
		o.Settings = &policyfile.Service{}
	}
	if o.Metrics == nil {
		o.Metrics = NewMetrics()
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Service{Options: o, mux: http.NewServeMux(), askers: newAskers(), sending: make(chan struct{}, mostSending)}
	for pattern, answer := range map[string]http.HandlerFunc{
		"GET /{$}": s.repositories, "GET /repository": s.repository, "GET /records": s.records, "GET /record": s.record, "GET /findings": s.findings, "GET /finding": s.finding,
		"GET /trend.svg": s.trend, "GET /files": s.files, "GET /change": s.change, "GET /changes": s.changes, "GET /acceptances": s.acceptances, "GET /search": s.search, "GET /work": s.work, "GET /feed.atom": s.feed,
		"GET /metrics": s.metrics, "GET /api/v1/repositories/{repository}/pulls/{pull}": s.pull,
	} {
		s.mux.HandleFunc(pattern, s.reading(answer))
	}
	s.mux.HandleFunc("PUT /api/v1/repositories/{repository}/evidence/{commit}/{report}", s.evidence)
	s.mux.HandleFunc("POST /api/v1/repositories/{repository}/hook", s.hook)
	s.mux.HandleFunc("GET /sign-in", s.signIn)
	s.mux.HandleFunc("POST /sign-in", s.beginSession)
	s.mux.HandleFunc("POST /sign-out", s.leave)
	s.mux.HandleFunc("GET /style.css", style)
	s.mux.HandleFunc("GET /comfort.js", comfort)
	s.mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { plain(w, http.StatusOK, "it runs\n") })
	s.mux.HandleFunc("GET /readyz", s.ready)
	return s
}

// Handler answers requests, within bounds.
func (s *Service) Handler() http.Handler { return s.guard(s.mux) }

func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 3*time.Second)
	defer cancel()
	if err := s.Records.Ready(ctx); err != nil {
		plain(w, http.StatusServiceUnavailable, "the store doesn't answer\n")
		return
	}
	plain(w, http.StatusOK, "it can answer\n")
}

// plain answers with a text.
func plain(w http.ResponseWriter, code int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(code)
	w.Write([]byte(text))
}
