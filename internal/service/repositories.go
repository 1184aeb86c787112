package service

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
)

func repositoryLink(name string) link {
	return link{render.Safe(name), address.Repository(name)}
}

// branchRow is how a guarded branch stands.
type branchRow struct {
	Name, Repository   string
	Branch, Door, Debt string
	Outcome            judge.Outcome
	Findings, New      int
	Line               *sparkLine
	When, Record, All  string
}

// sparkLine is a few numbers as a line.
type sparkLine struct{ Points, About string }

// lineOf draws numbers into 120 by 24 units; nil where there are too few to make a line.
func lineOf(numbers []int) *sparkLine {
	if len(numbers) < 2 {
		return nil
	}
	most := max(1, slices.Max(numbers))
	var points []string
	for i, n := range numbers {
		points = append(points, fmt.Sprintf("%.1f,%.1f", 2+116*float64(i)/float64(len(numbers)-1), 22-20*float64(n)/float64(most)))
	}
	return &sparkLine{strings.Join(points, " "), fmt.Sprintf("from %d to %d findings in %d states", numbers[0], numbers[len(numbers)-1], len(numbers))}
}

func rowOf(b history.LastState) branchRow {
	at := repositoryLink(b.Repository)
	return branchRow{
		Name: at.Name, Repository: at.Address, Branch: render.Safe(strings.TrimPrefix(b.Branch, "refs/heads/")), Door: render.Safe(b.Door), Debt: workTime(b.Debt),
		Outcome: b.Outcome, Findings: b.Findings, New: b.New, Line: lineOf(b.Line), When: moment(b.Time), Record: address.Record(b.ID), All: address.Of("/findings", "record", b.ID),
	}
}

// mostSoon is how many acceptances that end soon the page of all repositories lists.
const mostSoon = 20

func (s *Service) repositories(w http.ResponseWriter, r *http.Request) {
	query := strings.ToLower(r.FormValue("q"))
	all, err := s.Records.Repositories(r.Context(), func(name string) bool { return s.sees(r, name) && strings.Contains(strings.ToLower(name), query) })
	if err != nil {
		s.failed(w, err)
		return
	}
	type other struct{ Name, Address, When string }
	data := struct {
		page
		Query  string
		Named  bool
		Rows   []branchRow
		Others []other
		Soon   []acceptanceRow
	}{page: s.page("Repositories"), Query: r.FormValue("q"), Named: true}
	for _, one := range all {
		for _, b := range one.Branches {
			data.Rows = append(data.Rows, rowOf(b))
		}
		if len(one.Branches) == 0 {
			at := repositoryLink(one.Name)
			data.Others = append(data.Others, other{at.Name, at.Address, moment(one.Last.Time)})
		}
	}
	ending, err := s.Ledger.Ending(r.Context(), s.seen(r), s.Now().UTC().AddDate(0, 0, soonDays).Format(time.DateOnly), mostSoon)
	if err != nil {
		s.failed(w, err)
		return
	}
	data.Soon = s.acceptanceRows(ending)
	s.show(w, http.StatusOK, "repositories", data)
}

// plotted is what plots count by.
var plotted = []record.By{record.BySeverity, record.ByRule, record.ByTool, record.ByTeam}

// checkBy complains of what nothing is plotted by.
func checkBy(by string) error {
	if slices.Contains(plotted, record.By(by)) {
		return nil
	}
	return fmt.Errorf("by is one of %v, not %q", plotted, by)
}

