package service

import (
	"bytes"
	"cmp"
	"embed"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"sync"
	"time"

	"zincdoor/internal/core/record"
	"zincdoor/internal/render"
)

//go:embed pages
var embedded embed.FS

// templates are the pages by their names, each with the layout.
var templates = sync.OnceValue(func() map[string]*template.Template {
	all := map[string]*template.Template{}
	for _, name := range []string{"repositories", "repository", "records", "findings", "finding", "trouble", "changes", "change", "acceptances", "search", "files", "work", "sign-in"} {
		all[name] = template.Must(template.ParseFS(embedded, "pages/layout.html", "pages/"+name+".html"))
	}
	return all
})

func style(w http.ResponseWriter, _ *http.Request) {
	part(w, "style.css", "text/css", []byte(render.Palette))
}

func comfort(w http.ResponseWriter, _ *http.Request) { part(w, "comfort.js", "text/javascript", nil) }

// part answers with a part of pages, which stays as it is as long as the program does, behind something more.
func part(w http.ResponseWriter, name, kind string, before []byte) {
	data, err := embedded.ReadFile("pages/" + name)
	if err != nil {
		panic(err) // it is part of the program
	}
	w.Header().Set("Content-Type", kind+"; charset=utf-8")
	w.Header().Set("Cache-Control", "max-age=3600")
	w.Write(append(before, data...))
}

// page is what every page has.
type page struct {
	Title string
	Above []link
	Made  string
	Leave bool // a session can be ended
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
		s.Log.Error("page", "name", name, "error", err.Error())
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(code)
	w.Write(out.Bytes())
}

// troubles are the headings of pages that say why there is no other.
var troubles = map[int]string{http.StatusBadRequest: "The address is wrong", http.StatusForbidden: "Not for this token", http.StatusNotFound: "There is no such page", http.StatusInternalServerError: "This page can't be shown now"}

// trouble says why there is no page.
func (s *Service) trouble(w http.ResponseWriter, code int, why string) {
	s.show(w, code, "trouble", struct {
		page
		Why string
	}{s.page(troubles[code]), why})
}

// failed answers a request whose data can't be read.
func (s *Service) failed(w http.ResponseWriter, err error) {
	s.Log.Error("store", "error", err.Error())
	s.trouble(w, http.StatusInternalServerError, "What was recorded can't be read at the moment.")
}

func (s *Service) page(title string, above ...link) page {
	return page{Title: render.Safe(title), Above: above, Made: "This page shows what was recorded until " + moment(s.Now()) + ".", Leave: s.Settings.ByToken}
}

// moment is a time for people.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// workTime is how long something takes to put right, "" where nobody has said.
func workTime(minutes int) string {
	if minutes == 0 {
		return ""
	}
	return render.WorkTime(minutes)
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
