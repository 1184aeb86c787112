package cli

import (
	"context"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
)

func (p *program) sweep() *cobra.Command {
	var evidence evidenceFlags
	var check bool
	var allowed int
	cmd := &cobra.Command{
		Use:   "sweep",
		Short: "Drop gone entries, and update where the others are found",
		Long: `Drop the entries whose findings are gone: their tool's report covers the file and no longer has them, or the file is no more. Of all others, note where they are found now, so that they are recognised later, and their tool's new name. Nothing is added and no number grows: the list only shrinks.

A sweep that would drop more than half of a tool's entries, and more than five, is refused, since such a report often lacks something; --allow-removed lets it. The old list is kept in git's folder.`,
		Example: `zincdoor baseline sweep --check
zincdoor baseline sweep`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runSweep(cmd.Context(), evidence, check, allowed) },
	}
	p.group(cmd, "Sweep", func(f *pflag.FlagSet) {
		f.BoolVar(&check, "check", false, "change nothing; exit code 1 if a sweep would change the list")
		f.IntVar(&allowed, "allow-removed", 0, "drop up to `N` entries, though that is more than half of a tool's")
	})
	p.group(cmd, reportsHeading, evidence.addReports, evidence.addRuns)
	p.group(cmd, policyHeading, evidence.addPolicy, evidence.addToday)
	return cmd
}

func (p *program) runSweep(ctx context.Context, evidence evidenceFlags, check bool, allowed int) error {
	s, err := p.survey(ctx, evidence, false)
	if err != nil {
		return err
	}
	swept := s.Sweep()
	if len(swept.Gone)+len(swept.Stale) == 0 {
		p.tell(p.out, "nothing to sweep: %s, none gone, none out of date\n", app.CountEntries(swept.Stay))
		return nil
	}
	for _, e := range swept.Gone {
		p.tell(p.out, "gone     %s\n", render.Entry(e))
	}
	for _, r := range s.Renamed {
		p.tell(p.out, "renamed  %s is called %s now\n", render.Safe(r.Was), render.Safe(r.Now))
	}
	if check {
		p.code = exitShut
		p.tell(p.out, "%d to drop, %d refreshed, %d stay\n", len(swept.Gone), len(swept.Stale), swept.Stay)
		if why := s.TooMuch(swept, allowed); why != "" {
			p.tell(p.err, "zincdoor: %s\n", why)
		}
		return nil
	}
	putBack, err := s.ApplySweep(swept, allowed)
	if err != nil {
		return graded(err)
	}
	p.tell(p.out, "%d dropped, %d refreshed, %d stay\n", len(swept.Gone), len(swept.Stale), swept.Stay)
	p.tell(p.out, "The list as it was: %s\n", render.ShellWords([]string{"cp", putBack[0], putBack[1]}))
	return nil
}
