package history

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Pruned is what was removed.
type Pruned struct {
	Records, Reports int
	Bytes            int64 // of the reports, as they were stored
}

// Tidy prunes a repository as Prune does, unless that was done within a day.
func (s *Store) Tidy(ctx context.Context, repository string, records, reports time.Time) error {
	var last int64
	err := s.db.QueryRowContext(ctx, "SELECT time FROM pruned WHERE repository = $1", repository).Scan(&last)
	if err == nil && time.Since(time.UnixMilli(last)).Abs() < 24*time.Hour {
		return nil
	}
	if err == nil || errors.Is(err, sql.ErrNoRows) {
		_, err = s.Prune(ctx, repository, records, reports, false)
	}
	return plain(err)
}

// errRehearsal undoes what was only to be told.
var errRehearsal = errors.New("a rehearsal")

// Prune removes the records of a repository from before a time, and the reports of those from before another one, with all that
// nothing rests on any more. Where it is a rehearsal, it only tells what it would remove.
func (s *Store) Prune(ctx context.Context, repository string, records, reports time.Time, rehearsal bool) (p Pruned, err error) {
	err = s.atomically(ctx, func(tx transaction) error {
		if s.postgres {
			if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock($1)", turn); err != nil {
				return err
			}
		}
		do := func(query string, args ...any) (int, error) {
			done, err := tx.ExecContext(ctx, query, args...)
			if err != nil {
				return 0, err
			}
			n, err := done.RowsAffected()
			return int(n), err
		}
		if p.Records, err = do("DELETE FROM record WHERE repository = $1 AND time < $2", repository, records.UnixMilli()); err != nil {
			return err
		}
		if _, err := do("DELETE FROM evidence WHERE record NOT IN (SELECT id FROM record WHERE repository <> $1 OR time >= $2)", repository, reports.UnixMilli()); err != nil {
			return err
		}
		const unused = " FROM report WHERE digest NOT IN (SELECT digest FROM evidence)"
		if err := tx.QueryRowContext(ctx, "SELECT COALESCE(SUM(LENGTH(data)), 0)"+unused).Scan(&p.Bytes); err != nil {
			return err
		}
		if p.Reports, err = do("DELETE" + unused); err != nil {
			return err
		}
		if p.Records > 0 {
			const first = "(SELECT COALESCE(MIN(position), 9223372036854775807) FROM record WHERE record.stream = "
			for _, query := range []string{
				"DELETE FROM document WHERE record NOT IN (SELECT id FROM record)",
				"DELETE FROM span WHERE until <= " + first + "span.stream)",
				"DELETE FROM event WHERE kind = 'went' AND position < " + first + "event.stream)",
				"DELETE FROM content WHERE digest NOT IN (SELECT digest FROM span)",
			} {
				if _, err := do(query); err != nil {
					return err
				}
			}
		}
		if rehearsal {
			return errRehearsal
		}
		_, err := do("INSERT INTO pruned VALUES ($1, $2) ON CONFLICT (repository) DO UPDATE SET time = excluded.time", repository, time.Now().UnixMilli())
		return err
	})
	if err == errRehearsal {
		err = nil
	}
	if err == nil && !rehearsal && !s.postgres && p.Records+p.Reports > 0 {
		_, err = s.db.ExecContext(ctx, "PRAGMA incremental_vacuum")
	}
	return p, err
}
