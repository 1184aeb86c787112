package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/record"
	"zincdoor/internal/render"
)

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
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				if q.Takes, err = selected.onRecords(h); err != nil {
					return err
				}
				q.Branch = of.of()
				r, err := h.Worst(cmd.Context(), q)
				if err != nil {
					return err
				}
				p.tellOthers(r.Others)
				o.By, o.Title = q.By, fmt.Sprintf("Worst off on %s, by %s", r.Of, by)
				o.Since = fmt.Sprintf("now: record %s of %s; since then: record %s of %s, commits since %s", r.Now.ID, r.Now.Time.Format(time.DateOnly),
					r.Before.ID, r.Before.Time.Format(time.DateOnly), q.From.Format(time.DateOnly))
				return render.WorstOff(p.out, format, r.All, o)
			})
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
