package app

import (
	"cmp"
	"context"
	"fmt"
	"io"
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
	"zincdoor/internal/recordfile"
	"zincdoor/internal/target"
)

// Recording says whether verdicts are recorded. The zero value records nothing.
type Recording struct {
	Asked    bool // the call asks for it
	ByPolicy bool // the policy may ask for it
	Place    Place

	apart *apart // nil where Record is to put it in
}

// apart is what is known beforehand of a record that isn't put in by Record, but by who asks for it.
type apart struct {
	repository, branch string
	time               time.Time // when the commit was made, of one of the past
}

// RecordApart has the record of a verdict made, which Judged.Recorded gives: of a repository by its name there, and of the guarded branch
// whose state is judged, "" for none's.
func RecordApart(repository, branch string) Recording {
	return Recording{Asked: true, apart: &apart{repository: repository, branch: branch}}
}

// Recorded is the record of a verdict that was to be made apart, with the reports that it rests on.
func (j *Judged) Recorded() (*record.Record, []recordfile.Content) {
	return j.unrecorded.Record, j.unrecorded.contents
}

// Place says where records are kept, as far as a call has a say in that.
type Place struct {
	File        string // a file that the call names, "" for none
	Option      string // by which it names one, "" for --history-file
	Environment string // what the environment names: a file or the address of a PostgreSQL database; "" for none
	Otherwise   string // the file, outside of any repository, where nobody names one; "" for none
}

// What git's configuration has to say of records.
const (
	placeKey = "zincdoor.history"    // where they are kept
	nameKey  = "zincdoor.repository" // what the repository is called there
)

// at is where records are kept, and where those wait that can't be put in there. Without a repository, and without another word,
// that is nowhere.
func (p Place) at(home *home, dir string) (place string, waiting history.Waiting, err error) {
	switch {
	case p.File != "" && history.IsServer(p.File):
		return "", "", target.WrongCall("--history-file names a file; the address of a database may hold a password, which no command line should: git config %s ADDRESS, or ZINCDOOR_HISTORY", placeKey)
	case p.File != "":
		place = target.InDir(dir, p.File)
	case history.IsServer(p.Environment):
		place = p.Environment
	case p.Environment != "":
		place = target.InDir(dir, p.Environment)
	case history.IsServer(home.settings[placeKey]):
		place = home.settings[placeKey]
	case home.settings[placeKey] != "":
		place = target.InDir(home.root, homely(home.settings[placeKey]))
	case home.folder != "":
		place = filepath.Join(home.folder, "history.db")
	case p.Otherwise != "":
		place = target.InDir(dir, p.Otherwise)
	default:
		return "", "", fmt.Errorf("there is no repository to keep it in; name a file: %s FILE", cmp.Or(p.Option, "--history-file"))
	}
	switch {
	case home.folder != "":
		return place, history.Waiting(filepath.Join(home.folder, "waiting")), nil
	case history.IsServer(place):
		cache, err := os.UserCacheDir()
		return place, history.Waiting(filepath.Join(cache, "zincdoor", "waiting")), err
	}
	return place, history.Waiting(place + ".waiting"), nil
}

// home is what a repository, or a folder without one, says of where its records are kept, and how it is called there.
type home struct {
	root     string            // of the work tree, or the folder
	folder   string            // the door's own in the git folder that all work trees share, "" where there is none
	settings map[string]string // of git's configuration
	name     string
	cloned   bool // it has remotes
}

// homeOf finds the home of the records of a repository, nil for none, that a call made in dir is about.
func homeOf(repo *git.Repo, dir string) *home {
	if repo == nil {
		return &home{root: dir, name: filepath.Base(dir)}
	}
	common := repo.CommonDir()
	h := &home{root: repo.Root, folder: filepath.Join(common, "zincdoor"), settings: repo.Settings(`^zincdoor\.(history|repository)$|^remote\..*\.url$`)}
	for key := range h.settings {
		h.cloned = h.cloned || strings.HasPrefix(key, "remote.")
	}
	h.name = h.settings[nameKey]
	if h.name == "" {
		h.name = addressName(h.remote())
	}
	if h.name == "" {
		if !repo.Bare {
			common = filepath.Dir(common)
		}
		h.name = strings.TrimSuffix(filepath.Base(common), ".git")
	}
	return h
}

