package service

import (
	"net/http"

	"zincdoor/internal/render"
)

// work shows what is to be done, and what was given up.
func (s *Service) work(w http.ResponseWriter, r *http.Request) {
	if s.seen(r) != "" {
		s.trouble(w, http.StatusForbidden, "Your token is for one repository alone.")
		return
	}
	type state struct {
		Name, About string
		N           int
	}
	type dead struct {
		Kind, Args, Error, When string
		Tries                   int
	}
	data := struct {
		page
		States []state
		Oldest string
		Dead   []dead
		Judges bool
	}{page: s.page("Work"), Judges: s.Jobs != nil}
	if s.Jobs != nil {
		states, since, err := s.Jobs.Waiting(r.Context())
		if err != nil {
			s.failed(w, err)
			return
		}
		for _, is := range [][2]string{{"available", "can be done"}, {"running", "are being done"}, {"retryable", "failed, and are tried again"}, {"scheduled", "have a time of their own"}, {"discarded", "were given up"}, {"cancelled", "had no reason any more"}, {"completed", "were done in the last day"}} {
			data.States = append(data.States, state{is[0], is[1], states[is[0]]})
		}
		if !since.IsZero() {
			data.Oldest = moment(since)
		}
		given, err := s.Jobs.Dead(r.Context(), mostChanges)
		if err != nil {
			s.failed(w, err)
			return
		}
		for _, d := range given {
			data.Dead = append(data.Dead, dead{d.Kind, render.Safe(d.Args), render.Safe(d.Error), moment(d.Time), d.Tries})
		}
	}
	s.show(w, http.StatusOK, "work", data)
}
