package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/render"
)

func (p *program) review() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "review",
		Short: "Bring a verdict to a pull request",
		Long:  "Bring a verdict to a pull request: comments at the lines, and a status that holds the merge. A host recipe says how the code host is spoken with.",
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.sendReview(), p.tryHost())
	return cmd
}

// hostFlags name a code host and a pull request there.
type hostFlags struct {
	host, pull, repository, address string
	tokenFrom, roots                string
	sets                            []string
	plain                           bool
	patience                        time.Duration
}

func (h *hostFlags) add(f *pflag.FlagSet) {
	f.StringVar(&h.host, "host", "", "`NAME`|the code host: a host of the policy, or a file with its recipe")
	f.StringVar(&h.pull, "pull", "", "the pull request's number `N`")
	f.StringVar(&h.repository, "repository", "", "`NAME`|as the host calls it; else git config zincdoor.repository")
	f.StringVar(&h.address, "address", "", "`URL`|where the host is; else where the recipe says")
	f.StringArrayVar(&h.sets, "set", nil, "`NAME=VALUE`|give a variable of the recipe another value")
	f.StringVar(&h.tokenFrom, "token-from", "", "the token is in the environment variable `NAME`; else ZINCDOOR_TOKEN")
	f.StringVar(&h.roots, "ca", "", "trust the certificates in `FILE` (PEM) too")
	f.BoolVar(&h.plain, "plain-http", false, "let the token go to another machine unencrypted")
	f.DurationVar(&h.patience, "patience", 5*time.Minute, "`TIME`|how long to wait in all where the host asks to")
}

// tokenVariable is the environment variable with the token, where the call names no other.
const tokenVariable = "ZINCDOOR_TOKEN"

// request is the host of a call. The token is taken out of the environment, so that no program that is started gets it.
func (h *hostFlags) request() (q app.HostRequest, err error) {
	q = app.HostRequest{Host: h.host, Pull: h.pull, Repository: h.repository}
	if h.pull == "" {
		return q, errors.New("name the pull request: --pull N")
	}
	q.Settings.Address, q.Settings.Plain, q.Settings.Patience, q.Settings.Values = h.address, h.plain, h.patience, map[string]string{}
	for _, set := range h.sets {
		name, value, ok := strings.Cut(set, "=")
		if !ok || name == "" || value == "" {
			return q, fmt.Errorf("--set takes NAME=VALUE, not %q", set)
		}
		q.Settings.Values[name] = value
	}
	if h.roots != "" {
		if q.Settings.Roots, err = os.ReadFile(h.roots); err != nil {
			return q, fmt.Errorf("--ca: the certificates can't be read: %w", err)
		}
	}
	name := h.tokenFrom
	if name == "" {
		name = tokenVariable
	}
	token := strings.TrimSpace(os.Getenv(name))
	os.Unsetenv(name)
	if token == "" && h.tokenFrom != "" {
		return q, fmt.Errorf("--token-from: the environment variable %s is empty or not set", h.tokenFrom)
	}
	q.TokenFrom = func() (string, error) {
		if token != "" {
			return token, nil
		}
		return tokenOfCommand()
	}
	return q, nil
}

// tokenCommandKey is where git's configuration has the command that prints the token.
const tokenCommandKey = "zincdoor.tokencommand"

// tokenOfCommand runs the command that the user's configuration of git names, "" where it names none.
func tokenOfCommand() (string, error) {
	line, err := exec.Command("git", "config", "--get", tokenCommandKey).Output()
	command := strings.Fields(string(line))
	if err != nil || len(command) == 0 {
		return "", nil
	}
	ctx, done := context.WithTimeout(context.Background(), time.Minute)
	defer done()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, io.Discard // which may say more than others should read
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("git config zincdoor.tokenCommand: %s: %w", command[0], err)
	}
	token := strings.TrimSpace(out.String())
	if token == "" || strings.ContainsAny(token, "\r\n") {
		return "", fmt.Errorf("git config zincdoor.tokenCommand: %s didn't print one line with a token", command[0])
	}
	return token, nil
}

