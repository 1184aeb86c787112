// Package cli knows the commands: their flags, and how a call becomes a request and a verdict becomes output and an
// exit code.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/files"
	"zincdoor/internal/memory"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

// The exit codes.
const (
	exitOpen     = 0
	exitShut     = 1
	exitUnjudged = 2 // evidence, repository or an unknown revision
	exitCall     = 3 // the call or the policy is wrong
)

// program is one run: its streams, and the code it will end with.
type program struct {
	in       io.Reader
	out, err io.Writer
	code     int

	folder  string // to act in, "" for where the call is made
	options map[*cobra.Command][]options
	unmade  map[*cobra.Command][]func() // what makes them, until that was done
}

// Main runs the program on the arguments and returns its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	p := &program{in: in, out: out, err: errs, options: map[*cobra.Command][]options{}}
	giveUp := func(why string) {
		fmt.Fprintf(errs, "zincdoor: %s\n", render.Safe(why))
		os.Exit(exitUnjudged)
	}
	var tidying sync.WaitGroup
	tidying.Go(files.RemoveAbandoned)
	ctx, abandon, ended := endOnSignal(context.Background(), func() { giveUp(interrupted) })
	defer ended()
	defer func() {
		files.RemoveHeld()
		tidying.Wait()
	}()
	memory.KeepSmall(func(why string) {
		abandon()
		giveUp(why)
	})
	cobra.EnableCommandSorting = false // they are shown in the order of the work
	root := p.root()
	args = rulesAsArguments(args)
	p.readyFor(root, args)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil:
	case ctx.Err() != nil:
		p.fail(unjudged{errors.New(interrupted)})
	case errors.Is(err, syscall.EPIPE): // nobody reads it any more
		p.code = exitUnjudged
	default:
		p.fail(err)
	}
	return p.code
}

const interrupted = "interrupted"

// fail prints an error and sets the exit code.
func (p *program) fail(err error) {
	var problems policyfile.Problems
	var host app.WrongHost
	var judged unjudged
	p.code = exitCall
	switch {
	case errors.As(err, &problems) || errors.As(err, &host):
		what := "policy"
		if problems == nil {
			what, problems = "host recipe", host.Problems
		}
		p.tell(p.err, "zincdoor: the %s can't be used:\n", what)
		for _, problem := range problems {
			p.tell(p.err, "  %s\n", render.Safe(problem.String()))
		}
		return
	case errors.As(err, &judged):
		p.code = exitUnjudged
	}
	text := app.Said(err)
	p.tell(p.err, "zincdoor: %s\n", render.Safe(text))
}

// unjudged marks an error that leaves a call without an answer, as opposed to a wrong call.
type unjudged struct{ error }

func (u unjudged) Unwrap() error { return u.error }

// graded gives an error of the app its exit code.
func graded(err error) error {
	var problems policyfile.Problems
	var host app.WrongHost
	if err == nil || errors.Is(err, app.ErrCall) || errors.As(err, &problems) || errors.As(err, &host) {
		return err
	}
	return unjudged{err}
}

// The groups of commands in the help.
const (
	judging     = "judging"
	keeping     = "keeping"
	lookingBack = "looking back"
	settingUp   = "setting up"
)

func (p *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "zincdoor COMMAND",
		Short: "A gate for lint results: judges a change by what linters and compilers say of it",
		Long: `Zinc Door reads the reports of linters and compilers, finds the findings that a change brought in, leaves alone what the team has accepted, and holds the rest against the team's limits. The door is open, shut, or it says why it can't judge.

Exit codes: 0 open, 1 shut, 2 can't judge, 3 the call or the policy is wrong.`,
		Example: `zincdoor demo                    # see it at work on made-up data
zincdoor fit                     # fit it in this repository
zincdoor gate --staged           # judge what the next commit holds
zincdoor gate --into main        # judge what merging this branch would bring`,
		Version:           "set below",
		SilenceErrors:     true,
		SilenceUsage:      true,
		Args:              cobra.ArbitraryArgs,
		RunE:              p.commandsOnly,
		PersistentPreRunE: func(*cobra.Command, []string) error { return p.enter() },
	}
	root.SetIn(p.in)
	root.SetOut(p.out)
	root.SetErr(p.err)
	root.SetVersionTemplate(versionLine())
	root.CompletionOptions.DisableDefaultCmd = true
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) { p.showHelp(cmd) })
	root.SetHelpCommand(p.helpCommand(root))
	root.PersistentFlags().StringVarP(&p.folder, "in", "C", "", "act as if called in `DIR`")
	root.PersistentFlags().BoolP("help", "h", false, "show this help")
	root.Flags().Bool("version", false, "print the version")
	root.SetFlagErrorFunc(flagError)
	root.AddGroup(
		&cobra.Group{ID: judging, Title: "Judge a change"},
		&cobra.Group{ID: keeping, Title: "Keep what the team decided"},
		&cobra.Group{ID: lookingBack, Title: "Look back"},
		&cobra.Group{ID: settingUp, Title: "Set up, and the rest"},
	)
	add := func(group string, commands ...*cobra.Command) {
		for _, cmd := range commands {
			cmd.GroupID = group
			root.AddCommand(cmd)
		}
	}
	add(judging, p.gate(), p.findings(), p.explain(), p.fix(), p.measure(), p.watch(), p.lsp(), p.review(), p.seal(), p.verify())
	add(keeping, p.baseline(), p.policy(), p.spelling(), p.recipe())
	add(lookingBack, p.history(), p.serve(), p.report())
	add(settingUp, p.fit(), p.demo(), p.slipway(), p.schemas(), p.completion(), p.version())
	root.SetHelpCommandGroupID(settingUp)
	nameValues(root.PersistentFlags())
	p.finishFlags(root)
	p.finish(root)
	return root
}

