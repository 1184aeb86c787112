package service

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
	"zincdoor/internal/service/ledger"
)

// mostFindings is how many findings a page lists.
const mostFindings = 500

// findings lists those of a record.
func (s *Service) findings(w http.ResponseWriter, r *http.Request) {
	made, _ := s.named(w, r, "record")
	if made == nil {
		return
	}
	v := made.Verdict
	query, severity, standing := strings.ToLower(r.FormValue("q")), r.FormValue("severity"), r.FormValue("standing")
	type row struct{ Address, Place, Severity, Rule, Message, Standing string }
	data := struct {
		page
		Of, When, All, Record, Query string
		Severities, Standings        []choice
		Rows                         []row
		Left                         int
	}{
		page: s.page("Findings of "+made.Repository, repositoryLink(made.Repository)), Of: render.Safe(strings.TrimPrefix(cmp.Or(made.Branch, v.Subject.Ref, v.Subject.Kind), "refs/heads/")), When: moment(made.Time),
		All: finding.Count(len(v.Findings)), Record: made.ID, Query: r.FormValue("q"), Severities: choices(v.Ladder, severity), Standings: choices(judge.Standings, standing),
	}
	for i := range v.Findings {
		f := &v.Findings[i]
		words := strings.ToLower(f.Path + " " + f.Tool + " " + f.Rule + " " + f.Message)
		if severity != "" && f.Severity != severity || standing != "" && string(f.Standing) != standing || !strings.Contains(words, query) {
			continue
		}
		if len(data.Rows) == mostFindings {
			data.Left++
			continue
		}
		data.Rows = append(data.Rows, row{address.Of("/finding", "record", made.ID, "id", f.ID), placeOf(f), render.Safe(f.Severity), render.Safe(f.Rule), render.Safe(f.Message), string(f.Standing)})
	}
	s.show(w, http.StatusOK, "findings", data)
}

func (s *Service) finding(w http.ResponseWriter, r *http.Request) {
	made, is := s.named(w, r, "record")
	if made == nil {
		return
	}
	at := slices.IndexFunc(made.Verdict.Findings, func(f judge.Finding) bool { return f.ID == r.FormValue("id") })
	if at < 0 {
		s.trouble(w, http.StatusNotFound, "There is no such finding in that record, or it has been pruned.")
		return
	}
	f := made.Verdict.Findings[at]
	type event struct{ Address, When, What, Place, Commit string }
	data := struct {
		page
		Severity, Rule, Message, Place, Standing, Branch string
		Accepted                                         string
		Events                                           []event
	}{page: s.page("Finding "+f.ID, repositoryLink(made.Repository), link{"findings", address.Of("/findings", "record", made.ID)}), Severity: render.Safe(f.Severity), Rule: render.Safe(f.Rule), Message: render.Safe(f.Message), Place: placeOf(&f), Standing: string(f.Standing), Branch: render.Safe(strings.TrimPrefix(made.Branch, "refs/heads/"))}
	accepted, err := s.Ledger.Acceptance(r.Context(), made.Repository, made.Branch, f.EntryID)
	if err != nil {
		s.failed(w, err)
		return
	}
	if accepted != nil {
		data.Accepted = render.Safe(acceptedHow(*accepted))
	}
	var life []app.LifeEvent
	if is.State.Stream != 0 {
		life, err = s.Records.Life(r.Context(), is, f.ID)
	}
	if err != nil {
		s.failed(w, err)
		return
	}
	what := map[string]string{history.Came: "it came", history.Went: "it went", history.Became: "it moved, or its text changed"}
	for _, l := range life {
		e := event{Address: address.Record(l.Record.ID), When: moment(l.Record.Time), What: what[l.Kind], Commit: render.Safe(fmt.Sprintf("%.8s", l.Record.Head))}
		if l.Is != nil {
			e.Place = placeOf(l.Is)
		}
		data.Events = append(data.Events, e)
	}
	s.show(w, http.StatusOK, "finding", data)
}

// placeOf is where a finding stands.
func placeOf(f *judge.Finding) string {
	switch {
	case f.Path == "":
		return "in no file"
	case f.Region.Line == 0:
		return render.Safe(f.Path)
	}
	return render.Safe(fmt.Sprintf("%s:%d", f.Path, f.Region.Line))
}

// acceptedHow says who accepted a finding, when, until when and why.
func acceptedHow(a ledger.Acceptance) string {
	text := "accepted"
	for _, part := range []struct{ word, what string }{{" by ", a.By}, {" on ", a.On}, {" until ", a.Until}, {": ", a.Why}, {", ", a.Reason}} {
		if part.what != "" {
			text += part.word + part.what
		}
	}
	if a.Owner != "" && a.Owner != a.By {
		text += "; " + a.Owner + " is to put it right"
	}
	return text
}