func (p *program) sendReview() *cobra.Command {
	var gate gateFlags
	var host hostFlags
	var q app.ReviewRequest
	cmd := &cobra.Command{
		Use:   "send",
		Short: "Post a verdict as comments and a status",
		Long: `Bring a verdict to a pull request: comments at the changed lines, the worst first, a summary of the rest, and a status for the judged commit. Called again, it brings what is there up to date: a comment moves with its line, is resolved when its finding is gone, and reopened when that comes back. What people wrote, resolved or deleted stays as it is.

The verdict is that of --verdict FILE (gate --write json=FILE), or it is judged now, with the options of gate. The token is taken from the environment, or from the command that git config zincdoor.tokenCommand names; it is never written anywhere.

Exit codes: those of gate; 2 also where the host can't be reached or refuses.`,
		Example: `zincdoor review send --verdict verdict.json --host quay.yaml --pull 12
zincdoor review send --into main --host slipway.yaml --pull 1 --dry-run`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if q.HostRequest, err = host.request(); err != nil {
				return err
			}
			if q.Most < 0 {
				return errors.New("--most is how many comments there are, 0 or more")
			}
			if q.Verdict != "" {
				if len(args) > 0 {
					return fmt.Errorf("what is %q? With --verdict, no change is named", args[0])
				}
				if q.Call, err = gate.evidence.call(); err != nil {
					return err
				}
				return p.send(cmd.Context(), q, p.out)
			}
			request, outputs, err := gate.request(cmd.Flags(), args, p.in)
			if err != nil {
				return err
			}
			about := p.out
			if gate.output.format != render.Terminal && gate.output.file == "" {
				about = p.err
			}
			judged, err := p.judge(cmd.Context(), &gate, request, outputs, p.out)
			if err != nil {
				return err
			}
			q.Call, q.Judged = request.Call, judged[0]
			return p.send(cmd.Context(), q, about)
		},
	}
	p.group(cmd, "Code host", host.add)
	p.group(cmd, "Review", func(f *pflag.FlagSet) {
		f.StringVar(&q.Verdict, "verdict", "", "`FILE`|the verdict, as gate --write json=FILE writes it; else judge now")
		f.IntVar(&q.Most, "most", render.MostComments, "at most `N` open comments; the summary has the rest")
		f.StringVar(&q.Status, "status", "", "call the status `NAME`; else zincdoor and the door")
		f.StringVar(&q.Link, "link", "", "where people can read the whole verdict, as `URL`")
		f.BoolVar(&q.DryRun, "dry-run", false, "show the calls that would be made, and make none of them")
	})
	p.group(cmd, changeHeading+" (name one, without --verdict)", gate.change.addCommitted)
	p.group(cmd, reportsHeading, gate.evidence.addReports, gate.evidence.addBaseReports, gate.evidence.addRuns)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addDoor(f, &gate.door) }, gate.evidence.addPolicy, gate.evidence.addBaseline, gate.evidence.addToday)
	p.group(cmd, "In the terminal, show", gate.output.screen.add)
	p.group(cmd, outputHeading, gate.output.add, gate.history.addRecord)
	return cmd
}

// writing writes the texts of reviews.
var writing = app.ReviewWriting{
	Comment: render.ReviewComment,
	Summary: func(v judge.Verdict, j *app.Judged, commented map[int]bool, longest int, notes []string) string {
		options := render.Options{}
		if j != nil {
			options = (&screenFlags{}).options(j)
		}
		options.MaxLength = longest
		return render.ReviewSummary(v, options, commented, notes)
	},
	Status: render.ReviewStatus,
	Gone:   render.ReviewGone,
}

// send sends a review, and says what was done. The exit code is that of the verdict, or worse.
func (p *program) send(ctx context.Context, q app.ReviewRequest, out io.Writer) error {
	q.Writing = writing
	q.Tell = func(text string) { p.tell(p.err, "zincdoor: %s\n", render.Safe(text)) }
	sent, err := app.SendReview(ctx, q)
	if sent != nil {
		if wrong := p.showSent(out, q, sent, err == nil); wrong != nil && err == nil {
			err = wrong
		}
		if q.Judged == nil && err == nil {
			p.code = graver(p.code, exitOf(sent.Verdict.Outcome))
		}
	}
	return graded(err)
}

func (p *program) showSent(out io.Writer, q app.ReviewRequest, sent *app.Sent, whole bool) error {
	for _, notice := range sent.Notices {
		p.tell(p.err, "zincdoor: %s\n", render.Safe(notice))
	}
	if !whole && len(sent.Acts) == 0 || sent.Pull.Head == "" {
		return nil // what was said before says it all
	}
	return render.WriteReview(out, render.SentReview{Pull: q.Pull, Title: sent.Pull.Title, Acts: sent.Acts, DryRun: q.DryRun, Whole: whole})
}

func (p *program) tryHost() *cobra.Command {
	var host hostFlags
	var policyFile string
	cmd := &cobra.Command{
		Use:   "try",
		Short: "Try a host recipe without changing anything",
		Long: `Do everything of a host recipe that only reads, and show field by field what the answers had; and show what would be sent for the rest, with made-up values.

Exit codes: 0; 2 where something could not be read.`,
		Example: "zincdoor review try --host slipway.yaml --pull 1",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := workingDir()
			if err != nil {
				return err
			}
			request, err := host.request()
			if err != nil {
				return err
			}
			looks, samples, err := app.TryHost(cmd.Context(), app.Call{Dir: dir, Policy: policyFile}, request)
			if err != nil {
				return graded(err)
			}
			for _, l := range looks {
				if l.Err != nil {
					p.code = graver(p.code, exitUnjudged)
				}
			}
			return render.WriteHostTrial(p.out, looks, samples)
		},
	}
	p.group(cmd, "Code host", host.add)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addPolicy(f, &policyFile) })
	return cmd
}
