package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"zincdoor/internal/app"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// calm is how long nothing must be written before a change counts as made: an editor writes in several steps.
const calm = 80 * time.Millisecond

func (p *program) watch() *cobra.Command {
	var evidence evidenceFlags
	var door string
	var screen screenFlags
	cmd := &cobra.Command{
		Use:     "watch",
		Short:   "Judge the work tree again whenever a file changes",
		Long:    `Judge what the work tree changes since the last commit, and again whenever a file of it is written: one screen to keep open beside the editor. The linters that the policy names are started anew each time; one that looks at each file by itself (per: file) is asked only about the file that changed. Ctrl-C ends it.`,
		Example: "zincdoor watch\nzincdoor watch --quiet",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			for _, r := range request.Reports.Files {
				if r.Path == "-" {
					return fmt.Errorf("a report is read again each time, which standard input can't be; name a file with --report")
				}
			}
			request.Change.Kind, request.Door, request.Lines = policy.Worktree, door, screen.context > 0
			if err := screen.check(); err != nil {
				return err
			}
			return p.runWatch(cmd.Context(), request, screen)
		},
	}
	p.group(cmd, reportsHeading, evidence.addReports, evidence.addRuns)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addDoor(f, &door) }, evidence.addPolicy, evidence.addBaseline, evidence.addToday)
	p.group(cmd, "Show", screen.add)
	return cmd
}

func (p *program) runWatch(ctx context.Context, q app.GateRequest, flags screenFlags) error {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return unjudged{fmt.Errorf("files can't be watched: %w", err)}
	}
	defer watcher.Close()
	var last string
	for {
		state, folders, err := app.Watched(ctx, q.Dir)
		if err != nil && ctx.Err() == nil {
			return unjudged{err}
		}
		for _, folder := range folders {
			if err := watcher.Add(folder); err != nil && !errors.Is(err, os.ErrNotExist) {
				return unjudged{fmt.Errorf("%s can't be watched: %w", folder, err)}
			}
		}
		if state != last && ctx.Err() == nil {
			p.showNow(ctx, q, flags)
			last = state
		}
		if !nextChange(ctx, watcher) {
			return nil
		}
	}
}

// nextChange waits until something was written and a moment has passed since. It is false when the call is ended.
func nextChange(ctx context.Context, watcher *fsnotify.Watcher) bool {
	var quiet <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return false
		case e, ok := <-watcher.Events:
			if !ok {
				return false
			}
			if info, err := os.Lstat(e.Name); e.Has(fsnotify.Create) && err == nil && info.IsDir() {
				watcher.Add(e.Name) // without files yet, so that nothing else names it
			}
			quiet = time.After(calm)
		case <-watcher.Errors: // events that were lost: something has changed
			quiet = time.After(calm)
		case <-quiet:
			return true
		}
	}
}

// showNow judges once and shows the verdict, on a terminal in the place of the one before.
func (p *program) showNow(ctx context.Context, q app.GateRequest, flags screenFlags) {
	began := time.Now()
	screen, isFile := p.out.(*os.File)
	live := isFile && term.IsTerminal(int(screen.Fd()))
	var text bytes.Buffer
	err := p.judgeInto(ctx, &text, q, flags)
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		errs := p.err
		p.err = &text
		p.fail(err)
		p.err, p.code = errs, exitOpen
	}
	foot := fmt.Sprintf("  judged at %s in %s, and again whenever a file is written", began.Format(time.TimeOnly), time.Since(began).Round(time.Millisecond*10))
	if !live {
		fmt.Fprintf(p.out, "%s\n%s\n\n", strings.TrimRight(text.String(), "\n"), foot)
		return
	}
	_, rows, err := term.GetSize(int(screen.Fd()))
	if err != nil {
		rows = 24
	}
	fmt.Fprintf(p.out, "\x1b[H\x1b[2J\x1b[3J%s\n%s", render.Cut(text.String(), rows-2, "zincdoor gate --worktree shows all"), foot)
}

func (p *program) judgeInto(ctx context.Context, w io.Writer, q app.GateRequest, flags screenFlags) error {
	judged, err := app.Gate(ctx, q)
	if err != nil {
		return graded(err)
	}
	for _, j := range judged {
		o := flags.options(j)
		o.Like = p.out
		if err := render.Verdict(w, render.Terminal, j.Verdict, o); err != nil {
			return err
		}
	}
	return nil
}
