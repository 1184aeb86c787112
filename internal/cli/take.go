package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/render"
	"zincdoor/internal/target"
)

// takeFlags are the flags of zincdoor baseline take.
type takeFlags struct {
	evidence evidenceFlags
	reason   reasonFlags
	tool     string
	replace  bool
}

func (p *program) take() *cobra.Command {
	var flags takeFlags
	cmd := &cobra.Command{
		Use:   "take",
		Short: "Accept all present findings of the reports",
		Long: `Accept every finding that the reports have of the work tree, and note their tools as covered: from then on,
whatever these tools find that isn't in the list is new.

  zincdoor baseline take --report build/warnings.txt

A second tool comes later with --tool NAME, which leaves the entries of the others as they are.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runTake(cmd.Context(), flags) },
	}
	flags.evidence.add(cmd.Flags())
	flags.reason.add(cmd.Flags(), baseline.Debt)
	cmd.Flags().StringVar(&flags.tool, "tool", "", "take the findings of one tool only, by its `NAME`, and leave the entries of the others")
	cmd.Flags().BoolVar(&flags.replace, "replace", false, "replace a list that holds entries already")
	return cmd
}

func (p *program) runTake(ctx context.Context, flags takeFlags) error {
	s, err := p.survey(ctx, flags.evidence, true)
	if err != nil {
		return err
	}
	reasons, err := flags.reason.reasons(s.Today, s.Author)
	if err != nil {
		return err
	}
	taken, err := s.Take(reasons, flags.tool, flags.replace)
	if err != nil {
		return graded(err)
	}
	var tools []string
	for _, c := range taken.Covers {
		name := render.Safe(c.Tool)
		if n := len(c.Except); n > 0 {
			name += fmt.Sprintf(" (without %s, which it gave up)", render.Safe(target.ClipList(c.Except)))
		}
		tools = append(tools, name)
	}
	slices.Sort(tools)
	fmt.Fprintf(p.out, "%s accepted, covering %s; written to %s\n", finding.Count(len(taken.Entries)), strings.Join(slices.Compact(tools), ", "), render.Safe(s.Path))
	return nil
}
