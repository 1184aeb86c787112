package history

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/recordfile"
)

// turn is the number of the lock that keeps those who put in and those who remove apart, where the database has such locks.
const turn = 0x7a696e63

// Put puts a record in, with the content of those of its reports that are to be kept. One without an id gets one; one that is
// there already stays as it is.
func (s *Store) Put(ctx context.Context, r *record.Record, contents []recordfile.Content) error {
	return s.PutWith(ctx, r, contents, func(*sql.Tx) error { return nil })
}

// PutWith puts a record in as Put does, and does something more in the same transaction. That may be called several times.
func (s *Store) PutWith(ctx context.Context, r *record.Record, contents []recordfile.Content, more func(*sql.Tx) error) error {
	packed, divided, err := readied(r)
	if err != nil {
		return err
	}
	err = s.atomically(ctx, func(tx transaction) error {
		if s.postgres {
			if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock_shared($1)", turn); err != nil {
				return err
			}
		}
		if err := s.put(ctx, tx, r, packed, divided, contents); err != nil {
			return err
		}
		return more(tx.Tx)
	})
	if err != nil {
		return fmt.Errorf("the verdict can't be recorded in %s: %w", s.where, err)
	}
	return nil
}

// readied is a record's document as it is stored, compressed, and its findings in parts.
func readied(r *record.Record) (document []byte, divided []part, err error) {
	if err := recordfile.Name(r); err != nil {
		return nil, nil, err
	}
	if r.Branch == "" { // whose findings stay with it
		document, err = recordfile.Line(r)
	} else {
		divided = divide(r.Verdict.Findings)
		document, err = recordfile.WithoutFindings(r)
	}
	return recordfile.Compress(document), divided, err
}

func (s *Store) put(ctx context.Context, tx transaction, r *record.Record, document []byte, divided []part, contents []recordfile.Content) error {
	var on stream
	if r.Branch != "" {
		var err error
		if on, err = s.stream(ctx, tx, r); err != nil {
			return err
		}
	}
	var there int // which is certain only once the stream is ours
	err := tx.QueryRowContext(ctx, "SELECT 1 FROM record WHERE id = $1", r.ID).Scan(&there)
	if err == nil || !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var number, position any // of the stream, and in it
	if r.Branch != "" {
		at, err := on.place(ctx, r)
		if err != nil {
			return err
		}
		if err := on.put(ctx, at, divided); err != nil {
			return err
		}
		number, position = on.id, at
	}
	v, blamed := r.Verdict, 0
	if r.Branch == "" || v.Totals.By[judge.New] == 0 {
		blamed = 1
	}
	if err := tx.insert(ctx, "record", 21, []any{
		r.ID, r.Repository, v.Door, v.Subject.Kind, v.Subject.Ref, r.Branch, v.Subject.Base, v.Subject.Head, r.Tree, string(v.Mode), string(v.Outcome),
		string(v.Enforced), v.Origin.Digest, r.Time.UnixMilli(), r.Took.Milliseconds(), v.Totals.Findings, v.Totals.By[judge.New], v.Totals.Debt, number, position, blamed,
	}); err != nil {
		return err
	}
	if err := tx.insert(ctx, "document", 2, []any{r.ID, document}); err != nil {
		return err
	}
	var evidence, reports []any
	for i, report := range r.Reports {
		evidence = append(evidence, r.ID, i, report.Name, report.Format, report.Digest, report.Size)
	}
	for _, c := range contents {
		reports = append(reports, c.Digest, c.Size, c.Data)
	}
	return errors.Join(tx.insert(ctx, "evidence", 6, evidence), tx.insert(ctx, "report", 3, reports))
}

// Keep keeps the content of a report, as far as a record rests on it.
func (s *Store) Keep(ctx context.Context, c recordfile.Content) error {
	return s.atomically(ctx, func(tx transaction) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM evidence WHERE digest = $1", c.Digest).Scan(&n); err != nil || n == 0 {
			return err
		}
		return tx.insert(ctx, "report", 3, []any{c.Digest, c.Size, c.Data})
	})
}

