package service

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
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
			Name: render.Safe(s.Pull()), Title: render.Safe(s.Title), Address: address("/change", "repository", s.Repository, "pull", s.Pull()), Repository: render.Safe(s.Repository), RepositoryAddress: repositoryLink(s.Repository).Address,
			Target: render.Safe(s.Target), Head: render.Safe(fmt.Sprintf("%.8s", s.Head)), Seen: moment(s.Seen), State: render.Safe(stateOf(s)), Door: render.Safe(s.Door),
		}
		if s.Judged == s.Head && s.Record != "" {
			row.Outcome, row.Record = s.Outcome, address("/record", "id", s.Record)
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

// files ranks the files of a repository: the busy and costly ones first.
func (s *Service) files(w http.ResponseWriter, r *http.Request) {
	name := r.FormValue("name")
	during, err := s.period(r)
	if err != nil {
		s.trouble(w, http.StatusBadRequest, err.Error())
		return
	}
	if !s.sees(r, name) {
		s.trouble(w, http.StatusNotFound, "Nothing is recorded of that repository.")
		return
	}
	mirror := ""
	if s.Jobs != nil {
		mirror = s.Jobs.MirrorOf(name)
	}
	ranked, err := s.Records.BusyFiles(r.Context(), name, mirror, during.start)
	if err != nil {
		s.trouble(w, http.StatusNotFound, "No state of a guarded branch is recorded of that repository.")
		return
	}
	type row struct {
		Name, Debt, Changes string
		Findings, Growth    int
	}
	data := struct {
		page
		period
		Name, Of, Since string
		Rows            []row
		Left            int
		Known           bool
	}{page: s.page("Busy and costly files of "+name, repositoryLink(name)), period: during, Name: name, Of: render.Safe(ranked.Of.String()), Since: moment(ranked.Before.Time)}
	for _, f := range ranked.All {
		if f.Findings == 0 {
			continue
		}
		if len(data.Rows) == mostChanges {
			data.Left++
			continue
		}
		one := row{Name: render.Safe(f.Name), Debt: workTime(f.Cost), Findings: f.Findings, Growth: f.Growth()}
		if !f.ChangesUnknown {
			one.Changes, data.Known = fmt.Sprint(f.Changes), true
		}
		data.Rows = append(data.Rows, one)
	}
	s.show(w, http.StatusOK, "files", data)
}

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
