package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
)

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
			return p.onHistory(cmd.Context(), &where, func(h *app.History) error {
				takes, err := selected.onRecords(h)
				if err != nil {
					return err
				}
				c, err := h.Compare(cmd.Context(), of.of(), args[0], args[1], takes)
				if err != nil {
					return err
				}
				if c.Unblamed != nil {
					p.tell(p.err, "zincdoor: who brought findings in can't be noted: %s\n", render.Safe(c.Unblamed.Error()))
				}
				if c.Lost != "" {
					p.tell(p.err, "zincdoor: the commit %.10s isn't in this repository, so findings are recognised by rule, file and message alone\n", c.Lost)
				}
				return render.Compared(p.out, format, c.Comparison, c.From, c.To, render.CompareOptions{
					Title: fmt.Sprintf("Findings on %s", c.Of), Most: most, Who: func(id string) string { return c.Who[id].Author },
				})
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
