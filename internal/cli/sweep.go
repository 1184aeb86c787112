package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/render"
)

func (p *program) sweep() *cobra.Command {
	var evidence evidenceFlags
	var check bool
	cmd := &cobra.Command{
		Use:   "sweep",
		Short: "Drop what is gone from the list, and refresh where the rest stands",
		Long: `Drop the entries whose findings are gone: the reports cover their tool and file and no longer have them, or the file
is no more. Of all others, note anew where they stand, so that they are recognised later on. Nothing is added, and no
measure grows: the list only shrinks.

With --check, nothing is written, and the exit code is 1 where a sweep would change the list.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runSweep(cmd.Context(), evidence, check) },
	}
	evidence.add(cmd.Flags())
	cmd.Flags().BoolVar(&check, "check", false, "only tell what a sweep would change")
	return cmd
}

func (p *program) runSweep(ctx context.Context, evidence evidenceFlags, check bool) error {
	s, err := p.survey(ctx, evidence, false)
	if err != nil {
		return err
	}
	var stale, fresh []baseline.Entry
	for _, f := range s.Findings {
		if f.Entry == nil {
			continue
		}
		measure, less := s.Case.Policy.MeasureOf(*f.Finding)
		if now := f.Entry.Refresh(*f.Finding, measure, less); now != *f.Entry {
			stale, fresh = append(stale, *f.Entry), append(fresh, now)
		}
	}
	total := len(s.Case.Baseline.Entries)
	if len(s.Gone)+len(stale) == 0 {
		fmt.Fprintf(p.out, "nothing to sweep: %s, none gone, none out of date\n", entriesInWords(total))
		return nil
	}
	for _, e := range s.Gone {
		fmt.Fprintf(p.out, "gone     %s\n", render.Entry(e))
	}
	verb := "dropped"
	if check {
		verb = "to drop"
		p.code = exitShut
	} else if err := editList(s.file, func(now *baseline.Baseline) (*baseline.Baseline, error) {
		if len(baseline.Minus(s.Case.Baseline.Entries, now.Entries)) > 0 {
			return nil, errChanged
		}
		return now.Replace(slices.Concat(s.Gone, stale), fresh), nil
	}); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "%d %s, %d refreshed, %d stay\n", len(s.Gone), verb, len(stale), total-len(s.Gone)-len(stale))
	return nil
}
