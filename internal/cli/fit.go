package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/fit"
	"zincdoor/internal/render"
)

// fitFlags are the flags of zincdoor fit.
type fitFlags struct {
	hooks                       []string
	reports                     []string
	chosen                      []string // languages, or reports, or none
	server, remove, dry, accept bool
	run, tracked, advise        bool
}

func (p *program) fit() *cobra.Command {
	var flags fitFlags
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Fit the door in a repository: policy, git hooks, baseline",
		Long: `Fit the door in this repository: write a starter policy where there is none, and hooks that ask the door before each commit and each push.

It looks at the languages here, at the compilers on this machine and at report files, and asks for each whether changes are judged by it; --for and --report say it without asking. What the policy names is started in this repository only once you allow it: fit shows what that is, and asks.

Hooks that are there already still run, first, and decide first. Running it twice changes nothing; --remove takes away exactly what it wrote and puts back what was there.`,
		Example: `zincdoor fit --dry-run
zincdoor fit --for c --run --take-baseline
zincdoor fit --hook none
zincdoor fit --remove`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.runFit(cmd.Context(), flags)
		},
	}
	p.group(cmd, "Fit", func(f *pflag.FlagSet) {
		f.StringSliceVar(&flags.chosen, "for", nil, "`LANGUAGES`|have their compilers judge, comma-separated:")
		values(f, "for", "c", "c++", "go", "java", "typescript", fit.FoundReports, "none")
		f.BoolVar(&flags.advise, "advise", false, "a starter policy that only advises")
		f.StringArrayVar(&flags.reports, "report", nil, "`[FORMAT=]FILE`|a report that the hooks judge by; repeatable")
		f.StringSliceVar(&flags.hooks, "hook", []string{"commit", "push"}, "`HOOKS`|which to fit, comma-separated:")
		values(f, "hook", "commit", "push", "none")
		f.BoolVar(&flags.server, "server", false, "fit the hook of a bare repository that receives pushes")
		f.BoolVar(&flags.accept, "take-baseline", false, "accept the present findings of the reports, without asking")
		f.BoolVar(&flags.run, "run", false, "allow the policy's linters to be started here, without asking")
		f.BoolVar(&flags.tracked, "tracked-hooks", false, "replace hooks that git tracks, without asking")
		f.BoolVar(&flags.dry, "dry-run", false, "show what would be written, and write nothing")
		f.BoolVar(&flags.remove, "remove", false, "take away what was fitted")
	})
	return cmd
}

func (p *program) runFit(ctx context.Context, flags fitFlags) error {
	dir, err := workingDir()
	if err != nil {
		return err
	}
	if flags.remove {
		return p.unfit(ctx, dir, flags.dry)
	}
	reports, err := reportFiles(flags.reports)
	if err != nil {
		return err
	}
	f, err := app.OpenFit(ctx, app.FitRequest{Dir: dir, Hooks: flags.hooks, Reports: reports, Server: flags.server, Run: flags.run, Advise: flags.advise})
	if err != nil {
		return graded(err)
	}
	defer f.Close()
	if err := f.CheckPlace(); err != nil {
		return graded(err)
	}
	if f.HasPolicy() {
		flags.chosen = nil // which a starter policy is for
	}
	chosen, asked, err := p.choose(f.Proposals, flags)
	if err != nil {
		return err
	}
	if err := f.Plan(chosen); err != nil {
		return graded(err)
	}
	if !asked {
		p.sayChoices(dir, f)
		return nil
	}
	if flags.server && len(f.Starts) > 0 && !flags.run && !f.Allowed() {
		return fmt.Errorf("at each push the door would start what the policy of this repository names (%s); allow it, once you trust all who may push: git config %s true, or fit --server --run", strings.TrimSpace(programs(f.Starts)), app.RunKey)
	}
	tracked, err := f.Tracked()
	if err != nil {
		return graded(err)
	}
	if err := p.askToReplace(dir, tracked, f.HookCalls(), flags); err != nil {
		return err
	}
	p.showPlan(dir, f.Files, flags.dry)
	if f.NoLinter {
		p.tell(p.out, "No linter and no compiler judges yet, only house checks; name some under reports: in the policy\n")
	}
	if flags.dry {
		return nil
	}
	if err := f.Apply(); err != nil {
		return graded(err)
	}
	if err := p.askToRun(f, flags); err != nil {
		return graded(err)
	}
	if err := p.askForBaseline(ctx, f, flags); err != nil {
		return err
	}
	for _, file := range tracked {
		p.tell(p.out, "\nCommit %s and %s together: who gets one of them needs the other.\n", near(dir, file.Path), near(dir, file.Aside))
	}
	p.sayCommit(f, flags)
	return nil
}

