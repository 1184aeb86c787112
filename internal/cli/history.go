package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/history"
	"zincdoor/internal/render"
)

func (p *program) history() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "history",
		Short: "See whether it gets better: records, trends, what is worst off",
		Long: `Look at recorded verdicts. They are recorded by gate --record, or where the policy says history: {record: true}: in a file in the repository's git folder, or where git config zincdoor.history or ZINCDOOR_HISTORY names another file or a PostgreSQL database (postgres://…).

Trends, what is worst off and comparisons are about the states of a guarded branch, as one door saw them: of those recorded the last one, unless --door and --branch choose.`,
		Example: `zincdoor gate --into main --record
zincdoor history trend --since 26w
zincdoor history worst`,
		Args: cobra.ArbitraryArgs,
		RunE: p.commandsOnly,
	}
	cmd.AddCommand(p.historyList(), p.historyShow(), p.historyTrend(), p.historyWorst(), p.historyCompare(), p.historyImport(), p.historyExport(), p.historyPrune())
	return cmd
}

// historyFlags say whether verdicts are recorded, and where records are kept.
type historyFlags struct {
	record           bool
	file, repository string
}

func (h *historyFlags) add(f *pflag.FlagSet) {
	f.StringVar(&h.file, "history-file", "", "records are in `FILE`; else where git config zincdoor.history says")
}

func (h *historyFlags) addRecord(f *pflag.FlagSet) {
	f.BoolVar(&h.record, "record", false, "record the verdict, as history: {record: true} in the policy does")
	h.add(f)
}

func (h *historyFlags) addRead(f *pflag.FlagSet) {
	h.add(f)
	f.StringVar(&h.repository, "repository", "", "of the repository called `NAME`; else of this one")
}

// place is where records are kept, as far as the call and its environment say.
func (h *historyFlags) place() app.Place {
	return app.Place{File: h.file, Environment: os.Getenv("ZINCDOOR_HISTORY")}
}

func (h *historyFlags) recording() app.Recording {
	return app.Recording{Asked: h.record, ByPolicy: true, Place: h.place()}
}

// onHistory does something with what was recorded. What its errors mean for the exit code is the app's to say.
func (p *program) onHistory(ctx context.Context, where *historyFlags, do func(h *app.History) error) error {
	dir, err := workingDir()
	if err != nil {
		return err
	}
	h, err := app.OpenHistory(ctx, app.Call{Dir: dir}, where.place(), where.repository)
	if err != nil {
		return graded(err)
	}
	defer h.Close()
	for _, notice := range h.Notices {
		p.tell(p.err, "zincdoor: %s\n", render.Safe(notice))
	}
	return graded(do(h))
}

// branchFlags choose the states of a branch.
type branchFlags struct{ branch, door string }

func (b *branchFlags) add(f *pflag.FlagSet) {
	f.StringVar(&b.branch, "branch", "", "of the guarded branch `NAME`")
	f.StringVar(&b.door, "door", "", "as the door `NAME` saw it")
}

func (b branchFlags) of() app.Branch { return app.Branch{Name: b.branch, Door: b.door} }

// moment is a time that a call names: a day, or how long ago it was.
func moment(flag, s string, now time.Time) (time.Time, error) {
	if day, err := time.Parse(time.DateOnly, s); err == nil {
		return day, nil
	}
	ago, err := policy.ParsePeriod(s)
	if err != nil {
		return now, fmt.Errorf("--%s takes a date like 2027-02-01 or a time like 90d, 12w or 6m, not %q", flag, s)
	}
	return ago.Before(now), nil
}

// dayAfter is the end of the day that --until names.
func dayAfter(s string, now time.Time) (time.Time, error) {
	t, err := moment("until", s, now)
	return t.AddDate(0, 0, 1), err
}

func (p *program) historyList() *cobra.Command {
	var where historyFlags
	var by history.Filter
	var since, until, format string
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List recorded verdicts, the newest last",
		Long:    "List recorded verdicts, the newest last: all, or those that are selected.",
		Example: "zincdoor history list --last 5\nzincdoor history list --outcome shut --since 30d",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if err := checkValue("format", format, render.RecordFormats); err != nil {
				return err
			}
			if by.Outcome != "" {
				if err := checkValue("outcome", by.Outcome, words(outcomes)); err != nil {
					return err
				}
			}
			if by.Kind != "" {
				if err := checkValue("kind", by.Kind, words(policy.Kinds)); err != nil {
					return err
				}
			}
			now := time.Now().UTC()
			if since != "" {
				if by.Since, err = moment("since", since, now); err != nil {
					return err
				}
			}
			if until != "" {
				if by.Until, err = dayAfter(until, now); err != nil {
					return err
				}
			}
			if by.Last < 0 {
				return fmt.Errorf("--last takes how many records to list, not %d", by.Last)
			}
			if by.Branch != "" {
				by.Branch = policy.WholeRef(by.Branch)
			}
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				all, err := h.List(cmd.Context(), by)
				if err == nil && len(all) == 0 {
					err = h.Nothing(cmd.Context())
				}
				if err != nil {
					return err
				}
				return render.Records(p.out, format, all)
			})
		},
	}
	p.group(cmd, selectionHeading, func(f *pflag.FlagSet) {
		f.StringVar(&by.Outcome, "outcome", "", "`WORD`|that are:")
		values(f, "outcome", words(outcomes)...)
		f.StringVar(&by.Door, "door", "", "of the door `NAME`")
		f.StringVar(&by.Kind, "kind", "", "`WORD`|of a kind of change:")
		values(f, "kind", words(policy.Kinds)...)
		f.StringVar(&by.Branch, "branch", "", "of the guarded branch `NAME`")
		f.StringVar(&since, "since", "", "since a `DATE`, or as long ago as 90d, 12w, 6m")
		f.StringVar(&until, "until", "", "up to a `DATE`, its day included")
		f.IntVar(&by.Last, "last", 0, "no more than the last `N`")
	})
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how they are listed:")
		values(f, "format", render.RecordFormats...)
	})
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