func (s *Service) repository(w http.ResponseWriter, r *http.Request) {
	name := r.FormValue("name")
	h := s.Records.Of(name)
	newest, err := h.List(r.Context(), history.Filter{Last: 20})
	if err != nil {
		s.failed(w, err)
		return
	}
	if name == "" || len(newest) == 0 || !s.sees(r, name) {
		s.trouble(w, http.StatusNotFound, "Nothing is recorded of that repository.")
		return
	}
	branches, err := s.Records.Branches(r.Context(), name)
	if err != nil {
		s.failed(w, err)
		return
	}
	during, err := s.period(r)
	by := cmp.Or(r.FormValue("by"), string(record.BySeverity))
	if err == nil {
		err = checkBy(by)
	}
	if err != nil {
		s.trouble(w, http.StatusBadRequest, err.Error())
		return
	}
	data := struct {
		page
		period
		Name            string
		Named           bool
		Rows            []branchRow
		Choices, Steps  []choice
		Plot, PlotAbout string
		Of              string
		Counts          []countTable
		Records         []recordRow
		All             string
		Changes         []changeRow
		Accepted        *acceptedPart
		Doors           []doorRow
		Files, Allowed  string
		Feed            string
	}{page: s.page(name), period: during, Name: name, Choices: choices(plotted, by), Steps: choices(record.Steps, string(during.every))}
	for _, b := range branches {
		data.Rows = append(data.Rows, rowOf(b))
	}
	if len(branches) > 0 {
		last := slices.MaxFunc(branches, func(a, b history.LastState) int { return a.Time.Compare(b.Time) })
		data.Of = render.Safe(app.Branch{Name: last.Branch, Door: last.Door}.String())
		data.Plot = address.Of("/trend.svg", "name", name, "by", by, "every", string(during.every), "from", during.From, "to", during.To, "branch", last.Branch, "door", last.Door)
		data.PlotAbout = fmt.Sprintf("findings of %s by %s, from %s to %s", data.Of, by, during.From, during.To)
		tallies, err := h.Tallies(r.Context(), last.Summary)
		if err != nil {
			s.failed(w, err)
			return
		}
		for _, by := range plotted {
			if t := countsOf(by, tallies[by]); len(t.Rows) > 0 {
				data.Counts = append(data.Counts, t)
			}
		}
	}
	pulls, err := s.Ledger.Pulls(r.Context(), name, mostSoon)
	if err != nil {
		s.failed(w, err)
		return
	}
	accepted, err := s.Ledger.Acceptances(r.Context(), name, mostSoon)
	if err != nil {
		s.failed(w, err)
		return
	}
	data.Changes, data.Doors = changeRows(pulls), doorRows(newest)
	if len(accepted) > 0 {
		data.Accepted = &acceptedPart{Rows: s.acceptanceRows(accepted)}
	}
	data.Files, data.Allowed, data.Feed = address.Of("/files", "name", name), address.Of("/acceptances", "name", name), address.Of("/feed.atom", "repository", name)
	data.Records, data.All = recordRows(newest), address.Of("/records", "name", name)
	s.show(w, http.StatusOK, "repository", data)
}

// countTable is how many findings have something in common.
type countTable struct {
	By, One string
	Rows    []countRow
	Left    int
}

type countRow struct {
	Name, Debt    string
	Findings, New int
}

// mostCounted is how many names a table has.
const mostCounted = 15

func countsOf(by record.By, tallies []record.Tally) countTable {
	t := countTable{By: "By " + string(by), One: string(by)}
	for _, one := range tallies {
		if one.Name == "" && by == record.ByTeam && len(tallies) == 1 {
			continue // nobody has teams
		}
		if len(t.Rows) == mostCounted {
			t.Left++
			continue
		}
		t.Rows = append(t.Rows, countRow{cmp.Or(render.Safe(one.Name), "none"), workTime(one.Cost), one.Findings, one.By[judge.New]})
	}
	return t
}

// trend draws the findings of a branch over time.
func (s *Service) trend(w http.ResponseWriter, r *http.Request) {
	if !s.sees(r, r.FormValue("name")) {
		plain(w, http.StatusNotFound, "nothing is recorded of that\n")
		return
	}
	during, err := s.period(r)
	by := r.FormValue("by")
	if err == nil {
		err = checkBy(by)
	}
	if err != nil {
		plain(w, http.StatusBadRequest, err.Error()+"\n")
		return
	}
	q := app.TrendRequest{Branch: app.Branch{Name: r.FormValue("branch"), Door: r.FormValue("door")}, By: by, From: during.start, To: during.end, Every: during.every}
	t, err := s.Records.Of(r.FormValue("name")).Trend(r.Context(), q)
	if err != nil {
		plain(w, http.StatusNotFound, "nothing is recorded of that\n")
		return
	}
	var out bytes.Buffer
	if err := render.Trend(&out, render.SVG, t.Trend, render.TrendOptions{Title: fmt.Sprintf("Findings of %s by %s", t.Of, by), Most: 6}); err != nil {
		s.failed(w, err)
		return
	}
	w.Header().Set("Content-Type", "image/svg+xml")
	w.Write(out.Bytes())
}

// doorRow is what a door answered last, of the latest verdicts.
type doorRow struct {
	Name, When, Record  string
	Outcome             judge.Outcome
	Open, Shut, Unknown int
}

func doorRows(newest []record.Summary) (rows []doorRow) {
	for _, is := range slices.Backward(newest) {
		at := slices.IndexFunc(rows, func(d doorRow) bool { return d.Name == render.Safe(is.Door) })
		if at < 0 {
			at = len(rows)
			rows = append(rows, doorRow{Name: render.Safe(is.Door), When: moment(is.Time), Record: address.Record(is.ID), Outcome: is.Outcome})
		}
		switch is.Outcome {
		case judge.Open:
			rows[at].Open++
		case judge.Shut:
			rows[at].Shut++
		default:
			rows[at].Unknown++
		}
	}
	return rows
}

// acceptedPart are the accepted findings of one repository, on its page.
type acceptedPart struct {
	Named bool
	Rows  []acceptanceRow
}
