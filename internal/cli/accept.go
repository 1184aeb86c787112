package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/render"
)

// acceptFlags are the flags of zincdoor baseline accept.
type acceptFlags struct {
	evidence evidenceFlags
	selected selectFlags
	reason   reasonFlags
	yes      bool
}

func (p *program) accept() *cobra.Command {
	var flags acceptFlags
	cmd := &cobra.Command{
		Use:   "accept [ID]...",
		Short: "Accept single findings, with a reason",
		Long: `Accept findings of the work tree that aren't in the baseline yet: by their ids in a verdict (or beginnings that no other id has), or by selectors.

It shows what it would accept, and asks. A finding that has worsened or expired replaces its old entry.`,
		Example: `zincdoor baseline accept --rule -Wparentheses --until 90d --yes
zincdoor baseline accept --path fares --severity error \
  --why mistaken --reason "closed by its caller" --yes`,
		RunE: func(cmd *cobra.Command, args []string) error { return p.runAccept(cmd.Context(), flags, args) },
	}
	p.group(cmd, selectionHeading, flags.selected.add)
	p.group(cmd, "Reason", func(f *pflag.FlagSet) { flags.reason.add(f, baseline.Debt) })
	p.group(cmd, reportsHeading, flags.evidence.addReports, flags.evidence.addRuns)
	p.group(cmd, policyHeading, flags.evidence.addPolicy, flags.evidence.addToday)
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) { addYes(f, &flags.yes) })
	return cmd
}

func (p *program) runAccept(ctx context.Context, flags acceptFlags, ids []string) error {
	if len(ids) == 0 && !flags.selected.any() {
		return fmt.Errorf("name the findings to accept: by their ids in a verdict, or with selectors such as --rule and --path; to accept all of them: zincdoor baseline take")
	}
	s, err := p.survey(ctx, flags.evidence, false)
	if err != nil {
		return err
	}
	reasons, err := flags.reason.reasons(s.Today, s.Author)
	if err != nil {
		return err
	}
	takes, err := flags.selected.takes(s.Input.Policy, s.Kept.Dir, s.Kept.Root)
	if err != nil {
		return err
	}
	chosen, err := s.Choose(ids, takes)
	if err != nil {
		return graded(err)
	}
	in, out := s.Acceptances(chosen, reasons)
	if len(in) == 0 {
		p.tell(p.out, "nothing to accept: %s selected, all accepted already\n", finding.Count(len(chosen)))
		return nil
	}
	agreed, err := p.confirm(flags.yes, fmt.Sprintf("Accept %s?", finding.Count(len(in))), in)
	if err != nil || !agreed {
		return err
	}
	if err := s.Accept(in, out); err != nil {
		return graded(err)
	}
	p.tell(p.out, "%s accepted in %s\n", finding.Count(len(in)), render.Safe(s.Path))
	return nil
}

// addYes adds the flag that answers the question.
func addYes(f *pflag.FlagSet, yes *bool) { f.BoolVar(yes, "yes", false, "don't ask") }
