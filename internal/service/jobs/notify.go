package jobs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/ledger"
	"zincdoor/internal/service/notice"
)

// near is from which part of what a limit allows it counts as near, in percent.
const near = 80

// newsOf is what a verdict on a guarded branch says that the one before it didn't. Where there was none, only a door that isn't open is
// worth a notice.
func (j *Jobs) newsOf(s *ledger.Subject, v judge.Verdict, was *judge.Verdict) (all []ledger.News) {
	name := strings.TrimPrefix(s.Name, "refs/heads/")
	add := func(about policyfile.News, key, title, body string, teams []string) {
		all = append(all, ledger.News{ID: idOf(s.Repository, s.Name, v.Door, s.Head, string(about), key), Repository: s.Repository, Teams: teams, About: about, Title: title, Body: body, Record: s.Record, Time: j.Now()})
	}
	if was == nil && v.Outcome != judge.Open || was != nil && was.Outcome != v.Outcome {
		body, teams := brokenOf(v)
		before := ""
		if was != nil {
			before = fmt.Sprintf(", which was %s", outcomeWord(was.Outcome))
		}
		add(policyfile.DoorNews, string(v.Outcome), fmt.Sprintf("%s: door %s of %s is %s%s", s.Repository, v.Door, name, outcomeWord(v.Outcome), before), body, teams)
	}
	for _, l := range v.Limits {
		if !isNear(l) || was != nil && slices.ContainsFunc(was.Limits, func(o judge.LimitResult) bool { return o.Name == l.Name && isNear(o) }) {
			continue
		}
		add(policyfile.LimitNews, l.Name, fmt.Sprintf("%s: limit %q at door %s of %s comes near", s.Repository, l.Name, v.Door, name), fmt.Sprintf("It has %d of at most %d.\n", l.Found, l.Bound), teamsOf(v, l))
	}
	return all
}

// isNear reports whether a limit on a number of findings is held, and all but used up.
func isNear(l judge.LimitResult) bool {
	return l.Held && l.Measured == nil && l.Counted == judge.Findings && l.Bound > 0 && l.Found*100 >= l.Bound*near
}

// brokenOf says which limits don't hold, and whose findings that are.
func brokenOf(v judge.Verdict) (body string, teams []string) {
	var text strings.Builder
	for _, l := range v.Limits {
		if !l.Held && l.Mode == policy.Enforce {
			fmt.Fprintf(&text, "%s: %d, at most %d\n", l.Name, l.Found, l.Bound)
			teams = append(teams, teamsOf(v, l)...)
		}
	}
	for _, e := range v.Evidence {
		if !e.Sound() && !e.Optional && e.Problem != "" {
			fmt.Fprintf(&text, "%s: %s\n", e.Name, e.Problem)
		}
	}
	slices.Sort(teams)
	return text.String(), slices.Compact(teams)
}

// teamsOf are the teams whose findings a limit counts.
func teamsOf(v judge.Verdict, l judge.LimitResult) (teams []string) {
	for _, at := range l.Findings {
		if team := v.Findings[at].Team; team != "" {
			teams = append(teams, team)
		}
	}
	slices.Sort(teams)
	return slices.Compact(teams)
}

// outcomeWord is an outcome for people.
func outcomeWord(o judge.Outcome) string {
	if o == judge.Unjudged {
		return "not judged"
	}
	return string(o)
}

// idOf is an id that follows from what something is.
func idOf(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:8])
}

