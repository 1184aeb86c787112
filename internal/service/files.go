package service

import (
	"fmt"
	"net/http"

	"zincdoor/internal/render"
)

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
