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
	var allowed int
	cmd := &cobra.Command{
		Use:   "sweep",
		Short: "Drop what is gone from the list, and refresh where the rest stands",
		Long: `Drop the entries whose findings are gone: the reports cover their tool and file and no longer have them, or the file
is no more. Of all others, note anew where they stand, so that they are recognised later on, and what their tool is
called where it has another name now. Nothing is added, and no
measure grows: the list only shrinks. A sweep that would drop more than half of a tool's entries, and more than five, is
refused: such a report often lacks something. --allow-removed lets it. The list as it was is kept in git's folder.

With --check, nothing is written, and the exit code is 1 where a sweep would change the list.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runSweep(cmd.Context(), evidence, check, allowed) },
	}
	evidence.add(cmd.Flags())
	cmd.Flags().BoolVar(&check, "check", false, "only tell what a sweep would change")
	cmd.Flags().IntVar(&allowed, "allow-removed", 0, "drop as many as `N` entries, though that is more than half of a tool's")
	return cmd
}

func (p *program) runSweep(ctx context.Context, evidence evidenceFlags, check bool, allowed int) error {
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
	if check {
		p.code = exitShut
		fmt.Fprintf(p.out, "%d to drop, %d refreshed, %d stay\n", len(swept.Gone), len(swept.Stale), swept.Stay)
		if why := s.TooMuch(swept, allowed); why != "" {
			fmt.Fprintf(p.err, "zincdoor: %s\n", why)
		}
		return nil
	}
	putBack, err := s.ApplySweep(swept, allowed)
	if err != nil {
		return graded(err)
	}
	fmt.Fprintf(p.out, "%d dropped, %d refreshed, %d stay\n", len(swept.Gone), len(swept.Stale), swept.Stay)
	fmt.Fprintf(p.out, "The list as it was: %s\n", render.ShellWords([]string{"cp", putBack[0], putBack[1]}))
	return nil
}
