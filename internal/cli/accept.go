package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/render"
)

// acceptFlags are the flags of zincdoor baseline accept.
type acceptFlags struct {
	evidence evidenceFlags
	filter   filterFlags
	reason   reasonFlags
	yes      bool
}

func (p *program) accept() *cobra.Command {
	var flags acceptFlags
	cmd := &cobra.Command{
		Use:   "accept [ID...]",
		Short: "Accept single findings, with a reason",
		Long: `Accept findings that the reports have of the work tree and the list hasn't yet: by the names that the verdict gives
them (any beginning that is theirs alone), or by what they are.

  zincdoor baseline accept 3f2a 90b1 --report build/warnings.txt --why mistaken --reason "generated header"
  zincdoor baseline accept --rule "-Wshadow" --path "core/**" --report build/warnings.txt --until 90d

What is accepted is shown first, and written when you agree. One that has worsened or expired takes the place of its
old entry.`,
		RunE: func(cmd *cobra.Command, args []string) error { return p.runAccept(cmd.Context(), flags, args) },
	}
	flags.filter.add(cmd.Flags())
	flags.reason.add(cmd.Flags(), baseline.Debt)
	cmd.Flags().BoolVar(&flags.yes, "yes", false, "don't ask")
	flags.evidence.add(cmd.Flags())
	return cmd
}

func (p *program) runAccept(ctx context.Context, flags acceptFlags, ids []string) error {
	if len(ids) == 0 && !flags.filter.any() {
		return fmt.Errorf("name the findings to accept: by the names of the verdict, or with --rule, --path, --tool or --severity; all of them are taken with zincdoor baseline take")
	}
	s, err := p.survey(ctx, flags.evidence, false)
	if err != nil {
		return err
	}
	reasons, err := flags.reason.reasons(s.Today, s.Author)
	if err != nil {
		return err
	}
	chosen, err := s.Choose(ids, func(f judge.Finding) bool { return flags.filter.takes(f.Tool, f.Rule, f.Path, f.Severity) })
	if err != nil {
		return graded(err)
	}
	in, out := s.Acceptances(chosen, reasons)
	if len(in) == 0 {
		fmt.Fprintf(p.out, "nothing to accept: %s chosen, all accepted already\n", finding.Count(len(chosen)))
		return nil
	}
	agreed, err := p.confirm(flags.yes, fmt.Sprintf("Accept %s?", finding.Count(len(in))), in)
	if err != nil || !agreed {
		return err
	}
	if err := s.Accept(in, out); err != nil {
		return graded(err)
	}
	fmt.Fprintf(p.out, "%s accepted in %s\n", finding.Count(len(in)), render.Safe(s.Path))
	return nil
}
