package jobs

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"zincdoor/internal/app"
	"zincdoor/internal/codehost"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/ledger"
	"zincdoor/internal/target"
)

// lookArgs is a pull request that something has happened to: a report has come, its head has moved, or a time is over.
type lookArgs struct {
	Repository string `json:"repository"`
	Pull       string `json:"pull"`
}

// Kind names the jobs in the store.
func (lookArgs) Kind() string { return "look" }

// InsertOpts has what is known already go out first.
func (lookArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Priority: 2} }

// look asks the code host for the head of a pull request, and has it judged if its reports have come.
func (j *Jobs) look(ctx context.Context, job *river.Job[lookArgs]) error {
	r, err := j.repository(job.Args.Repository)
	if err != nil {
		return err
	}
	host, err := j.host(r, job.Args.Pull)
	if err != nil {
		return err
	}
	defer host.Close()
	name, m := ledger.PullName(job.Args.Pull), j.mirror(r)
	ticket, err := j.Ledger.Ask(ctx, r.Name, name)
	if err != nil {
		return err
	}
	pull, err := host.Pull(ctx)
	switch {
	case errors.Is(err, codehost.ErrGone):
		return void("there is no such pull request any more")
	case err != nil:
		return err
	}
	if pull.Target == "" {
		return void("the recipe of the code host doesn't say into which branch it goes: acts: read-pull: fields: target")
	}
	if !git.IsHash(pull.Head) { // some hosts show the beginning of a commit's name
		if err := m.Fetch(ctx, job.ScheduledAt); err != nil {
			return err
		}
		if pull.Head, err = m.Tip(ctx, pull.Head); err != nil || pull.Head == "" {
			return errors.Join(err, errors.New("the code host names no commit as its head"))
		}
	}
	var s ledger.Subject
	err = j.Ledger.Update(ctx, r.Name, name, func(tx *sql.Tx, now *ledger.Subject) error {
		if s = *now; !now.Answered(ticket) {
			return nil
		}
		now.Title, now.Target, now.State = pull.Title, pull.Target, ledger.Proposed
		if hasEnded(pull.State) {
			now.State = strings.ToLower(pull.State)
		}
		err := j.move(ctx, tx, r, now, pull.Head)
		s = *now
		return err
	})
	if err != nil {
		return err
	}
	if s.State != ledger.Proposed { // it may have been merged
		_, err := j.client.Insert(ctx, branchesArgs{r.Name}, nil)
		return err
	}
	if err := j.fetch(ctx, r, m, &s, job.ScheduledAt); err != nil {
		return err
	}
	return j.consider(ctx, r, m, &s)
}

// ends are how code hosts call pull requests that nobody proposes any more.
var ends = []string{"closed", "merged", "declin", "reject", "abandon", "supersed", "withdrawn", "dropped"}

// hasEnded reports whether nobody proposes a pull request any more, by what its host calls its state. One too many that is judged does
// less harm than one too few.
func hasEnded(state string) bool {
	return slices.ContainsFunc(ends, func(end string) bool { return strings.Contains(strings.ToLower(state), end) })
}

// move notes the head of a subject. A new one has its reports waited for anew: a look at the end of that time sees what has come.
func (j *Jobs) move(ctx context.Context, tx *sql.Tx, r policyfile.ServedRepository, s *ledger.Subject, head string) error {
	if head == s.Head {
		return nil
	}
	s.Head, s.Seen, s.Lacking, s.Trouble = head, j.Now(), nil, ""
	_, err := j.client.InsertTx(ctx, tx, lookAt(s), &river.InsertOpts{ScheduledAt: time.Now().Add(r.Wait)})
	return err
}

// lookAt is the job that looks at a subject.
func lookAt(s *ledger.Subject) river.JobArgs {
	if s.Pull() != "" {
		return lookArgs{s.Repository, s.Pull()}
	}
	return branchesArgs{s.Repository}
}

// fetch brings the mirror up to date, with the head of a subject, unless that was done since a time.
func (j *Jobs) fetch(ctx context.Context, r policyfile.ServedRepository, m app.Mirror, s *ledger.Subject, since time.Time) error {
	var more []string
	if s.Pull() != "" && r.PullRef != "" {
		ref := strings.Replace(r.PullRef, "{pull}", s.Pull(), 1)
		more = append(more, "+"+ref+":"+ref)
	}
	err := m.Fetch(ctx, since, more...)
	if err == nil && !m.Has(ctx, s.Head) { // another one has fetched, without this ref
		err = m.Fetch(ctx, time.Now(), more...)
	}
	if err == nil && !m.Has(ctx, s.Head) {
		err = fmt.Errorf("the repository at %s doesn't have %s; pull-ref in the settings says where heads of pull requests are", r.Git, s.Head)
	}
	if err != nil {
		j.trouble(ctx, s, err)
	}
	return err
}