// choose picks what changes are judged by: as the call says, else as the person at the terminal does. Asked is false where there is
// something to choose and nobody to ask.
func (p *program) choose(proposals []fit.Proposal, flags fitFlags) (chosen []fit.Proposal, asked bool, err error) {
	var known []string
	for _, x := range proposals {
		known = append(known, x.For)
	}
	for _, name := range flags.chosen {
		if name != "none" && !slices.Contains(known, name) {
			return nil, false, fmt.Errorf("--for %s: %s", name, nothingFor(known))
		}
	}
	terminal := p.atTerminal() && len(flags.chosen) == 0
	taken := map[string]bool{} // languages that have a compiler
	for _, x := range proposals {
		single := x.For != fit.FoundReports && x.Report.Run != nil && x.Report.Run.Folder == ""
		switch {
		case single && taken[x.For], len(flags.chosen) > 0 && !slices.Contains(flags.chosen, x.For):
			continue
		case terminal && !p.agrees(fmt.Sprintf("%s: %s. Judge changes by it?", proposed(x), x.About)), !terminal && len(flags.chosen) == 0:
			continue
		}
		taken[x.For] = true
		chosen = append(chosen, x)
	}
	return chosen, terminal || len(flags.chosen) > 0 || len(proposals) == 0, nil
}

func nothingFor(known []string) string {
	if len(known) == 0 {
		return "there are no files here for a compiler of this machine, and no report files"
	}
	slices.Sort(known)
	return "nothing here is for it; there is " + strings.Join(slices.Compact(known), ", ")
}

// proposed is a proposal as a command, or the file that it is.
func proposed(x fit.Proposal) string {
	if x.Report.Run != nil {
		return render.Safe(render.ShellWords(x.Report.Run.Command))
	}
	return render.Safe(strings.Join(x.Report.Files, ", "))
}

// sayChoices says what changes could be judged by, and how that is chosen.
func (p *program) sayChoices(dir string, f *app.Fitting) {
	p.tell(p.out, "Nothing is written yet: there is no terminal to ask on. It would write\n")
	for _, file := range f.Files {
		if !file.Written {
			p.tell(p.out, "  %-24s  %s\n", file.What, near(dir, file.Path))
		}
	}
	p.tell(p.out, "\nChanges can be judged by\n")
	var names []string
	for _, x := range f.Proposals {
		p.tell(p.out, "  %-10s  %s (%s)\n", x.For, proposed(x), x.About)
		if !slices.Contains(names, x.For) {
			names = append(names, x.For)
		}
	}
	p.tell(p.out, "\nChoose:                zincdoor fit --for %s\nor house checks alone: zincdoor fit --for none\n", strings.Join(names, ","))
}

// sayCommit says what is to be committed.
func (p *program) sayCommit(f *app.Fitting, flags fitFlags) {
	if flags.server || !slices.ContainsFunc(f.Files, func(file fit.File) bool {
		return !file.Written && strings.Contains(filepath.ToSlash(file.Path), "/"+policy.Folder+"/")
	}) {
		return
	}
	p.tell(p.out, "\nNow commit it: git add %s && git commit -m \"Fit the door\"\n", policy.Folder)
}

