package history

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
	"zincdoor/internal/recordfile"
	"zincdoor/internal/verdictfile"
)

// Filter chooses records. What is empty chooses all.
type Filter struct {
	Repository, Door, Kind, Outcome, Ref, Branch string

	Head         string    // a commit
	Tree         string    // the git object id of the judged tree
	Since, Until time.Time // Until itself isn't among them
	Last         int       // so many of the newest
	States       bool      // only those that have the state of a guarded branch
}

// List lists records, the oldest first.
func (s *Store) List(ctx context.Context, f Filter) (all []record.Summary, err error) {
	var where []string
	var args []any
	demand := func(what string, value any) {
		args = append(args, value)
		where = append(where, fmt.Sprintf(what, fmt.Sprintf("$%d", len(args))))
	}
	for _, is := range []struct{ column, value string }{
		{"repository", f.Repository}, {"door", f.Door}, {"kind", f.Kind}, {"outcome", f.Outcome}, {"ref", f.Ref}, {"branch", f.Branch}, {"head", f.Head}, {"tree", f.Tree},
	} {
		if is.value != "" {
			demand(is.column+" = %s", is.value)
		}
	}
	if !f.Since.IsZero() {
		demand("time >= %s", f.Since.UnixMilli())
	}
	if !f.Until.IsZero() {
		demand("time < %s", f.Until.UnixMilli())
	}
	if f.States {
		where = append(where, "stream IS NOT NULL")
	}
	query := "SELECT " + columns + " FROM record"
	if len(where) > 0 {
		query += " WHERE " + strings.Join(where, " AND ")
	}
	query += " ORDER BY time DESC, id DESC"
	if f.Last > 0 {
		query += fmt.Sprintf(" LIMIT %d", f.Last)
	}
	all, err = s.summaries(ctx, query, args...)
	slices.Reverse(all)
	return all, err
}

// summaries are the records that a query for their columns gives.
func (s *Store) summaries(ctx context.Context, query string, args ...any) (all []record.Summary, err error) {
	err = Rows(ctx, s.db, func(scan func(...any) error) error {
		is, err := summary(scan)
		all = append(all, is)
		return err
	}, query, args...)
	return all, err
}

// texts are what a query for one column gives.
func (s *Store) texts(ctx context.Context, query string, args ...any) (all []string, err error) {
	err = Rows(ctx, s.db, func(scan func(...any) error) error {
		var text string
		err := scan(&text)
		all = append(all, text)
		return err
	}, query, args...)
	return all, err
}

const columns = "id, repository, door, kind, ref, branch, base, head, tree, mode, outcome, enforced, policy, time, took, findings, fresh, debt, stream, position"

func summary(scan func(...any) error) (is record.Summary, err error) {
	var at, took int64
	var mode, outcome, enforced string
	var stream, position sql.NullInt64
	err = scan(&is.ID, &is.Repository, &is.Door, &is.Kind, &is.Ref, &is.Branch, &is.Base, &is.Head, &is.Tree, &mode, &outcome, &enforced, &is.Policy, &at, &took,
		&is.Findings, &is.New, &is.Debt, &stream, &position)
	is.Mode, is.Outcome, is.Enforced = policy.Mode(mode), judge.Outcome(outcome), judge.Outcome(enforced)
	is.Time, is.Took, is.State = time.UnixMilli(at).UTC(), time.Duration(took)*time.Millisecond, record.State{Stream: stream.Int64, Position: position.Int64}
	return is, err
}

// Named finds the records of a repository whose ids begin so.
func (s *Store) Named(ctx context.Context, repository, beginning string) ([]record.Summary, error) {
	return s.summaries(ctx, "SELECT "+columns+" FROM record WHERE repository = $1 AND id >= $2 AND id < $3 ORDER BY id LIMIT 20", repository, beginning, beginning+"g")
}

// Repositories lists the repositories that have records. It takes time for each of them, and not for each record.
func (s *Store) Repositories(ctx context.Context) ([]string, error) {
	return s.texts(ctx, `WITH RECURSIVE names(name) AS (
		SELECT min(repository) FROM record UNION ALL SELECT (SELECT min(repository) FROM record WHERE repository > name) FROM names WHERE name IS NOT NULL
	) SELECT name FROM names WHERE name IS NOT NULL`)
}

// LastState is the last state of a guarded branch as one door sees it.
type LastState struct {
	record.Summary
	Line []int // how many findings the states before it and it had, the oldest first
}

