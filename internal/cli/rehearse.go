package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
)

// lastChanges is how many changes are rehearsed where the call doesn't say.
const lastChanges = 20

func (p *program) rehearse() *cobra.Command {
	var commits, door, day, format string
	var q app.RehearseRequest
	cmd := &cobra.Command{
		Use:   "rehearse",
		Short: "Try a policy on past changes",
		Long: `Judge past changes by a new policy and by the one of the last commit, and show where they differ, and by which limits.

Each commit is a change, from its first parent. Its reports come from a folder that holds, for each commit, files or a
folder called by the beginning of its name (7 letters or more):

  reports/3f2a9c1/compiler.txt
  reports/3f2a9c1/fares.sarif
  reports/8060465.sarif

  zincdoor policy rehearse --policy .zincdoor/policy.yaml --door merge --reports reports --last 50`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if q.Dir, err = workingDir(); err != nil {
				return err
			}
			if q.Today, err = today(day); err != nil {
				return err
			}
			q.Door = door
			var ok bool
			q.From, q.To, ok = strings.Cut(commits, "..")
			switch {
			case q.Policy == "" || q.Reports == "":
				return fmt.Errorf("name the new policy with --policy, and the folder of the reports with --reports")
			case commits != "" && (!ok || q.From == "" || q.To == ""):
				return fmt.Errorf("--commits takes two commits as A..B, not %q", commits)
			case q.Last < 1:
				return fmt.Errorf("--last takes how many changes to rehearse, at least 1")
			}
			if err := checkFormat(format, []string{render.Terminal, render.JSON}); err != nil {
				return err
			}
			all, err := app.Rehearse(cmd.Context(), q)
			if err != nil {
				return graded(err)
			}
			return render.Rehearsals(p.out, format, all)
		},
	}
	f := cmd.Flags()
	f.SortFlags = false
	f.StringVar(&q.Policy, "policy", "", "the new policy, in `FILE|REV:PATH`")
	f.StringVar(&q.Reports, "reports", "", "the `DIR` with the reports of each commit")
	f.StringVar(&commits, "commits", "", "the changes from commit A to commit B, as `A..B`")
	f.IntVar(&q.Last, "last", lastChanges, "the last `N` changes of the branch checked out")
	f.StringVar(&door, "door", "", "the `NAME` of the door; needed where several judge a branch or range")
	f.StringVar(&day, "today", "", "the `DATE` on which to judge, as 2027-02-01 (default: today, UTC)")
	f.StringVar(&format, "format", render.Terminal, "how it is shown: `"+strings.Join(render.Formats, "|")+"`")
	addRun(f, &q.Run)
	return cmd
}
