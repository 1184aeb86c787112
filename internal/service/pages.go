package service

import (
	"bytes"
	"cmp"
	"embed"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
)

//go:embed pages
var files embed.FS

// templates are the pages by their names, each with the layout.
var templates = sync.OnceValue(func() map[string]*template.Template {
	all := map[string]*template.Template{}
	for _, name := range []string{"repositories", "repository", "records", "findings", "finding", "trouble"} {
		all[name] = template.Must(template.ParseFS(files, "pages/layout.html", "pages/"+name+".html"))
	}
	return all
})

func style(w http.ResponseWriter, _ *http.Request) {
	data, err := files.ReadFile("pages/style.css")
	if err != nil {
		panic(err) // it is part of the program
	}
	w.Header().Set("Content-Type", "text/css; charset=utf-8")
	w.Header().Set("Cache-Control", "max-age=3600")
	w.Write(data)
}

// page is what every page has.
type page struct {
	Title string
	Above []link
	Made  string
}

type link struct{ Name, Address string }

// choice is one of several in a form.
type choice struct {
	Name   string
	Chosen bool
}

func choices[T ~string](all []T, chosen string) (list []choice) {
	for _, one := range all {
		list = append(list, choice{string(one), string(one) == chosen})
	}
	return list
}

// show writes a page, whole or not at all.
func (s *Service) show(w http.ResponseWriter, code int, name string, data any) {
	var out bytes.Buffer
	if err := templates()[name].ExecuteTemplate(&out, "layout", data); err != nil {
		plain(w, http.StatusInternalServerError, "the page can't be made\n")
		if s.Log != nil {
			s.Log.Error("page", "name", name, "error", err.Error())
		}
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(code)
	w.Write(out.Bytes())
}

// trouble says why there is no page.
func (s *Service) trouble(w http.ResponseWriter, code int, why string) {
	s.show(w, code, "trouble", struct {
		page
		Why string
	}{s.page("There is no such page"), why})
}

// failed answers a request whose data can't be read.
func (s *Service) failed(w http.ResponseWriter, err error) {
	if s.Log != nil {
		s.Log.Error("store", "error", err.Error())
	}
	s.trouble(w, http.StatusInternalServerError, "What was recorded can't be read at the moment.")
}

func (s *Service) page(title string, above ...link) page {
	return page{Title: render.Safe(title), Above: above, Made: "This page shows what was recorded until " + moment(s.Now()) + "."}
}

// moment is a time for people.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// address is one of ours, with values in it; those that are empty are left out.
func address(path string, pairs ...string) string {
	values := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			values.Set(pairs[i], pairs[i+1])
		}
	}
	if len(values) == 0 {
		return path
	}
	return path + "?" + values.Encode()
}

func repositoryLink(name string) link {
	return link{render.Safe(name), address("/repository", "name", name)}
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

func rowOf(repository string, b app.BranchState) branchRow {
	at := repositoryLink(repository)
	return branchRow{
		Name: at.Name, Repository: at.Address, Branch: render.Safe(strings.TrimPrefix(b.Name, "refs/heads/")), Door: render.Safe(b.Door), Debt: workTime(b.Last.Debt),
		Outcome: b.Last.Outcome, Findings: b.Last.Findings, New: b.Last.New, Line: lineOf(b.Line), When: moment(b.Last.Time), Record: address("/record", "id", b.Last.ID), All: address("/findings", "record", b.Last.ID),
	}
}

// workTime is how long something takes to put right, "" where nobody has said.
func workTime(minutes int) string {
	if minutes == 0 {
		return ""
	}
	return render.WorkTime(minutes)
}

func (s *Service) repositories(w http.ResponseWriter, r *http.Request) {
	query := strings.ToLower(r.FormValue("q"))
	all, err := s.Records.Repositories(r.Context(), func(name string) bool { return strings.Contains(strings.ToLower(name), query) })
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
	}{page: s.page("Repositories"), Query: r.FormValue("q"), Named: true}
	for _, one := range all {
		for _, b := range one.Branches {
			data.Rows = append(data.Rows, rowOf(one.Name, b))
		}
		if len(one.Branches) == 0 {
			at := repositoryLink(one.Name)
			data.Others = append(data.Others, other{at.Name, at.Address, moment(one.Last.Time)})
		}
	}
	s.show(w, http.StatusOK, "repositories", data)
}

// period is a stretch of time that an address names, both days included, and how long its steps are.
type period struct {
	From, To string // YYYY-MM-DD
	start    time.Time
	end      time.Time // the day after
	every    record.Every
}

// usual is how many days back a page shows where its address doesn't say.
const usual = 182

func (s *Service) period(r *http.Request) (p period, err error) {
	p.From, p.To, p.every = r.FormValue("from"), r.FormValue("to"), record.Every(cmp.Or(r.FormValue("every"), string(record.Week)))
	today := s.Now().UTC()
	if p.To == "" {
		p.To = today.Format(time.DateOnly)
	}
	last, err := time.Parse(time.DateOnly, p.To)
	if err != nil {
		return p, fmt.Errorf("to is a day like 2027-02-01, not %q", p.To)
	}
	p.end = last.AddDate(0, 0, 1)
	if p.From == "" {
		p.From = last.AddDate(0, 0, -usual).Format(time.DateOnly)
	}
	if p.start, err = time.Parse(time.DateOnly, p.From); err != nil {
		return p, fmt.Errorf("from is a day like 2027-02-01, not %q", p.From)
	}
	switch {
	case !p.start.Before(p.end):
		return p, fmt.Errorf("from %s comes after to %s", p.From, p.To)
	case !slices.Contains(record.Steps, p.every):
		return p, fmt.Errorf("every is one of day, week, month, not %q", p.every)
	}
	_, err = p.every.Span(p.start, p.end)
	return p, err
}

