// Package lint knows how the linters that a policy names come to speak of a state of the code: which files each is given,
// on which copy of them it is started, which of its answers are known already, and what its outcome is worth. Processes
// are started with bounds on their time and output, and nothing of theirs is left. It doesn't know who lets it start them,
// nor what becomes of their findings.
package lint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/files"
	"zincdoor/internal/git"
	"zincdoor/internal/report"
)

// Runner starts linters on one state of the code. The fields are set before its first use.
type Runner struct {
	Context context.Context
	Repo    *git.Repo // nil where there is none: the linters are started in Root then
	Root    string    // absolute: the folder that paths are relative to
	Side    git.Side  // the state; "" for the files of Root as they are
	Trusted git.Side  // the state whose files linters judge by; "" for the same
	Before  bool      // it is the state before a change
	Reuse   bool      // what was said of all of the code is taken for known where that is the same, policy and list aside
	Files   []string  // those of the change that are there in this state
	Flows   bool      // every code flow is needed
	Policy  *policy.Policy
	Store   string // the folder where answers are kept, "" for none
	Copies  string // the folder where copies are kept, "" for none
	Depends string // what answers depend on beside their linters and files: the program, the policy
	Tell    func(Step)

	bench    *Bench
	entries  func() (map[string]git.Entry, error) // of the state, nil for a folder
	laid     func() (Laid, error)                 // what is in the place of its files
	contents func() (map[string]string, error)    // of its regular files, by path
	home     func() (home, error)
	copies   sync.Mutex
	whole    *site
	kept     func() *keptCopy // the copy that is kept between calls, nil where there is none to be had
	taken    *keptCopy        // that one, once it was asked for
	ahead    sync.WaitGroup   // what is looked up before it is needed
}

// Step tells how far a linter is, or other work that may take its time.
type Step struct {
	Name  string
	Ended bool
	Note  string // what came of it, where a linter has ended
}

// Result is what came of a linter's runs.
type Result struct {
	Report  *report.Report // nil where there is none
	Given   []string       // the files it was asked about, nil for one that finds its files by itself
	Known   bool           // all of the answer was known
	Kept    int            // of how many files it was
	Skipped bool           // there was nothing to ask it
	Broken  error          // its report can't be read
	Problem string         // why there is no report, or why it is no evidence; "" where it is

	Forgotten string // why some of what it said of single files isn't remembered, "" where all is or nothing was to be
}

// home is where a state stands on disk already.
type home struct {
	dir  string // "" where it must be copied
	name string // for people
}

// Begin readies the runner.
func (r *Runner) Begin() (err error) {
	r.entries = sync.OnceValues(func() (map[string]git.Entry, error) {
		if r.Repo == nil || r.Side == "" {
			return nil, nil
		}
		return r.Repo.Entries(r.Side)
	})
	r.laid = sync.OnceValues(func() (Laid, error) {
		entries, err := r.entries()
		if err != nil {
			return nil, err
		}
		return LayTrusted(r.Repo, r.Trusted, r.Side, entries, r.Policy.Reports)
	})
	r.contents = sync.OnceValues(func() (map[string]string, error) {
		entries, err := r.entries()
		if entries == nil || err != nil {
			return nil, err
		}
		contents := git.ContentsOf(entries)
		laid, err := r.laid()
		for file, f := range laid {
			if delete(contents, file); f.entry.Content != "" && !f.entry.Link {
				contents[file] = f.entry.Content
			}
		}
		return contents, err
	})
	r.kept = sync.OnceValue(func() *keptCopy {
		r.taken = r.reserve()
		return r.taken
	})
	r.home = sync.OnceValues(r.findHome)
	r.bench, err = NewBench()
	return err
}

// End ends what still runs, and removes all copies that aren't kept.
func (r *Runner) End() error {
	if r.bench == nil {
		return nil
	}
	r.ahead.Wait()
	err := r.bench.Close()
	if r.taken != nil {
		err = errors.Join(err, r.taken.giveBack())
		clearOld(r.Copies)
	}
	return err
}