// enter goes to the folder that the call names.
func (p *program) enter() error {
	if p.folder == "" {
		return nil
	}
	if err := os.Chdir(p.folder); err != nil {
		return fmt.Errorf("-C: there is no folder %s to go to: %w", p.folder, errors.Unwrap(err))
	}
	return nil
}

// flagError says which options there are where one isn't known.
func flagError(cmd *cobra.Command, err error) error {
	hint := "see " + cmd.CommandPath() + " --help"
	if _, name, ok := strings.Cut(err.Error(), "unknown flag: --"); ok {
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		if nearest := policyfile.Nearest(name, names); nearest != "" {
			hint = "did you mean --" + nearest + "? " + hint
		}
		return fmt.Errorf("%s has no option --%s; %s", cmd.Name(), name, hint)
	}
	return fmt.Errorf("%w; %s", err, hint)
}

func (p *program) version() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version, commit and Go version",
		Long:    "Print the program's version, the commit it was built from, the Go version and the platform.",
		Example: "zincdoor version",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			_, err := io.WriteString(p.out, versionLine())
			return err
		},
	}
}

func versionLine() string {
	version, commit := build()
	return fmt.Sprintf("zincdoor %s (commit %s, %s, %s/%s)\n", version, commit, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

// Version and Commit are set when a release is linked (-ldflags "-X zincdoor/internal/cli.Version=…"); without them,
// what Go recorded of the build serves.
var Version, Commit string

func build() (version, commit string) {
	version, commit = Version, Commit
	if info, ok := debug.ReadBuildInfo(); ok {
		if version == "" && info.Main.Version != "" {
			version = info.Main.Version
		}
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && commit == "" {
				commit = s.Value
			}
		}
	}
	if version == "" {
		version = "(devel)"
	}
	if commit == "" {
		commit = "unknown"
	}
	return version, commit
}

// graver is the exit code that counts of two verdicts in one call: shut before unjudged before open.
func graver(a, b int) int {
	for _, code := range []int{exitShut, exitUnjudged} {
		if a == code || b == code {
			return code
		}
	}
	return exitOpen
}

// exitOf is the exit code of an outcome.
func exitOf(o judge.Outcome) int {
	switch o {
	case judge.Open:
		return exitOpen
	case judge.Shut:
		return exitShut
	}
	return exitUnjudged
}

// arguments takes as many as are named in what, and says what they are where there are more or fewer.
func arguments(what ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == len(what) {
			return nil
		}
		if len(what) == 0 {
			return fmt.Errorf("%s takes no argument, and was given %q; see %s --help", cmd.CommandPath(), args[0], cmd.CommandPath())
		}
		return fmt.Errorf("%s takes %s; see %s --help", cmd.CommandPath(), strings.Join(what, ", then "), cmd.CommandPath())
	}
}

// noArguments refuses arguments.
var noArguments = arguments()

// today is the day on which a command acts.
func today(flag string) (string, error) {
	if flag == "" {
		return time.Now().UTC().Format(time.DateOnly), nil
	}
	if _, err := time.Parse(time.DateOnly, flag); err != nil {
		return "", fmt.Errorf("--today takes a date like 2027-02-01, not %q", flag)
	}
	return flag, nil
}

// workingDir is the folder of the call.
func workingDir() (string, error) {
	dir, err := os.Getwd()
	if err != nil {
		return "", unjudged{err}
	}
	return dir, nil
}
