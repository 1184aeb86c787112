package codehost

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
	"zincdoor/internal/policyfile"
)

const token = "tok/en+7c1f"

// hostOf makes a host of a recipe's acts and of what else it says, that a handler answers for.
func hostOf(t *testing.T, handler http.HandlerFunc, acts, more string) *Host {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	h, err := New(recipeOf(t, server.URL, acts, more), Settings{Token: token, Patience: time.Second, Values: map[string]string{"pull": "7", "repository": "quay/tide board"}})
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func recipeOf(t *testing.T, address, acts, more string) *policy.Host {
	t.Helper()
	text := "zincdoor: host/1\nname: quay\naddress: " + address + "\nself: bot\nheaders: {Key: '{token}'}\n" + more + "\nacts:\n  read-pull: {call: 'GET /pulls/{pull}', fields: {head: $.head}}\n  set-status: {call: 'PUT /s/{commit}/{status}', body: {state: '{outcome}', link: '{link?}', text: '{text}'}}\n" + acts
	r, err := policyfile.ReadHost("quay.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const comments = "  list-comments: {call: 'GET /c?%s', paging: {by: %s}, each: '$.c[*]', fields: {id: $.id, text: $.t, author: $.a, resolved: $.r, line: $.l}}\n"

func TestPages(t *testing.T) {
	page := func(ids ...int) string {
		var all []string
		for _, id := range ids {
			all = append(all, fmt.Sprintf(`{"id": %d, "t": "says", "a": "bot", "r": %v, "l": %d}`, id, id%2 == 0, id))
		}
		return strings.Join(all, ",")
	}
	for _, c := range []struct {
		name, query, paging string
		answer              func(w http.ResponseWriter, r *http.Request)
		want                string
	}{
		{"link", "n=2", "link", func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Query().Get("from") == "" {
				w.Header().Add("Link", `</c?from=0>; rel="first", </c?n=2&from=2>; rel="next prefetch"`)
				fmt.Fprintf(w, `{"c": [%s]}`, page(1, 2))
			} else {
				fmt.Fprintf(w, `{"c": [%s]}`, page(3))
			}
		}, "1 2 3"},
		{"number", "p={page}", "page, first: 0", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, `{"c": [%s]}`, map[string]string{"0": page(1), "1": page(2)}[r.URL.Query().Get("p")])
		}, "1 2"},
		{"cursor", "c={cursor?}&z=1", "cursor, next: $.more.at", func(w http.ResponseWriter, r *http.Request) {
			if c := r.URL.Query().Get("c"); r.URL.RawQuery == "z=1" {
				fmt.Fprintf(w, `{"c": [%s], "more": {"at": "b&c"}}`, page(1))
			} else if c == "b&c" {
				fmt.Fprintf(w, `{"c": [%s], "more": null}`, page(2))
			}
		}, "1 2"},
		{"elsewhere", "", "link", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", `<http://elsewhere.example/c>; rel=next`)
			fmt.Fprintf(w, `{"c": [%s]}`, page(1))
		}, "the next page is at another host"},
		{"in a circle", "", "link", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", `</c>; rel=next`)
			fmt.Fprintf(w, `{"c": [%s]}`, page(1))
		}, "round in a circle"},
		{"a field lacks", "", "link", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"c": [{"id": 1}]}`) }, "nothing for author at $.a"},
		{"no JSON", "", "link", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `<html>`) }, "what isn't JSON"},
	} {
		h := hostOf(t, func(w http.ResponseWriter, r *http.Request) { c.answer(w, r) }, fmt.Sprintf(comments, c.query, c.paging), "")
		all, err := h.Comments(context.Background())
		got := fmt.Sprint(err)
		if err == nil {
			var ids []string
			for _, p := range all {
				ids = append(ids, p.ID)
				if p.Resolved != (p.Line%2 == 0) || p.Thread != p.ID || !p.Answered {
					t.Errorf("%s: %+v", c.name, p)
				}
			}
			got = strings.Join(ids, " ")
		}
		if !strings.Contains(got, c.want) || err == nil && got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestAnswers: what each kind of answer comes to, and how often the host was asked.
func TestAnswers(t *testing.T) {
	const more = "wait: [{codes: [429]}, {codes: 403, header: Left, is: 0, for: Back}]\nmisplaced: 422\ngone: [404, 410]"
	write, read := review.Act{Kind: policy.SetStatus, Commit: "c", Status: "s", Outcome: judge.Open}, review.Act{}
	type reply struct {
		code    int
		headers []string // name, value
		cut     bool
	}
	soon := fmt.Sprint(time.Now().Unix())
	for _, c := range []struct {
		name    string
		act     review.Act
		replies []reply
		kind    error
		text    string // of the error, "" for none
		calls   int
	}{
		{"done", write, []reply{{code: 204}}, nil, "", 1},
		{"refused", write, []reply{{code: 403}}, ErrRefused, "answers 403", 1},
		{"gone", write, []reply{{code: 410}}, ErrGone, "answers 410", 1},
		{"asked to wait", write, []reply{{429, []string{"Retry-After", "0"}, false}, {code: 200}}, nil, "", 2},
		{"asked to wait by a header", write, []reply{{403, []string{"Left", "0", "Back", soon}, false}, {code: 200}}, nil, "", 2},
		{"asked to wait until a date", write, []reply{{429, []string{"Retry-After", "Wed, 21 Oct 2015 07:28:00 GMT"}, false}, {code: 200}}, nil, "", 2},
		{"asked to wait too long", write, []reply{{429, []string{"Retry-After", "3600"}, false}}, nil, "asks to wait 1h0m0s", 1},
		{"cut off", write, []reply{{code: 200, cut: true}}, ErrLost, "no answer", 1},
		{"broken", write, []reply{{code: 502}}, ErrLost, "answers 502", 1},
		{"reading, broken and cut", read, []reply{{code: 502}, {code: 200, cut: true}, {code: 200}}, nil, "", 3},
		{"reading, not there", read, []reply{{code: 404}}, ErrGone, "answers 404", 1},
		{"sent elsewhere", write, []reply{{302, []string{"Location", "/other"}, false}}, nil, "sends to /other", 1},
		{"no such call", write, []reply{{code: 405}}, nil, "answers 405: the token is ***", 1},
		{"a wrong token", write, []reply{{code: 401}}, nil, "doesn't take the token", 1},
	} {
		calls := 0
		h := hostOf(t, func(w http.ResponseWriter, r *http.Request) {
			is := c.replies[min(calls, len(c.replies)-1)]
			calls++
			if is.cut {
				connection, _, _ := w.(http.Hijacker).Hijack()
				fmt.Fprint(connection, "HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\n{}")
				connection.Close()
				return
			}
			for i := 0; i < len(is.headers); i += 2 {
				w.Header().Set(is.headers[i], is.headers[i+1])
			}
			w.WriteHeader(is.code)
			if is.code == 200 {
				fmt.Fprint(w, `{"head": "c"}`)
			} else if is.code != 204 {
				fmt.Fprint(w, "the token is "+r.Header.Get("Key"))
			}
		}, "", more)
		err := func() error {
			if c.act.Kind == "" {
				_, err := h.Pull(context.Background())
				return err
			}
			return h.Do(context.Background(), c.act)
		}()
		switch {
		case c.text == "" && err != nil, c.text != "" && (err == nil || !strings.Contains(err.Error(), c.text)), c.kind != nil && !errors.Is(err, c.kind):
			t.Errorf("%s: %v", c.name, err)
		case err != nil && strings.Contains(err.Error(), token):
			t.Errorf("%s: the token is in %v", c.name, err)
		case calls != c.calls:
			t.Errorf("%s: asked %d times, not %d", c.name, calls, c.calls)
		}
	}
}

func TestRequests(t *testing.T) {
	h, err := New(recipeOf(t, "https://quay.example/api/", `  list-comments: {call: 'GET /r/{repository}/{repository:path}?x={pull}&l={link?}', each: '$', fields: {id: $, text: $, author: $}}
  update-comment: {call: 'PUT /u/{id}'}
  create-comment: {call: 'POST /c', form: {t: '{text}', l: '{line}', s: '{start-line?}', b: 'is {{so}'}}