// askToReplace has the person at the terminal agree that hooks of the repository itself are replaced.
func (p *program) askToReplace(dir string, tracked []fit.File, calls []string, flags fitFlags) error {
	if len(tracked) == 0 || flags.tracked || flags.dry {
		return nil
	}
	var names []string
	for _, file := range tracked {
		names = append(names, near(dir, file.Path))
	}
	held := fmt.Sprintf("git tracks %s, so everyone who gets this repository gets what replaces it", strings.Join(names, " and "))
	if p.atTerminal() {
		p.tell(p.out, "\n%s.\n", held)
		if p.agrees("Replace it, and keep what it holds beside it, to be committed with it?") {
			return nil
		}
	}
	return fmt.Errorf("%s; nothing is written. To replace it: zincdoor fit --tracked-hooks. To keep it as it is, let it call %s, and fit the rest with --hook none", held, strings.Join(calls, " and "))
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
func (p *program) askToRun(f *app.Fitting, flags fitFlags) error {
	if len(f.Starts) == 0 || f.Allowed() {
		return nil
	}
	p.tell(p.out, "\nThe policy names linters, which a gate starts on a copy of what it judges:\n%s", programs(f.Starts))
	p.tell(p.out, "Whoever edits the policy edits these commands, so they run only if you allow it.\n")
	if !flags.run && !p.agrees("Let them be started in this repository?") {
		p.tell(p.out, "They are not allowed yet, and no door opens without them. To allow them: git config %s true\n", app.RunKey)
		return nil
	}
	if err := f.Allow(); err != nil {
		return err
	}
	p.tell(p.out, "Allowed in this repository's own configuration (%s = true).\n", app.RunKey)
	return nil
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
			p.tell(p.out, "%s: %s is there already\n", f.What, name)
			continue
		}
		p.tell(p.out, "%s: %s %s\n", f.What, name, verb)
		switch {
		case f.Aside != "" && f.Dead:
			p.tell(p.out, "  the hook that was there is a link that leads nowhere; it is kept as %s\n", near(dir, f.Aside))
		case f.Aside != "":
			p.tell(p.out, "  the hook that was there still runs first, as %s\n", near(dir, f.Aside))
		}
		if dry {
			p.tell(p.out, "\n%s\n", indented(string(f.Text)))
		}
	}
}

func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n    ") + "\n"
}

// askForBaseline takes the present findings as accepted where the call or the person at the terminal says so.
func (p *program) askForBaseline(ctx context.Context, f *app.Fitting, flags fitFlags) error {
	if !f.HasEvidence() || !f.LacksBaseline() {
		return nil
	}
	command := "zincdoor baseline take"
	reports := flags.reports
	if !f.HasPolicy() { // the starter names them
		reports = nil
	}
	for _, r := range reports {
		command += " --report " + r
	}
	if !flags.accept && !p.agrees("Accept all present findings, so that only new ones count?") {
		p.tell(p.out, "\nThe present findings count as they are. To accept them all: %s\n", render.Safe(command))
		return nil
	}
	if err := p.runTake(ctx, takeFlags{evidence: evidenceFlags{reports: reports, run: flags.run}, reason: reasonFlags{why: string(baseline.Debt)}}); err != nil {
		return fmt.Errorf("the rest is fitted, but the present findings can't be accepted yet: %w; then: %s", err, command)
	}
	return graded(f.NoteBaseline())
}

// agrees asks the person at the terminal; where there is none, the answer is no.
func (p *program) agrees(question string) bool {
	if !p.atTerminal() {
		return false
	}
	p.tell(p.err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(p.in).ReadString('\n')
	return strings.EqualFold(strings.TrimSpace(answer), "y") || strings.EqualFold(strings.TrimSpace(answer), "yes")
}

// atTerminal reports whether somebody can be asked.
func (p *program) atTerminal() bool {
	in, ok := p.in.(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

func (p *program) unfit(ctx context.Context, dir string, dry bool) error {
	removals, allowed, err := app.Unfit(ctx, dir, dry)
	if err != nil {
		return graded(err)
	}
	verb := "taken away"
	if dry {
		verb = "would be taken away"
	}
	for _, r := range removals {
		switch {
		case r.Kept != "":
			p.tell(p.out, "%s: %s %s, and stays\n", r.What, near(dir, r.Path), render.Safe(r.Kept))
		case r.Back != "":
			p.tell(p.out, "%s: %s %s, and what was there before put back\n", r.What, near(dir, r.Path), verb)
		default:
			p.tell(p.out, "%s: %s %s\n", r.What, near(dir, r.Path), verb)
		}
	}
	if allowed {
		p.tell(p.out, "%s was set by hand in this repository's configuration, and stays: git config --unset %s takes it away\n", app.RunKey, app.RunKey)
	}
	if len(removals) == 0 {
		p.tell(p.out, "nothing of the door's is fitted here\n")
	}
	return nil
}
