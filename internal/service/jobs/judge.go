package jobs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/riverqueue/river"

	"zincdoor/internal/app"
	"zincdoor/internal/authority"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/evidence"
	"zincdoor/internal/files"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/recordfile"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/service/ledger"
)

// judgeArgs is a head to judge by certain reports.
type judgeArgs struct {
	Repository string `json:"repository" river:"unique"`
	Name       string `json:"name" river:"unique"`
	Head       string `json:"head" river:"unique"`
	Evidence   string `json:"evidence" river:"unique"`
}

// Kind names the jobs in the store.
func (judgeArgs) Kind() string { return "judge" }

// InsertOpts has the same judged by one at a time.
func (judgeArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: judging, UniqueOpts: once}
}

// id is that of the record. So a verdict that was reached, by whichever instance, is there for the next try.
func (a judgeArgs) id() string { return idOf(a.Repository, a.Name, a.Head, a.Evidence) }

// evidenceFolders are for reports while they are read.
var evidenceFolders = files.NewKind("evidence", nil)

// judge reaches a verdict, records it, and has it go to the code host or to people, all at once.
func (j *Jobs) judge(ctx context.Context, job *river.Job[judgeArgs]) error {
	a := job.Args
	r, err := j.repository(a.Repository)
	if err != nil {
		return err
	}
	s, err := j.Ledger.Subject(ctx, a.Repository, a.Name)
	switch {
	case err != nil:
		return err
	case s.Head != a.Head:
		return void("there is a newer head")
	case s.State != ledger.Proposed:
		return void("it is " + s.State)
	}
	var was *record.Record // which news is made against, of branches alone
	if s.Pull() == "" {
		if was, err = j.recorded(ctx, s.Record); err != nil {
			return err
		}
	}
	made, err := j.recorded(ctx, a.id())
	if err != nil {
		return err
	}
	var contents []recordfile.Content
	if made == nil {
		if made, contents, err = j.reach(ctx, r, s, job); err != nil {
			return err
		}
	}
	return j.Store.PutWith(ctx, made, contents, func(tx *sql.Tx) error { return j.conclude(ctx, tx, a, made, was) })
}

// recorded is a record by its id, nil where there is none.
func (j *Jobs) recorded(ctx context.Context, id string) (*record.Record, error) {
	is, found, err := j.Store.ByID(ctx, id)
	if err != nil || !found {
		return nil, err
	}
	return j.Store.Record(ctx, is)
}

// fresh is how long the repository may have been fetched before it was known that a change can be judged.
const fresh = 3 * time.Second

// reach judges a head by the reports that have come.
func (j *Jobs) reach(ctx context.Context, r policyfile.ServedRepository, s *ledger.Subject, job *river.Job[judgeArgs]) (*record.Record, []recordfile.Content, error) {
	began := time.Now()
	m := j.mirror(r)
	if err := j.fetch(ctx, r, m, s, job.ScheduledAt.Add(-fresh)); err != nil {
		return nil, nil, err
	}
	q := j.request(r, m, s)
	g, err := j.gather(ctx, q, s)
	if err != nil {
		return nil, nil, err
	}
	if g.hash(s) != job.Args.Evidence {
		if _, err := j.client.Insert(ctx, lookAt(s), nil); err != nil {
			return nil, nil, err
		}
		return nil, nil, void("other reports, or another policy, have come meanwhile")
	}
	id := job.Args.id()
	judged, err := j.gate(ctx, q, g)
	if err != nil {
		if !final(err) {
			if ctx.Err() != nil || job.Attempt < mostJudgings {
				return nil, nil, err
			}
			id = idOf(id, strconv.FormatInt(job.ID, 10)) // not the id of what these reports lead to, once they can be judged
		}
		judged = app.CantJudge(q, s.Base, s.Head, errors.New(app.Said(err)))
	}
	records, reports := judged.KeptSince(j.Now())
	if err := j.Store.Tidy(ctx, r.Name, records, reports); err != nil && j.Log != nil { // which doesn't stop a verdict
		j.Log.Warn("old records can't be removed", "repository", r.Name, "error", err.Error())
	}
	made, contents := judged.Recorded()
	made.ID = id
	if j.Seen != nil {
		j.Seen.Judged(made.Verdict.Outcome, time.Since(began))
	}
	return made, contents, nil
}

