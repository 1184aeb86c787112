package service

import (
	"encoding/xml"
	"net/http"
	"strings"

	"golang.org/x/tools/blog/atom"

	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
)

// mostNews is how many entries a feed has.
const mostNews = 50

// feed shows what was worth a notice as an Atom feed (RFC 4287): of a repository, of a team, of both, or of all.
func (s *Service) feed(w http.ResponseWriter, r *http.Request) {
	name, team := r.FormValue("repository"), r.FormValue("team")
	if only := s.seen(r); only != "" && name == "" {
		name = only
	}
	if !s.sees(r, name) {
		plain(w, http.StatusNotFound, "nothing is recorded of that\n")
		return
	}
	all, err := s.Ledger.NewsOf(r.Context(), name, team, mostNews)
	if err != nil {
		s.failed(w, err)
		return
	}
	at := s.Settings.Address
	if at == "" {
		at = "http://" + r.Host
		if s.secure(r) {
			at = "https://" + r.Host
		}
	}
	title := "Zinc Door"
	for _, part := range []string{name, team} {
		if part != "" {
			title += ": " + render.Safe(part)
		}
	}
	self := at + address.Of("/feed.atom", "repository", name, "team", team)
	feed := atom.Feed{Title: title, ID: self, Updated: atom.Time(s.Now().UTC()), Link: []atom.Link{{Rel: "self", Href: self}}, Author: &atom.Person{Name: "Zinc Door"}}
	if len(all) > 0 {
		feed.Updated = atom.Time(all[0].Time)
	}
	for _, n := range all {
		feed.Entry = append(feed.Entry, &atom.Entry{
			Title: render.Safe(n.Title), ID: "urn:zincdoor:news:" + n.ID, Link: []atom.Link{{Rel: "alternate", Href: at + n.Page()}},
			Published: atom.Time(n.Time), Updated: atom.Time(n.Time), Content: &atom.Text{Type: "text", Body: safeLines(n.Body)},
		})
	}
	text, err := xml.MarshalIndent(feed, "", "  ")
	if err != nil {
		s.failed(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/atom+xml; charset=utf-8")
	w.Write(append([]byte(xml.Header), append(text, '\n')...))
}

// safeLines is a text of several lines for people.
func safeLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = render.Safe(lines[i])
	}
	return strings.Join(lines, "\n")
}