// stream is the states of a branch as a door sees them, while they are written.
type stream struct {
	id int64
	tx transaction
}

// stream finds the stream of a record, or begins it. It is ours until the end of the transaction.
func (s *Store) stream(ctx context.Context, tx transaction, r *record.Record) (stream, error) {
	on, lock := stream{tx: tx}, ""
	if s.postgres {
		lock = " FOR UPDATE"
	}
	find := func() error {
		return tx.QueryRowContext(ctx, "SELECT id FROM stream WHERE repository = $1 AND branch = $2 AND door = $3"+lock, r.Repository, r.Branch, r.Verdict.Door).Scan(&on.id)
	}
	err := find()
	if !errors.Is(err, sql.ErrNoRows) {
		return on, err
	}
	if s.postgres {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE stream IN EXCLUSIVE MODE"); err != nil {
			return on, err
		}
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO stream SELECT COALESCE(MAX(id), 0) + 1, $1, $2, $3 FROM stream WHERE true ON CONFLICT DO NOTHING", r.Repository, r.Branch, r.Verdict.Door); err != nil {
		return on, err
	}
	return on, find()
}

// place finds a record's place among the states of its stream: at its end, whatever the clock says; where it was imported, by the
// time of its commit.
func (on stream) place(ctx context.Context, r *record.Record) (at int64, err error) {
	at = r.Time.Unix()
	if !r.Imported {
		var last int64
		err := on.tx.QueryRowContext(ctx, "SELECT COALESCE(MAX(position), 0) FROM record WHERE stream = $1", on.id).Scan(&last)
		return max(at, last+1), err
	}
	for {
		var n int
		err := on.tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM record WHERE stream = $1 AND position = $2", on.id, at).Scan(&n)
		if n == 0 || err != nil {
			return at, err
		}
		at++
	}
}

// end is until when what is so at the end of a stream is so.
const end = math.MaxInt64

// span is what the findings of a part are, from one position until before another.
type span struct {
	since, until int64
	digest       []byte
}

// put puts a state into the stream: what of it isn't as before begins a span, and where that was so until later, its rest too.
func (on stream) put(ctx context.Context, at int64, divided []part) error {
	first, next, err := on.neighbours(ctx, at)
	if err != nil {
		return err
	}
	held, err := on.heldAt(ctx, at)
	if err != nil {
		return err
	}
	var spans, contents []any
	var ended []int64
	var old [][]byte
	var new []identity
	now := make(map[int64]*part, len(divided))
	for i := range divided {
		now[divided[i].number] = &divided[i]
	}
	for number, was := range held {
		if is := now[number]; is != nil && bytes.Equal(is.digest, was.digest) {
			delete(now, number)
			continue
		}
		ended, old = append(ended, number), append(old, was.digest)
		if was.until > next { // it goes on after this state
			spans = append(spans, on.id, number, next, was.until, was.digest)
		}
	}
	for number, is := range now {
		spans = append(spans, on.id, number, at, next, is.digest)
		contents = append(contents, is.digest, recordfile.Compress(is.data))
		if !first {
			identities, err := identify(is.data)
			if err != nil {
				return err
			}
			new = append(new, identities...)
		}
	}
	if len(ended) > 0 {
		query := "UPDATE span SET until = $1 WHERE stream = $2 AND since < $1 AND until > $1 AND part IN (" + numbers(ended) + ")"
		if _, err := on.tx.ExecContext(ctx, query, at, on.id); err != nil {
			return err
		}
	}
	if err := errors.Join(on.tx.insert(ctx, "content", 2, contents), on.tx.insert(ctx, "span", 5, spans)); err != nil {
		return err
	}
	if !first {
		before, err := on.identities(ctx, old)
		if err != nil {
			return err
		}
		if err := on.note(ctx, at, before, new); err != nil {
			return err
		}
	}
	if next != end {
		return on.noteAnew(ctx, at, next)
	}
	return nil
}

