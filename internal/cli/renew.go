package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
)

// renewFlags are the flags of zincdoor baseline renew.
type renewFlags struct {
	entryFlags
	reason reasonFlags
	yes    bool
}

func (p *program) renew() *cobra.Command {
	var flags renewFlags
	cmd := &cobra.Command{
		Use:   "renew [ID]...",
		Short: "Move the end of acceptances, with a new reason",
		Long:  `Move the day until which entries are accepted. Name them by their ids in zincdoor baseline list (or beginnings that no other id has), or by selectors. It shows what it would renew, and asks.`,
		Example: `zincdoor baseline renew --expiring 30d --until 6m --reason "moved to spring"
zincdoor baseline renew --rule -Wparentheses --until 90d \
  --reason "waits for the new gauge driver" --yes`,
		RunE: func(cmd *cobra.Command, args []string) error { return p.runRenew(cmd.Context(), flags, args) },
	}
	p.group(cmd, selectionHeading, flags.add)
	p.group(cmd, "Reason", func(f *pflag.FlagSet) { flags.reason.add(f, "") })
	p.group(cmd, policyHeading, flags.addPolicy)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) { addYes(f, &flags.yes) })
	return cmd
}

func (p *program) runRenew(ctx context.Context, flags renewFlags, ids []string) error {
	switch {
	case flags.reason.until == "" || flags.reason.reason == "":
		return fmt.Errorf("a renewal needs a new end and a new reason: --until and --reason")
	case len(ids) == 0 && !flags.selected.any() && flags.expiring == "":
		return fmt.Errorf("name the entries to renew: by their ids in zincdoor baseline list, or with selectors such as --expiring and --rule")
	}
	kept, err := p.openList(ctx, flags.entryFlags)
	if err != nil {
		return err
	}
	until, err := policy.EndDate(flags.reason.until, kept.today)
	if err != nil {
		return err
	}
	if flags.reason.why != "" {
		if err := flags.reason.checkWhy(); err != nil {
			return err
		}
	}
	chosen, err := kept.choose(flags.entryFlags, ids)
	if err != nil {
		return err
	}
	if len(chosen) == 0 {
		p.tell(p.out, "nothing to renew: no entry of %s is selected\n", kept.name)
		return nil
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
		if flags.reason.owner != "" {
			e.Owner = flags.reason.owner
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
	p.tell(p.out, "%s renewed until %s in %s\n", app.CountEntries(len(in)), until, kept.name)
	return nil
}
