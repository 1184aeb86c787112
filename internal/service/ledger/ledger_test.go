package ledger

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/history"
	"zincdoor/internal/pgtest"
	"zincdoor/internal/recordfile"
)

func TestMain(m *testing.M) {
	code := m.Run()
	pgtest.Stop()
	os.Exit(code)
}

var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// eachLedger runs a test over a SQLite file and over PostgreSQL.
func eachLedger(t *testing.T, test func(t *testing.T, l *Ledger)) {
	for name, place := range map[string]func(t *testing.T) string{
		"sqlite":   func(t *testing.T) string { return filepath.Join(t.TempDir(), "records.db") },
		"postgres": func(t *testing.T) string { return pgtest.Start(t).Database(t) },
	} {
		t.Run(name, func(t *testing.T) {
			store, err := history.Open(t.Context(), place(t))
			if err != nil {
				t.Fatal(err)
			}
			defer store.Close()
			l, err := Open(t.Context(), store)
			if err != nil {
				t.Fatal(err)
			}
			test(t, l)
		})
	}
}

// TestTokens: a token counts until its end or until it is revoked, for what it is for; its secret is kept nowhere.
func TestTokens(t *testing.T) {
	eachLedger(t, func(t *testing.T, l *Ledger) {
		ctx := t.Context()
		is := &Token{Repository: "tideboard", Pull: "12", Rights: []Right{Send}, Made: now, Ends: now.Add(time.Hour)}
		text, err := l.MakeToken(ctx, is)
		if err != nil {
			t.Fatal(err)
		}
		got, err := l.Token(ctx, text, now)
		if err != nil || got.Pull != "12" || !got.May(Send, "tideboard") || got.May(Read, "tideboard") || got.May(Send, "quay") {
			t.Errorf("%+v, %v", got, err)
		}
		for _, wrong := range []string{"", is.ID, is.ID + ".", text + "x", text[:len(text)-1], "x" + text, "%." + text} {
			if _, err := l.Token(ctx, wrong, now); !errors.Is(err, ErrNoToken) {
				t.Errorf("%q: %v", wrong, err)
			}
		}
		if _, err := l.Token(ctx, text, is.Ends); !errors.Is(err, ErrNoToken) {
			t.Errorf("at its end: %v", err)
		}
		session, err := l.BeginSession(ctx, is, now.Add(time.Minute))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := l.Session(ctx, session, now); err != nil || got.ID != is.ID {
			t.Errorf("its session: %v, %v", got, err)
		}
		if _, err := l.Session(ctx, session, now.Add(time.Minute)); !errors.Is(err, ErrNoToken) {
			t.Errorf("a session that is over: %v", err)
		}
		if known, err := l.Revoke(ctx, is.ID, now); !known || err != nil {
			t.Errorf("revoking: %v, %v", known, err)
		}
		if _, err := l.Token(ctx, text, now); !errors.Is(err, ErrNoToken) {
			t.Errorf("revoked: %v", err)
		}
		if _, err := l.Session(ctx, session, now); !errors.Is(err, ErrNoToken) {
			t.Errorf("the session of one that was revoked: %v", err)
		}
		if known, err := l.Revoke(ctx, "5d01c2a7", now); known || err != nil {
			t.Errorf("revoking what isn't there: %v, %v", known, err)
		}
	})
}

// TestUploads: the same content is known, other content is refused or replaces; what serves all goes before what serves one pull request.
func TestUploads(t *testing.T) {
	eachLedger(t, func(t *testing.T, l *Ledger) {
		take := func(pull, content string, replace bool) (bool, error) {
			u := &Upload{Repository: "tideboard", Head: "a1", Name: "compiler", Pull: pull, Token: "5d01c2a7", Received: now}
			return l.Take(t.Context(), u, recordfile.Pack([]byte(content)), replace, func(*sql.Tx) error { return nil })
		}
		counts := func(pull string) string {
			t.Helper()
			all, err := l.UploadsFor(t.Context(), "tideboard", "a1", pull)
			if err != nil || len(all) > 1 {
				t.Fatal(all, err)
			}
			if len(all) == 0 {
				return ""
			}
			var content strings.Builder
			if err := l.Content(t.Context(), all[0].ID, &content); err != nil {
				t.Fatal(err)
			}
			return content.String()
		}
		for n, c := range []struct {
			pull, content string
			replace       bool
			known         bool
			err           error
			for12, forAll string
		}{
			{"12", "of a fork", false, false, nil, "of a fork", ""},
			{"12", "of a fork", false, true, nil, "of a fork", ""},
			{"12", "other", false, false, ErrOther, "of a fork", ""},
			{"", "of CI", false, false, nil, "of CI", "of CI"},
			{"", "other", false, false, ErrOther, "of CI", "of CI"},
			{"", "other", true, false, nil, "other", "other"},
			{"", "of CI", true, false, nil, "of CI", "of CI"},
		} {
			known, err := take(c.pull, c.content, c.replace)
			if known != c.known || !errors.Is(err, c.err) {
				t.Errorf("%d: known %v, %v", n, known, err)
			}
			if got := counts("12"); got != c.for12 {
				t.Errorf("%d: for pull request 12 counts %q", n, got)
			}
			if got := counts(""); got != c.forAll || counts("13") != c.forAll {
				t.Errorf("%d: for all counts %q", n, got)
			}
		}
		// Of many that come at once, one is taken.
		var all sync.WaitGroup
		var mutex sync.Mutex
		taken := 0
		for n := range 8 {
			all.Go(func() {
				u := &Upload{Repository: "tideboard", Head: "b2", Name: "compiler", Received: now}
				known, err := l.Take(context.Background(), u, recordfile.Pack([]byte{byte(n)}), false, func(*sql.Tx) error { return nil })
				mutex.Lock()
				defer mutex.Unlock()
				if err == nil && !known {
					taken++
				} else if !errors.Is(err, ErrOther) {
					t.Errorf("%v, %v", known, err)
				}
			})
		}
		all.Wait()
		if taken != 1 {
			t.Errorf("%d of 8 were taken", taken)
		}
	})
}

