package app

import (
	"context"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/fit"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/report"
	"zincdoor/internal/target"
)

// RunKey is the key of git's configuration by which a user lets programs be started.
const RunKey = git.Leave

// FitRequest is where and how to fit the door.
type FitRequest struct {
	Dir     string
	Hooks   []string // commit, push or none
	Reports []evidence.File
	Server  bool // the hook of a bare repository that receives pushes
	Run     bool // the programs that the policy names may be started
	Advise  bool // the starter policy's limits only advise
}

// Fitting is a fit on its way. It must be closed.
type Fitting struct {
	Proposals []fit.Proposal  // what a starter policy can have changes judged by; none where there is a policy, or the call names reports
	Files     []fit.File      // what is written, or there already; known once it was planned
	Starts    []policy.Report // the reports of the hooks' doors whose linters a gate starts; known once it was planned
	NoLinter  bool            // the starter policy has nothing to judge by but our own checks; known once it was planned

	repo    *git.Repo
	place   fit.Place
	request FitRequest
	present *policy.Policy // that is there; nil for none
	doors   *policy.Policy // present, or the starter
	call    fit.Call
}

// OpenFit finds out what is to be fitted, and what a starter policy can have changes judged by.
func OpenFit(ctx context.Context, q FitRequest) (*Fitting, error) {
	repo, err := git.Open(ctx, q.Dir)
	if err != nil {
		return nil, err
	}
	f := &Fitting{repo: repo, request: q}
	if f.place, err = fitPlace(repo); err != nil {
		return nil, err
	}
	if f.present, err = policyHere(ctx, repo, q); err != nil {
		return nil, err
	}
	if f.present == nil && len(q.Reports) == 0 && !repo.Bare {
		err = f.propose()
	}
	return f, err
}

// propose looks at the files of the work tree and at the programs of this machine.
func (f *Fitting) propose() error {
	files, err := f.repo.WorkTreeFiles()
	if err != nil {
		return err
	}
	f.Proposals = fit.Compilers(f.place.Root, files, func(program string) bool {
		_, err := exec.LookPath(program)
		return err == nil
	})
	f.Proposals = append(f.Proposals, fit.Reports(f.place.Root, f.formatOf)...)
	return nil
}

// formatOf is the format of a file from the root, and whether it is a report at all: it is read, and has findings or is SARIF.
func (f *Fitting) formatOf(file string) (format string, ok bool) {
	in, err := os.Open(filepath.Join(f.place.Root, filepath.FromSlash(file)))
	if err != nil {
		return "", false
	}
	defer in.Close()
	said, err := report.Read(io.LimitReader(in, mostProposed), report.Form{})
	if err != nil || said.Format != policy.SARIF && (len(said.Findings) == 0 || said.Failure != "") {
		return "", false
	}
	if policy.IsDiagnostics(said.Format) {
		return policy.Diagnostics, true
	}
	return said.Format, true
}

// mostProposed is how much of a file is read to see whether it is a report, in bytes.
const mostProposed = 32 << 20

// Plan works out what is written. The starter policy has changes judged by what was chosen of the proposals.
func (f *Fitting) Plan(chosen []fit.Proposal) (err error) {
	if f.doors = f.present; f.doors == nil {
		if err := f.start(chosen); err != nil {
			return err
		}
	}
	if err := f.hook(); err != nil {
		return err
	}
	f.Starts = startedBy(f.doors, f.call)
	if f.Files, err = fit.Plan(f.place, f.call); err != nil {
		return target.WrongCall("%v", err)
	}
	return nil
}

// start makes the starter policy.
func (f *Fitting) start(chosen []fit.Proposal) error {
	starter := fit.Starter{Branch: f.place.Branch, Advise: f.request.Advise}
	for _, c := range chosen {
		starter.Reports = append(starter.Reports, c.Report)
	}
	if !f.repo.Bare {
		for _, given := range f.request.Reports {
			r, err := f.policyReport(given)
			if err != nil {
				return err
			}
			starter.Reports = append(starter.Reports, r)
		}
	}
	nameApart(starter.Reports)
	f.NoLinter = len(starter.Reports) == 0 && !f.repo.Bare
	var err error
	if f.call.Starter, err = starter.Text(); err != nil {
		return err
	}
	file, err := policyfile.Parse("starter policy", f.call.Starter)
	if err == nil {
		f.doors = file.Policy
	}
	return err
}

