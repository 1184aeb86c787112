package service

import (
	"net/http"
	"slices"
	"strings"

	"zincdoor/internal/service/ledger"
)

// search finds repositories, open pull requests and accepted findings by words.
func (s *Service) search(w http.ResponseWriter, r *http.Request) {
	words := strings.ToLower(strings.TrimSpace(r.FormValue("q")))
	data := struct {
		page
		Query        string
		Repositories []link
		Changes      []changeRow
		Rows         []acceptanceRow
		Named        bool
	}{page: s.page("Search"), Query: r.FormValue("q"), Named: true}
	if words == "" {
		s.show(w, http.StatusOK, "search", data)
		return
	}
	has := func(texts ...string) bool { return strings.Contains(strings.ToLower(strings.Join(texts, "\n")), words) }
	names, err := s.Records.Names(r.Context())
	if err != nil {
		s.failed(w, err)
		return
	}
	for _, name := range names {
		if has(name) && s.sees(r, name) && len(data.Repositories) < mostChanges {
			data.Repositories = append(data.Repositories, repositoryLink(name))
		}
	}
	pulls, err := s.Ledger.Pulls(r.Context(), s.seen(r), mostSearched)
	if err != nil {
		s.failed(w, err)
		return
	}
	data.Changes = changeRows(slices.DeleteFunc(pulls, func(p ledger.Subject) bool { return !has(p.Title, p.Pull(), p.Head) }))
	accepted, err := s.Ledger.FindAcceptances(r.Context(), s.seen(r), words, mostChanges)
	if err != nil {
		s.failed(w, err)
		return
	}
	data.Rows = s.acceptanceRows(accepted)
	s.show(w, http.StatusOK, "search", data)
}

// mostSearched is how many open pull requests are looked through.
const mostSearched = 5000