func (r *Runner) findHome() (home, error) {
	switch r.Side {
	case "":
		return home{r.Root, "this folder"}, nil
	case git.Worktree:
		return home{r.Root, "the work tree"}, nil
	case git.Index:
		return home{"", "a copy of the index"}, nil
	}
	elsewhere := home{"", fmt.Sprintf("a copy of %.12s", string(r.Side))}
	laid, err := r.laid()
	if err != nil {
		return home{}, err
	}
	if len(laid) > 0 {
		elsewhere.name += ", with the linters' own files as the target has them"
	}
	if head, ok := r.Repo.Head(); !ok || head != string(r.Side) || r.Repo.Bare || len(laid) > 0 {
		return elsewhere, nil
	}
	clean, err := r.Repo.Clean()
	if err != nil || !clean {
		return elsewhere, err
	}
	return home{r.Root, "the work tree, which is clean"}, nil
}

// Ahead begins to look up what a linter will need once it is planned.
func (r *Runner) Ahead(terms policy.Report) {
	if terms.Run.TakesFiles() || !r.keepsCopies() || r.Reuse { // what is known of the same code is likely to do
		return
	}
	r.ahead.Go(func() {
		if at, err := r.home(); err == nil && at.dir == "" {
			r.kept()
		}
	})
}

// Plan is what a linter is to be started on.
type Plan struct {
	Terms   policy.Report
	Where   string   // for people
	Given   []string // the files it is to be asked about, sorted; nil for one that finds its files by itself
	Asked   []string // those of them whose answer isn't known
	Version string

	known *known // nil where nothing is remembered
	home  home
}

// Skipped reports whether there is nothing to ask the linter.
func (p *Plan) Skipped() bool { return p.Terms.Run.TakesFiles() && len(p.Given) == 0 }

// Settled reports whether nothing is to be started: there is nothing to ask, or all answers are known.
func (p *Plan) Settled() bool { return p.Skipped() || p.complete() }

// Plan finds out what a linter is to be started on. The version is what its own command told.
func (r *Runner) Plan(terms policy.Report, version string) (*Plan, error) {
	p := &Plan{Terms: terms, Version: version}
	var err error
	if p.home, err = r.home(); err != nil {
		return nil, err
	}
	p.Where = p.home.name
	if !terms.Run.TakesFiles() && r.Store == "" {
		return p, nil
	}
	contents, err := r.contents()
	if err != nil {
		return nil, err
	}
	if terms.Run.TakesFiles() {
		p.Given = r.given(terms.Run, contents)
		p.Asked = p.Given
	}
	if r.Store != "" && contents != nil && !p.Skipped() {
		r.recall(p, contents)
	}
	return p, nil
}

// given are the files that a linter is asked about.
func (r *Runner) given(run *policy.Run, contents map[string]string) (files []string) {
	from := r.Files
	if !run.Changed && contents != nil {
		from = slices.Collect(maps.Keys(contents))
	}
	for _, file := range from {
		if _, regular := contents[file]; (regular || contents == nil) && run.TakesFile(file) {
			files = append(files, file)
		}
	}
	slices.Sort(files)
	return files
}

// inputs are the files that a linter reads beside those it is given: those that the policy names, and those that its
// command does.
func (r *Runner) inputs(run *policy.Run, contents map[string]string) (files []string) {
	for _, argument := range run.Command {
		if file := path.Join(run.Folder, argument); contents[file] != "" {
			files = append(files, file)
		}
	}
	if len(run.Inputs)+len(run.Trusted) > 0 {
		for file := range contents {
			if policy.MatchPath(run.Inputs, file) || policy.MatchPath(run.Trusted, file) {
				files = append(files, file)
			}
		}
	}
	slices.Sort(files)
	return slices.Compact(files)
}

// site is a folder that linters are started in.
type site struct {
	dir    string
	copied bool
	shared int // how many linters were started in it
	before Census
	err    error
}

// site readies the folder that a plan's linter is started in: where it is given files, with these and its inputs alone.
func (r *Runner) site(p *Plan) (*site, error) {
	if p.home.dir != "" {
		return &site{dir: p.home.dir}, nil
	}
	if !p.Terms.Run.TakesFiles() {
		r.copies.Lock()
		defer r.copies.Unlock()
		if r.whole == nil {
			r.whole = r.keptSite()
			if r.whole == nil {
				r.whole = r.copy(nil)
			}
			if r.mayShare() {
				r.whole.before = TakeCensus(r.whole.dir)
			}
		}
		r.whole.shared++
		return r.whole, r.whole.err
	}
	contents, err := r.contents()
	if err != nil {
		return nil, err
	}
	s := r.copy(append(r.inputs(p.Terms.Run, contents), p.Asked...))
	return s, s.err
}

// mayShare reports whether several linters may be started in one copy of everything.
func (r *Runner) mayShare() bool {
	n := 0
	for _, report := range r.Policy.Reports {
		if report.Run != nil && !report.Run.TakesFiles() {
			n++
		}
	}
	return n > 1
}