// numbers lists numbers for a query.
func numbers(all []int64) string {
	var list []byte
	for i, n := range all {
		if i > 0 {
			list = append(list, ',')
		}
		list = strconv.AppendInt(list, n, 10)
	}
	return string(list)
}

// neighbours tells whether no state comes before a position, and the position of the next state, or end.
func (on stream) neighbours(ctx context.Context, at int64) (first bool, next int64, err error) {
	var before int64
	err = on.tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM (SELECT 1 FROM record WHERE stream = $1 AND position < $2 LIMIT 1) AS earlier", on.id, at).Scan(&before)
	if err != nil {
		return false, 0, err
	}
	err = on.tx.QueryRowContext(ctx, "SELECT COALESCE(MIN(position), $3) FROM record WHERE stream = $1 AND position > $2", on.id, at, int64(end)).Scan(&next)
	return before == 0, next, err
}

// heldAt are the spans that a position lies in, by part.
func (on stream) heldAt(ctx context.Context, at int64) (map[int64]span, error) {
	held := map[int64]span{}
	err := Rows(ctx, on.tx, func(scan func(...any) error) error {
		var number int64
		var is span
		if err := scan(&number, &is.since, &is.until, &is.digest); err != nil {
			return err
		}
		is.digest = slices.Clone(is.digest)
		held[number] = is
		return nil
	}, "SELECT part, since, until, digest FROM span WHERE stream = $1 AND since <= $2 AND until > $2", on.id, at)
	return held, err
}

// kind is the kind of an event.
type kind = string

const (
	came   kind = "came"
	went   kind = "went"
	became kind = "became"
)

// event is what became of a finding at a state of a stream.
type event struct {
	kind    kind
	finding string
	was     string // of became: the finding that it goes on from
}

// note notes what came and went at a position.
func (on stream) note(ctx context.Context, at int64, before, after []identity) error {
	var events []any
	for _, e := range differ(before, after) {
		events = append(events, on.id, at, e.finding, e.kind, e.was)
	}
	return on.tx.insert(ctx, "event", 5, events)
}

// noteAnew notes again what came and went at the state that follows one which was put before it.
func (on stream) noteAnew(ctx context.Context, at, next int64) error {
	if _, err := on.tx.ExecContext(ctx, "DELETE FROM event WHERE stream = $1 AND position = $2", on.id, next); err != nil {
		return err
	}
	was, err := on.heldAt(ctx, at)
	if err != nil {
		return err
	}
	is, err := on.heldAt(ctx, next)
	if err != nil {
		return err
	}
	altered := func(side, other map[int64]span) (digests [][]byte) {
		for number, s := range side {
			if !bytes.Equal(s.digest, other[number].digest) {
				digests = append(digests, s.digest)
			}
		}
		return digests
	}
	before, err := on.identities(ctx, altered(was, is))
	if err != nil {
		return err
	}
	after, err := on.identities(ctx, altered(is, was))
	if err != nil {
		return err
	}
	return on.note(ctx, next, before, after)
}

// identities are those of the findings in some parts.
func (on stream) identities(ctx context.Context, digests [][]byte) (all []identity, err error) {
	const most = 200
	for some := range slices.Chunk(digests, most) {
		args := make([]any, len(some))
		for i, digest := range some {
			args[i] = digest
		}
		err := Rows(ctx, on.tx, func(scan func(...any) error) error {
			var packed sql.RawBytes
			if err := scan(&packed); err != nil {
				return err
			}
			data, err := recordfile.Decompress(packed)
			if err != nil {
				return err
			}
			identities, err := identify(data)
			all = append(all, identities...)
			return err
		}, "SELECT data FROM content WHERE digest IN "+on.tx.values(len(args), len(args)), args...)
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}
