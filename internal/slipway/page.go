package slipway

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"
)

//go:embed page.html
var pageText string

//go:embed index.html
var indexText string

var (
	pageTemplate  = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })
	indexTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("index").Parse(indexText)) })
)

// The page of a pull request.
type (
	pullPage struct {
		Repository string
		Pull       *pull
		Statuses   []status
		Needed     []map[string]string // statuses that aren't good, for a merge
		Guarded    bool
		Whole      []shownThread // on no line
		Files      []shownFile
		Away       []shownThread // on lines that aren't shown
	}
	shownFile struct {
		Name  string
		Lines []shownLine
	}
	shownLine struct {
		Kind    string // add, remove, same, hunk
		Old     int
		New     int
		Text    string
		Threads []shownThread
	}
	shownThread struct {
		Thread   *thread
		Old      bool // it stands on an older head
		Comments []shownComment
	}
	shownComment struct {
		*comment
		HTML template.HTML
	}
)

func escaped(name string) string { return url.PathEscape(name) }

// shown is a thread as the page shows it. What comments say is Markdown without HTML of its own.
func shown(p *pull, t *thread) shownThread {
	s := shownThread{Thread: t, Old: t.On != nil && t.On.Commit != p.Head}
	for _, c := range t.Comments {
		s.Comments = append(s.Comments, shownComment{c, markdown(c.Text)})
	}
	return s
}

func (s *Slipway) page(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	repo, err := s.repository(r.PathValue("repository"))
	var p *pull
	if err == nil {
		p, err = repo.pull(r.PathValue("pull"))
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusNotFound)
		return
	}
	show := pullPage{Repository: repo.Name, Pull: p, Statuses: repo.Statuses[p.Head], Guarded: len(repo.Guards[p.Target]) > 0, Needed: lacking(repo, p.Head, repo.Guards[p.Target])}
	_, diff, err := s.diff(repo, p, p.Head)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	show.Files = filesOf(diff)
	for _, t := range p.Threads {
		switch one := shown(p, t); {
		case t.On == nil:
			show.Whole = append(show.Whole, one)
		case !show.put(t.On, one):
			show.Away = append(show.Away, one)
		}
	}
	sendPage(w, pageTemplate(), show)
}

func (s *Slipway) index(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	sendPage(w, indexTemplate(), s.state.Repositories)
}

func sendPage(w http.ResponseWriter, t *template.Template, data any) {
	var out bytes.Buffer
	if err := t.Execute(&out, data); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.Write(out.Bytes())
}

// put shows a thread under its last line; false where that line isn't shown.
func (p *pullPage) put(on *place, t shownThread) bool {
	for f := range p.Files {
		if p.Files[f].Name != on.Path {
			continue
		}
		for l := range p.Files[f].Lines {
			line := &p.Files[f].Lines[l]
			if on.Side == "new" && line.New == on.Last && line.Kind != "remove" || on.Side == "old" && line.Old == on.Last && line.Kind == "remove" {
				line.Threads = append(line.Threads, t)
				return true
			}
		}
	}
	return false
}

// filesOf reads a diff for people.
func filesOf(diff string) (files []shownFile) {
	old, new, inHunk := 0, 0, false
	for _, text := range strings.Split(strings.TrimSuffix(diff, "\n"), "\n") {
		if strings.HasPrefix(text, "diff --git ") {
			_, name, _ := strings.Cut(text, " b/")
			files, inHunk = append(files, shownFile{Name: name}), false
			continue
		}
		if len(files) == 0 {
			continue
		}
		f := &files[len(files)-1]
		if header, ok := strings.CutPrefix(text, "@@ -"); ok {
			inHunk = true
			o, rest, _ := strings.Cut(header, " +")
			n, _, _ := strings.Cut(rest, " ")
			old, new = leading(o), leading(n)
			f.Lines = append(f.Lines, shownLine{Kind: "hunk", Text: text})
			continue
		}
		if !inHunk || text == "" {
			if name, ok := strings.CutPrefix(text, "+++ b/"); ok && !inHunk {
				f.Name = strings.TrimSuffix(name, "\t")
			}
			continue
		}
		line := shownLine{Old: old, New: new, Text: text[1:]}
		switch text[0] {
		case '+':
			line.Kind, line.Old = "add", 0
			new++
		case '-':
			line.Kind, line.New = "remove", 0
			old++
		case ' ':
			line.Kind = "same"
			old++
			new++
		default:
			continue
		}
		f.Lines = append(f.Lines, line)
	}
	return files
}

// leading is the number that a text begins with.
func leading(text string) (n int) {
	for _, c := range text {
		if c < '0' || c > '9' {
			break
		}
		n = n*10 + int(c-'0')
	}
	return n
}