// plotted is what plots count by.
var plotted = []record.By{record.BySeverity, record.ByRule, record.ByTool, record.ByTeam}

func (s *Service) repository(w http.ResponseWriter, r *http.Request) {
	name := r.FormValue("name")
	h := s.Records.Of(name)
	newest, err := h.List(r.Context(), history.Filter{Last: 20})
	if err != nil {
		s.failed(w, err)
		return
	}
	if name == "" || len(newest) == 0 {
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
	if err == nil && !slices.Contains(plotted, record.By(by)) {
		err = fmt.Errorf("by is one of %v, not %q", plotted, by)
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
	}{page: s.page(name), period: during, Name: name, Choices: choices(plotted, by), Steps: choices(record.Steps, string(during.every))}
	for _, b := range branches {
		data.Rows = append(data.Rows, rowOf(name, b))
	}
	if len(branches) > 0 {
		last := slices.MaxFunc(branches, func(a, b app.BranchState) int { return a.Last.Time.Compare(b.Last.Time) })
		data.Of = render.Safe(last.Branch.String())
		data.Plot = address("/trend.svg", "name", name, "by", by, "every", string(during.every), "from", during.From, "to", during.To, "branch", last.Name, "door", last.Door)
		data.PlotAbout = fmt.Sprintf("findings of %s by %s, from %s to %s", data.Of, by, during.From, during.To)
		tallies, err := h.Tallies(r.Context(), last.Last)
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
	data.Records, data.All = recordRows(newest), address("/records", "name", name)
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
			Address: address("/record", "id", is.ID), When: moment(is.Time), Door: render.Safe(is.Door), Of: render.Safe(strings.TrimPrefix(cmp.Or(is.Ref, is.Branch, is.Kind), "refs/heads/")),
			Commit: render.Safe(fmt.Sprintf("%.8s", is.Head)), Outcome: is.Outcome, Findings: is.Findings, New: is.New,
		})
	}
	return rows
}

// mostRecords is how many verdicts a page lists.
const mostRecords = 100

func (s *Service) records(w http.ResponseWriter, r *http.Request) {
	name, outcome := r.FormValue("name"), judge.Outcome(r.FormValue("outcome"))
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
		data.Older = address("/records", "name", name, "outcome", string(outcome), "from", during.From, "to", during.To, "before", all[0].Time.Format(time.RFC3339Nano))
	}
	s.show(w, http.StatusOK, "records", data)
}

var outcomes = []judge.Outcome{judge.Open, judge.Shut, judge.Unjudged}

// record shows a verdict as the page that gate writes of one.
func (s *Service) record(w http.ResponseWriter, r *http.Request) {
	made, found, err := s.Records.Record(r.Context(), r.FormValue("id"))
	switch {
	case err != nil:
		s.failed(w, err)
		return
	case !found:
		s.trouble(w, http.StatusNotFound, "There is no such record, or it has been pruned.")
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

// mostFindings is how many findings a page lists.
const mostFindings = 500

// findings lists those of a record.
func (s *Service) findings(w http.ResponseWriter, r *http.Request) {
	made, found, err := s.Records.Record(r.Context(), r.FormValue("record"))
	switch {
	case err != nil:
		s.failed(w, err)
		return
	case !found:
		s.trouble(w, http.StatusNotFound, "There is no such record, or it has been pruned.")
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
		data.Rows = append(data.Rows, row{address("/finding", "record", made.ID, "id", f.ID), placeOf(f), render.Safe(f.Severity), render.Safe(f.Rule), render.Safe(f.Message), string(f.Standing)})
	}
	s.show(w, http.StatusOK, "findings", data)
}

func (s *Service) finding(w http.ResponseWriter, r *http.Request) {
	made, found, err := s.Records.Record(r.Context(), r.FormValue("record"))
	if err != nil {
		s.failed(w, err)
		return
	}
	at := -1
	if found {
		at = slices.IndexFunc(made.Verdict.Findings, func(f judge.Finding) bool { return f.ID == r.FormValue("id") })
	}
	if at < 0 {
		s.trouble(w, http.StatusNotFound, "There is no such finding in that record, or it has been pruned.")
		return
	}
	f := made.Verdict.Findings[at]
	type event struct{ Address, When, What, Place, Commit string }
	data := struct {
		page
		Severity, Rule, Message, Place, Standing, Branch string
		Events                                           []event
	}{page: s.page("Finding "+f.ID, repositoryLink(made.Repository), link{"findings", address("/findings", "record", made.ID)}), Severity: render.Safe(f.Severity), Rule: render.Safe(f.Rule), Message: render.Safe(f.Message), Place: placeOf(&f), Standing: string(f.Standing), Branch: render.Safe(strings.TrimPrefix(made.Branch, "refs/heads/"))}
	is, found, err := s.Records.Summary(r.Context(), made.ID)
	var life []app.LifeEvent
	if err == nil && found && is.State.Stream != 0 {
		life, err = s.Records.Life(r.Context(), is, f.ID)
	}
	if err != nil {
		s.failed(w, err)
		return
	}
	what := map[string]string{history.Came: "it came", history.Went: "it went", history.Became: "it moved, or its text changed"}
	for _, l := range life {
		e := event{Address: address("/record", "id", l.Record.ID), When: moment(l.Record.Time), What: what[l.Kind], Commit: render.Safe(fmt.Sprintf("%.8s", l.Record.Head))}
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

// trend draws the findings of a branch over time.
func (s *Service) trend(w http.ResponseWriter, r *http.Request) {
	during, err := s.period(r)
	by := r.FormValue("by")
	if err == nil && !slices.Contains(plotted, record.By(by)) {
		err = fmt.Errorf("by is one of %v, not %q", plotted, by)
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
