package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
)

func (p *program) sweep() *cobra.Command {
	var evidence evidenceFlags
	var check bool
	cmd := &cobra.Command{
		Use:   "sweep",
		Short: "Drop what is gone from the list, and refresh where the rest stands",
		Long: `Drop the entries whose findings are gone: the reports cover their tool and file and no longer have them, or the file
is no more. Of all others, note anew where they stand, so that they are recognised later on, and what their tool is
called where it has another name now. Nothing is added, and no
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
	swept := s.Sweep()
	if len(swept.Gone)+len(swept.Stale) == 0 {
		fmt.Fprintf(p.out, "nothing to sweep: %s, none gone, none out of date\n", app.CountEntries(swept.Stay))
		return nil
	}
	for _, e := range swept.Gone {
		fmt.Fprintf(p.out, "gone     %s\n", render.Entry(e))
	}
	for _, r := range s.Renamed {
		fmt.Fprintf(p.out, "renamed  %s is called %s now\n", render.Safe(r.Was), render.Safe(r.Now))
	}
	verb := "dropped"
	if check {
		verb = "to drop"
		p.code = exitShut
	} else if err := s.ApplySweep(swept); err != nil {
		return graded(err)
	}
	fmt.Fprintf(p.out, "%d %s, %d refreshed, %d stay\n", len(swept.Gone), verb, len(swept.Stale), swept.Stay)
	return nil
}
