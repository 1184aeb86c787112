package service

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
)

// recordRow is a verdict in a list.
type recordRow struct {
	Address, When, Door, Of, Commit string
	Outcome                         judge.Outcome
	Findings, New                   int
}

// recordRows shows records, the newest first.
func recordRows(all []record.Summary) (rows []recordRow) {
	for _, is := range slices.Backward(all) {
		rows = append(rows, recordRow{
			Address: address.Record(is.ID), When: moment(is.Time), Door: render.Safe(is.Door), Of: render.Safe(render.OfWhat(is)),
			Commit: render.Safe(fmt.Sprintf("%.8s", is.Head)), Outcome: is.Outcome, Findings: is.Findings, New: is.New,
		})
	}
	return rows
}

// mostRecords is how many verdicts a page lists.
const mostRecords = 100

func (s *Service) records(w http.ResponseWriter, r *http.Request) {
	name, outcome := r.FormValue("name"), judge.Outcome(r.FormValue("outcome"))
	if !s.sees(r, name) {
		s.trouble(w, http.StatusNotFound, "Nothing is recorded of that repository.")
		return
	}
	during, err := s.period(r)
	if err == nil && outcome != "" && !slices.Contains(outcomes, outcome) {
		err = fmt.Errorf("the answer is one of %v, not %q", outcomes, outcome)
	}
	if err != nil {
		s.trouble(w, http.StatusBadRequest, err.Error())
		return
	}
	end := during.end
	if before, err := time.Parse(time.RFC3339Nano, r.FormValue("before")); err == nil {
		end = before
	}
	all, err := s.Records.Of(name).List(r.Context(), history.Filter{Outcome: string(outcome), Since: during.start, Until: end, Last: mostRecords})
	if err != nil {
		s.failed(w, err)
		return
	}
	data := struct {
		page
		period
		Name     string
		Outcomes []choice
		Records  []recordRow
		Older    string
	}{page: s.page("Verdicts on "+name, repositoryLink(name)), period: during, Name: name, Outcomes: choices(outcomes, string(outcome)), Records: recordRows(all)}
	if len(all) == mostRecords {
		data.Older = address.Of("/records", "name", name, "outcome", string(outcome), "from", during.From, "to", during.To, "before", all[0].Time.Format(time.RFC3339Nano))
	}
	s.show(w, http.StatusOK, "records", data)
}

var outcomes = []judge.Outcome{judge.Open, judge.Shut, judge.Unjudged}

// named reads the record that an address names by a key. Where there is none it has answered so, and gives nil.
func (s *Service) named(w http.ResponseWriter, r *http.Request, key string) (*record.Record, record.Summary) {
	made, is, err := s.Records.Record(r.Context(), r.FormValue(key))
	switch {
	case err != nil:
		s.failed(w, err)
		return nil, is
	case made == nil || !s.sees(r, made.Repository):
		s.trouble(w, http.StatusNotFound, "There is no such record, or it has been pruned.")
		made = nil
	}
	return made, is
}

// record shows a verdict as the page that gate writes of one.
func (s *Service) record(w http.ResponseWriter, r *http.Request) {
	made, _ := s.named(w, r, "id")
	if made == nil {
		return
	}
	var out bytes.Buffer
	if err := render.Verdict(&out, render.HTML, made.Verdict, render.Options{}); err != nil {
		s.failed(w, err)
		return
	}
	// The page says itself what it may load: its own style and script.
	w.Header().Set("Content-Security-Policy", "base-uri 'none'; frame-ancestors 'none'; form-action 'none'")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Write(out.Bytes())
}
