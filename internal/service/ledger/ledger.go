// Package ledger knows what a service keeps beside records, in the same store: who may do what, the reports that were sent, the pull
// requests and branches that are judged, what these accept, and what is worth a notice. It decides nothing.
package ledger

import (
	"context"
	"database/sql"
	"embed"
	"io/fs"
	"time"

	"zincdoor/internal/history"
)

//go:embed forms/*.sql
var forms embed.FS

// Ledger is open while its store is. Several goroutines and processes may use one at once.
type Ledger struct {
	store *history.Store
	db    *sql.DB
}

// Open opens the ledger of a store, and brings it to this version's form.
func Open(ctx context.Context, store *history.Store) (*Ledger, error) {
	scripts, err := fs.Sub(forms, "forms")
	if err != nil {
		return nil, err
	}
	db, _ := store.Database()
	return &Ledger{store, db}, store.Bring(ctx, history.Form{Scripts: scripts, Table: "service_form"})
}

// asked is what queries are made on: the database, or a transaction.
type asked interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	ExecContext(context.Context, string, ...any) (sql.Result, error)
}

// list reads what a query gives, row by row.
func list[T any](ctx context.Context, on asked, read func(scan func(...any) error, v *T) error, query string, args ...any) (all []T, err error) {
	err = history.Rows(ctx, on, func(scan func(...any) error) error {
		var v T
		if err := read(scan, &v); err != nil {
			return err
		}
		all = append(all, v)
		return nil
	}, query, args...)
	return all, err
}

// one is the first that a query gives, nil where it gives nothing.
func one[T any](ctx context.Context, on asked, read func(scan func(...any) error, v *T) error, query string, args ...any) (*T, error) {
	all, err := list(ctx, on, read, query, args...)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

func run(ctx context.Context, on asked, query string, args ...any) error {
	_, err := on.ExecContext(ctx, query, args...)
	return err
}

// changed reports whether a statement changed something.
func changed(ctx context.Context, on asked, query string, args ...any) (bool, error) {
	done, err := on.ExecContext(ctx, query, args...)
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n > 0, err
}

// stamp is a time as it is kept.
func stamp(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// at is a time that was kept.
func at(stamp int64) time.Time {
	if stamp == 0 {
		return time.Time{}
	}
	return time.UnixMilli(stamp).UTC()
}

// Atomically does several things at once or not at all. It may do them several times.
func (l *Ledger) Atomically(ctx context.Context, do func(*sql.Tx) error) error {
	return l.store.Atomically(ctx, do)
}

// Once reports whether a call of a code host, by a hash of its content, comes for the first time, and notes it.
func Once(ctx context.Context, tx *sql.Tx, hash string, now time.Time) (bool, error) {
	return changed(ctx, tx, "INSERT INTO called VALUES ($1, $2) ON CONFLICT DO NOTHING", hash, stamp(now))
}

// How long things are kept.
const (
	keptUploads = 90 * 24 * time.Hour
	keptCalls   = 30 * 24 * time.Hour
	keptNews    = 400 * 24 * time.Hour
)

// Tidy removes what nobody needs any more.
func (l *Ledger) Tidy(ctx context.Context, now time.Time) error {
	for _, old := range []struct {
		query  string
		before time.Time
	}{
		{"DELETE FROM upload WHERE received < $1", now.Add(-keptUploads)},
		{"DELETE FROM called WHERE time < $1", now.Add(-keptCalls)},
		{"DELETE FROM news WHERE time < $1", now.Add(-keptNews)},
		{"DELETE FROM session WHERE ends < $1", now},
		{"DELETE FROM instance WHERE seen < $1", now.Add(-time.Hour)},
	} {
		if err := run(ctx, l.db, old.query, stamp(old.before)); err != nil {
			return err
		}
	}
	return nil
}

// Here notes that an instance works.
func (l *Ledger) Here(ctx context.Context, instance string, now time.Time) error {
	return run(ctx, l.db, "INSERT INTO instance VALUES ($1, $2) ON CONFLICT (id) DO UPDATE SET seen = excluded.seen", instance, stamp(now))
}

// Gone lists instances that haven't said since a time that they work.
func (l *Ledger) Gone(ctx context.Context, since time.Time) ([]string, error) {
	return list(ctx, l.db, func(scan func(...any) error, id *string) error { return scan(id) }, "SELECT id FROM instance WHERE seen < $1", stamp(since))
}