// trouble notes why a subject doesn't go on, for its page.
func (j *Jobs) trouble(ctx context.Context, s *ledger.Subject, why error) {
	j.Ledger.Update(ctx, s.Repository, s.Name, func(_ *sql.Tx, now *ledger.Subject) error {
		now.Trouble = why.Error()
		return nil
	})
}

// call is a call in a mirror. Of what a policy names nothing is started, and nothing is read but what the settings allow.
func (j *Jobs) call(dir string) app.Call {
	return app.Call{Dir: dir, Today: j.today(), Within: append([]string{}, j.Settings.Policies...)}
}

// request is the call that judges a subject, but for its reports.
func (j *Jobs) request(r policyfile.ServedRepository, m app.Mirror, s *ledger.Subject) app.GateRequest {
	q := app.GateRequest{Call: j.call(m.Dir), Door: r.Door}
	if s.Pull() != "" {
		q.Change = target.Name{Kind: policy.Branch, Into: s.Target, To: s.Head}
		q.Record = app.RecordApart(r.Name, "")
		return q
	}
	q.Door = ""
	for _, b := range r.Branches {
		if b.Ref == s.Name || b.Ref == "" {
			q.Door = b.Door
		}
	}
	q.Change = target.Name{Kind: policy.Tree, To: s.Head}
	if s.Base != "" {
		q.Change = target.Name{Kind: policy.Range, From: s.Base, To: s.Head}
	}
	q.Record = app.RecordApart(r.Name, s.Name)
	return q
}

// branch is the branch of a subject, "" for a pull request.
func branch(s *ledger.Subject) string {
	if s.Pull() != "" {
		return ""
	}
	return s.Name
}

// gathered are the reports that serve a subject.
type gathered struct {
	wanted  *app.Wanted // nil where it isn't known what is wanted, for
	why     error
	head    []ledger.Upload
	base    []ledger.Upload
	seals   []ledger.Upload
	lacking []string
}

// gather finds out which reports a subject needs, and which of them are there.
func (j *Jobs) gather(ctx context.Context, q app.GateRequest, s *ledger.Subject) (g gathered, err error) {
	if g.wanted, err = app.WantedFor(ctx, q, branch(s)); err != nil {
		if ctx.Err() != nil || errors.Is(err, app.ErrNoDoor) {
			return g, err
		}
		g.wanted, g.why = nil, err
		return g, nil
	}
	sent, err := j.Ledger.UploadsFor(ctx, s.Repository, s.Head, s.Pull())
	if err != nil {
		return g, err
	}
	there := map[string]bool{}
	for _, u := range sent {
		if strings.HasPrefix(u.Name, policy.SealReport) {
			g.seals = append(g.seals, u)
		}
		if slices.Contains(g.wanted.Reports, u.Name) || slices.Contains(g.wanted.Others, u.Name) {
			there[u.Name] = true
			g.head = append(g.head, u)
		}
	}
	for _, name := range g.wanted.Reports {
		if !there[name] {
			g.lacking = append(g.lacking, name)
		}
	}
	if len(g.wanted.OfBase) > 0 && g.wanted.Base != "" {
		if sent, err = j.Ledger.UploadsFor(ctx, s.Repository, g.wanted.Base, ""); err != nil {
			return g, err
		}
		before := map[string]bool{}
		for _, u := range sent {
			if strings.HasPrefix(u.Name, policy.SealReport) {
				g.seals = append(g.seals, u)
			}
			if slices.Contains(g.wanted.OfBase, u.Name) {
				before[u.Name] = true
				g.base = append(g.base, u)
			}
		}
		for _, name := range g.wanted.OfBase {
			if slices.Contains(g.wanted.Reports, name) && !before[name] {
				g.lacking = append(g.lacking, fmt.Sprintf("%s of %.10s", name, g.wanted.Base))
			}
		}
	}
	return g, nil
}

