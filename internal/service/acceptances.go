package service

import (
	"net/http"
	"strings"
	"time"

	"zincdoor/internal/render"
	"zincdoor/internal/service/ledger"
)

// acceptanceRow is an accepted finding.
type acceptanceRow struct {
	Repository, RepositoryAddress, Branch string
	Place, Rule, Message, Severity        string
	Why, Owner, Until, Entry              string
	Expired, Soon                         bool
}

func (s *Service) acceptanceRows(all []ledger.Acceptance) (rows []acceptanceRow) {
	today := s.Now().UTC()
	day, soon := today.Format(time.DateOnly), today.AddDate(0, 0, soonDays).Format(time.DateOnly)
	for _, a := range all {
		why := a.Why
		if a.Reason != "" {
			why += ": " + a.Reason
		}
		rows = append(rows, acceptanceRow{
			Repository: render.Safe(a.Repository), RepositoryAddress: repositoryLink(a.Repository).Address, Branch: render.Safe(strings.TrimPrefix(a.Branch, "refs/heads/")),
			Place: render.Safe(a.Path), Rule: render.Safe(a.Rule), Message: render.Safe(a.Message), Severity: render.Safe(a.Severity), Why: render.Safe(why), Owner: render.Safe(ownerOf(a)), Until: a.Until, Entry: a.Entry,
			Expired: a.Until != "" && a.Until < day, Soon: a.Until >= day && a.Until <= soon,
		})
	}
	return rows
}

// ownerOf is who is to put an accepted finding right, else who accepted it.
func ownerOf(a ledger.Acceptance) string {
	if a.Owner != "" {
		return a.Owner
	}
	return a.By
}

// soonDays is within how many days something expires soon.
const soonDays = 30

// acceptances lists what guarded branches accept, what ends first at the top.
func (s *Service) acceptances(w http.ResponseWriter, r *http.Request) {
	name := r.FormValue("name")
	if only := s.seen(r); only != "" && name == "" {
		name = only
	}
	if !s.sees(r, name) {
		s.trouble(w, http.StatusNotFound, "Nothing is recorded of that repository.")
		return
	}
	var all []ledger.Acceptance
	var err error
	if r.FormValue("ending") == "soon" {
		all, err = s.Ledger.Ending(r.Context(), name, s.Now().UTC().AddDate(0, 0, soonDays).Format(time.DateOnly), mostAcceptances+1)
	} else {
		all, err = s.Ledger.Acceptances(r.Context(), name, mostAcceptances+1)
	}
	if err != nil {
		s.failed(w, err)
		return
	}
	data := struct {
		page
		Name   string
		Named  bool
		Ending []choice
		Rows   []acceptanceRow
		More   bool
	}{page: s.page("Accepted findings"), Name: name, Named: name == "", Ending: choices([]string{"soon"}, r.FormValue("ending")), More: len(all) > mostAcceptances}
	if name != "" {
		data.page = s.page("Accepted findings of "+name, repositoryLink(name))
	}
	data.Rows = s.acceptanceRows(all[:min(len(all), mostAcceptances)])
	s.show(w, http.StatusOK, "acceptances", data)
}
