package main

import (
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// board is a code host of quite another shape: forms instead of JSON, numbers for states, flat lists with answers among them, pages by
// number and by cursor, comments that can't be moved or deleted, and a budget of calls behind a 403.
type board struct {
	*httptest.Server
	mu      sync.Mutex
	token   string
	tip     string
	remarks []remark
	notes   []remark
	marks   []map[string]any
	calls   int
}

type remark struct {
	Nr     int            `json:"nr"`
	Body   string         `json:"body"`
	Who    map[string]any `json:"who"`
	File   string         `json:"file,omitempty"`
	Row    int            `json:"row,omitempty"`
	Closed int            `json:"closed"`
}

const boardRecipe = `zincdoor: host/1
name: board
address: "{where}"
variables: {where: "http://localhost:1", project: nothing}
headers: {Key: "{token}"}
self: keeper-bot
mark: "(door-mark {mark})"
words:
  outcome: {open: 1, shut: 2, unjudged: 3}
wait: {codes: 403, header: Budget, is: 0, for: Budget-Back}
misplaced: 400
acts:
  read-pull: {call: "GET /sets/{project:path}/{pull}", fields: {head: $.set.tip}}
  list-comments:
    call: GET /remarks?project={project}&nr={pull}&sheet={page}
    paging: {by: page, first: 0, size: 2}
    each: $.remarks[*]
    fields: {id: $.nr, text: $.body, author: $.who.login, path: $.file, line: $.row, resolved: {at: $.closed, is: 1}}
  create-comment:
    call: POST /remarks
    form: {project: "{project}", nr: "{pull}", body: "{text}", file: "{path}", row: "{line}", rows: "{start-line?}", rev: "{commit}"}
  update-comment: {call: POST /remarks/edit, form: {nr: "{id}", body: "{text}"}}
  resolve-comment: {call: POST /remarks/close, form: {nr: "{id}", closed: 1}}
  reopen-comment: {call: POST /remarks/close, form: {nr: "{id}", closed: 0}}
  list-summary:
    call: GET /notes?nr={pull}&sheet={page}
    paging: {by: page, first: 0, size: 2}
    each: $.remarks[*]
    fields: {id: $.nr, text: $.body, author: $.who.login}
  create-summary: {call: POST /notes, form: {body: "{text}"}}
  update-summary: {call: POST /notes/edit, form: {nr: "{id}", body: "{text}"}}
  list-status:
    call: GET /marks/{commit}?from={cursor?}
    paging: {by: cursor, next: $.more}
    newest: first
    each: $.marks[*]
    fields: {status: $.label, outcome: $.value, text: $.words}
  set-status:
    call: POST /marks/{commit}
    form: {label: "{status}", value: "{outcome}", words: "{text}", more: "{link?}"}
`

func newBoard(t *testing.T) *board {
	b := &board{token: "board-key-5ab31e"}
	mux := http.NewServeMux()
	reply := func(w http.ResponseWriter, value any) { json.NewEncoder(w).Encode(value) }
	list := func(of *[]remark) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			sheet, _ := strconv.Atoi(r.FormValue("sheet"))
			from := min(2*sheet, len(*of))
			reply(w, map[string]any{"remarks": (*of)[from:min(from+2, len(*of))]})
		}
	}
	edit := func(of *[]remark, do func(*remark, *http.Request)) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			for i := range *of {
				if strconv.Itoa((*of)[i].Nr) == r.FormValue("nr") {
					do(&(*of)[i], r)
					reply(w, "done")
					return
				}
			}
			w.WriteHeader(http.StatusGone)
		}
	}
	bot := map[string]any{"login": "keeper-bot"}
	mux.HandleFunc("GET /sets/quay/tideboard/{nr}", func(w http.ResponseWriter, r *http.Request) {
		reply(w, map[string]any{"set": map[string]any{"tip": b.tip}})
	})
	mux.HandleFunc("GET /remarks", list(&b.remarks))
	mux.HandleFunc("GET /notes", list(&b.notes))
	mux.HandleFunc("POST /remarks", func(w http.ResponseWriter, r *http.Request) {
		row, _ := strconv.Atoi(r.PostFormValue("row"))
		if row == 15 || r.PostFormValue("project") != "quay/tideboard" || r.PostFormValue("rev") != b.tip || r.PostForm.Has("rows") {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		b.remarks = append(b.remarks, remark{Nr: 100 + len(b.remarks), Body: r.PostFormValue("body"), Who: bot, File: r.PostFormValue("file"), Row: row})
		b.remarks = append(b.remarks, remark{Nr: 100 + len(b.remarks), Body: "answer", Who: map[string]any{"login": "noor"}})
		reply(w, "done")
	})
	mux.HandleFunc("POST /notes", func(w http.ResponseWriter, r *http.Request) {
		b.notes = append(b.notes, remark{Nr: 900 + len(b.notes), Body: r.PostFormValue("body"), Who: bot})
		reply(w, "done")
	})
	setBody := func(m *remark, r *http.Request) { m.Body = r.PostFormValue("body") }
	mux.HandleFunc("POST /remarks/edit", edit(&b.remarks, setBody))
	mux.HandleFunc("POST /notes/edit", edit(&b.notes, setBody))
	mux.HandleFunc("POST /remarks/close", edit(&b.remarks, func(m *remark, r *http.Request) { m.Closed, _ = strconv.Atoi(r.PostFormValue("closed")) }))
	mux.HandleFunc("POST /marks/{rev}", func(w http.ResponseWriter, r *http.Request) {
		value, err := strconv.Atoi(r.PostFormValue("value"))
		if err != nil || r.Header.Get("Content-Type") != "application/x-www-form-urlencoded" {
			w.WriteHeader(http.StatusTeapot)
			return
		}
		b.marks = append([]map[string]any{{"label": r.PostFormValue("label"), "value": value, "words": r.PostFormValue("words"), "rev": r.PathValue("rev")}}, b.marks...)
		reply(w, "done")
	})
	mux.HandleFunc("GET /marks/{rev}", func(w http.ResponseWriter, r *http.Request) { // one a page
		from, _ := strconv.Atoi(r.FormValue("from"))
		var own []map[string]any
		for _, m := range b.marks {
			if m["rev"] == r.PathValue("rev") {
				own = append(own, m)
			}
		}
		more := ""
		if from+1 < len(own) {
			more = strconv.Itoa(from + 1)
		}
		reply(w, map[string]any{"marks": own[min(from, len(own)):min(from+1, len(own))], "more": more})
	})
	b.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		defer b.mu.Unlock()
		if r.Header.Get("Key") != b.token {
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprintf(w, "no key: %s", r.Header.Get("Key"))
			return
		}
		if b.calls++; b.calls%7 == 0 {
			w.Header().Set("Budget", "0")
			w.Header().Set("Budget-Back", strconv.FormatInt(time.Now().Unix(), 10))
			w.WriteHeader(http.StatusForbidden)
			return
		}
		mux.ServeHTTP(w, r)
	}))
	b.Config.ErrorLog = log.New(io.Discard, "", 0)
	b.StartTLS()
	t.Cleanup(b.Close)
	return b
}