// mostJudgings is how often a head is tried to be judged, which takes a minute, before it is said that it can't be.
const mostJudgings = 6

// When a head is judged again that couldn't be for a reason that may pass: after as long as its head is known, within these bounds.
const (
	soonestAgain = 10 * time.Minute
	latestAgain  = 12 * time.Hour
)

// final reports whether trying again can't help: the call or the policy is wrong.
func final(err error) bool {
	var problems policyfile.Problems
	return errors.Is(err, app.ErrCall) || errors.As(err, &problems) || errors.Is(err, authority.ErrBounds)
}

// gate judges by reports, which lie in a folder meanwhile.
func (j *Jobs) gate(ctx context.Context, q app.GateRequest, g gathered) (*app.Judged, error) {
	if g.wanted == nil {
		return nil, g.why
	}
	folder, err := evidenceFolders.Folder()
	if err != nil {
		return nil, err
	}
	defer folder.Remove()
	q.Door = g.wanted.Door
	q.Reports.Dir, q.Reports.Sent = folder.Path, true
	write := func(kind string, all []ledger.Upload) (list []evidence.File, err error) {
		for n, u := range all {
			path := filepath.Join(folder.Path, fmt.Sprintf("%s-%d", kind, n))
			if err := j.layOut(ctx, u, path); err != nil {
				return nil, err
			}
			list = append(list, evidence.File{Name: u.Name, Path: path})
		}
		return list, nil
	}
	if q.Reports.Files, err = write("head", g.head); err == nil {
		q.Reports.Base, err = write("base", g.base)
	}
	if err != nil {
		return nil, err
	}
	seals, err := write("seal", g.seals)
	if err != nil {
		return nil, err
	}
	for _, f := range seals {
		q.Sealing.Files = append(q.Sealing.Files, sealed.File(f))
	}
	q.Sealing.Now = j.Now()
	all, err := app.Gate(ctx, q)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Sealer is the seal by which an envelope counts today in a repository, by the policy of its default branch as it was last seen here, or why
// it doesn't. The error is that of a repository which isn't known yet.
func (j *Jobs) Sealer(ctx context.Context, repository string, e *seal.Envelope) (by, why string, err error) {
	r, err := j.repository(repository)
	if err != nil {
		return "", "", err
	}
	m := j.mirror(r)
	main := m.Main(ctx)
	if main == "" {
		return "", "", errors.New("the repository hasn't been fetched yet")
	}
	return app.SealerAt(ctx, j.call(m.Dir), main, e)
}

// layOut writes a report to a file.
func (j *Jobs) layOut(ctx context.Context, u ledger.Upload, path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(j.Ledger.Content(ctx, u.ID, file), file.Close())
}

// conclude notes a verdict at its subject, and has it go out.
func (j *Jobs) conclude(ctx context.Context, tx *sql.Tx, a judgeArgs, made, was *record.Record) error {
	return j.Ledger.UpdateIn(ctx, tx, a.Repository, a.Name, func(s *ledger.Subject) error {
		if s.Head != a.Head || s.Record == made.ID {
			return nil
		}
		s.Judged, s.Evidence, s.Record, s.Trouble = a.Head, a.Evidence, made.ID, ""
		s.Outcome, s.Door, s.Time = made.Verdict.Outcome, made.Verdict.Door, j.Now()
		if made.ID != a.id() { // it couldn't be judged, for a reason that may pass
			s.Evidence = ""
			wait := min(max(j.Now().Sub(s.Seen), soonestAgain), latestAgain)
			if _, err := j.client.InsertTx(ctx, tx, lookAt(s), &river.InsertOpts{ScheduledAt: time.Now().Add(wait)}); err != nil {
				return err
			}
		}
		if s.Pull() != "" {
			_, err := j.client.InsertTx(ctx, tx, reviewArgs{a.Repository, s.Pull(), made.ID}, nil)
			return err
		}
		for _, n := range j.newsOf(s, made.Verdict, verdictOf(was)) {
			if err := j.addNews(ctx, tx, n); err != nil {
				return err
			}
		}
		return nil
	})
}

func verdictOf(r *record.Record) *judge.Verdict {
	if r == nil {
		return nil
	}
	return &r.Verdict
}