// policyReport is a report of the call as the starter policy names it.
func (f *Fitting) policyReport(given evidence.File) (policy.Report, error) {
	rooted, err := rootedReport(f.repo, evidence.File{Path: given.Path})
	if err != nil {
		return policy.Report{}, err
	}
	inside, err := filepath.Rel(f.place.Root, filepath.Join(f.place.Root, rooted))
	if filepath.IsAbs(rooted) {
		inside, err = filepath.Rel(f.place.Root, rooted)
	}
	if err != nil || !filepath.IsLocal(inside) {
		return policy.Report{}, target.WrongCall("%s is outside of the repository; a policy names reports inside", given.Path)
	}
	inside = filepath.ToSlash(inside)
	format := given.Name
	if format == "" {
		found, ok := f.formatOf(inside)
		switch {
		case ok:
			format = found
		case strings.Contains(inside, ".sarif"):
			format = policy.SARIF
		default:
			format = policy.Diagnostics
		}
	}
	if _, err := os.Stat(filepath.Join(f.place.Root, filepath.FromSlash(inside))); err == nil && format == policy.SARIF {
		if _, ok := f.formatOf(inside); !ok {
			return policy.Report{}, target.WrongCall("%s isn't a complete SARIF log, so the hooks couldn't judge by it; run the linter that writes it first", given.Path)
		}
	}
	if !slices.Contains(policy.Formats, format) {
		return policy.Report{}, target.WrongCall("no format is called %q; there are %s", format, strings.Join(policy.Formats, ", "))
	}
	return fit.FileReport(inside, format), nil
}

// nameApart gives reports of one name numbers.
func nameApart(reports []policy.Report) {
	seen := map[string]int{}
	for i := range reports {
		name := reports[i].Name
		if seen[name]++; seen[name] > 1 {
			reports[i].Name = name + strconv.Itoa(seen[name])
		}
	}
}

// Close releases the repository.
func (f *Fitting) Close() error { return f.repo.Close() }

// Apply writes what was planned.
func (f *Fitting) Apply() error {
	if err := fit.Apply(f.place.GitDir, f.Files); err != nil || f.place.Root == "" {
		return err
	}
	return f.set(fit.MergeDriver, fit.MergeCommand)
}

// set sets a value in the repository's own configuration, unless it has one. It is noted first, so that it is taken away again.
func (f *Fitting) set(key, value string) error {
	if f.repo.Local(key) != "" {
		return nil
	}
	if err := fit.NoteSetting(f.place.GitDir, key, value); err != nil {
		return err
	}
	return f.repo.Writer().SetLocal(key, value)
}

// Tracked are the planned files for which a file that git tracks is put aside: the hooks of those who keep them in the repository.
func (f *Fitting) Tracked() (all []fit.File, err error) {
	for _, file := range f.Files {
		if file.Aside == "" || f.place.Root == "" {
			continue
		}
		rel, err := filepath.Rel(f.place.Root, file.Path)
		if err != nil || !filepath.IsLocal(rel) {
			continue
		}
		tracked, err := f.repo.Tracks(filepath.ToSlash(rel))
		if err != nil {
			return nil, err
		}
		if tracked {
			all = append(all, file)
		}
	}
	return all, nil
}

// HookCalls are the lines by which hooks that are written by hand ask the door.
func (f *Fitting) HookCalls() []string { return f.call.Ask() }

// NoteBaseline notes the baseline that was just taken, so that it is taken away with the rest as long as it isn't altered.
func (f *Fitting) NoteBaseline() error {
	list := filepath.Join(f.place.Root, filepath.FromSlash(baseline.Path))
	data, err := os.ReadFile(list)
	if err != nil {
		return err
	}
	return fit.Note(f.place.GitDir, fit.File{Path: list, What: "baseline", Text: data})
}

