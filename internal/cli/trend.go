package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/record"
	"zincdoor/internal/render"
)

// trendedBy is what a trend can count by.
var trendedBy = []string{string(record.BySeverity), string(record.ByStanding), string(record.ByRule), string(record.ByTool), string(record.ByTeam), string(record.BySet), app.ByDoor, app.ByOutcome, app.ByMeasure}

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
		Long: `Show how the findings of a guarded branch grow and shrink: of each step of time the last state that was recorded. With --count-by door or outcome, count the recorded verdicts themselves; with measure, show the numbers about code that limits were held against.

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
			case q.By == app.ByMeasure && (selected.any() || o.Cost):
				return fmt.Errorf("--count-by %s shows numbers about code, not findings: it goes with no selector and no --cost", q.By)
			case q.By == app.ByMeasure && !slices.Contains(render.MeasuredTrendFormats, format):
				return fmt.Errorf("--count-by %s has no format %s; there are %s", q.By, format, strings.Join(render.MeasuredTrendFormats, ", "))
			}
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				if q.Takes, err = selected.onRecords(h); err != nil {
					return err
				}
				q.Branch, q.Every = of.of(), record.Every(every)
				o.Most, o.Like = most, p.out
				if q.By == app.ByMeasure {
					return p.trendOfMeasures(cmd.Context(), h, q, o, format, file)
				}
				t, err := h.Trend(cmd.Context(), q)
				if err != nil {
					return err
				}
				o.Title = fmt.Sprintf("Verdicts of %s by %s", h.Name, q.By)
				if !verdicts {
					what := "Findings"
					if o.Cost {
						what = "Work"
					}
					o.Title = fmt.Sprintf("%s on %s, by %s", what, t.Of, q.By)
					p.tellOthers(t.Others)
				}
				return p.writeTo(file, func(w io.Writer) error { return render.Trend(w, format, t.Trend, o) })
			})
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

// trendOfMeasures shows how numbers about code grew and shrank.
func (p *program) trendOfMeasures(ctx context.Context, h *app.History, q app.TrendRequest, o render.TrendOptions, format, file string) error {
	t, err := h.TrendOfMeasures(ctx, q)
	if err != nil {
		return err
	}
	o.Title = fmt.Sprintf("Numbers about code on %s", t.Of)
	p.tellOthers(t.Others)
	return p.writeTo(file, func(w io.Writer) error { return render.MeasuredTrend(w, format, t.MeasuredTrend, o) })
}

// writeTo writes to a file, or to standard output where none is named.
func (p *program) writeTo(file string, write func(w io.Writer) error) error {
	if file != "" {
		return written(file, replace(file, write))
	}
	return write(p.out)
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
