package app

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/fit"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
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
}

// Fitting is a fit on its way. It must be closed.
type Fitting struct {
	Files  []fit.File      // what is written, or there already; known once it was planned
	Starts []policy.Report // the reports of the hooks' doors whose linters a gate starts

	repo  *git.Repo
	place fit.Place
	call  fit.Call
}

// OpenFit finds out what is to be fitted: which hooks ask which doors, and by which reports.
func OpenFit(ctx context.Context, q FitRequest) (*Fitting, error) {
	repo, err := git.Open(ctx, q.Dir)
	if err != nil {
		return nil, err
	}
	f := &Fitting{repo: repo}
	if f.place, err = fitPlace(repo); err != nil {
		return nil, err
	}
	doors, err := fitDoors(ctx, repo, f.place, q)
	if err != nil {
		return nil, err
	}
	if f.call, err = fitCall(repo, f.place, doors, q); err != nil {
		return nil, err
	}
	f.Starts = startedBy(doors, f.call)
	return f, nil
}

// Close releases the repository.
func (f *Fitting) Close() error { return f.repo.Close() }

// Plan works out what is written.
func (f *Fitting) Plan() (err error) {
	if f.Files, err = fit.Plan(f.place, f.call); err != nil {
		return target.WrongCall("%v", err)
	}
	return nil
}

// HouseOnly reports whether the starter policy that is written has nothing to judge by but our own checks.
func (f *Fitting) HouseOnly() bool {
	return f.call.House && len(f.Starts) == 0 && slices.ContainsFunc(f.Files, func(f fit.File) bool { return f.What == "policy" && !f.Written })
}

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
	path := filepath.Join(f.place.Root, filepath.FromSlash(baseline.Path))
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return fit.Note(f.place.GitDir, fit.File{Path: path, What: "baseline", Text: data})
}

// Allowed reports whether the programs that the policy names may be started here.
func (f *Fitting) Allowed() bool { return f.repo.RunsHere() }

// Allow lets them be started, in the repository's own configuration.
func (f *Fitting) Allow() error { return f.set(RunKey, "true") }

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
	common, err := repo.CommonDir()
	if err != nil {
		return fit.Place{}, err
	}
	hooks, err := repo.HooksDir()
	place := fit.Place{Root: repo.Root, GitDir: common, Hooks: hooks, Branch: "main"}
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

// fitCall settles which hooks ask which doors, and by which reports.
func fitCall(repo *git.Repo, place fit.Place, doors *policy.Policy, q FitRequest) (fit.Call, error) {
	call := fit.Call{Doors: map[fit.Hook]string{}}
	switch {
	case q.Server && !repo.Bare:
		return call, target.WrongCall("--server is for a bare repository that receives pushes; this one has a work tree")
	case repo.Bare && !q.Server:
		return call, target.WrongCall("this is a bare repository; fit the hook that judges what it receives with --server")
	}
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
			return call, target.WrongCall("--hook takes commit, push or none, not %q", name)
		}
		door, err := doorFor(doors, kind, hook)
		if err != nil {
			return call, err
		}
		call.Doors[hook] = door
	}
	call.House = noLinter(q)
	for hook, name := range call.Doors {
		door, _ := doors.Door(name)
		call.Fixes = call.Fixes || hook == fit.Commit && door.Fix
	}
	if len(q.Reports) == 0 && lacksReports(doors, call) {
		return call, target.WrongCall("a hook needs something to judge by: name the reports that your linters write, as in --report build/warnings.txt, or name them or the linters in the policy; or fit the policy alone with --hook none")
	}
	for _, report := range q.Reports {
		rooted, err := rootedReport(repo, report)
		if err != nil {
			return call, err
		}
		call.Reports = append(call.Reports, rooted)
	}
	return call, nil
}

// noLinter reports whether a starter policy has nothing to be judged by but our own checks.
func noLinter(q FitRequest) bool { return len(q.Reports) == 0 }

// lacksReports reports whether the policy names nothing that one of the hooks' doors could judge by.
func lacksReports(doors *policy.Policy, call fit.Call) bool {
	lacks := func(door policy.Door) bool {
		reports, _ := doors.Needed(door)
		return len(reports) == 0 && !slices.Contains(door.Needs, house.Tool)
	}
	for _, name := range call.Doors {
		door, named := doors.Door(name)
		if named && lacks(door) || !named && slices.ContainsFunc(doors.DoorsFor(policy.Push), lacks) {
			return true
		}
	}
	return false
}

// fitDoors are the doors of the policy that is there, or of the starter.
func fitDoors(ctx context.Context, repo *git.Repo, place fit.Place, q FitRequest) (*policy.Policy, error) {
	call := Call{Dir: repo.Root, Run: q.Run}
	if repo.Bare {
		commit, ok := repo.Head()
		if !ok {
			return starterPolicy(place, q)
		}
		call.Policy = commit + ":" + policyfile.Path
	}
	file, err := ReadPolicy(ctx, call)
	if err != nil && repo.Bare && file == nil || err == nil && file.BuiltIn {
		return starterPolicy(place, q)
	}
	if err != nil {
		return nil, err
	}
	return file.Policy, nil
}

func starterPolicy(place fit.Place, q FitRequest) (*policy.Policy, error) {
	file, err := policyfile.Parse("starter policy", place.Starter(noLinter(q)))
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
