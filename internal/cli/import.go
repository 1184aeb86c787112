package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/render"
)

func (p *program) historyImport() *cobra.Command {
	var where historyFlags
	var q app.ImportRequest
	var commits, day string
	cmd := &cobra.Command{
		Use:   "import [FILE]",
		Short: "Record the past: commits with their reports, or an export",
		Long: `Record the states of past commits of a branch: by a folder that has the reports of each commit (as for policy rehearse), or with --run by the policy's linters, started on copies of the commits. Each is judged by the policy of the last commit. What is recorded already is passed by, so a call that was broken off goes on where it ended.

With FILE (- for standard input), put in what zincdoor history export wrote.`,
		Example: `zincdoor history import --last 5 --reports build/past
zincdoor history import --commits main~2..main --reports build/past
zincdoor history import build/half-year.jsonl`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if q.Dir, err = workingDir(); err != nil {
				return err
			}
			if q.Today, err = today(day); err != nil {
				return err
			}
			q.Place = where.place()
			if len(args) > 0 {
				for _, name := range []string{"last", "commits", "reports", "run", "branch", "door", "policy"} {
					if cmd.Flags().Changed(name) {
						return fmt.Errorf("--%s is about past commits, and goes with no FILE", name)
					}
				}
				return p.importLines(cmd, q, args[0])
			}
			if err := readPast(&q.Past, commits); err != nil {
				return err
			}
			if q.Reports == "" && !q.Run {
				return fmt.Errorf("name the folder with the reports of past commits: --reports DIR; or have the policy's linters started on them: --run; or name what history export wrote")
			}
			return p.importPast(cmd, q)
		},
	}
	p.group(cmd, "Past commits", func(f *pflag.FlagSet) {
		addPast(f, &q.Past, &commits)
		f.StringVar(&q.Branch, "branch", "", "they are states of the branch `NAME`; else of the one checked out")
	})
	p.group(cmd, reportsHeading, func(f *pflag.FlagSet) {
		addPastReports(f, &q.Past)
		addRun(f, &q.Run)
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		addDoor(f, &q.Door)
		addPolicy(f, &q.Policy)
		addToday(f, &day)
	})
	p.group(cmd, recordsHeading, where.add)
	return cmd
}

func (p *program) importLines(cmd *cobra.Command, q app.ImportRequest, name string) error {
	in := p.in
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return unjudged{fmt.Errorf("%s can't be read: %w", name, err)}
		}
		defer file.Close()
		in = file
	}
	n, err := app.ImportLines(cmd.Context(), q.Call, q.Place, in)
	if n.Records+n.Reports > 0 || err == nil {
		fmt.Fprintf(p.out, "read %s and %s\n", finding.CountOf(n.Records, "record"), finding.CountOf(n.Reports, "report"))
	}
	if err != nil {
		return graded(fmt.Errorf("%s: %w", name, err))
	}
	return nil
}

func (p *program) importPast(cmd *cobra.Command, q app.ImportRequest) error {
	progress := newProgress(p.err)
	q.Tell = progress.show
	var in, known, without int
	var failed error
	err := app.Import(cmd.Context(), q, func(is app.Imported) {
		switch {
		case is.Problem != "":
			without++
		case is.Known:
			known++
		default:
			in++
		}
		progress.clear()
		if err := render.Imported(p.out, is.Commit, is.Subject, is.Findings, is.Known, is.Problem); err != nil {
			failed = err
		}
	})
	progress.end()
	if err == nil {
		err = failed
	}
	if err != nil {
		if in > 0 {
			return fmt.Errorf("%w (%s recorded; call it again to go on)", graded(err), finding.CountOf(in, "commit"))
		}
		return graded(err)
	}
	if without > 0 {
		p.code = exitUnjudged
	}
	_, err = io.WriteString(p.out, fmt.Sprintf("\n%s recorded, %d before, %d without\n", finding.CountOf(in, "commit"), known, without))
	return err
}