// TestAnotherHost: nothing of the stand-in is built in: a host of another shape, by its own recipe, over TLS with a root of its own.
func TestAnotherHost(t *testing.T) {
	t.Parallel()
	b := newBoard(t)
	q := &quay{sandbox: repository(t)}
	q.write(".zincdoor/policy.yaml", `zincdoor: 1
reports: {compiler: {file: build/r.txt, as: diagnostics, tool: gcc, clean: empty}}
hosts:
  board:
`+strings.ReplaceAll(strings.TrimPrefix("\n"+boardRecipe, "\nzincdoor: host/1\nname: board"), "\n", "\n    ")+`
doors: {merge: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}}
`)
	q.write(".gitignore", "build/\n")
	q.commit("Policy")
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3, 8, 15)
	b.tip = q.commit("Begin")
	roots := filepath.Join(t.TempDir(), "roots.pem")
	os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: b.Certificate().Raw}), 0o644)
	send := func(more ...string) (string, string, int) {
		t.Helper()
		q.env = []string{"BOARD_KEY=" + b.token}
		out, errs, code := q.run(append([]string{"review", "send", "--into", "main", "--host", "board", "--set", "where=" + b.URL, "--set", "project=quay/tideboard", "--pull", "7", "--token-from", "BOARD_KEY", "--ca", roots, "--quiet"}, more...)...)
		if strings.Contains(out+errs, b.token) {
			t.Errorf("the token is in the output\n%s%s", out, errs)
		}
		return out, errs, code
	}
	is := func(when string, want ...string) {
		t.Helper()
		var got []string
		for _, m := range b.remarks {
			if m.Who["login"] == "keeper-bot" {
				text, _, _ := strings.Cut(m.Body, "\n\n(door-mark")
				got = append(got, fmt.Sprintf("%s:%d %d %s", m.File, m.Row, m.Closed, strings.Join(strings.Fields(text), " ")))
			}
		}
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Fatalf("%s, the board has\n%s\nnot\n%s", when, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	const says, gone = "**warning** `-Wunused` unused", "**Gone** from the latest verdict. It was: "
	if out, errs, code := send(); code != 1 || !strings.Contains(errs, "core/ebb.c:15") {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	is("posted", "core/ebb.c:3 0 "+says, "core/ebb.c:8 0 "+says)
	if len(b.notes) != 1 || !strings.Contains(b.notes[0].Body, "line 15") || b.marks[0]["value"] != 2 || b.marks[0]["label"] != "zincdoor merge" {
		t.Fatalf("notes %v, marks %v", b.notes, b.marks)
	}
	if out, errs, code := send(); code != 1 || !strings.Contains(out, "nothing to do") {
		t.Fatalf("again: %d\n%s%s", code, out, errs)
	}
	q.ebb("core/ebb.c", 6, nil, 3)
	b.tip = q.commit("One fixed, one moved")
	send()
	is("one fixed", "core/ebb.c:3 0 "+says, "core/ebb.c:8 1 "+gone+says) // this host moves them by itself, or not
	q.ebb("core/ebb.c", 6, nil, 8)
	b.tip = q.commit("It came back, and the other went")
	if out, errs, code := send(); code != 1 {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	is("came back", "core/ebb.c:3 1 "+gone+says, "core/ebb.c:8 0 "+says)
	q.env = []string{"BOARD_KEY=secret-of-mine"}
	out, errs, code := q.run("review", "send", "--into", "main", "--host", "board", "--set", "where="+b.URL, "--set", "project=quay/tideboard", "--pull", "7", "--token-from", "BOARD_KEY", "--ca", roots, "--quiet")
	if code != 2 || !strings.Contains(errs, "401") || strings.Contains(out+errs, "secret-of-mine") {
		t.Errorf("a wrong token: %d\n%s%s", code, out, errs)
	}
	if _, errs, code := q.run("review", "send", "--into", "main", "--host", "board", "--set", "where="+b.URL, "--set", "project=quay/tideboard", "--pull", "7", "--token-from", "BOARD_KEY", "--quiet"); code != 2 || !strings.Contains(errs, "--ca FILE") {
		t.Errorf("without the root: %d\n%s", code, errs)
	}
}

// TestTokenStaysAway: no redirect, linter or record gets the token.
func TestTokenStaysAway(t *testing.T) {
	t.Parallel()
	const token = "token-7c1f9e"
	var stray []string
	var mu sync.Mutex
	thief := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		stray = append(stray, fmt.Sprint(r.Header, r.URL))
		fmt.Fprint(w, `{"head": "0000000000000000000000000000000000000000"}`)
	}))
	defer thief.Close()
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, strings.Replace(thief.URL, "127.0.0.1", "localhost", 1)+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	defer host.Close()
	s := repository(t)
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
history: {record: true}
reports: {look: {run: [sh, -c, "env > seen; tr '\\0' '\\n' < /proc/$PPID/cmdline > called; cp seen called `+s.dir+`/; exit 0"], as: diagnostics, clean: empty}}
doors: {merge: {judges: branch, limits: [{count: new, most: 0}]}}
`)
	s.commit("Policy")
	s.git("switch", "-q", "-c", "ebb")
	s.write("core/ebb.c", lines(3))
	s.commit("Ebb")
	recipe := filepath.Join(t.TempDir(), "host.yaml")
	os.WriteFile(recipe, []byte(`zincdoor: host/1
name: thief
address: `+host.URL+`
variables: {user: ann}
headers: {Key: "{token}", Authorization: "Basic {basic}", Cookie: "k={token}"}
acts:
  read-pull: {call: "GET /pulls/{pull}", fields: {head: $.head}}
  set-status: {call: "POST /s", body: {state: "{outcome}"}}
`), 0o644)
	s.env = []string{"ZINCDOOR_TOKEN=" + token}
	out, errs, _ := s.run("review", "send", "--into", "main", "--host", recipe, "--pull", "1", "--run")
	where := map[string]string{"the output": out + errs, "what the other host got": fmt.Sprint(stray), "a linter's environment": s.read("seen"), "the list of processes": s.read("called")}
	filepath.WalkDir(filepath.Join(s.dir, ".git", "zincdoor"), func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			data, _ := os.ReadFile(path)
			where["the file "+path] = string(data)
		}
		return nil
	})
	if len(stray) == 0 || len(where) < 5 {
		t.Fatalf("nothing was redirected, or nothing recorded: %s%s", out, errs)
	}
	for what, text := range where {
		for _, secret := range []string{token, "YW5uOnRva2Vu", url.QueryEscape(token)} {
			if strings.Contains(text, secret) {
				t.Errorf("the token is in %s: %s", what, text)
			}
		}
	}
	if !strings.Contains(errs, "307") {
		t.Errorf("what changes something was redirected: %s", errs)
	}
}

// TestMayNotRead: a token that may not read comments posts none, for it can't know what is there, and sets the status all the same.
func TestMayNotRead(t *testing.T) {
	t.Parallel()
	for _, refuses := range []string{"/me", "/comments"} {
		s := repository(t)
		s.write("core/ebb.c", lines(3))
		head := s.commit("Ebb")
		s.write("r.txt", warn("core/ebb.c", 2))
		var mu sync.Mutex
		var done []string
		host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			done = append(done, r.Method+" "+r.URL.Path)
			switch r.URL.Path {
			case refuses:
				w.WriteHeader(http.StatusForbidden)
			case "/comments":
				fmt.Fprint(w, "[]")
			default:
				fmt.Fprintf(w, `{"head": %q, "name": "bot"}`, head)
			}
		}))
		recipe := filepath.Join(t.TempDir(), "host.yaml")
		os.WriteFile(recipe, []byte(`zincdoor: host/1
name: closed
address: `+host.URL+`
acts:
  read-self: {call: GET /me, fields: {name: $.name}}
  read-pull: {call: "GET /pulls/{pull}", fields: {head: $.head}}
  list-comments: {call: GET /comments, each: "$[*]", fields: {id: $.id, text: $.text, author: $.who}}
  create-comment: {call: POST /comments}
  update-comment: {call: PUT /comments}
  set-status: {call: PUT /status}
`), 0o644)
		out, errs, code := s.run("review", "send", "--tree", "HEAD", "--report", "gnu=r.txt", "--host", recipe, "--pull", "1")
		host.Close()
		all := strings.Join(done, ", ")
		if code != 1 || !strings.Contains(errs, "the token may not") || strings.Contains(all, "POST") || !strings.Contains(all, "PUT /status") {
			t.Errorf("where %s is refused: %d, %s\n%s%s", refuses, code, all, out, errs)
		}
	}
}
