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
	"syscall"
	"time"

	"github.com/spf13/cobra"

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
}

// Main runs the program on the arguments and returns its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	p := &program{in: in, out: out, err: errs}
	giveUp := func(why string) {
		fmt.Fprintf(errs, "zincdoor: %s\n", render.Safe(why))
		os.Exit(exitUnjudged)
	}
	ctx, abandon, ended := endOnSignal(context.Background(), func() { giveUp(interrupted) })
	defer ended()
	defer func() {
		files.RemoveHeld()
		files.RemoveAbandoned()
	}()
	memory.KeepSmall(func(why string) {
		abandon()
		giveUp(why)
	})
	root := p.root()
	root.SetArgs(rulesAsArguments(args))
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

// fail tells an error and settles the exit code.
func (p *program) fail(err error) {
	var problems policyfile.Problems
	var judged unjudged
	p.code = exitCall
	switch {
	case errors.As(err, &problems):
		fmt.Fprintf(p.err, "zincdoor: the policy can't be used:\n")
		for _, problem := range problems {
			fmt.Fprintf(p.err, "  %s\n", render.Safe(problem.String()))
		}
		return
	case errors.As(err, &judged):
		p.code = exitUnjudged
	}
	text := strings.TrimPrefix(err.Error(), app.ErrCall.Error()+": ")
	fmt.Fprintf(p.err, "zincdoor: %s\n", render.Safe(text))
}

// unjudged marks an error that leaves a call without an answer, as opposed to a wrong call.
type unjudged struct{ error }

func (u unjudged) Unwrap() error { return u.error }

// graded gives an error of the app its exit code.
func graded(err error) error {
	var problems policyfile.Problems
	if err == nil || errors.Is(err, app.ErrCall) || errors.As(err, &problems) {
		return err
	}
	return unjudged{err}
}

func (p *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "zincdoor",
		Short: "A gate for lint results: judges a change by what linters and compilers say of it",
		Long: `Zinc Door reads the reports of linters and compilers, finds which findings a change brought in, leaves alone
what the team has accepted, and holds the rest against the team's limits. The door is open, shut, or it
says why it can't judge.

Exit codes: 0 open, 1 shut, 2 can't judge, 3 the call or the policy is wrong.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetIn(p.in)
	root.SetOut(p.out)
	root.SetErr(p.err)
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return fmt.Errorf("%w; see %s --help", err, cmd.CommandPath())
	})
	root.AddCommand(p.gate(), p.findings(), p.explain(), p.fix(), p.watch(), p.baseline(), p.policy(), p.recipe(), p.fit(), p.schemas(), p.demo(), p.version())
	return root
}

func (p *program) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Tell the program's version, commit and Go version",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			version, commit := build()
			_, err := fmt.Fprintf(p.out, "zincdoor %s (commit %s, %s, %s/%s)\n", version, commit, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
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

// one takes one argument, and says what it names where there is none, or several.
func one(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 1 {
			return nil
		}
		return fmt.Errorf("%s takes one name: %s; see %s --help", cmd.CommandPath(), what, cmd.CommandPath())
	}
}

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
