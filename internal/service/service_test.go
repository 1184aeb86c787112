package service

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/service/address"
	"zincdoor/internal/service/ledger"
)

var today = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// state is a state of a repository's main, so many weeks ago, with findings of some ids.
func state(repository string, ago int, ids ...string) *record.Record {
	v := judge.Verdict{
		Subject: judge.Subject{Kind: "push", Ref: "refs/heads/main", Head: fmt.Sprintf("%040d", ago), Files: 1}, Door: "push", Mode: "enforce", Outcome: judge.Open, Enforced: judge.Open,
		Today: "2026-11-23", Ladder: []string{"error", "warning", "note"}, Totals: judge.Totals{Findings: len(ids), By: map[judge.Standing]int{judge.Existing: len(ids)}, DebtBy: map[judge.Standing]int{}},
	}
	for i, id := range ids {
		v.Findings = append(v.Findings, judge.Finding{
			Finding: &finding.Finding{Tool: "gcc", Rule: "-Wunused", Level: finding.Warning, Path: "core/tide.c", Message: id, Region: finding.Region{Line: i + 1}, Occurrences: 1, Sources: []string{"compiler"}},
			ID:      id, Severity: "warning", Place: change.Elsewhere, Status: judge.Status{Standing: judge.Existing, EntryID: id},
		})
	}
	r := &record.Record{Repository: repository, Branch: "refs/heads/main", Time: today.AddDate(0, 0, -7*ago), Verdict: v, Tallies: map[record.By][]record.Tally{}}
	r.Tallies[record.BySeverity] = record.Count(v.Findings, record.Names(record.BySeverity, nil))
	return r
}

// serving puts records into a new store, and serves it.
func serving(t testing.TB, place string, states ...*record.Record) http.Handler {
	t.Helper()
	store, err := history.Open(context.Background(), place)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range states {
		if err := store.Put(context.Background(), r, nil); err != nil {
			t.Fatal(err)
		}
	}
	store.Close()
	records, err := app.OpenRecords(context.Background(), filepath.Dir(place), app.Place{File: place})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	kept, err := ledger.Open(context.Background(), records.Store())
	if err != nil {
		t.Fatal(err)
	}
	return New(Options{Records: records, Ledger: kept, Now: func() time.Time { return today }}).Handler()
}

func get(h http.Handler, path string) (code int, body string) {
	answer := httptest.NewRecorder()
	h.ServeHTTP(answer, httptest.NewRequest(http.MethodGet, path, nil))
	return answer.Code, answer.Body.String()
}

// TestLife: a finding's page tells when it came and went, whichever state it is looked at in.
func TestLife(t *testing.T) {
	place := filepath.Join(t.TempDir(), "records.db")
	const kept, gone = "a1b2c3d4e5f60718", "b1b2c3d4e5f60718"
	h := serving(t, place, state("tideboard", 3, kept), state("tideboard", 2, kept, gone), state("tideboard", 1, kept), state("quay", 1))
	store, err := history.OpenThere(context.Background(), place)
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	all, err := store.List(context.Background(), history.Filter{Repository: "tideboard"})
	if err != nil || len(all) != 3 {
		t.Fatal(all, err)
	}
	code, body := get(h, address.Of("/finding", "record", all[1].ID, "id", gone))
	came, went := strings.Index(body, "2026-11-09 12:00</a></th><td>it came"), strings.Index(body, "2026-11-16 12:00</a></th><td>it went")
	if code != http.StatusOK || came < 0 || went < came {
		t.Errorf("%d: %s", code, body)
	}
	if _, body := get(h, address.Of("/finding", "record", all[2].ID, "id", kept)); !strings.Contains(body, "since before the first record") {
		t.Errorf("what was always there: %s", body)
	}
	for path, words := range map[string]string{
		"/": "from 1 to 1 findings in 3 states", "/?q=QUAY": "quay", "/?q=pier": "No repository has that in its name",
		address.Of("/findings", "record", all[1].ID, "q", gone): "core/tide.c:2", address.Of("/findings", "record", all[1].ID, "severity", "error"): "There is none of these",
		address.Of("/records", "name", "tideboard", "to", "2026-11-10"): "2026-11-09",
	} {
		if code, body := get(h, path); code != http.StatusOK || !strings.Contains(body, words) {
			t.Errorf("%s has no %q: %d %s", path, words, code, body)
		}
	}
	if _, body := get(h, "/?q=quay"); strings.Contains(body, "tideboard") {
		t.Error("a repository of another name is shown")
	}
}