// addNews notes news, and has its recipients notified, unless that was done before.
func (j *Jobs) addNews(ctx context.Context, tx *sql.Tx, n ledger.News) error {
	fresh, err := ledger.AddNews(ctx, tx, n)
	if err != nil || !fresh {
		return err
	}
	for _, r := range j.Settings.Notify {
		if !r.Takes(n.Repository, n.Teams, n.About) {
			continue
		}
		to := []string{r.Webhook}
		if r.Webhook == "" {
			to = r.Mail
		}
		for _, one := range to {
			if _, err := j.client.InsertTx(ctx, tx, notifyArgs{n.ID, one}, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// notifyArgs is news for a recipient: the address of a webhook, or of a mailbox.
type notifyArgs struct {
	News string `json:"news" river:"unique"`
	To   string `json:"to" river:"unique"`
}

// Kind names the jobs in the store.
func (notifyArgs) Kind() string { return "notify" }

// InsertOpts has the same sent by one at a time.
func (notifyArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: once} }

// newsJSON is news as a webhook gets it.
type newsJSON struct {
	Version    string          `json:"zincdoor"`
	ID         string          `json:"id"`
	Repository string          `json:"repository"`
	Teams      []string        `json:"teams"`
	About      policyfile.News `json:"about"`
	Title      string          `json:"title"`
	Body       string          `json:"text"`
	Link       string          `json:"link,omitempty"`
	Time       time.Time       `json:"time"`
}

// notify brings news to a recipient.
func (j *Jobs) notify(ctx context.Context, job *river.Job[notifyArgs]) error {
	n, err := j.Ledger.NewsNamed(ctx, job.Args.News)
	switch {
	case err != nil:
		return err
	case n == nil:
		return void("it was removed")
	}
	link := j.link(n.Page())
	for _, r := range j.Settings.Notify {
		switch {
		case r.Webhook != "" && r.Webhook == job.Args.To:
			var body bytes.Buffer
			to := json.NewEncoder(&body)
			to.SetEscapeHTML(false)
			if err := to.Encode(newsJSON{"news/1", n.ID, n.Repository, append([]string{}, n.Teams...), n.About, n.Title, n.Body, link, n.Time}); err != nil {
				return err
			}
			return notice.Post(ctx, notice.Hook{Address: r.Webhook, Secret: j.Secret(r.Secret)}, n.ID, body.Bytes(), time.Now())
		case slices.Contains(r.Mail, job.Args.To):
			server := notice.Server{Address: j.Settings.Mail.Server, From: j.Settings.Mail.From, User: j.Settings.Mail.User}
			if j.Settings.Mail.Password != "" {
				server.Password = j.Secret(j.Settings.Mail.Password)
			}
			return notice.Mail(ctx, server, notice.Letter{ID: n.ID, To: job.Args.To, Subject: n.Title, Body: strings.TrimSpace(n.Body + "\n" + link), Time: n.Time})
		}
	}
	return void("the settings don't name that recipient any more")
}

// dailyArgs is what is done once a day.
type dailyArgs struct{}

// Kind names the jobs in the store.
func (dailyArgs) Kind() string { return "daily" }

// regular are the jobs that come by themselves.
func (j *Jobs) regular() (all []*river.PeriodicJob) {
	now := &river.PeriodicJobOpts{RunOnStart: true}
	for _, r := range j.Settings.Repositories {
		all = append(all, river.NewPeriodicJob(river.PeriodicInterval(r.Look), func() (river.JobArgs, *river.InsertOpts) {
			return branchesArgs{r.Name}, &river.InsertOpts{UniqueOpts: once, Priority: 3}
		}, now), river.NewPeriodicJob(river.PeriodicInterval(revisitEvery), func() (river.JobArgs, *river.InsertOpts) { return revisitArgs{r.Name}, nil }, nil))
	}
	return append(all, river.NewPeriodicJob(river.PeriodicInterval(6*time.Hour), func() (river.JobArgs, *river.InsertOpts) {
		return dailyArgs{}, &river.InsertOpts{UniqueOpts: once}
	}, now))
}

// mostExpiring bounds of how many acceptances news is made at a time.
const mostExpiring = 10_000

// daily makes news of acceptances that are about to expire, and removes what nobody needs any more.
func (j *Jobs) daily(ctx context.Context, _ *river.Job[dailyArgs]) error {
	today := j.Now().UTC()
	ending, err := j.Ledger.Ending(ctx, "", today.AddDate(0, 0, j.Settings.Expiring).Format(time.DateOnly), mostExpiring)
	if err != nil {
		return err
	}
	type group struct{ repository, branch, owner, until string }
	groups := map[group][]ledger.Acceptance{}
	for _, a := range ending {
		if a.Until >= today.Format(time.DateOnly) {
			g := group{a.Repository, a.Branch, a.Owner, a.Until}
			groups[g] = append(groups[g], a)
		}
	}
	err = j.Store.Atomically(ctx, func(tx *sql.Tx) error {
		for g, all := range groups {
			n := ledger.News{Repository: g.repository, About: policyfile.AcceptanceNews, Time: j.Now()}
			key := []string{g.repository, g.branch, g.owner, g.until}
			var body strings.Builder
			for _, a := range all {
				key = append(key, a.Entry)
				fmt.Fprintf(&body, "%s %s: %s (%s)\n", a.Path, a.Rule, a.Message, a.Entry)
			}
			if g.owner != "" {
				n.Teams = []string{g.owner}
			}
			n.ID, n.Body = idOf(key...), body.String()
			n.Title = fmt.Sprintf("%s: %d accepted findings expire after %s", g.repository, len(all), g.until)
			if len(all) == 1 {
				n.Title = fmt.Sprintf("%s: an accepted finding expires after %s", g.repository, g.until)
			}
			if err := j.addNews(ctx, tx, n); err != nil {
				return err
			}
		}
		return nil
	})
	return errors.Join(err, j.Ledger.Tidy(ctx, j.Now()))
}
