// Package service knows what was recorded of many repositories as pages that a browser shows: how each stands, how its findings grew and
// shrank, its verdicts, and the life of a finding. It bounds what a caller can make it do, and says whether it can answer.
package service

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"zincdoor/internal/app"
)

// Options are what a service starts from.
type Options struct {
	Records *app.Records
	Now     func() time.Time // nil for the clock
	Log     *slog.Logger     // gets a line for each request; nil for none
}

// Service answers requests. Several may be answered at once.
type Service struct {
	Options
	mux *http.ServeMux
}

// New readies a service.
func New(o Options) *Service {
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Service{Options: o, mux: http.NewServeMux()}
	s.mux.HandleFunc("GET /{$}", s.repositories)
	s.mux.HandleFunc("GET /repository", s.repository)
	s.mux.HandleFunc("GET /records", s.records)
	s.mux.HandleFunc("GET /record", s.record)
	s.mux.HandleFunc("GET /findings", s.findings)
	s.mux.HandleFunc("GET /finding", s.finding)
	s.mux.HandleFunc("GET /trend.svg", s.trend)
	s.mux.HandleFunc("GET /style.css", style)
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

func plain(w http.ResponseWriter, code int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(code)
	w.Write([]byte(text))
}