// reserve takes the copy of everything that is kept between calls, and prepares it; nil where there is none to be had.
func (r *Runner) reserve() *keptCopy {
	branch, use := r.Repo.Branch(), string(r.Side)
	if r.Side != git.Index {
		use = "commit"
	}
	if r.Before {
		use = "before"
	}
	kept, err := borrow(r.Copies, KeyOf(r.Repo.CommonDir(), use, branch))
	if kept == nil || err != nil {
		return nil
	}
	if err := kept.prepare(r.Repo); err != nil {
		files.RemoveAll(kept.dir)
		kept.giveBack()
		return nil
	}
	return kept
}

// keepsCopies reports whether a copy of everything is kept between calls.
func (r *Runner) keepsCopies() bool { return r.Copies != "" && r.Repo != nil }

// keptSite makes the copy that is kept the state's; nil where there is none to be had.
func (r *Runner) keptSite() *site {
	if laid, err := r.laid(); !r.keepsCopies() || len(laid) > 0 || err != nil {
		return nil
	}
	kept := r.kept()
	entries, err := r.entries()
	if kept == nil || err != nil {
		return nil
	}
	var keep []string
	for _, report := range r.Policy.Reports {
		if report.Run != nil && !report.Run.TakesFiles() && !r.Repo.Bare { // where anybody's branch may come
			keep = append(keep, report.Run.Keep...)
		}
	}
	if err := kept.restore(r.Repo, r.Side, entries, keep); err != nil {
		files.RemoveAll(kept.dir)
		return nil
	}
	return &site{dir: kept.dir, copied: true}
}

// copy copies some files of the state, nil for all, with what is in the place of its own.
func (r *Runner) copy(files []string) *site {
	s := &site{copied: true}
	laid, err := r.laid()
	if s.err = err; err != nil {
		return s
	}
	judged := files
	if files != nil && len(laid) > 0 {
		judged = slices.DeleteFunc(slices.Clone(files), func(file string) bool {
			_, is := laid[file]
			return is
		})
	}
	if s.dir, s.err = r.bench.Place(); s.err == nil && (files == nil || len(judged) > 0) {
		s.err = r.Repo.CheckOut(r.Side, s.dir, judged)
	}
	if s.err == nil {
		s.err = laid.Lay(r.Repo, r.Trusted, s.dir, files)
	}
	return s
}

// Altered is a file of the copy that several linters shared, and that one of them altered: none of them can be believed
// then. It is "" where all is well.
func (r *Runner) Altered() string {
	if r.whole == nil || r.whole.shared < 2 || r.whole.err != nil {
		return ""
	}
	return r.whole.before.Altered(r.whole.dir)
}

// rooted makes a path that a linter names one from the root, as far as it leads to a file of the site.
func (s *site) rooted(folder, named, relative string) string {
	for _, candidate := range []string{named, relative} {
		local := filepath.ToSlash(candidate)
		if candidate == "" {
			continue
		}
		if filepath.IsAbs(candidate) {
			rel, err := filepath.Rel(s.dir, candidate)
			if err != nil || !filepath.IsLocal(rel) {
				continue
			}
			return filepath.ToSlash(rel)
		}
		for _, at := range []string{path.Join(folder, local), path.Clean(local)} {
			if _, err := os.Lstat(filepath.Join(s.dir, filepath.FromSlash(at))); err == nil && filepath.IsLocal(filepath.FromSlash(at)) {
				return at
			}
		}
	}
	return named
}

// Laid are a linter's own files that are as the trusted state has them and not as the judged one does, sorted.
func (r *Runner) Laid(terms policy.Report) ([]string, error) {
	laid, err := r.laid()
	return laid.Own(terms), err
}

// Arguments names files for a linter that starts in a folder: relative to it, and never like an option.
func Arguments(folder string, files []string) []string {
	all := make([]string, len(files))
	for i, file := range files {
		if folder != "" {
			if rel, err := filepath.Rel(filepath.FromSlash(folder), filepath.FromSlash(file)); err == nil {
				file = rel
			}
		}
		if strings.HasPrefix(file, "-") {
			file = "./" + file
		}
		all[i] = file
	}
	return all
}

// Build tells this program apart from other builds of it, which may read reports otherwise.
func Build() string {
	at, err := os.Executable()
	if err != nil {
		return ""
	}
	identity, _ := Program(at)
	return identity
}
