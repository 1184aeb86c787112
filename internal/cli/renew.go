package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
)

// renewFlags are the flags of zincdoor baseline renew.
type renewFlags struct {
	listFlags
	reason reasonFlags
	yes    bool
}

func (p *program) renew() *cobra.Command {
	var flags renewFlags
	cmd := &cobra.Command{
		Use:   "renew [ID...]",
		Short: "Move the end of acceptances, with a new reason",
		Long: `Move the day until which entries are accepted. Name the entries by the names that zincdoor baseline list gives them,
or by what they are; --expiring chooses those that end soon or have ended.

  zincdoor baseline renew --expiring 0d --rule "-Wshadow" --until 90d --reason "waits for the new gauge driver"`,
		RunE: func(cmd *cobra.Command, args []string) error { return p.runRenew(cmd.Context(), flags, args) },
	}
	flags.listFlags.add(cmd.Flags())
	flags.reason.add(cmd.Flags(), "")
	cmd.Flags().BoolVar(&flags.yes, "yes", false, "don't ask")
	return cmd
}

func (p *program) runRenew(ctx context.Context, flags renewFlags, ids []string) error {
	switch {
	case flags.reason.until == "" || flags.reason.reason == "":
		return fmt.Errorf("a renewal needs a new end and a new reason: --until and --reason")
	case len(ids) == 0 && !flags.filter.any() && flags.expiring == "":
		return fmt.Errorf("name the entries to renew: by the names of zincdoor baseline list, or with --expiring, --rule, --path, --tool or --severity")
	}
	kept, err := p.openList(ctx, flags.listFlags)
	if err != nil {
		return err
	}
	until, err := endDate(flags.reason.until, kept.today)
	if err != nil {
		return err
	}
	if flags.reason.why != "" {
		if err := flags.reason.checkWhy(); err != nil {
			return err
		}
	}
	chosen, err := kept.choose(flags.listFlags, ids)
	if err != nil {
		return err
	}
	if len(chosen) == 0 {
		return fmt.Errorf("no entry of %s is chosen", kept.name)
	}
	var out, in []baseline.Entry
	for _, i := range chosen {
		e := kept.Entries[i]
		out = append(out, e)
		e.Until, e.Reason, e.On, e.By = until, flags.reason.reason, kept.today, kept.Author
		if flags.reason.why != "" {
			e.Why = baseline.Why(flags.reason.why)
		}
		if flags.reason.link != "" {
			e.Link = flags.reason.link
		}
		in = append(in, e)
	}
	agreed, err := p.confirm(flags.yes, fmt.Sprintf("Renew %s until %s?", app.CountEntries(len(in)), until), out)
	if err != nil || !agreed {
		return err
	}
	if err := kept.Renew(out, in); err != nil {
		return graded(err)
	}
	fmt.Fprintf(p.out, "%s renewed until %s in %s\n", app.CountEntries(len(in)), until, kept.name)
	return nil
}
