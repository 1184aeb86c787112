package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
)

// lastChanges is how many changes are rehearsed where the call doesn't say.
const lastChanges = 20

// rehearsalFormats are how a rehearsal can be shown.
var rehearsalFormats = []string{render.Terminal, render.JSON}

func (p *program) rehearse() *cobra.Command {
	var commits, door, day, format string
	var q app.RehearseRequest
	var where historyFlags
	cmd := &cobra.Command{
		Use:   "rehearse",
		Short: "Try a policy on past changes",
		Long: `Judge past changes by a new policy and by the one of the last commit, and show where they differ, and by which limits. Each commit is a change, from its first parent.

Reports come from a folder that has, for each commit, files or a folder named by the beginning of the commit's id (7 letters or more):

  reports/3f2a9c1/compiler.txt
  reports/3f2a9c1/fares.sarif
  reports/8060465.sarif

Without a folder, the reports that were recorded with the commits' verdicts serve (zincdoor history). With --run, the policy's linters are started on copies of the past commits instead.`,
		Example: `zincdoor policy rehearse --policy .zincdoor/policy.yaml \
  --reports build/past --last 5`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if q.Dir, err = workingDir(); err != nil {
				return err
			}
			if q.Today, err = today(day); err != nil {
				return err
			}
			q.Door, q.Place = door, where.place()
			if q.Policy == "" {
				return fmt.Errorf("name the new policy: --policy FILE")
			}
			if err := readPast(&q.Past, commits); err != nil {
				return err
			}
			if err := checkValue("format", format, rehearsalFormats); err != nil {
				return err
			}
			progress := newProgress(p.err)
			q.Tell = progress.show
			all, err := app.Rehearse(cmd.Context(), q)
			progress.end()
			if err != nil {
				return graded(err)
			}
			return render.Rehearsals(p.out, format, all)
		},
	}
	p.group(cmd, "Past changes", func(f *pflag.FlagSet) { addPast(f, &q.Past, &commits) })
	p.group(cmd, reportsHeading, func(f *pflag.FlagSet) {
		addPastReports(f, &q.Past)
		addRun(f, &q.Run)
		where.add(f)
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		f.StringVar(&q.Policy, "policy", "", "`FILE`|the new policy, also as REV:PATH")
		addDoor(f, &door)
		addToday(f, &day)
	})
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.StringVar(&format, "format", render.Terminal, "`FORMAT`|how it is shown:")
		values(f, "format", rehearsalFormats...)
	})
	return cmd
}

// addPast adds the flags that name past changes.
func addPast(f *pflag.FlagSet, past *app.Past, commits *string) {
	f.IntVar(&past.Last, "last", lastChanges, "the last `N` of the branch checked out")
	f.StringVar(commits, "commits", "", "`A..B`|from commit A to commit B")
}

func addPastReports(f *pflag.FlagSet, past *app.Past) {
	f.StringVar(&past.Reports, "reports", "", "the folder `DIR` with the reports of each commit")
}

// readPast reads which past changes a call names.
func readPast(past *app.Past, commits string) error {
	var ok bool
	past.From, past.To, ok = strings.Cut(commits, "..")
	switch {
	case commits != "" && (!ok || past.From == "" || past.To == ""):
		return fmt.Errorf("--commits takes two commits as A..B, not %q", commits)
	case past.Last < 1:
		return fmt.Errorf("--last takes how many past changes, at least 1")
	}
	return nil
}