// Allowed reports whether the programs that the policy names may be started here.
func (f *Fitting) Allowed() bool { return f.repo.RunsHere() }

// Allow lets them be started, in the repository's own configuration.
func (f *Fitting) Allow() error { return f.set(RunKey, "true") }

// HasEvidence reports whether there are reports to take a baseline of: of the call, or of the policy.
func (f *Fitting) HasEvidence() bool { return len(f.request.Reports)+len(f.doors.Reports) > 0 }

// HasPolicy reports whether there is a policy already.
func (f *Fitting) HasPolicy() bool { return f.present != nil }

// LacksBaseline reports whether the repository has a work tree without a baseline.
func (f *Fitting) LacksBaseline() bool {
	if f.place.Root == "" {
		return false
	}
	_, err := os.Stat(filepath.Join(f.place.Root, filepath.FromSlash(baseline.Path)))
	return err != nil
}

// Unfit takes away what was fitted, or says what that would be. Allowed reports whether programs may be started here all the
// same, since the user has set that by hand.
func Unfit(ctx context.Context, dir string, dry bool) (all []fit.Removal, allowed bool, err error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, false, err
	}
	defer repo.Close()
	place, err := fitPlace(repo)
	if err != nil {
		return nil, false, err
	}
	settings, err := fit.Settings(place.GitDir)
	if err != nil {
		return nil, false, err
	}
	if !dry && len(settings) > 0 {
		for _, s := range settings {
			if err := repo.Writer().UnsetLocal(s.Key, s.Value); err != nil {
				return nil, false, err
			}
		}
		if err := fit.ForgetSettings(place.GitDir); err != nil {
			return nil, false, err
		}
	}
	all, err = fit.Remove(place.GitDir, dry)
	byHand := !slices.ContainsFunc(settings, func(s fit.Setting) bool { return s.Key == RunKey })
	return all, byHand && repo.Local(RunKey) != "", err
}

// startedBy lists the reports of the hooks' doors whose linters a gate starts.
func startedBy(doors *policy.Policy, call fit.Call) (all []policy.Report) {
	for _, r := range doors.Reports {
		for _, name := range call.Doors {
			door, _ := doors.Door(name)
			reports, _ := doors.Needed(door)
			if r.Run != nil && slices.ContainsFunc(reports, func(n policy.Report) bool { return n.Name == r.Name }) {
				all = append(all, r)
				break
			}
		}
	}
	return all
}

func fitPlace(repo *git.Repo) (fit.Place, error) {
	hooks, err := repo.HooksDir()
	place := fit.Place{Root: repo.Root, GitDir: repo.CommonDir(), Hooks: hooks, Branch: "main"}
	if repo.Bare {
		place.Root = ""
	} else {
		place.Branch = mergeTarget(repo)
	}
	return place, err
}

// mergeTarget is the branch that changes are merged into, as far as the repository tells: the remote's default branch,
// else a local one of the usual names, else the one checked out.
func mergeTarget(repo *git.Repo) string {
	if ref, ok := repo.SymbolicRef("refs/remotes/origin/HEAD"); ok {
		return strings.TrimPrefix(ref, "refs/remotes/")
	}
	for _, usual := range []string{"main", "master", "trunk"} {
		if _, err := repo.Commit("refs/heads/" + usual); err == nil {
			return usual
		}
	}
	if ref, ok := repo.SymbolicRef("HEAD"); ok {
		return strings.TrimPrefix(ref, "refs/heads/")
	}
	return "main"
}

// CheckPlace complains where the call isn't for a repository of this kind.
func (f *Fitting) CheckPlace() error {
	switch q := f.request; {
	case q.Server && !f.repo.Bare:
		return target.WrongCall("--server is for a bare repository that receives pushes; this one has a work tree")
	case f.repo.Bare && !q.Server:
		return target.WrongCall("this is a bare repository; fit the hook that judges what it receives with --server")
	}
	return nil
}

