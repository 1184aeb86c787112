package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
	"zincdoor/internal/git"
	"zincdoor/internal/history"
	"zincdoor/internal/target"
)

// Recording says whether verdicts are recorded. The zero value records nothing.
type Recording struct {
	Asked    bool // the call asks for it
	ByPolicy bool // the policy may ask for it
	Place    Place

	branch string    // the branch whose states are judged, where it is known beforehand
	time   time.Time // when the judged state was made, where it is one of the past; zero for now
}

// Place says where records are kept, as far as a call has a say in that.
type Place struct {
	File   string // a file that the call names, "" for none
	Server string // what the environment names: a file or the address of a PostgreSQL database; "" for none
}

// What git's configuration has to say of records.
const (
	placeKey = "zincdoor.history"    // where they are kept
	nameKey  = "zincdoor.repository" // what the repository is called there
)

// at is where records are kept, and where those wait that can't be put in there. Without a repository, and without another word,
// that is nowhere.
func (p Place) at(repo *git.Repo, dir string) (place string, waiting history.Waiting, err error) {
	own := ""
	if repo != nil {
		common, err := repo.CommonDir()
		if err != nil {
			return "", "", err
		}
		own = filepath.Join(common, "zincdoor")
	}
	switch {
	case p.File != "" && history.IsServer(p.File):
		return "", "", target.WrongCall("--history-file names a file; the address of a database may hold a password, which no command line should: git config %s ADDRESS, or ZINCDOOR_HISTORY", placeKey)
	case p.File != "":
		place = target.InDir(dir, p.File)
	case p.Server != "":
		place = target.InDir(dir, p.Server)
		if history.IsServer(p.Server) {
			place = p.Server
		}
	case repo != nil && repo.Setting(placeKey) != "":
		if place = repo.Setting(placeKey); !history.IsServer(place) {
			place = target.InDir(repo.Root, homely(place))
		}
	case repo != nil:
		place = filepath.Join(own, "history.db")
	default:
		return "", "", errors.New("there is no repository to keep it in; name a file: --history-file FILE")
	}
	switch {
	case own != "":
		return place, history.Waiting(filepath.Join(own, "waiting")), nil
	case history.IsServer(place):
		cache, err := os.UserCacheDir()
		return place, history.Waiting(filepath.Join(cache, "zincdoor", "waiting")), err
	}
	return place, history.Waiting(place + ".waiting"), nil
}

// homely is a path that may begin with the user's home, as ~.
func homely(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return path
}

// repositoryName is what a repository is called among others: as git's configuration says, else by the address that it was cloned
// from, without whatever proves who may, else by its folder.
func repositoryName(repo *git.Repo, dir string) string {
	if repo == nil {
		return filepath.Base(dir)
	}
	if name := repo.Setting(nameKey); name != "" {
		return name
	}
	remotes, _ := repo.Remotes()
	remote := "origin"
	if len(remotes) == 1 {
		remote = remotes[0]
	}
	if name := addressName(repo.Setting("remote." + remote + ".url")); name != "" {
		return name
	}
	common, err := repo.CommonDir()
	if err != nil || repo.Bare {
		common = repo.Root
	} else {
		common = filepath.Dir(common)
	}
	return strings.TrimSuffix(filepath.Base(common), ".git")
}

// addressName is what an address of a repository names: its host and its path.
func addressName(address string) string {
	address = strings.TrimSuffix(strings.TrimRight(address, "/"), ".git")
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Hostname() + u.Path
	}
	if host, path, ok := strings.Cut(address, ":"); ok && !strings.Contains(host, "/") { // [USER@]HOST:PATH
		_, after, named := strings.Cut(host, "@")
		if !named {
			after = host
		}
		return after + "/" + strings.TrimPrefix(path, "/")
	}
	if address == "" {
		return ""
	}
	return filepath.Base(address)
}

// recording is a record in the making.
type recording struct {
	Recording
	policy *policy.Policy
	began  time.Time
	dir    string

	mutex    sync.Mutex
	reports  []record.Report
	contents []history.Content
	notices  []string
}

// beginRecord begins the record of a judgement, nil where none is wanted.
func (q GateRequest) beginRecord(a *authority.Authority) *recording {
	p := a.Policy.Policy
	if !q.Record.Asked && !(q.Record.ByPolicy && p.History.Record) {
		return nil
	}
	return &recording{Recording: q.Record, policy: p, began: time.Now(), dir: q.Dir}
}

// keeper is what keeps the content of reports as they are read.
func (r *recording) keeper() func(name, format string) (io.Writer, func(bool)) {
	if r == nil {
		return nil
	}
	return func(name, format string) (io.Writer, func(bool)) {
		packing := history.NewPacking()
		return packing, func(whole bool) {
			content, fits := packing.Content()
			if !whole {
				return
			}
			r.mutex.Lock()
			defer r.mutex.Unlock()
			r.reports = append(r.reports, record.Report{Name: name, Format: format, Digest: content.Digest, Size: content.Size})
			if fits {
				r.contents = append(r.contents, content)
			} else {
				r.notices = append(r.notices, fmt.Sprintf("the report %s is too big to be kept with the record", name))
			}
		}
	}
}

// unrecorded is a record that is to be put in.
type unrecorded struct {
	*record.Record
	contents []history.Content
	notices  []string
	place    string
	waiting  history.Waiting
	keep     policy.Period
	err      error // why it can't be
}