// recordsHeading is that of the flags about where records are kept.
const recordsHeading = "Records"

var outcomes = []judge.Outcome{judge.Open, judge.Shut, judge.Unjudged}

func (p *program) historyShow() *cobra.Command {
	var where historyFlags
	var output outputFlags
	cmd := &cobra.Command{
		Use:     "show RECORD",
		Short:   "Show a recorded verdict again, in any format",
		Long:    "Show a recorded verdict again, as gate showed it, in any of its formats. RECORD is the beginning of its id, as history list shows it, or last for the newest.",
		Example: "zincdoor history show last\nzincdoor history show last --format markdown",
		Args:    arguments("the id of a record, or last"),
		RunE: func(cmd *cobra.Command, args []string) error {
			outputs, err := output.outputs()
			if err != nil {
				return err
			}
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				is, err := h.Find(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				r, done, err := h.Show(cmd.Context(), is)
				if err != nil {
					return err
				}
				defer done()
				if output.format == render.Terminal && output.file == "" {
					if err := render.RecordHeading(p.out, *r.Record); err != nil {
						return err
					}
				}
				o := output.screen.options(&app.Judged{Verdict: r.Verdict, Input: judge.Input{Policy: h.Policy}})
				o.Text, o.Touched, o.Template, o.MaxLength = r.Text, nil, output.parsed, output.maxLength
				return outputs.write(p.out, []shown{{r.Verdict, o}})
			})
		},
	}
	p.group(cmd, "In the terminal, show", output.screen.add)
	p.group(cmd, outputHeading, output.add)
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

func (p *program) historyExport() *cobra.Command {
	var where historyFlags
	var file string
	var reports bool
	cmd := &cobra.Command{
		Use:     "export",
		Short:   "Write records as JSON Lines, for import elsewhere",
		Long:    "Write the records of the repository, a JSON object a line, oldest first. zincdoor history import reads them back, here or elsewhere.",
		Example: "zincdoor history export --output records.jsonl",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				write := func(w io.Writer) error { return h.Export(cmd.Context(), w, reports) }
				if file != "" {
					return written(file, replace(file, write))
				}
				return write(p.out)
			})
		},
	}
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.BoolVar(&reports, "with-reports", false, "the reports that are kept too")
		f.StringVar(&file, "output", "", "write them to `FILE` instead of standard output")
	})
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

func (p *program) historyPrune() *cobra.Command {
	var where historyFlags
	var older string
	var dry bool
	cmd := &cobra.Command{
		Use:   "prune",
		Short: "Remove old records and reports",
		Long:  "Remove the records of the repository that are older than the policy keeps (history: keep), with their reports; where it doesn't say, reports alone, after 90 days. Recording does the same about once a day.",
		Example: `zincdoor history prune --dry-run
zincdoor history prune --older-than 400d`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			var before time.Time
			if older != "" {
				if before, err = moment("older-than", older, time.Now().UTC()); err != nil {
					return err
				}
			}
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				pruned, err := h.Prune(cmd.Context(), before, dry)
				if err != nil {
					return err
				}
				return render.Pruned(p.out, pruned.Records, pruned.Reports, pruned.Bytes, dry)
			})
		},
	}
	p.group(cmd, selectionHeading, func(f *pflag.FlagSet) {
		f.StringVar(&older, "older-than", "", "records from before a `DATE`, or from longer ago than 90d, 12w, 6m")
		f.BoolVar(&dry, "dry-run", false, "only tell what would be removed")
	})
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

// addRecorded adds the selectors of findings that records keep.
func (s *selectFlags) addRecorded(f *pflag.FlagSet) {
	s.addCommon(f)
	f.StringSliceVar(&s.selector.Standings, "standing", nil, "`WORD`|that are:")
	values(f, "standing", words(judge.Standings)...)
}

// onRecords gives what reports whether a recorded finding is selected, nil where all are.
func (s *selectFlags) onRecords(h *app.History) (func(judge.Finding) bool, error) {
	if !s.any() {
		return nil, nil
	}
	takes, err := s.takes(h.Policy, h.Dir, h.Root)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", app.ErrCall, err)
	}
	return takes, nil
}