// hook works out which hooks ask which doors, and by which reports.
func (f *Fitting) hook() error {
	q, call := f.request, &f.call
	call.Doors = map[fit.Hook]string{}
	wanted := q.Hooks
	if q.Server {
		wanted = []string{"server"}
	}
	for _, name := range wanted {
		if name == "none" {
			continue
		}
		hook := fit.Hook(name)
		kind, known := map[fit.Hook]policy.Kind{fit.Commit: policy.Staged, fit.Push: policy.Push, fit.Server: policy.Push}[hook]
		if !known || hook == fit.Server && !q.Server {
			return target.WrongCall("--hook takes commit, push or none, not %q", name)
		}
		door, err := doorFor(f.doors, kind, hook)
		if err != nil {
			return err
		}
		call.Doors[hook] = door
	}
	for hook, name := range call.Doors {
		door, _ := f.doors.Door(name)
		call.Fixes = call.Fixes || hook == fit.Commit && door.Fix
	}
	if len(q.Reports) == 0 && lacksReports(f.doors, *call) {
		return target.WrongCall("a hook needs something to judge by: name the reports that your linters write, e.g. --report build/warnings.txt, or name them or the linters in the policy; to fit the policy alone: --hook none")
	}
	for _, given := range q.Reports {
		rooted, err := rootedReport(f.repo, given)
		if err != nil {
			return err
		}
		file := strings.TrimPrefix(rooted, given.Name+"=")
		if slices.ContainsFunc(f.doors.Reports, func(r policy.Report) bool { return slices.Contains(r.Files, path.Clean(file)) }) {
			continue // the policy names it
		}
		call.Reports = append(call.Reports, rooted)
	}
	return nil
}

// lacksReports reports whether the policy names nothing that one of the hooks' doors could judge by.
func lacksReports(doors *policy.Policy, call fit.Call) bool {
	lacks := func(door policy.Door) bool {
		reports, _ := doors.Needed(door)
		return len(reports) == 0 && !door.NeedsOwn()
	}
	for _, name := range call.Doors {
		door, named := doors.Door(name)
		if named && lacks(door) || !named && slices.ContainsFunc(doors.DoorsFor(policy.Push), lacks) {
			return true
		}
	}
	return false
}

// policyHere is the policy that is there, nil where there is none.
func policyHere(ctx context.Context, repo *git.Repo, q FitRequest) (*policy.Policy, error) {
	call := Call{Dir: repo.Root, Run: q.Run}
	if repo.Bare {
		commit, ok := repo.Head()
		if !ok {
			return nil, nil
		}
		call.Policy = commit + ":" + policyfile.Path
	}
	file, err := ReadPolicy(ctx, call)
	if err != nil && repo.Bare && file == nil || err == nil && file.BuiltIn {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return file.Policy, nil
}

// doorFor is the door that a hook asks: the one of its name, or the only one of its kind; "" where the pushed ref decides.
func doorFor(p *policy.Policy, kind policy.Kind, hook fit.Hook) (string, error) {
	doors := p.DoorsFor(kind)
	if kind == policy.Push && p.NamesRefs() {
		return "", nil
	}
	if i := slices.IndexFunc(doors, func(d policy.Door) bool { return d.Name == string(hook) }); i >= 0 {
		return doors[i].Name, nil
	}
	switch len(doors) {
	case 1:
		return doors[0].Name, nil
	case 0:
		return "", target.WrongCall("the policy has no door that judges %s, which the %s hook would ask; add one, or leave the hook out with --hook", kind, hook)
	}
	return "", target.WrongCall("several doors of the policy judge %s (%s); call one of them %q so that the hook knows which to ask", kind, policy.Names(doors), hook)
}

// rootedReport makes a report's path one from the repository's root, where hooks run.
func rootedReport(repo *git.Repo, report evidence.File) (string, error) {
	if report.Path == "-" {
		return "", target.WrongCall("a hook can't read a report from standard input; name a file with --report")
	}
	if !filepath.IsAbs(report.Path) {
		report.Path = filepath.ToSlash(filepath.Join(filepath.FromSlash(repo.Prefix), report.Path))
	}
	if report.Name == "" {
		return report.Path, nil
	}
	return report.Name + "=" + report.Path, nil
}