// end makes the record of a judgement. What of it can't be known is left out: a record never stops a verdict.
func (r *recording) end(t *target.Target, j *Judged) *unrecorded {
	if r == nil {
		return nil
	}
	branch, head, tree := r.state(t, j)
	made := record.Of(j.Verdict, branch, r.policy)
	made.Verdict.Subject.Head = head
	made.Repository, made.Tree, made.Reports = repositoryName(t.Repo, r.dir), tree, r.reports
	made.Time, made.Took = r.began.UTC().Truncate(time.Millisecond), time.Since(r.began).Truncate(time.Millisecond)
	if !r.time.IsZero() {
		made.Time, made.Imported = r.time.UTC().Truncate(time.Millisecond), true
	}
	u := &unrecorded{Record: &made, contents: r.contents, notices: r.notices, keep: r.policy.History.Keep}
	u.place, u.waiting, u.err = r.Place.at(t.Repo, r.dir)
	return u
}

// state finds out of which guarded branch the judged state is the tip, "" where it is none's; and the commit and the tree that it
// is. A work tree is its commit's where nothing that is tracked differs.
func (r *recording) state(t *target.Target, j *Judged) (branch, head, tree string) {
	head = j.Subject.Head
	if t.Repo == nil || t.IsPatch {
		return "", head, ""
	}
	if t.Side == git.Worktree && t.Kind == policy.Tree {
		if commit, ok := t.Repo.Head(); ok && t.Repo.Unaltered() {
			head = commit
		}
	}
	if head == "" || head == string(git.Index) || head == string(git.Worktree) {
		return "", head, ""
	}
	tree, _ = t.Repo.TreeOf(head)
	switch {
	case r.branch != "":
		return r.branch, head, tree
	case t.Kind == policy.Push && t.Guarded:
		return j.Subject.Ref, head, tree
	case t.Kind != policy.Range && t.Kind != policy.Tree:
		return "", head, tree
	}
	main := t.Repo.MainBranch()
	for _, ref := range t.Repo.RefsAt(head) {
		if after, remote := strings.CutPrefix(ref, "refs/remotes/"); remote {
			_, name, _ := strings.Cut(after, "/")
			ref = "refs/heads/" + name
		}
		if r.policy.Guards(ref, main) {
			return ref, head, tree
		}
	}
	return "", head, tree
}

// longestRecording is how long it may take to put records in: those that take longer wait for the next time.
const longestRecording = time.Minute

// Record puts the records of verdicts in, and those that have been waiting. It tells what went wrong, which changes no verdict.
func Record(ctx context.Context, judged []*Judged) (notices []string) {
	var all []*unrecorded
	for _, j := range judged {
		if j.unrecorded != nil {
			all = append(all, j.unrecorded)
		}
	}
	if len(all) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, longestRecording)
	defer cancel()
	store, err := all[0].open(ctx)
	if err == nil {
		defer store.Close()
		_, told, wrong := all[0].waiting.TakeIn(ctx, store)
		if notices = told; wrong != nil {
			notices = append(notices, fmt.Sprintf("not all records that wait could be put in: %v", wrong))
		}
	}
	for _, u := range all {
		notices = append(notices, u.notices...)
		wrong := errors.Join(err, u.err)
		if wrong == nil {
			wrong = store.Put(ctx, u.Record, u.contents)
		}
		switch {
		case wrong == nil:
		case u.place == "":
			notices = append(notices, fmt.Sprintf("the verdict isn't recorded: %v", wrong))
		default:
			if waits := u.waiting.Keep(u.Record, u.contents); waits != nil {
				notices = append(notices, fmt.Sprintf("the verdict isn't recorded, and can't wait in %s either (%v): %v", u.waiting, waits, wrong))
			} else {
				notices = append(notices, fmt.Sprintf("the verdict isn't recorded yet, and waits in %s for the next time: %v", u.waiting, wrong))
			}
		}
	}
	if err == nil {
		if err := all[0].tidy(ctx, store); err != nil {
			notices = append(notices, fmt.Sprintf("old records can't be removed: %v", err))
		}
	}
	return slices.Compact(notices)
}

func (u *unrecorded) open(ctx context.Context) (*history.Store, error) {
	if u.err != nil {
		return nil, u.err
	}
	return history.Open(ctx, u.place)
}

// keepReports is how many days reports are kept where the policy doesn't say.
const keepReports = 90

// tidy removes what is older than the policy keeps, about once a day.
func (u *unrecorded) tidy(ctx context.Context, store *history.Store) error {
	mark := string(u.waiting) + ".pruned"
	if info, err := os.Stat(mark); err == nil && time.Since(info.ModTime()) < 24*time.Hour {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	records, reports := until(u.keep, time.Now())
	if _, err := store.Prune(ctx, u.Repository, records, reports, false); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(mark), 0o777); err != nil {
		return err
	}
	return os.WriteFile(mark, nil, 0o666)
}

// until are the times before which records and reports are too old to be kept: none where the policy doesn't say, but for reports.
func until(keep policy.Period, now time.Time) (records, reports time.Time) {
	if keep == (policy.Period{}) {
		return time.Unix(0, 0), now.AddDate(0, 0, -keepReports)
	}
	before := keep.Before(now)
	return before, before
}