// LastStates lists the last state of each guarded branch, with a line of at most so many: of one repository, or of all where the name is
// empty. It takes time for each branch, and not for each record.
func (s *Store) LastStates(ctx context.Context, repository string, most int) (all []LastState, err error) {
	var streams []int64
	err = Rows(ctx, s.db, func(scan func(...any) error) error {
		var id int64
		err := scan(&id)
		streams = append(streams, id)
		return err
	}, "SELECT id FROM stream WHERE repository = $1 OR $1 = '' ORDER BY repository, branch, door", repository)
	if err != nil || len(streams) == 0 {
		return nil, err
	}
	newest, err := s.db.PrepareContext(ctx, "SELECT "+columns+" FROM record WHERE stream = $1 ORDER BY position DESC LIMIT 1")
	if err != nil {
		return nil, err
	}
	defer newest.Close()
	line, err := s.db.PrepareContext(ctx, "SELECT findings FROM record WHERE stream = $1 ORDER BY position DESC LIMIT $2")
	if err != nil {
		return nil, err
	}
	defer line.Close()
	for _, id := range streams {
		var last LastState
		err := Rows(ctx, prepared{newest}, func(scan func(...any) error) (err error) {
			last.Summary, err = summary(scan)
			return err
		}, "", id)
		if err == nil && last.ID != "" { // else all have been pruned
			err = Rows(ctx, prepared{line}, func(scan func(...any) error) error {
				var n int
				err := scan(&n)
				last.Line = append(last.Line, n)
				return err
			}, "", id, most)
			slices.Reverse(last.Line)
			all = append(all, last)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// prepared is a query that is made many times: its text is known already.
type prepared struct{ *sql.Stmt }

// QueryContext makes the query, whose text isn't looked at.
func (p prepared) QueryContext(ctx context.Context, _ string, args ...any) (*sql.Rows, error) {
	return p.Stmt.QueryContext(ctx, args...)
}

// Event is something that happened to a finding in the states of a branch.
type Event struct {
	Position int64
	Finding  string // its id since then
	Kind     string // Came, Went or Became
	Was      string // its id before, where it became another
}

// What happens to findings.
const (
	Came   = came
	Went   = went
	Became = became // it goes on under another id, since it moved or its text changed
)

// Life lists what happened to a finding, under whatever ids, in the states of a branch, the first first; what there was before the first
// record nothing is known of.
func (s *Store) Life(ctx context.Context, stream int64, finding string) (all []Event, err error) {
	ids, asked := []string{finding}, map[string]bool{}
	seen := map[Event]bool{}
	for len(ids) > 0 {
		id := ids[0]
		if ids = ids[1:]; asked[id] || len(asked) > mostNames {
			continue
		}
		asked[id] = true
		err = Rows(ctx, s.db, func(scan func(...any) error) error {
			var e Event
			err := scan(&e.Position, &e.Finding, &e.Kind, &e.Was)
			if err == nil && !seen[e] {
				seen[e] = true
				all = append(all, e)
				for _, other := range []string{e.Finding, e.Was} {
					if other != "" {
						ids = append(ids, other)
					}
				}
			}
			return err
		}, "SELECT position, finding, kind, was FROM event WHERE stream = $1 AND finding = $2 UNION SELECT position, finding, kind, was FROM event WHERE stream = $1 AND was <> '' AND was = $2", stream, id)
		if err != nil {
			return nil, err
		}
	}
	slices.SortFunc(all, func(a, b Event) int { return cmp.Or(cmp.Compare(a.Position, b.Position), cmp.Compare(a.Kind, b.Kind)) })
	return all, nil
}

// mostNames bounds under how many ids a finding is followed.
const mostNames = 1000

// At is the record of a stream at a position; found is false where it has gone.
func (s *Store) At(ctx context.Context, stream, position int64) (is record.Summary, found bool, err error) {
	return s.one(ctx, "stream = $1 AND position = $2", stream, position)
}

// ByID is the record of that id, of whatever repository; found is false where there is none.
func (s *Store) ByID(ctx context.Context, id string) (is record.Summary, found bool, err error) {
	return s.one(ctx, "id = $1", id)
}

// one is the record that a condition holds of.
func (s *Store) one(ctx context.Context, where string, args ...any) (is record.Summary, found bool, err error) {
	all, err := s.summaries(ctx, "SELECT "+columns+" FROM record WHERE "+where, args...)
	if err != nil || len(all) == 0 {
		return is, false, err
	}
	return all[0], true, nil
}

// Ready reports whether the store answers.
func (s *Store) Ready(ctx context.Context) error { return s.db.PingContext(ctx) }

// Record reads a record with the findings that are kept of it.
func (s *Store) Record(ctx context.Context, is record.Summary) (*record.Record, error) {
	document, err := s.document(ctx, is.ID)
	if err != nil {
		return nil, err
	}
	var arrays [][]byte
	if is.State.Stream != 0 {
		err := s.EachPart(ctx, is.State, func(_ string, packed []byte) error {
			array, err := recordfile.Decompress(packed)
			arrays = append(arrays, array)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	r, err := recordfile.Read(document, arrays...)
	if err != nil {
		return nil, fmt.Errorf("the record %s in %s: %w", is.ID, s.where, err)
	}
	return r, nil
}

// Tallies reads what was counted when a record was made.
func (s *Store) Tallies(ctx context.Context, id string) (map[record.By][]record.Tally, error) {
	document, err := s.document(ctx, id)
	if err != nil {
		return nil, err
	}
	return recordfile.Tallies(document)
}

func (s *Store) document(ctx context.Context, id string) ([]byte, error) {
	var packed []byte
	if err := s.db.QueryRowContext(ctx, "SELECT data FROM document WHERE record = $1", id).Scan(&packed); err != nil {
		return nil, plain(err)
	}
	return recordfile.Decompress(packed)
}

// EachPart shows the parts of a state, packed, with a name for what is in each: of two parts of the same name the findings are the
// same. FindingsOf reads one. The bytes are see's only until it returns.
func (s *Store) EachPart(ctx context.Context, at record.State, see func(name string, packed []byte) error) error {
	return Rows(ctx, s.db, func(scan func(...any) error) error {
		var digest, data sql.RawBytes
		if err := scan(&digest, &data); err != nil {
			return err
		}
		return see(hex.EncodeToString(digest), data)
	}, "SELECT span.digest, content.data FROM span JOIN content ON content.digest = span.digest WHERE stream = $1 AND since <= $2 AND until > $2", at.Stream, at.Position)
}

// FindingsOf reads the findings of a part.
func FindingsOf(packed []byte) ([]judge.Finding, error) {
	data, err := recordfile.Decompress(packed)
	if err != nil {
		return nil, err
	}
	return verdictfile.ReadFindings(data)
}

// Interval is since when a finding is there, as far as that is known.
type Interval struct {
	First  int64  // the position where it was seen first, 0 for before the first record
	Commit string // that brought it in, "" where that isn't known
	Author string // of the commit
}

// Intervals gives, for findings of a state, since when they are there and who brought them in. What isn't listed was there before the
// first record.
func (s *Store) Intervals(ctx context.Context, at record.State) (map[string]Interval, error) {
	first := map[string]int64{}
	err := Rows(ctx, s.db, func(scan func(...any) error) error {
		var position int64
		var finding, kind, was string
		if err := scan(&position, &finding, &kind, &was); err != nil {
			return err
		}
		switch kind {
		case came:
			first[finding] = position
		case became:
			if since, ok := first[was]; ok {
				first[finding] = since
			}
		case went:
			delete(first, finding)
		}
		return nil
	}, "SELECT position, finding, kind, was FROM event WHERE stream = $1 AND position <= $2 ORDER BY position, kind", at.Stream, at.Position)
	if err != nil {
		return nil, err
	}
	all := make(map[string]Interval, len(first))
	for finding, since := range first {
		all[finding] = Interval{First: since}
	}
	err = Rows(ctx, s.db, func(scan func(...any) error) error {
		var finding string
		var is Interval
		err := scan(&finding, &is.Commit, &is.Author)
		if known, ok := all[finding]; ok {
			is.First = known.First
		}
		all[finding] = is
		return err
	}, "SELECT finding, made_in, author FROM brought WHERE stream = $1", at.Stream)
	return all, err
}

// Contents reads the reports of a record that are kept: the others are left out.
func (s *Store) Contents(ctx context.Context, id string) (reports []record.Report, contents [][]byte, err error) {
	err = Rows(ctx, s.db, func(scan func(...any) error) error {
		var r record.Report
		var packed []byte
		if err := scan(&r.Name, &r.Format, &r.Digest, &r.Size, &packed); err != nil {
			return err
		}
		data, err := recordfile.Decompress(packed)
		reports, contents = append(reports, r), append(contents, data)
		return err
	}, "SELECT name, format, evidence.digest, evidence.size, data FROM evidence JOIN report ON report.digest = evidence.digest WHERE record = $1 ORDER BY place", id)
	return reports, contents, err
}

// Unblamed lists the records of a stream of which it isn't known yet who brought their new findings in, the oldest first.
func (s *Store) Unblamed(ctx context.Context, stream int64) ([]record.Summary, error) {
	return s.summaries(ctx, "SELECT "+columns+" FROM record WHERE stream = $1 AND blamed = 0 ORDER BY position", stream)
}

// Came lists the ids of the findings that came with a state.
func (s *Store) Came(ctx context.Context, at record.State) ([]string, error) {
	return s.texts(ctx, "SELECT finding FROM event WHERE stream = $1 AND position = $2 AND kind = $3 ORDER BY finding", at.Stream, at.Position, came)
}

// Blame notes who brought findings of a record in: the others of its new ones nobody is known of.
func (s *Store) Blame(ctx context.Context, is record.Summary, by map[string]Interval) error {
	var values []any
	for finding, who := range by {
		values = append(values, is.State.Stream, finding, who.Commit, who.Author)
	}
	return s.atomically(ctx, func(tx transaction) error {
		if err := tx.insert(ctx, "brought", 4, values); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE record SET blamed = 1 WHERE id = $1", is.ID)
		return err
	})
}
