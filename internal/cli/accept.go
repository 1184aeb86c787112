package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
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

What is accepted is shown first, and written when you agree. One that has worsened or lapsed takes the place of its
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
	reasons, err := flags.reason.reasons(s.Case.Today, s.Author)
	if err != nil {
		return err
	}
	chosen, err := s.choose(ids, flags.filter)
	if err != nil {
		return err
	}
	var in, out []baseline.Entry
	for _, f := range chosen {
		if f.Standing == judge.Accepted {
			continue
		}
		in = append(in, s.entryFor(f, reasons))
		if f.Entry != nil {
			out = append(out, *f.Entry)
		}
	}
	if len(in) == 0 {
		fmt.Fprintf(p.out, "nothing to accept: %s chosen, all accepted already\n", finding.Count(len(chosen)))
		return nil
	}
	agreed, err := p.confirm(flags.yes, fmt.Sprintf("Accept %s?", finding.Count(len(in))), in)
	if err != nil || !agreed {
		return err
	}
	if err := editList(s.file, func(now *baseline.Baseline) (*baseline.Baseline, error) {
		// What another run accepted meanwhile isn't accepted twice.
		meanwhile := baseline.Minus(now.Entries, s.Case.Baseline.Entries)
		fresh := slices.DeleteFunc(slices.Clone(in), func(e baseline.Entry) bool {
			i := slices.IndexFunc(meanwhile, e.SameFinding)
			if i >= 0 {
				meanwhile = slices.Delete(meanwhile, i, i+1)
			}
			return i >= 0
		})
		return now.Replace(out, fresh), nil
	}); err != nil {
		return err
	}
	fmt.Fprintln(p.out, s.accepted(len(in)))
	return nil
}

// choose picks findings by their names or by what they are.
func (s *survey) choose(ids []string, filter filterFlags) ([]judge.Finding, error) {
	names := make([]string, len(s.Findings))
	for i, f := range s.Findings {
		names[i] = f.ID
	}
	named, err := byID(ids, names, "the verdict made from the same reports and the same files")
	if err != nil {
		return nil, err
	}
	var chosen []judge.Finding
	for i, f := range s.Findings {
		if len(ids) > 0 && !slices.Contains(named, i) || !filter.takes(f.Tool, f.Rule, f.Path, f.Severity) {
			continue
		}
		chosen = append(chosen, f)
	}
	if len(chosen) == 0 {
		return nil, fmt.Errorf("no finding of the reports is chosen; they have %s", finding.Count(len(s.Findings)))
	}
	return chosen, nil
}
