package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
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

func (h *historyFlags) addRead(f *pflag.FlagSet) {
	f.StringVar(&h.file, "history-file", "", "records are in `FILE`; else where git config zincdoor.history says")
	f.StringVar(&h.repository, "repository", "", "of the repository called `NAME`; else of this one")
}

// place is where records are kept, as far as the call and its environment say.
func (h *historyFlags) place() app.Place {
	return app.Place{File: h.file, Server: os.Getenv("ZINCDOOR_HISTORY")}
}

func (h *historyFlags) recording() app.Recording {
	return app.Recording{Asked: h.record, ByPolicy: true, Place: h.place()}
}

// open opens what was recorded.
func (p *program) openHistory(ctx context.Context, h *historyFlags, openIt func(context.Context, app.Call, app.Place, string) (*app.History, error)) (*app.History, error) {
	dir, err := workingDir()
	if err != nil {
		return nil, err
	}
	opened, err := openIt(ctx, app.Call{Dir: dir}, h.place(), h.repository)
	if err != nil {
		return nil, graded(err)
	}
	for _, notice := range opened.Notices {
		p.tell(p.err, "zincdoor: %s\n", render.Safe(notice))
	}
	return opened, nil
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
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			all, err := h.List(cmd.Context(), by)
			if err == nil && len(all) == 0 {
				err = h.Nothing(cmd.Context())
			}
			if err != nil {
				return unjudged{err}
			}
			return render.Records(p.out, format, all)
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
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			is, err := h.Find(cmd.Context(), args[0])
			if err != nil {
				return graded(err)
			}
			r, done, err := h.Show(cmd.Context(), is)
			if err != nil {
				return unjudged{err}
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
		},
	}
	p.group(cmd, "In the terminal, show", output.screen.add)
	p.group(cmd, outputHeading, output.add)
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

// trendedBy is what a trend can count by.
var trendedBy = []string{string(record.BySeverity), string(record.ByStanding), string(record.ByRule), string(record.ByTool), string(record.ByTeam), string(record.BySet), app.ByDoor, app.ByOutcome}

func (p *program) historyTrend() *cobra.Command {
	var where historyFlags
	var of branchFlags
	var selected selectFlags
	var since, until, every, format, file string
	var most int
	q, o := app.TrendRequest{}, render.TrendOptions{}
	cmd := &cobra.Command{
		Use:   "trend",
		Short: "Show how findings, or verdicts, grow and shrink",
		Long: `Show how the findings of a guarded branch grow and shrink: of each step of time the last state that was recorded. With --count-by door or outcome, count the recorded verdicts themselves.

The selectors mean what they mean in a limit, by the present policy.`,
		Example: `zincdoor history trend --since 26w
zincdoor history trend --count-by rule --path core
zincdoor history trend --count-by outcome --every month --since 12m
zincdoor history trend --format svg --output trend.svg`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			for _, check := range []struct {
				name, value string
				known       []string
			}{{"count-by", q.By, trendedBy}, {"every", every, words(record.Steps)}, {"format", format, render.TrendFormats}} {
				if err := checkValue(check.name, check.value, check.known); err != nil {
					return err
				}
			}
			q.To = time.Now().UTC()
			if q.From, err = moment("since", since, q.To); err != nil {
				return err
			}
			if until != "" {
				if q.To, err = dayAfter(until, q.To); err != nil {
					return err
				}
			}
			if !q.From.Before(q.To) {
				return fmt.Errorf("--since %s comes after --until %s", since, until)
			}
			verdicts := q.By == app.ByDoor || q.By == app.ByOutcome
			switch {
			case most < 1:
				return fmt.Errorf("--most takes how many names to tell apart, at least 1")
			case verdicts && (selected.any() || o.Cost):
				return fmt.Errorf("--count-by %s counts verdicts, not findings: it goes with no selector and no --cost", q.By)
			}
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			if q.Takes, err = selected.onRecords(h); err != nil {
				return err
			}
			q.Branch, q.Every = of.of(), record.Every(every)
			t, err := h.Trend(cmd.Context(), q)
			if err != nil {
				return graded(err)
			}
			o.Most, o.Like = most, p.out
			o.Title = fmt.Sprintf("Verdicts of %s by %s", h.Name, q.By)
			if !verdicts {
				what := "Findings"
				if o.Cost {
					what = "Work"
				}
				o.Title = fmt.Sprintf("%s on %s, by %s", what, t.Of, q.By)
				p.tellOthers(t.Others)
			}
			write := func(w io.Writer) error { return render.Trend(w, format, t.Trend, o) }
			if file != "" {
				return written(file, replace(file, write))
			}
			return write(p.out)
		},
	}
	p.group(cmd, "Count", func(f *pflag.FlagSet) {
		f.StringVar(&q.By, "count-by", string(record.BySeverity), "`WORD`|by what, else severity:")
		values(f, "count-by", trendedBy...)
		f.StringVar(&since, "since", "90d", "since a `DATE`, or as long ago as 90d (the default), 12w, 6m")
		f.StringVar(&until, "until", "", "up to a `DATE`, its day included; else to now")
		f.StringVar(&every, "every", string(record.Week), "`STEP`|the steps of time, else week:")
		values(f, "every", words(record.Steps)...)
		f.BoolVar(&o.Cost, "cost", false, "the work that findings are, in the place of their number")
		of.add(f)
	})
	p.group(cmd, selectionHeading, selected.addRecorded)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.IntVar(&most, "most", 5, "tell no more than `N` names apart; the others are counted together")
		f.BoolVar(&o.Plain, "plain", false, "numbers without bars")
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how it is shown:")
		values(f, "format", render.TrendFormats...)
		f.StringVar(&file, "output", "", "write it to `FILE` instead of standard output")
	})
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

