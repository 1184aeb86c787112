package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
)

// Subject is a pull request or a guarded branch, which is judged whenever its head moves.
type Subject struct {
	Repository string
	Name       string // pull/N, or a whole ref
	Head       string // the commit that it proposes, or is at; "" where that isn't known yet
	Base       string // of a branch: the head that was judged before this one, "" for none
	Target     string // of a pull request: the branch that it is for
	Title      string
	State      string    // Proposed, or whatever the code host calls it
	Seen       time.Time // since when its head is known
	Lacking    []string  // the reports that are waited for

	Judged   string // the head of the last verdict, "" where there is none
	Evidence string // a hash of what that rests on
	Record   string // the id of its record
	Outcome  judge.Outcome
	Door     string
	Time     time.Time // when it was reached
	Sent     string    // the record that was brought to the code host last
	Trouble  string    // why nothing goes on; "" where it does

	asked, answered int64
}

// Proposed is the state of a pull request that is to be judged, and of every branch.
const Proposed = "open"

// PullName is the name of a pull request as a subject.
func PullName(number string) string { return "pull/" + number }

// Pull is the number of a pull request, "" for a branch.
func (s *Subject) Pull() string {
	number, is := strings.CutPrefix(s.Name, "pull/")
	if !is {
		return ""
	}
	return number
}

const subjectColumns = "repository, name, head, base, target, title, state, seen, lacking, judged, evidence, record, outcome, door, time, sent, trouble, asked, answered"

func readSubject(scan func(...any) error, s *Subject) error {
	var seen, time int64
	var lacking, outcome string
	if err := scan(&s.Repository, &s.Name, &s.Head, &s.Base, &s.Target, &s.Title, &s.State, &seen, &lacking, &s.Judged, &s.Evidence, &s.Record, &outcome, &s.Door, &time, &s.Sent, &s.Trouble, &s.asked, &s.answered); err != nil {
		return err
	}
	s.Seen, s.Time, s.Outcome = at(seen), at(time), judge.Outcome(outcome)
	return json.Unmarshal([]byte(lacking), &s.Lacking)
}

// Subject is the subject of that name; a new one where there is none yet.
func (l *Ledger) Subject(ctx context.Context, repository, name string) (*Subject, error) {
	return subject(ctx, l.db, repository, name, "")
}

func subject(ctx context.Context, on asked, repository, name, lock string) (*Subject, error) {
	s, err := one(ctx, on, readSubject, "SELECT "+subjectColumns+" FROM subject WHERE repository = $1 AND name = $2"+lock, repository, name)
	if err == nil && s == nil {
		s = &Subject{Repository: repository, Name: name}
	}
	return s, err
}

// Update changes a subject, in one transaction with whatever else change does; that may be called several times. One that isn't there is
// made.
func (l *Ledger) Update(ctx context.Context, repository, name string, change func(tx *sql.Tx, s *Subject) error) error {
	return l.store.Atomically(ctx, func(tx *sql.Tx) error {
		return l.UpdateIn(ctx, tx, repository, name, func(s *Subject) error { return change(tx, s) })
	})
}

// UpdateIn changes a subject as a part of a transaction.
func (l *Ledger) UpdateIn(ctx context.Context, tx *sql.Tx, repository, name string, change func(*Subject) error) error {
	if err := run(ctx, tx, "INSERT INTO subject ("+subjectColumns+") VALUES ($1, $2, '', '', '', '', $3, 0, '[]', '', '', '', '', '', 0, '', '', 0, 0) ON CONFLICT DO NOTHING", repository, name, Proposed); err != nil {
		return err
	}
	lock := ""
	if _, postgres := l.store.Database(); postgres {
		lock = " FOR UPDATE"
	}
	s, err := subject(ctx, tx, repository, name, lock)
	if err != nil {
		return err
	}
	if err := change(s); err != nil {
		return err
	}
	lacking, err := json.Marshal(append([]string{}, s.Lacking...))
	if err != nil {
		return err
	}
	return run(ctx, tx, "UPDATE subject SET head = $3, base = $4, target = $5, title = $6, state = $7, seen = $8, lacking = $9, judged = $10, evidence = $11, record = $12, outcome = $13, door = $14, time = $15, sent = $16, trouble = $17, asked = $18, answered = $19 WHERE repository = $1 AND name = $2",
		s.Repository, s.Name, s.Head, s.Base, s.Target, s.Title, s.State, stamp(s.Seen), string(lacking), s.Judged, s.Evidence, s.Record, string(s.Outcome), s.Door, stamp(s.Time), s.Sent, s.Trouble, s.asked, s.answered)
}

// Ticket is a turn at asking how a subject stands.
type Ticket int64

// Ask takes a turn at asking how a subject stands. It is taken before whoever knows is asked, so that of several who ask at once the answer
// counts that was asked for last.
func (l *Ledger) Ask(ctx context.Context, repository, name string) (t Ticket, err error) {
	err = l.Update(ctx, repository, name, func(_ *sql.Tx, s *Subject) error {
		s.asked++
		t = Ticket(s.asked)
		return nil
	})
	return t, err
}

// Answered reports whether what was asked for by a ticket is the newest that is known of a subject, and notes that it is.
func (s *Subject) Answered(t Ticket) bool {
	if s.answered > int64(t) {
		return false
	}
	s.answered = int64(t)
	return true
}

// Pulls lists the open pull requests of a repository, of all repositories where its name is empty; those that were seen last first.
func (l *Ledger) Pulls(ctx context.Context, repository string, most int) ([]Subject, error) {
	return list(ctx, l.db, readSubject, "SELECT "+subjectColumns+" FROM subject WHERE (repository = $1 OR $1 = '') AND name LIKE 'pull/%' AND state = $2 ORDER BY seen DESC, name LIMIT $3", repository, Proposed, most)
}

// At lists the subjects of a repository whose head is a commit, as a part of a transaction.
func (l *Ledger) At(ctx context.Context, tx *sql.Tx, repository, head string) ([]Subject, error) {
	return list(ctx, tx, readSubject, "SELECT "+subjectColumns+" FROM subject WHERE repository = $1 AND head = $2", repository, head)
}