// BenchmarkPages asks for pages of a store of 500 repositories with a million records. The goal is 200 ms for each.
func BenchmarkPages(b *testing.B) {
	const repositories, records = 500, 2000
	place := filepath.Join(b.TempDir(), "records.db")
	var states []*record.Record
	for n := range repositories {
		states = append(states, state(fmt.Sprintf("quay-%03d", n), 0, "a1b2c3d4e5f60718"))
	}
	h := serving(b, place, states...)
	db, err := sql.Open("sqlite", place)
	if err != nil {
		b.Fatal(err)
	}
	for _, script := range []string{
		fmt.Sprintf(`INSERT INTO record SELECT substr(id, 1, 10) || printf('%%06x', n), repository, door, kind, ref, branch, base, head, tree, mode, outcome, enforced, policy, time - n * 3600000, took, findings, fresh, debt, stream, position - n * 3600, blamed
			FROM record, (WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < %d) SELECT n FROM s)`, records-1),
		"INSERT INTO document SELECT record.id, data FROM record JOIN document ON substr(document.record, 1, 10) = substr(record.id, 1, 10) WHERE repository = 'quay-007' AND record.id <> document.record",
	} {
		if _, err := db.Exec(script); err != nil {
			b.Fatal(err)
		}
	}
	for _, script := range []string{
		`INSERT INTO subject SELECT 'quay-' || printf('%03d', n % 500), 'pull/' || n, printf('%040d', n), '', 'main', 'Ebb tables ' || n, 'open', 1790000000000 + n, '[]', printf('%040d', n), '', '', 'open', 'merge', 0, '', '', 0, 0
			FROM (WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < 5000) SELECT n FROM s)`,
		`INSERT INTO acceptance SELECT 'quay-' || printf('%03d', n % 500), 'refs/heads/main', printf('%016x', n), 'core/tide' || n || '.c', 'gcc', '-Wshadow', 'declaration shadows a local', 'warning', 'debt', '', 'Ida', 'tides', '2026-10-01', CASE WHEN n % 3 = 0 THEN '' ELSE date('2026-11-01', '+' || (n % 400) || ' days') END, 'core/tide' || n || '.c -wshadow declaration shadows a local tides'
			FROM (WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < 50000) SELECT n FROM s)`,
		`INSERT INTO news SELECT printf('%016x', n), 'quay-' || printf('%03d', n % 500), '', 'door', 'the door is shut', '', '', 1790000000000 + n FROM (WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < 20000) SELECT n FROM s)`,
	} {
		if _, err := db.Exec(script); err != nil {
			b.Fatal(err)
		}
	}
	db.Close()
	for name, path := range map[string]string{
		"changes": "/changes", "change": "/change?repository=quay-007&pull=7", "acceptances": "/acceptances", "ending": "/acceptances?ending=soon", "files": "/files?name=quay-007", "words": "/search?q=tide777", "feed": "/feed.atom",
		"repositories": "/", "repository": "/repository?name=quay-007", "trend": "/trend.svg?name=quay-007&by=severity", "records": "/records?name=quay-007", "search": "/?q=quay-1",
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if code, body := get(h, path); code != http.StatusOK {
					b.Fatal(code, body)
				}
			}
		})
	}
}
