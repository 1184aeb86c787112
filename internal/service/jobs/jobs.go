// Package jobs knows the work of a service: it looks at pull requests and branches, judges them once their reports have come, brings
// verdicts to the code host, and notifies people. What is to be done stands in the store, so that any instance can do it, and another one
// does what an instance has left behind. Each verdict is reached once; what goes out is sent at least once, with an id that stays.
package jobs

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riversqlite"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/history"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/ledger"
)

// Options are what the work starts from.
type Options struct {
	Store    *history.Store
	Ledger   *ledger.Ledger
	Settings *policyfile.Service
	Hosts    map[string]*policy.Host // the recipes of code hosts, by repository
	Mirrors  string                  // the folder of the mirrors, of this instance or of several on this machine
	Secret   func(variable string) string
	Now      func() time.Time
	Log      *slog.Logger
	Seen     Watcher
}

// Watcher counts what is done. Its methods may be called by several goroutines.
type Watcher interface {
	Judged(outcome judge.Outcome, took time.Duration)
	Worked(kind string, err error, took time.Duration)
}

// Jobs does the work, once it is started.
type Jobs struct {
	Options
	instance string
	client   *river.Client[*sql.Tx]
	ended    chan struct{}
	end      context.CancelFunc
}

// The queues. Judging takes memory and processors, and must not keep all else waiting.
const (
	judging = "judging"
	sending = river.QueueDefault
)

const (
	mostAtOnce  = 8
	longestJob  = 10 * time.Minute
	mostTries   = 12
	pollEvery   = 250 * time.Millisecond
	keepDone    = 24 * time.Hour
	keepDead    = 14 * 24 * time.Hour
	slowestTry  = 10 * time.Minute
	firstTry    = 2 * time.Second
	fetchesTake = 5 * time.Minute
)

// Open readies the work. What of the library's tables is missing in the store is made.
func Open(ctx context.Context, o Options) (*Jobs, error) {
	j := &Jobs{Options: o, ended: make(chan struct{})}
	var id [4]byte
	rand.Read(id[:])
	name, _ := os.Hostname()
	j.instance = name + "-" + hex.EncodeToString(id[:])
	db, postgres := o.Store.Database()
	var driver riverdriver.Driver[*sql.Tx] = riversqlite.New(db)
	if postgres {
		driver = riverdatabasesql.New(db)
	}
	quiet := slog.New(slog.DiscardHandler)
	err := o.Store.Alone(ctx, func() error {
		forms, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: quiet})
		if err != nil {
			return err
		}
		_, err = forms.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
	if err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, worker[lookArgs]{jobs: j, do: j.look})
	river.AddWorker(workers, worker[branchesArgs]{jobs: j, do: j.branches})
	river.AddWorker(workers, worker[revisitArgs]{jobs: j, do: j.revisit})
	river.AddWorker(workers, worker[judgeArgs]{jobs: j, do: j.judge})
	river.AddWorker(workers, worker[reviewArgs]{jobs: j, do: j.review})
	river.AddWorker(workers, worker[notifyArgs]{jobs: j, do: j.notify})
	river.AddWorker(workers, worker[dailyArgs]{jobs: j, do: j.daily})
	j.client, err = river.NewClient(driver, &river.Config{
		ID: j.instance, Logger: quiet, Workers: workers, MaxAttempts: mostTries, RetryPolicy: patience{}, PeriodicJobs: j.regular(),
		Queues:     map[string]river.QueueConfig{sending: {MaxWorkers: mostAtOnce}, judging: {MaxWorkers: runtime.GOMAXPROCS(0)}},
		JobTimeout: longestJob, RescueStuckJobsAfter: longestJob + time.Minute, FetchPollInterval: pollEvery, FetchCooldown: pollEvery / 5,
		CompletedJobRetentionPeriod: keepDone, CancelledJobRetentionPeriod: keepDone, DiscardedJobRetentionPeriod: keepDead,
	})
	return j, err
}

// once keeps a job from being there twice while it is still to be done. What was done may be wanted again.
var once = river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning, rivertype.JobStateScheduled}}

// patience says when a job that failed is tried again: after two seconds, then after twice as long each time.
type patience struct{}

func (patience) NextRetry(job *rivertype.JobRow) time.Time {
	wait := firstTry << min(len(job.Errors), 10)
	return time.Now().Add(min(wait, slowestTry))
}

// worker does the jobs of one kind.
type worker[A river.JobArgs] struct {
	river.WorkerDefaults[A]
	jobs *Jobs
	do   func(context.Context, *river.Job[A]) error
}

// Work does a job, and has it counted.
func (w worker[A]) Work(ctx context.Context, job *river.Job[A]) error {
	began := time.Now()
	err := w.do(ctx, job)
	if w.jobs.Seen != nil {
		w.jobs.Seen.Worked(job.Kind, err, time.Since(began))
	}
	if err != nil && w.jobs.Log != nil && !IsVoid(err) {
		w.jobs.Log.Warn("job", "kind", job.Kind, "id", job.ID, "attempt", job.Attempt, "args", string(job.EncodedArgs), "error", err.Error())
	}
	return err
}

// void is the end of a job that there is no reason for any more.
func void(why string) error { return river.JobCancel(errors.New(why)) }

// Start begins to work. It must be stopped.
func (j *Jobs) Start(ctx context.Context) error {
	working := context.WithoutCancel(ctx)
	if err := j.Ledger.Here(ctx, j.instance, time.Now()); err != nil {
		return err
	}
	if err := j.client.Start(working); err != nil {
		return err
	}
	beating, end := context.WithCancel(working)
	j.end = end
	go j.beat(beating)
	return nil
}

