package jobs

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/riverqueue/river"

	"zincdoor/internal/app"
	"zincdoor/internal/codehost"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
	"zincdoor/internal/service/address"
	"zincdoor/internal/service/ledger"
)

// reviewArgs is a verdict to bring to a pull request.
type reviewArgs struct {
	Repository string `json:"repository" river:"unique"`
	Pull       string `json:"pull" river:"unique"`
	Record     string `json:"record" river:"unique"`
}

// Kind names the jobs in the store.
func (reviewArgs) Kind() string { return "review" }

// InsertOpts has the same brought by one at a time.
func (reviewArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: once} }

// hostWaits is how long a call may wait in all where a code host asks to; after that the job is tried again later.
const hostWaits = 30 * time.Second

func (j *Jobs) hostSettings(r policyfile.ServedRepository) codehost.Settings {
	return codehost.Settings{Address: r.HostAt, Plain: r.PlainHTTP, Patience: hostWaits, Values: map[string]string{}}
}

func (j *Jobs) hostToken(r policyfile.ServedRepository) string {
	if r.HostToken == "" {
		return ""
	}
	return j.Secret(r.HostToken)
}

// host is the code host of a repository, for one of its pull requests. It must be closed. The error ends a job.
func (j *Jobs) host(r policyfile.ServedRepository, pull string) (*codehost.Host, error) {
	recipe := j.Hosts[r.Name]
	if recipe == nil {
		return nil, void("the settings name no code host for " + r.Name)
	}
	s := j.hostSettings(r)
	s.Token = j.hostToken(r)
	s.Values["repository"], s.Values["pull"] = r.HostName, pull
	h, err := codehost.New(recipe, s)
	if err != nil {
		return nil, river.JobCancel(err)
	}
	return h, nil
}

var writing = app.ReviewWriting{
	Comment: render.ReviewComment, Status: render.ReviewStatus, Gone: render.ReviewGone,
	Summary: func(v judge.Verdict, _ *app.Judged, commented map[int]bool, longest int, notes []string) string {
		return render.ReviewSummary(v, render.Options{MaxLength: longest}, commented, notes)
	},
}

// review brings a verdict to its pull request, unless there is a newer one.
func (j *Jobs) review(ctx context.Context, job *river.Job[reviewArgs]) error {
	a := job.Args
	r, err := j.repository(a.Repository)
	if err != nil {
		return err
	}
	s, err := j.Ledger.Subject(ctx, a.Repository, ledger.PullName(a.Pull))
	if err != nil {
		return err
	}
	if s.Record != a.Record {
		return void("there is a newer verdict")
	}
	made, err := j.recorded(ctx, a.Record)
	switch {
	case err != nil:
		return err
	case made == nil:
		return void("its record was removed")
	case j.Hosts[r.Name] == nil:
		return void("the settings name no code host for " + r.Name)
	}
	q := app.ReviewRequest{
		Call:        j.call(j.mirror(r).Dir),
		HostRequest: app.HostRequest{Recipe: j.Hosts[r.Name], Pull: a.Pull, Repository: r.HostName, Settings: j.hostSettings(r), TokenFrom: func() (string, error) { return j.hostToken(r), nil }},
		Given:       &made.Verdict, Most: render.MostComments, Link: j.link(address.Record(a.Record)), Writing: writing,
	}
	sent, err := app.SendReview(ctx, q)
	if err == nil && sent.Pull.Head == "" {
		err = errors.New("nothing was sent: " + last(sent.Notices))
	}
	if err != nil {
		j.trouble(ctx, s, err)
		if errors.Is(err, app.ErrCall) || errors.Is(err, codehost.ErrRecipe) {
			return river.JobCancel(err)
		}
		return err
	}
	return j.Ledger.Update(ctx, a.Repository, s.Name, func(tx *sql.Tx, s *ledger.Subject) error {
		if s.Record != a.Record { // another verdict came meanwhile, and may have been brought before this one was
			_, err := j.client.InsertTx(ctx, tx, reviewArgs{a.Repository, a.Pull, s.Record}, nil)
			return err
		}
		s.Sent, s.Trouble = a.Record, ""
		return nil
	})
}

func last(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[len(list)-1]
}

// link is where people read a page, "" where the settings don't say by which address they come.
func (j *Jobs) link(page string) string {
	if j.Settings.Address == "" {
		return ""
	}
	return j.Settings.Address + page
}
