package jobs

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/history"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/ledger"
)

// TestConclude: a verdict stands until its head, its policy or its reports are others; one that says that a head can't be judged for a
// reason that may pass has it looked at again, later each time.
func TestConclude(t *testing.T) {
	ctx, now := t.Context(), time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	store, err := history.Open(ctx, filepath.Join(t.TempDir(), "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	l, err := ledger.Open(ctx, store)
	if err != nil {
		t.Fatal(err)
	}
	j, err := Open(ctx, Options{Store: store, Ledger: l, Settings: &policyfile.Service{}, Now: func() time.Time { return now }})
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		passing  bool
		known    time.Duration // for how long the head is known
		evidence string        // that the subject rests on then
		again    time.Duration // 0 for not at all
	}{
		"judged":               {false, time.Hour, "e1", 0},
		"not judged":           {true, time.Minute, "", soonestAgain},
		"not judged for hours": {true, 3 * time.Hour, "", 3 * time.Hour},
		"not judged for days":  {true, 90 * time.Hour, "", latestAgain},
	} {
		a := judgeArgs{Repository: name, Name: ledger.PullName("1"), Head: "a1", Evidence: "e1"}
		made := &record.Record{ID: a.id(), Verdict: judge.Verdict{Outcome: judge.Unjudged}}
		if c.passing {
			made.ID = idOf(a.id(), "7")
		}
		err := l.Update(ctx, a.Repository, a.Name, func(_ *sql.Tx, s *ledger.Subject) error {
			s.Head, s.Seen = a.Head, now.Add(-c.known)
			return nil
		})
		if err == nil {
			err = store.Atomically(ctx, func(tx *sql.Tx) error { return j.conclude(ctx, tx, a, made, nil) })
		}
		if err != nil {
			t.Fatal(err)
		}
		s, err := l.Subject(ctx, a.Repository, a.Name)
		if err != nil || s.Record != made.ID || s.Evidence != c.evidence {
			t.Errorf("%s: %+v, %v", name, s, err)
		}
		db, _ := store.Database()
		var looks int
		var seconds float64
		err = db.QueryRow("SELECT COUNT(*), COALESCE(MAX(unixepoch(scheduled_at)), 0) FROM river_job WHERE kind = 'look' AND json_extract(args, '$.repository') = $1", name).Scan(&looks, &seconds)
		if again := time.Until(time.Unix(int64(seconds), 0)); err != nil || looks == 1 != (c.again > 0) || looks == 1 && (again < c.again-time.Minute || again > c.again) {
			t.Errorf("%s: looked at %d times, in %s, %v", name, looks, again, err)
		}
	}
}