// Stop stops: what is being done may end for a while, and is broken off then; another instance does it again.
func (j *Jobs) Stop(ctx context.Context) error {
	defer func() {
		j.end()
		<-j.ended
	}()
	if err := j.client.Stop(ctx); err == nil {
		return nil
	}
	broken, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	return j.client.StopAndCancel(broken)
}

// The times of instances.
const (
	beatEvery = 2 * time.Second
	goneAfter = 10 * time.Second
)

// beat says that this instance works, and gives the jobs of those that don't any more to the others.
func (j *Jobs) beat(ctx context.Context) {
	defer close(j.ended)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(beatEvery):
		}
		err := j.Ledger.Here(ctx, j.instance, time.Now())
		if err == nil {
			err = j.takeOver(ctx)
		}
		if err != nil && ctx.Err() == nil && j.Log != nil {
			j.Log.Warn("instances", "error", err.Error())
		}
	}
}

// takeOver makes jobs available again that an instance was at that is gone. The library itself knows of time alone: it would leave them
// until the longest job must have ended.
func (j *Jobs) takeOver(ctx context.Context) error {
	gone, err := j.Ledger.Gone(ctx, time.Now().Add(-goneAfter))
	db, postgres := j.Store.Database()
	last, now := "json_extract(attempted_by, '$[#-1]')", "datetime('now', 'subsec')"
	if postgres {
		last, now = "attempted_by[array_length(attempted_by, 1)]", "now()"
	}
	for _, instance := range gone {
		if err == nil {
			_, err = db.ExecContext(ctx, "UPDATE river_job SET state = 'available', scheduled_at = "+now+" WHERE state = 'running' AND "+last+" = $1", instance)
		}
	}
	return err
}

// mirror is the mirror of a repository.
func (j *Jobs) mirror(r policyfile.ServedRepository) app.Mirror {
	m := app.Mirror{Dir: filepath.Join(j.Mirrors, url.PathEscape(r.Name)+".git"), Address: r.Git, Patient: fetchesTake}
	if r.GitToken != "" {
		m.Token = j.Secret(r.GitToken)
	}
	return m
}

// MirrorOf is the folder of the mirror of a repository, "" where the settings don't name that.
func (j *Jobs) MirrorOf(name string) string {
	r, ok := j.Settings.Repository(name)
	if !ok {
		return ""
	}
	return j.mirror(r).Dir
}

// repository is what the settings say of a repository. The error ends a job.
func (j *Jobs) repository(name string) (policyfile.ServedRepository, error) {
	r, ok := j.Settings.Repository(name)
	if !ok {
		return r, void("the settings have no repository " + name)
	}
	return r, nil
}

// today is the day as policies write days.
func (j *Jobs) today() string { return j.Now().UTC().Format(time.DateOnly) }

// Look has a pull request looked at, as a part of a transaction.
func (j *Jobs) Look(ctx context.Context, tx *sql.Tx, repository, pull string) error {
	_, err := j.client.InsertTx(ctx, tx, lookArgs{Repository: repository, Pull: pull}, nil)
	return err
}

// LookAtBranches has the branches of a repository looked at, as a part of a transaction.
func (j *Jobs) LookAtBranches(ctx context.Context, tx *sql.Tx, repository string) error {
	_, err := j.client.InsertTx(ctx, tx, branchesArgs{Repository: repository}, nil)
	return err
}

// Dead is a job that was given up.
type Dead struct {
	Kind, Args, Error string
	Tries             int
	Time              time.Time
}

// Dead lists jobs that were given up, the last first.
func (j *Jobs) Dead(ctx context.Context, most int) (all []Dead, err error) {
	found, err := j.client.JobList(ctx, river.NewJobListParams().States(rivertype.JobStateDiscarded).OrderBy(river.JobListOrderByTime, river.SortOrderDesc).First(most))
	if err != nil {
		return nil, err
	}
	for _, job := range found.Jobs {
		d := Dead{Kind: job.Kind, Args: string(job.EncodedArgs), Tries: job.Attempt}
		if n := len(job.Errors); n > 0 {
			d.Error, d.Time = job.Errors[n-1].Error, job.Errors[n-1].At
		}
		all = append(all, d)
	}
	return all, nil
}

// Waiting counts jobs by what they are at: available, running, retryable, scheduled, discarded and others; and says since when the one
// waits that has waited longest of those that could be done.
func (j *Jobs) Waiting(ctx context.Context) (states map[string]int, since time.Time, err error) {
	db, _ := j.Store.Database()
	rows, err := db.QueryContext(ctx, "SELECT CAST(state AS TEXT), COUNT(*) FROM river_job GROUP BY state")
	if err != nil {
		return nil, since, err
	}
	defer rows.Close()
	states = map[string]int{}
	for rows.Next() {
		var state string
		var n int
		if err := rows.Scan(&state, &n); err != nil {
			return nil, since, err
		}
		states[state] = n
	}
	if err := rows.Err(); err != nil {
		return nil, since, err
	}
	found, err := j.client.JobList(ctx, river.NewJobListParams().States(rivertype.JobStateAvailable).OrderBy(river.JobListOrderByScheduledAt, river.SortOrderAsc).First(1))
	if err == nil && len(found.Jobs) > 0 {
		since = found.Jobs[0].ScheduledAt
	}
	return states, since, err
}

// IsVoid reports whether a job ended so because there is no reason for it any more.
func IsVoid(err error) bool {
	var void *rivertype.JobCancelError
	return errors.As(err, &void)
}