// hash names what a verdict on a head rests on: what it is merged into, the policy, the reports.
func (g gathered) hash(s *ledger.Subject) string {
	h := sha256.New()
	fmt.Fprintln(h, s.Target)
	if g.wanted != nil {
		fmt.Fprintln(h, g.wanted.Door, g.wanted.Policy)
	}
	for _, u := range slices.Concat(g.head, g.base, g.seals) {
		fmt.Fprintf(h, "%s %s %s\n", u.Head, u.Name, u.Digest)
	}
	if g.why != nil {
		io.WriteString(h, g.why.Error())
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// consider has a subject judged if all that it needs has come, or the time for that is over.
func (j *Jobs) consider(ctx context.Context, r policyfile.ServedRepository, m app.Mirror, s *ledger.Subject) error {
	q := j.request(r, m, s)
	g, err := j.gather(ctx, q, s)
	if errors.Is(err, app.ErrNoDoor) {
		j.trouble(ctx, s, err)
		return nil
	}
	if err != nil {
		return err
	}
	rests := g.hash(s)
	return j.Ledger.Update(ctx, s.Repository, s.Name, func(tx *sql.Tx, now *ledger.Subject) error {
		if now.Head != s.Head {
			return nil // whoever moved it considers it too
		}
		now.Lacking, now.Trouble = g.lacking, ""
		if len(g.lacking) > 0 && j.Now().Before(now.Seen.Add(r.Wait)) || now.Judged == now.Head && now.Evidence == rests {
			return nil
		}
		_, err := j.client.InsertTx(ctx, tx, judgeArgs{s.Repository, s.Name, s.Head, rests}, nil)
		return err
	})
}

// branchesArgs is a repository whose branches are to be looked at.
type branchesArgs struct {
	Repository string `json:"repository"`
}

// Kind names the jobs in the store.
func (branchesArgs) Kind() string { return "branches" }

// InsertOpts has pull requests go first.
func (branchesArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Priority: 3} }

// allBranches is the subject that tickets for the branches of a repository are of.
const allBranches = "branches"

// branches fetches a repository, and has its guarded branches judged that have moved, or whose reports have come.
func (j *Jobs) branches(ctx context.Context, job *river.Job[branchesArgs]) error {
	r, err := j.repository(job.Args.Repository)
	if err != nil {
		return err
	}
	m := j.mirror(r)
	ticket, err := j.Ledger.Ask(ctx, r.Name, allBranches)
	if err != nil {
		return err
	}
	if err := m.Fetch(ctx, time.Now()); err != nil { // in each instance's own mirror
		return err
	}
	for _, b := range r.Branches {
		if b.Ref == "" {
			b.Ref = m.Main(ctx)
		}
		tip, err := m.Tip(ctx, b.Ref)
		switch {
		case err != nil:
			return err
		case tip == "":
			continue // it isn't there yet, or any more
		}
		parent, err := m.Parent(ctx, tip)
		if err != nil {
			return err
		}
		var s ledger.Subject
		moved := false
		err = j.Ledger.Update(ctx, r.Name, b.Ref, func(tx *sql.Tx, now *ledger.Subject) error {
			if s = *now; !now.Answered(ticket) {
				return nil
			}
			if moved = now.Head != tip; moved {
				now.Base = cmp.Or(now.Judged, parent)
			}
			err := j.move(ctx, tx, r, now, tip)
			s = *now
			return err
		})
		if err == nil && moved {
			err = errors.Join(j.noteAcceptances(ctx, m, &s), j.judgeAnew(ctx, m, &s))
		}
		if err == nil {
			err = j.consider(ctx, r, m, &s)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// judgeAnew has the pull requests into a branch looked at whose policy has changed: what one policy let in, another one may not.
func (j *Jobs) judgeAnew(ctx context.Context, m app.Mirror, s *ledger.Subject) error {
	if s.Base == "" || !m.Alters(ctx, s.Base, s.Head, policy.Folder) {
		return nil
	}
	open, err := j.Ledger.Pulls(ctx, s.Repository, mostAnew)
	for _, pull := range open {
		if err == nil && policy.WholeRef(pull.Target) == s.Name {
			_, err = j.client.Insert(ctx, lookArgs{s.Repository, pull.Pull()}, nil)
		}
	}
	return err
}

// mostAnew bounds how many pull requests are looked at without word from the code host.
const mostAnew = 10_000

// revisitArgs is a repository whose open pull requests are to be looked at, though nobody has said that something happened to them.
type revisitArgs struct {
	Repository string `json:"repository" river:"unique"`
}

// Kind names the jobs in the store.
func (revisitArgs) Kind() string { return "revisit" }

// InsertOpts has all else go first.
func (revisitArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Priority: 4, UniqueOpts: once}
}

// revisitEvery is how often that is done: a code host's call may be lost, or be the same as an earlier one.
const revisitEvery = time.Hour

// revisit has the open pull requests of a repository looked at.
func (j *Jobs) revisit(ctx context.Context, job *river.Job[revisitArgs]) error {
	open, err := j.Ledger.Pulls(ctx, job.Args.Repository, mostAnew)
	for _, pull := range open {
		if err == nil {
			_, err = j.client.Insert(ctx, lookAt(&pull), &river.InsertOpts{Priority: 4})
		}
	}
	return err
}

// noteAcceptances notes what a branch accepts. A policy or a list that can't be read says nothing of that; its verdict says so.
func (j *Jobs) noteAcceptances(ctx context.Context, m app.Mirror, s *ledger.Subject) error {
	all, teams, err := app.AcceptancesAt(ctx, j.call(m.Dir), s.Head)
	if err != nil {
		return ctx.Err()
	}
	return j.Ledger.SetAcceptances(ctx, s.Repository, s.Name, all, teams)
}
