package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/demo"
	"zincdoor/internal/render"
)

func (p *program) demo() *cobra.Command {
	var keep string
	var pull, pages bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Show the whole job on made-up data",
		Long: `Make the repository of a made-up ferry operator in a temporary folder, with real commits and the reports of its linters, and run the real commands on it: take the baseline of old code, let a clean change pass, shut the door on a change with new findings, and open it again once they are fixed.

With --keep the repository stays, so that you can go on by hand. With --pull-request it shows a pull request instead, at a stand-in of a code host that it starts on this machine: comments at the lines, a merge that is refused, and the merge once all is fixed. With --service it shows pages of six repositories and half a year, until Ctrl-C.`,
		Example: "zincdoor demo\nzincdoor demo --keep tideboard\nzincdoor demo --pull-request\nzincdoor demo --service",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if pages {
				if pull || keep != "" {
					return errors.New("--service goes by itself: it leaves nothing behind")
				}
				if err := p.playService(cmd.Context()); err != nil {
					return unjudged{fmt.Errorf("the demo stopped: %w", err)}
				}
				return nil
			}
			if pull {
				if keep != "" {
					return errors.New("--keep and --pull-request can't go together: the code host would be gone")
				}
				if err := p.playPullRequest(cmd.Context()); err != nil {
					return unjudged{fmt.Errorf("the demo stopped: %w", err)}
				}
				return nil
			}
			dir, done, err := demoFolder(keep)
			if err != nil {
				return err
			}
			defer done()
			if err := p.play(cmd.Context(), dir); err != nil {
				return unjudged{fmt.Errorf("the demo stopped: %w", err)}
			}
			if keep != "" {
				fmt.Fprintf(p.out, "The repository is in %s. Go on there, for example with:\n\n  cd %s\n  %s\n",
					render.Safe(dir), render.Safe(keep), strings.Join(gateMerge, " "))
			}
			return nil
		},
	}
	p.group(cmd, "Demo", func(f *pflag.FlagSet) {
		f.StringVar(&keep, "keep", "", "make the repository in `DIR` and leave it there")
		f.BoolVar(&pull, "pull-request", false, "show a pull request, at a code host on this machine")
		f.BoolVar(&pages, "service", false, "show pages of six repositories and half a year")
	})
	return cmd
}

// demoFolder is the folder to make the repository in, and what to do with it afterwards.
func demoFolder(keep string) (dir string, done func(), err error) {
	if keep == "" {
		dir, err = os.MkdirTemp("", "tideboard-")
		return dir, func() { os.RemoveAll(dir) }, err
	}
	if dir, err = filepath.Abs(keep); err != nil {
		return "", nil, err
	}
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return "", nil, fmt.Errorf("%s isn't empty; name a new folder with --keep", keep)
	}
	return dir, func() {}, os.MkdirAll(dir, 0o755)
}

// step is one moment of the demo: what happens to the repository, and the command that answers.
type step struct {
	story   string
	prepare func(*demo.Repository) error
	command []string
	code    int
}

var (
	takeAll   = []string{"zincdoor", "baseline", "take"}
	gateMerge = []string{"zincdoor", "gate", "--into", "main"}
)

var steps = []step{
	{
		story: "tideboard is an old code base: its compilers and linters have a lot to say. Take all of it as accepted.",
		prepare: func(r *demo.Repository) error {
			return errors.Join(r.Enter("old"), r.Commit("Tides, fares and boards"), r.Fit())
		},
		command: takeAll,
	},
	{
		story: "A change adds low water to the tide table, and renames a file. All old findings are still known, though their lines moved.",
		prepare: func(r *demo.Repository) error {
			return errors.Join(r.Commit("Fit the door"), r.Git("switch", "--quiet", "--create", "low-water"), r.Enter("clean"),
				r.Commit("Find low water; call the clock what it is"))
		},
		command: gateMerge,
	},
	{
		story: "The next change prints receipts, finds the longest slack and the last ferry, and moves a function. Three things in it are not as they should be.",
		prepare: func(r *demo.Repository) error {
			return errors.Join(r.Git("switch", "--quiet", "main"), r.Git("merge", "--quiet", "--ff-only", "low-water"),
				r.Git("switch", "--quiet", "--create", "receipts"), r.Enter("loud"), r.Commit("Receipts, the longest slack, the last ferry"))
		},
		command: gateMerge,
		code:    exitShut,
	},
	{
		story: "Its author fixes the three and asks again.",
		prepare: func(r *demo.Repository) error {
			return errors.Join(r.Enter("fixed"), r.Commit("Look at the error; count in size_t; ask for the day"))
		},
		command: gateMerge,
	},
	{
		story:   "Main has been judged at each push for half a year. Take these records in.",
		prepare: (*demo.Repository).Remember,
		command: []string{"zincdoor", "history", "import", demo.HalfYearFile},
	},
	{
		story:   "Did it get better?",
		prepare: func(*demo.Repository) error { return nil },
		command: []string{"zincdoor", "history", "trend", "--since", "2026-04-01", "--every", "month"},
	},
}

// storyColumns is the width of the demo's own sentences.
const storyColumns = 100

// play runs the steps with this very program, and stops where one answers otherwise than it should.
func (p *program) play(ctx context.Context, dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	repo, err := demo.New(dir)
	if err != nil {
		return err
	}
	for i, s := range steps {
		if err := s.prepare(repo); err != nil {
			return err
		}
		p.tellStory(i+1, s.story)
		if err := p.runShown(ctx, self, dir, nil, s.command, s.code); err != nil {
			return err
		}
	}
	return nil
}

// tellStory writes what a step is about.
func (p *program) tellStory(number int, story string) {
	fmt.Fprintf(p.out, "%s\n\n", strings.Join(render.Wrap(fmt.Sprintf("%d. %s", number, story), storyColumns), "\n"))
}

// runShown runs a command of this very program as people would type it, and fails where it answers otherwise than it should.
func (p *program) runShown(ctx context.Context, self, dir string, env, command []string, code int) error {
	fmt.Fprintf(p.out, "$ %s\n", strings.Join(command, " "))
	cmd := exec.CommandContext(ctx, self, command[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.Env = dir, p.out, p.err, append(os.Environ(), env...)
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return err
	}
	if got := cmd.ProcessState.ExitCode(); got != code {
		return fmt.Errorf("%s answered with exit code %d instead of %d", strings.Join(command, " "), got, code)
	}
	fmt.Fprintf(p.out, "(exit code %d)\n\n", code)
	return nil
}
