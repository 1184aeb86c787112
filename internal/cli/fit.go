package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/fit"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

// fitFlags are the flags of zincdoor fit.
type fitFlags struct {
	hooks                       []string
	reports                     []string
	server, remove, dry, accept bool
	run                         bool
}

func (p *program) fit() *cobra.Command {
	var flags fitFlags
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Fit the door in a repository: starter policy, git hooks, baseline",
		Long: `Fit the door in this repository: write a starter policy where there is none, and hooks that ask the door before
each commit and each push. Name the reports that your linters write, with paths from the repository's root:

  zincdoor fit --report build/warnings.txt

None need be named where the policy names the reports, or the linters to start. What it names is started in this
repository only once you allow it: fit tells what that is, and asks.

Hooks that are there already still run, first, and decide first. Running it twice changes nothing; --remove takes away
exactly what it wrote and puts back what was there.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.runFit(cmd.Context(), flags)
		},
	}
	f := cmd.Flags()
	f.SortFlags = false
	f.StringSliceVar(&flags.hooks, "hook", []string{"commit", "push"}, "which hooks to fit: `commit,push`, or none")
	f.StringArrayVar(&flags.reports, "report", nil, "a report the hooks judge by, as `[FORMAT=]FILE`; repeatable")
	f.BoolVar(&flags.server, "server", false, "fit the hook of a bare repository that receives pushes")
	f.BoolVar(&flags.accept, "baseline", false, "accept the present findings of the reports, without asking")
	f.BoolVar(&flags.run, "run", false, "let the linters that the policy names be started here, without asking")
	f.BoolVar(&flags.dry, "dry-run", false, "show what would be written, and write nothing")
	f.BoolVar(&flags.remove, "remove", false, "take away what was fitted")
	return cmd
}

func (p *program) runFit(ctx context.Context, flags fitFlags) error {
	dir, err := os.Getwd()
	if err != nil {
		return unjudged{err}
	}
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return unjudged{err}
	}
	place, err := fitPlace(repo)
	if err != nil {
		return unjudged{err}
	}
	if flags.remove {
		if !flags.dry {
			if err := errors.Join(repo.Writer().UnsetLocal(fit.MergeDriver, fit.MergeCommand), repo.Writer().UnsetLocal(git.Leave, "true")); err != nil {
				return unjudged{err}
			}
		}
		return p.unfit(dir, place, flags.dry)
	}
	doors, err := fitDoors(ctx, repo, place, flags)
	if err != nil {
		return err
	}
	call, err := fitCall(repo, place, doors, flags)
	if err != nil {
		return err
	}
	starts := startedBy(doors, call)
	if flags.server && len(starts) > 0 && !flags.run && !repo.RunsHere() {
		return fmt.Errorf("at each push the door would start what the policy of this repository names (%s); let it, once you trust all who may push: git config %s true, or fit --server --run", strings.TrimSpace(programs(starts)), git.Leave)
	}
	files, err := fit.Plan(place, call)
	if err != nil {
		return err
	}
	p.showPlan(dir, files, flags.dry)
	if call.House && len(starts) == 0 && slices.ContainsFunc(files, func(f fit.File) bool { return f.What == "policy" && !f.Written }) {
		fmt.Fprintln(p.out, "No linter is named, so changes are judged by the door's own checks alone; name one in the policy (run: or file: under reports:)")
	}
	if flags.dry {
		return nil
	}
	if err := fit.Apply(place.GitDir, files); err != nil {
		return unjudged{err}
	}
	if place.Root != "" {
		if err := repo.Writer().SetLocal(fit.MergeDriver, fit.MergeCommand); err != nil {
			return unjudged{err}
		}
	}
	if err := p.askToRun(repo, starts, flags); err != nil {
		return unjudged{err}
	}
	return p.askForBaseline(ctx, place, flags)
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

// programs lists commands for people.
func programs(reports []policy.Report) string {
	var all strings.Builder
	for _, r := range reports {
		fmt.Fprintf(&all, "  %s: %s\n", render.Safe(r.Name), render.Safe(render.ShellWords(r.Run.Command)))
	}
	return all.String()
}

// askToRun lets linters be started where the call or the person at the terminal says so.
func (p *program) askToRun(repo *git.Repo, starts []policy.Report, flags fitFlags) error {
	if len(starts) == 0 || repo.RunsHere() {
		return nil
	}
	fmt.Fprintf(p.out, "\nThe policy names linters, which a gate starts on a copy of what it judges:\n%s", programs(starts))
	fmt.Fprintln(p.out, "Whoever may alter the policy may alter these commands, so they run only where you allow it.")
	if !flags.run && !p.agrees("Let them be started in this repository?") {
		fmt.Fprintf(p.out, "They are not allowed yet, and no door opens without them. To allow them: git config %s true\n", git.Leave)
		return nil
	}
	if err := repo.Writer().SetLocal(git.Leave, "true"); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "Allowed in this repository's own configuration (%s = true).\n", git.Leave)
	return nil
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
func fitCall(repo *git.Repo, place fit.Place, doors *policy.Policy, flags fitFlags) (fit.Call, error) {
	call := fit.Call{Doors: map[fit.Hook]string{}}
	switch {
	case flags.server && !repo.Bare:
		return call, fmt.Errorf("--server is for a bare repository that receives pushes; this one has a work tree")
	case repo.Bare && !flags.server:
		return call, fmt.Errorf("this is a bare repository; fit the hook that judges what it receives with --server")
	}
	wanted := flags.hooks
	if flags.server {
		wanted = []string{"server"}
	}
	for _, name := range wanted {
		if name == "none" {
			continue
		}
		hook := fit.Hook(name)
		kind, known := map[fit.Hook]policy.Kind{fit.Commit: policy.Staged, fit.Push: policy.Push, fit.Server: policy.Push}[hook]
		if !known || hook == fit.Server && !flags.server {
			return call, fmt.Errorf("--hook takes commit, push or none, not %q", name)
		}
		door, err := doorFor(doors, kind, hook)
		if err != nil {
			return call, err
		}
		call.Doors[hook] = door
	}
	call.House = noLinter(flags)
	for hook, name := range call.Doors {
		door, _ := doors.Door(name)
		call.Fixes = call.Fixes || hook == fit.Commit && door.Fix
	}
	if len(flags.reports) == 0 && lacksReports(doors, call) {
		return call, fmt.Errorf("a hook needs something to judge by: name the reports that your linters write, as in --report build/warnings.txt, or name them or the linters in the policy; or fit the policy alone with --hook none")
	}
	for _, report := range flags.reports {
		rooted, err := rootedReport(repo, report)
		if err != nil {
			return call, err
		}
		call.Reports = append(call.Reports, rooted)
	}
	return call, nil
}

// noLinter reports whether a starter policy has nothing to be judged by but our own checks.
func noLinter(flags fitFlags) bool { return len(flags.reports) == 0 }

// lacksReports reports whether the policy names nothing that one of the hooks' doors could judge by.
func lacksReports(doors *policy.Policy, call fit.Call) bool {
	for _, name := range call.Doors {
		door, _ := doors.Door(name)
		if reports, _ := doors.Needed(door); len(reports) == 0 && !slices.Contains(door.Needs, house.Tool) {
			return true
		}
	}
	return false
}

// fitDoors are the doors of the policy that is there, or of the starter.
func fitDoors(ctx context.Context, repo *git.Repo, place fit.Place, flags fitFlags) (*policy.Policy, error) {
	call := app.Call{Dir: repo.Root, Run: flags.run}
	if repo.Bare {
		commit, ok := repo.Head()
		if !ok {
			return starterPolicy(place, flags)
		}
		call.Policy = commit + ":" + policyfile.Path
	}
	file, err := app.ReadPolicy(ctx, call)
	if err != nil && repo.Bare && file == nil || err == nil && file.BuiltIn {
		return starterPolicy(place, flags)
	}
	if err != nil {
		return nil, graded(err)
	}
	return file.Policy, nil
}

func starterPolicy(place fit.Place, flags fitFlags) (*policy.Policy, error) {
	file, err := policyfile.Parse("starter policy", place.Starter(noLinter(flags)))
	if err != nil {
		return nil, err
	}
	return file.Policy, nil
}

func doorFor(p *policy.Policy, kind policy.Kind, hook fit.Hook) (string, error) {
	doors := p.DoorsFor(kind)
	if i := slices.IndexFunc(doors, func(d policy.Door) bool { return d.Name == string(hook) }); i >= 0 {
		return doors[i].Name, nil
	}
	switch len(doors) {
	case 1:
		return doors[0].Name, nil
	case 0:
		return "", fmt.Errorf("the policy has no door that judges %s, which the %s hook would ask; add one, or leave the hook out with --hook", kind, hook)
	}
	return "", fmt.Errorf("several doors of the policy judge %s (%s); call one of them %q so that the hook knows which to ask", kind, policy.Names(doors), hook)
}

// rootedReport makes a report's path one from the repository's root, where hooks run.
func rootedReport(repo *git.Repo, argument string) (string, error) {
	report, err := reportFile(argument)
	if err != nil {
		return "", err
	}
	if report.Path == "-" {
		return "", fmt.Errorf("a hook can't read a report from standard input; name a file with --report")
	}
	if !filepath.IsAbs(report.Path) {
		report.Path = filepath.ToSlash(filepath.Join(filepath.FromSlash(repo.Prefix), report.Path))
	}
	if report.Name == "" {
		return report.Path, nil
	}
	return report.Name + "=" + report.Path, nil
}

// near is a path as people near dir call it.
func near(dir, path string) string {
	if rel, err := filepath.Rel(dir, path); err == nil && filepath.IsLocal(rel) {
		return render.Safe(rel)
	}
	return render.Safe(path)
}

func (p *program) showPlan(dir string, files []fit.File, dry bool) {
	verb := "written"
	if dry {
		verb = "would be written"
	}
	for _, f := range files {
		name := near(dir, f.Path)
		if f.Written {
			fmt.Fprintf(p.out, "%s: %s is there already\n", f.What, name)
			continue
		}
		fmt.Fprintf(p.out, "%s: %s %s\n", f.What, name, verb)
		if f.Aside != "" {
			fmt.Fprintf(p.out, "  the hook that was there still runs first, as %s\n", near(dir, f.Aside))
		}
		if dry {
			fmt.Fprintf(p.out, "\n%s\n", indented(string(f.Text)))
		}
	}
}

func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n    ") + "\n"
}

// askForBaseline takes the present findings as accepted where the call or the person at the terminal says so.
func (p *program) askForBaseline(ctx context.Context, place fit.Place, flags fitFlags) error {
	if place.Root == "" || len(flags.reports) == 0 {
		return nil
	}
	if _, err := os.Stat(filepath.Join(place.Root, filepath.FromSlash(baseline.Path))); err == nil {
		return nil
	}
	command := "zincdoor baseline take --report " + strings.Join(flags.reports, " --report ")
	if !flags.accept && !p.agrees("Accept all present findings of these reports, so that only new ones count?") {
		fmt.Fprintf(p.out, "\nThe present findings count as they are. To accept them all: %s\n", render.Safe(command))
		return nil
	}
	return p.runTake(ctx, takeFlags{evidence: evidenceFlags{reports: flags.reports}, reason: reasonFlags{why: string(baseline.Debt)}})
}

// agrees asks the person at the terminal; where there is none, the answer is no.
func (p *program) agrees(question string) bool {
	if !p.atTerminal() {
		return false
	}
	fmt.Fprintf(p.err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(p.in).ReadString('\n')
	return strings.EqualFold(strings.TrimSpace(answer), "y") || strings.EqualFold(strings.TrimSpace(answer), "yes")
}

// atTerminal reports whether somebody can be asked.
func (p *program) atTerminal() bool {
	in, ok := p.in.(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

func (p *program) unfit(dir string, place fit.Place, dry bool) error {
	removals, err := fit.Remove(place.GitDir, dry)
	if err != nil {
		return unjudged{err}
	}
	verb := "taken away"
	if dry {
		verb = "would be taken away"
	}
	for _, r := range removals {
		switch {
		case r.Kept:
			fmt.Fprintf(p.out, "%s: %s was altered since, and stays\n", r.What, near(dir, r.Path))
		case r.Back != "":
			fmt.Fprintf(p.out, "%s: %s %s, and what was there before put back\n", r.What, near(dir, r.Path), verb)
		default:
			fmt.Fprintf(p.out, "%s: %s %s\n", r.What, near(dir, r.Path), verb)
		}
	}
	if len(removals) == 0 {
		fmt.Fprintln(p.out, "nothing of the door's is fitted here")
	}
	return nil
}
