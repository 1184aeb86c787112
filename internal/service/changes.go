package service

import (
	"fmt"
	"net/http"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
	"zincdoor/internal/service/ledger"
)

// mostChanges is how many open pull requests, and how many acceptances, a page lists.
const (
	mostChanges     = 200
	mostAcceptances = 500
)

// changeRow is an open pull request.
type changeRow struct {
	Name, Title, Address, Repository, RepositoryAddress string
	Target, Head, Seen, Door, State                     string
	Outcome                                             judge.Outcome // "" where it isn't known for this head
	Record                                              string
}

// stateOf says in words how a pull request stands.
func stateOf(s *ledger.Subject) string {
	switch {
	case s.Trouble != "":
		return "it doesn't go on"
	case len(s.Lacking) > 0 && s.Judged != s.Head:
		return "waits for " + strings.Join(s.Lacking, ", ")
	case s.Judged != s.Head:
		return "is being judged"
	case s.Sent != s.Record:
		return "judged; on its way to the code host"
	}
	return "judged"
}

func changeRows(all []ledger.Subject) (rows []changeRow) {
	for i := range all {
		s := &all[i]
		row := changeRow{
			Name: render.Safe(s.Pull()), Title: render.Safe(s.Title), Address: address.Of("/change", "repository", s.Repository, "pull", s.Pull()), Repository: render.Safe(s.Repository), RepositoryAddress: repositoryLink(s.Repository).Address,
			Target: render.Safe(s.Target), Head: render.Safe(fmt.Sprintf("%.8s", s.Head)), Seen: moment(s.Seen), State: render.Safe(stateOf(s)), Door: render.Safe(s.Door),
		}
		if s.Judged == s.Head && s.Record != "" {
			row.Outcome, row.Record = s.Outcome, address.Record(s.Record)
		}
		rows = append(rows, row)
	}
	return rows
}

// changes lists the open pull requests of all repositories.
func (s *Service) changes(w http.ResponseWriter, r *http.Request) {
	all, err := s.Ledger.Pulls(r.Context(), s.seen(r), mostChanges)
	if err != nil {
		s.failed(w, err)
		return
	}
	s.show(w, http.StatusOK, "changes", struct {
		page
		Named   bool
		Changes []changeRow
	}{s.page("Open pull requests"), true, changeRows(all)})
}

// change shows a pull request: what is waited for, and its verdicts.
func (s *Service) change(w http.ResponseWriter, r *http.Request) {
	name, number := r.FormValue("repository"), r.FormValue("pull")
	is, err := s.Ledger.Subject(r.Context(), name, ledger.PullName(number))
	if err != nil {
		s.failed(w, err)
		return
	}
	if is.Head == "" || !s.sees(r, name) {
		s.trouble(w, http.StatusNotFound, "Nothing is known of that pull request.")
		return
	}
	sent, err := s.Ledger.UploadsFor(r.Context(), name, is.Head, number)
	if err != nil {
		s.failed(w, err)
		return
	}
	judged, err := s.Records.Of(name).List(r.Context(), history.Filter{Head: is.Head, Last: mostRecords})
	if err != nil {
		s.failed(w, err)
		return
	}
	type report struct{ Name, When, Size, Digest string }
	data := struct {
		page
		Change  changeRow
		Lacking []string
		Until   string
		Trouble string
		Reports []report
		Late    bool
		Records []recordRow
	}{page: s.page(fmt.Sprintf("Pull request %s of %s", number, name), repositoryLink(name), link{"open pull requests", "/changes"}), Change: changeRows([]ledger.Subject{*is})[0], Trouble: render.Safe(is.Trouble)}
	for _, one := range is.Lacking {
		data.Lacking = append(data.Lacking, render.Safe(one))
	}
	if served, ok := s.Settings.Repository(name); ok {
		until := is.Seen.Add(served.Wait)
		data.Until, data.Late = moment(until), !s.Now().Before(until)
	}
	for _, u := range sent {
		data.Reports = append(data.Reports, report{render.Safe(u.Name), moment(u.Received), render.ByteCount(u.Size), u.Digest[:16]})
	}
	data.Records = recordRows(judged)
	s.show(w, http.StatusOK, "change", data)
}