// TestNews: news is noted once, and found by repository and team; so are acceptances by their ends.
func TestNews(t *testing.T) {
	eachLedger(t, func(t *testing.T, l *Ledger) {
		for n, news := range []News{
			{ID: "1", Repository: "tideboard", Title: "for all", Time: now}, {ID: "2", Repository: "tideboard", Teams: []string{"tides", "fares"}, Title: "for two", Time: now.Add(1e9)},
			{ID: "3", Repository: "quay", Teams: []string{"tides2"}, Title: "for another", Time: now.Add(2e9)}, {ID: "1", Repository: "tideboard", Title: "again", Time: now},
		} {
			err := l.Atomically(t.Context(), func(tx *sql.Tx) error {
				fresh, err := AddNews(t.Context(), tx, news)
				if fresh != (n < 3) {
					t.Errorf("%d is fresh: %v", n, fresh)
				}
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		for _, c := range []struct{ repository, team, want string }{{"", "", "321"}, {"tideboard", "", "21"}, {"", "tides", "21"}, {"", "boards", "1"}, {"quay", "tides", ""}, {"", "tides2", "31"}, {"", "%", "1"}} {
			all, err := l.NewsOf(t.Context(), c.repository, c.team, 10)
			got := ""
			for _, n := range all {
				got += n.ID
			}
			if err != nil || got != c.want {
				t.Errorf("%+v: %s, %v", c, got, err)
			}
		}
		entry := func(id, path, until string) app.Acceptance {
			return app.Acceptance{ID: id, Entry: baseline.Entry{Path: path, Rule: "-W100%_x", Until: until}}
		}
		set := func(all ...app.Acceptance) {
			t.Helper()
			if err := l.SetAcceptances(t.Context(), "tideboard", "refs/heads/main", all, []string{"tides"}); err != nil {
				t.Fatal(err)
			}
		}
		set(entry("gone", "a.c", "2026-12-01"))
		set(entry("never", "core/Tide.c", ""), entry("late", "b.c", "2027-01-01"), entry("soon", "c.c", "2026-12-03"))
		for _, c := range []struct {
			until string
			want  []string
		}{{"", []string{"soon", "late", "never"}}, {"2026-12-03", []string{"soon"}}, {"2026-12-02", nil}} {
			all, err := l.Acceptances(t.Context(), "", 10)
			if c.until != "" {
				all, err = l.Ending(t.Context(), "", c.until, 10)
			}
			var got []string
			for _, a := range all {
				got = append(got, a.Entry)
			}
			if err != nil || !slices.Equal(got, c.want) {
				t.Errorf("until %s: %v, %v", c.until, got, err)
			}
		}
		for words, n := range map[string]int{"tide.c": 1, "100%_x": 3, "%": 3, "100_": 0, "'": 0} {
			if all, err := l.FindAcceptances(t.Context(), "", words, 10); err != nil || len(all) != n {
				t.Errorf("%q finds %d, %v", words, len(all), err)
			}
		}
	})
}

// TestTickets: of several who ask how a subject stands, the answer counts that was asked for last, whichever comes first.
func TestTickets(t *testing.T) {
	eachLedger(t, func(t *testing.T, l *Ledger) {
		var tickets []Ticket
		for range 3 {
			ticket, err := l.Ask(t.Context(), "tideboard", PullName("1"))
			if err != nil {
				t.Fatal(err)
			}
			tickets = append(tickets, ticket)
		}
		for _, c := range []struct {
			ticket Ticket
			head   string
			want   string
		}{{tickets[1], "second", "second"}, {tickets[0], "first", "second"}, {tickets[2], "third", "third"}, {tickets[2], "again", "again"}, {tickets[1], "second", "again"}} {
			err := l.Update(t.Context(), "tideboard", PullName("1"), func(_ *sql.Tx, s *Subject) error {
				if s.Answered(c.ticket) {
					s.Head = c.head
				}
				return nil
			})
			if err != nil {
				t.Fatal(err)
			}
			if s, err := l.Subject(t.Context(), "tideboard", PullName("1")); err != nil || s.Head != c.want {
				t.Errorf("after %s: %s, %v", c.head, s.Head, err)
			}
		}
	})
}