`, "words: {outcome: {open: 1, shut: 2, unjudged: '3'}}"), Settings{Token: token, Values: map[string]string{"pull": "7&x", "repository": "quay/tide board"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		act  review.Act
		want string
	}{
		{review.Act{Kind: policy.ListComments}, "GET https://quay.example/api/r/quay%2Ftide%20board/quay/tide%20board?x=7%26x "},
		{review.Act{Kind: policy.SetStatus, Commit: "c", Status: "door/a b", Outcome: judge.Shut, Text: `a "b"` + "\n"}, `PUT https://quay.example/api/s/c/door%2Fa%20b {"state":2,"text":"a \"b\"\n"}`},
		{review.Act{Kind: policy.SetStatus, Commit: "c", Status: "..", Outcome: judge.Shut}, `the recipe doesn't fit the host: set-status: ".." can't be a part of an address `},
		{review.Act{Kind: policy.SetStatus, Commit: "c", Status: "s", Outcome: judge.Unjudged, Link: "https://x.example/?a=<b>"}, `PUT https://quay.example/api/s/c/s {"state":"3","link":"https://x.example/?a=<b>","text":""}`},
		{review.Act{Kind: policy.CreateComment, Text: "a&b=c\u2028", Line: 4, Start: 2}, "POST https://quay.example/api/c t=a%26b%3Dc%E2%80%A8&l=4&s=2&b=is+%7Bso%7D"},
		{review.Act{Kind: policy.CreateComment, Text: "a", Line: 4, Start: 4}, "POST https://quay.example/api/c t=a&l=4&b=is+%7Bso%7D"},
		{review.Act{Kind: policy.CreateComment, Text: "a"}, "the recipe doesn't fit the host: create-comment: {line} has no value "},
	} {
		call, body := h.Sample(c.act)
		if got := call + " " + body; got != c.want {
			t.Errorf("%s: %s, want %s", c.act.Kind, got, c.want)
		}
	}
	for address, want := range map[string]string{
		"http://quay.example": "unencrypted", "https://ann:x@quay.example": "without a name and a password", "quay": "is one like https://", "http://127.0.0.1:1": "", "http://[::1]:1/x": "", "http://localhost": "",
	} {
		_, err := New(recipeOf(t, "https://quay.example", "", ""), Settings{Token: token, Address: address})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", address, err)
		}
	}
	if _, err := New(recipeOf(t, "https://quay.example", "", ""), Settings{Roots: []byte("none")}); err == nil || !strings.Contains(err.Error(), "no certificate") {
		t.Errorf("roots without a certificate: %v", err)
	}
}

func FuzzNextLink(f *testing.F) {
	f.Add(`<https://a.example/?p=2>; rel="next", <b>; rel=last`)
	f.Add(`<a>;rel=next;title="<"`)
	f.Fuzz(func(t *testing.T, header string) { nextLink([]string{header}) })
}