// remote is the address that the repository was cloned from: of the only remote, else of the one called origin; "" where there is none.
func (h *home) remote() string {
	var addresses []string
	for key, value := range h.settings {
		if strings.HasPrefix(key, "remote.") {
			addresses = append(addresses, value)
		}
	}
	if len(addresses) == 1 {
		return addresses[0]
	}
	return h.settings["remote.origin.url"]
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

// keeping is where the records of a call go. Its methods may be called for several records at once.
type keeping struct {
	begun         sync.Once
	found, opened sync.WaitGroup

	home *home // which is known once found was waited for

	// What is known once opened was waited for.
	place   string
	waiting history.Waiting
	store   *history.Store // which must be closed
	err     error          // why there is none
}

// begin begins to open it, for the first record of a call.
func (k *keeping) begin(ctx context.Context, repo *git.Repo, dir string, p Place) {
	k.begun.Do(func() {
		k.found.Go(func() { k.home = homeOf(repo, dir) })
		k.opened.Go(func() {
			k.found.Wait()
			if k.place, k.waiting, k.err = p.at(k.home, dir); k.err == nil {
				k.store, k.err = history.Open(ctx, k.place)
			}
		})
	})
}

// close closes what was opened.
func (k *keeping) close() {
	k.opened.Wait()
	if k.store != nil {
		k.store.Close()
	}
}

// recording is a record in the making.
type recording struct {
	Recording
	policy  *policy.Policy
	began   time.Time
	keeping *keeping

	found sync.WaitGroup
	state judgedState // which is known once found was waited for

	mutex    sync.Mutex
	reports  []record.Report
	contents []recordfile.Content
	notices  []string
}

// beginRecord begins the record of a judgement, nil where none is wanted. What can be known of it beforehand is found out meanwhile.
// It must be waited for.
func (q GateRequest) beginRecord(ctx context.Context, t *target.Target, a *authority.Authority) *recording {
	p := a.Policy.Policy
	if !q.Record.Asked && !(q.Record.ByPolicy && p.History.Record) {
		return nil
	}
	r := &recording{Recording: q.Record, policy: p, began: time.Now(), keeping: q.keeping}
	if r.apart == nil {
		r.keeping.begin(ctx, t.Repo, q.Dir, r.Place)
	}
	r.found.Go(func() { r.state = r.find(t) })
	return r
}

// wait waits until nothing that was begun needs the target any more.
func (r *recording) wait() {
	if r != nil {
		r.found.Wait()
		if r.apart == nil {
			r.keeping.found.Wait()
		}
	}
}

// keeper is what keeps the content of reports as they are read.
func (r *recording) keeper() func(name, format string) (io.Writer, func(bool)) {
	if r == nil {
		return nil
	}
	return func(name, format string) (io.Writer, func(bool)) {
		packing := recordfile.NewPacking()
		return packing, func(whole bool) {
			content, fits := packing.End()
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

// KeptSince are the times before which records and reports of the repository are too old to be kept, as the policy of a verdict has it that
// was recorded apart.
func (j *Judged) KeptSince(now time.Time) (records, reports time.Time) {
	return until(j.unrecorded.keep, now)
}

// unrecorded is a record that is to be put in.
type unrecorded struct {
	*record.Record
	contents []recordfile.Content
	notices  []string
	keep     policy.Period
	keeping  *keeping // nil for a record apart
}

// end makes the record of a judgement. What of it can't be known is left out: a record never stops a verdict.
func (r *recording) end(j *Judged) *unrecorded {
	if r == nil {
		return nil
	}
	r.wait()
	made := record.Of(j.Verdict, r.state.branch, r.policy)
	made.Verdict.Subject.Head, made.Tree, made.Reports = r.state.head, r.state.tree, r.reports
	made.Time, made.Took = r.began.UTC().Truncate(time.Millisecond), time.Since(r.began).Truncate(time.Millisecond)
	u := &unrecorded{Record: &made, contents: r.contents, notices: r.notices, keep: r.policy.History.Keep}
	if r.apart != nil {
		made.Repository = r.apart.repository
		if !r.apart.time.IsZero() {
			made.Time, made.Imported = r.apart.time.UTC().Truncate(time.Millisecond), true
		}
		return u
	}
	u.keeping, made.Repository = r.keeping, r.keeping.home.name
	return u
}

// judgedState is the commit and the tree that were judged, "" where they are none, and the guarded branch whose tip that is, "" where it
// is none's.
type judgedState struct{ branch, head, tree string }

// find finds out what a target is. A work tree is its commit's where nothing that is tracked differs.
func (r *recording) find(t *target.Target) (s judgedState) {
	s.head = t.Subject.Head
	if t.Repo == nil || t.IsPatch {
		return s
	}
	if t.Side == git.Worktree && t.Kind == policy.Tree {
		if commit, ok := t.Repo.Head(); ok && t.Repo.Unaltered() {
			s.head = commit
		}
	}
	if s.head == "" || s.head == string(git.Index) || s.head == string(git.Worktree) {
		return s
	}
	switch {
	case r.apart != nil:
		s.branch = r.apart.branch
	case t.Kind == policy.Push && t.Guarded:
		s.branch = t.Subject.Ref
	case t.Kind == policy.Range || t.Kind == policy.Tree:
		var refs []string
		refs, s.tree = t.Repo.RefsAt(s.head)
		s.branch = r.guardedOf(t.Repo, refs)
	}
	if s.tree == "" {
		s.tree, _ = t.Repo.TreeOf(s.head)
	}
	return s
}

// guardedOf is the first guarded branch among some refs, here or as a remote had it; "" where none is guarded.
func (r *recording) guardedOf(repo *git.Repo, refs []string) string {
	if len(refs) == 0 {
		return ""
	}
	main := ""
	if !r.policy.NamesRefs() {
		main = r.mainAmong(repo, refs)
	}
	for _, ref := range refs {
		if after, remote := strings.CutPrefix(ref, "refs/remotes/"); remote {
			_, name, _ := strings.Cut(after, "/")
			ref = "refs/heads/" + name
		}
		if r.policy.Guards(ref, main) {
			return ref
		}
	}
	return ""
}

// mainAmong is the branch that others build on. Mostly it is clear from the refs at a commit which it is, as far as that matters for them.
func (r *recording) mainAmong(repo *git.Repo, refs []string) string {
	const head, local = "refs/remotes/origin/HEAD", "refs/heads/main"
	r.keeping.found.Wait()
	var origins []string
	for _, ref := range refs {
		if name, ok := strings.CutPrefix(ref, "refs/remotes/origin/"); ok && ref != head {
			origins = append(origins, "refs/heads/"+name)
		}
	}
	switch {
	case slices.Contains(refs, head) && len(origins) == 1:
		return origins[0]
	case !r.keeping.home.cloned && slices.Contains(refs, local) && !repo.Bare:
		return local
	}
	return repo.MainBranch()
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
	k := all[0].keeping
	k.opened.Wait()
	defer k.close()
	if k.store != nil {
		_, told, err := k.waiting.TakeIn(ctx, k.store)
		if notices = told; err != nil {
			notices = append(notices, fmt.Sprintf("not all records that wait could be put in: %v", err))
		}
	}
	for _, u := range all {
		notices = append(notices, u.notices...)
		if notice := u.put(ctx); notice != "" {
			notices = append(notices, notice)
		}
	}
	if k.store != nil {
		records, reports := until(all[0].keep, time.Now())
		if err := k.store.Tidy(ctx, all[0].Repository, records, reports); err != nil {
			notices = append(notices, fmt.Sprintf("old records can't be removed: %v", err))
		}
	}
	return slices.Compact(notices)
}

// put puts a record in, or lets it wait, and says so.
func (u *unrecorded) put(ctx context.Context) (notice string) {
	k := u.keeping
	err := k.err
	if err == nil {
		err = k.store.Put(ctx, u.Record, u.contents)
	}
	switch {
	case err == nil:
		return ""
	case k.place == "":
		return fmt.Sprintf("the verdict isn't recorded: %v", err)
	}
	if waits := k.waiting.Keep(u.Record, u.contents); waits != nil {
		return fmt.Sprintf("the verdict isn't recorded, and can't wait in %s either (%v): %v", k.waiting, waits, err)
	}
	return fmt.Sprintf("the verdict isn't recorded yet, and waits in %s for the next time: %v", k.waiting, err)
}

// keepReports is how many days reports are kept where the policy doesn't say.
const keepReports = 90

// until are the times before which records and reports are too old to be kept: none where the policy doesn't say, but for reports.
func until(keep policy.Period, now time.Time) (records, reports time.Time) {
	if keep == (policy.Period{}) {
		return time.Unix(0, 0), now.AddDate(0, 0, -keepReports)
	}
	before := keep.Before(now)
	return before, before
}