func written(file string, err error) error {
	if err != nil {
		return unjudged{fmt.Errorf("%s can't be written: %w", file, err)}
	}
	return nil
}

// tellOthers names the branches that were recorded too.
func (p *program) tellOthers(others []app.Branch) {
	if len(others) == 0 {
		return
	}
	var names []string
	for _, b := range others {
		names = append(names, b.String())
	}
	p.tell(p.err, "zincdoor: also recorded: %s (--branch, --door)\n", render.Safe(strings.Join(names, "; ")))
}

// rankedBy is what can be worst off.
var rankedBy = []string{string(record.ByFile), string(record.ByRule), string(record.ByTeam), string(record.ByFolder)}

func (p *program) historyWorst() *cobra.Command {
	var where historyFlags
	var of branchFlags
	var selected selectFlags
	var since, format string
	q, o := app.WorstRequest{}, render.WorstOptions{}
	cmd := &cobra.Command{
		Use:   "worst",
		Short: "Show what to work on first: busy and costly files, rules, teams",
		Long: `Show which files, rules, teams or folders of a guarded branch are worst off now: how many findings they have, how many more than before, what work they are, and how many commits have changed them since. What is costly and often changed comes first.

The selectors mean what they mean in a limit, by the present policy.`,
		Example: `zincdoor history worst --since 6m
zincdoor history worst --count-by rule --path core`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			by := string(q.By)
			if err := checkValue("count-by", by, rankedBy); err != nil {
				return err
			}
			if err := checkValue("format", format, render.WorstFormats); err != nil {
				return err
			}
			now := time.Now().UTC()
			if q.From, err = moment("since", since, now); err != nil {
				return err
			}
			if o.Most < 0 {
				return fmt.Errorf("--most takes how many are shown, 0 for all, not %d", o.Most)
			}
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			if q.Takes, err = selected.onRecords(h); err != nil {
				return err
			}
			q.Branch = of.of()
			r, err := h.Worst(cmd.Context(), q)
			if err != nil {
				return graded(err)
			}
			p.tellOthers(r.Others)
			o.By, o.Title = q.By, fmt.Sprintf("Worst off on %s, by %s", r.Of, by)
			o.Since = fmt.Sprintf("now: record %s of %s; since then: record %s of %s, commits since %s", r.Now.ID, r.Now.Time.Format(time.DateOnly),
				r.Before.ID, r.Before.Time.Format(time.DateOnly), q.From.Format(time.DateOnly))
			return render.WorstOff(p.out, format, r.All, o)
		},
	}
	p.group(cmd, "Count", func(f *pflag.FlagSet) {
		f.StringVar((*string)(&q.By), "count-by", string(record.ByFile), "`WORD`|by what, else file:")
		values(f, "count-by", rankedBy...)
		f.StringVar(&since, "since", "90d", "growth and commits since a `DATE`, or 90d (the default), 12w, 6m")
		of.add(f)
	})
	p.group(cmd, selectionHeading, selected.addRecorded)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.IntVar(&o.Most, "most", 20, "show no more than `N`; 0 for all")
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how they are shown:")
		values(f, "format", render.WorstFormats...)
	})
	p.group(cmd, recordsHeading, where.addRead)
	return cmd
}

func (p *program) historyCompare() *cobra.Command {
	var where historyFlags
	var of branchFlags
	var selected selectFlags
	var format string
	var most int
	cmd := &cobra.Command{
		Use:   "compare FROM TO",
		Short: "Show what came and what went between two states",
		Long: `Show what became of the findings of one state of a guarded branch in a later one: what came and by whom, what went, moved to another file, or got worse. FROM and TO are commits, days like 2027-02-01 (the last state then), ids of records, or last.

The selectors mean what they mean in a limit, by the present policy.`,
		Example: "zincdoor history compare 2026-04-01 2026-07-01\nzincdoor history compare 2026-05-01 last --path core",
		Args:    arguments("two states", "each a commit, a day or a record"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkValue("format", format, render.CompareFormats); err != nil {
				return err
			}
			if most < 0 {
				return fmt.Errorf("--most takes how many are shown, 0 for all, not %d", most)
			}
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			takes, err := selected.onRecords(h)
			if err != nil {
				return err
			}
			c, err := h.Compare(cmd.Context(), of.of(), args[0], args[1], takes)
			if err != nil {
				return graded(err)
			}
			if c.Lost != "" {
				p.tell(p.err, "zincdoor: the commit %.10s isn't in this repository, so findings are recognised by rule, file and message alone\n", c.Lost)
			}
			return render.Compared(p.out, format, c.Comparison, c.From, c.To, render.CompareOptions{
				Title: fmt.Sprintf("Findings on %s", c.Of), Most: most, Who: func(id string) string { return c.Who[id].Author },
			})
		},
	}
	p.group(cmd, "States", of.add)
	p.group(cmd, selectionHeading, selected.addRecorded)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.IntVar(&most, "most", 10, "show no more than `N` of each kind; 0 for all")
		f.StringVar(&format, "format", render.Text, "`FORMAT`|how it is shown:")
		values(f, "format", render.CompareFormats...)
	})
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
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			write := func(w io.Writer) error { return h.Export(cmd.Context(), w, reports) }
			if file != "" {
				return written(file, replace(file, write))
			}
			return graded(write(p.out))
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
			h, err := p.openHistory(cmd.Context(), &where, app.OpenHistory)
			if err != nil {
				return err
			}
			defer h.Close()
			pruned, err := h.Prune(cmd.Context(), before, dry)
			if err != nil {
				return unjudged{err}
			}
			return render.Pruned(p.out, pruned.Records, pruned.Reports, pruned.Bytes, dry)
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
	return s.takes(h.Policy, h.Dir, h.Root)
}
