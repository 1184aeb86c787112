package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/render"
	"zincdoor/internal/target"
)

// takeFlags are the flags of zincdoor baseline take.
type takeFlags struct {
	evidence evidenceFlags
	reason   reasonFlags
	tools    []string
	replace  bool
}

func (p *program) take() *cobra.Command {
	var flags takeFlags
	cmd := &cobra.Command{
		Use:   "take",
		Short: "Accept all present findings of the reports",
		Long: `Accept every finding that the reports have of the work tree, and note that the baseline covers their tools: from then on, whatever these tools find that isn't in the list is new.

A list that has entries already is replaced only with --replace; a further tool is added with --tool, which leaves the entries of the others as they are.`,
		Example: `zincdoor baseline take --replace --until 6m --reason "found at the fitting"
zincdoor baseline take --tool gcc --replace`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runTake(cmd.Context(), flags) },
	}
	p.group(cmd, "Take", func(f *pflag.FlagSet) {
		f.StringSliceVar(&flags.tools, "tool", nil, "only of tools that `GLOB` matches; other tools' entries stay")
		f.BoolVar(&flags.replace, "replace", false, "replace the entries that the list has")
	})
	p.group(cmd, "Reason", func(f *pflag.FlagSet) { flags.reason.add(f, baseline.Debt) })
	p.group(cmd, reportsHeading, flags.evidence.addReports, flags.evidence.addRuns)
	p.group(cmd, policyHeading, flags.evidence.addPolicy, flags.evidence.addToday)
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
	taken, err := s.Take(reasons, flags.tools, flags.replace)
	if err != nil {
		return graded(err)
	}
	var tools []string
	for _, c := range taken.Covers {
		name := render.Safe(c.Tool)
		if n := len(c.Except); n > 0 {
			name += fmt.Sprintf(" (except %s)", render.Safe(target.ClipList(c.Except)))
		}
		tools = append(tools, name)
	}
	for _, e := range s.Evidence {
		if len(e.Lost) > 0 {
			p.tell(p.err, "zincdoor: %s didn't look at all of %s, which the list doesn't cover: %s\n", render.Safe(e.Name), render.Safe(target.ClipList(e.Lost)), render.Safe(e.Trouble))
		}
	}
	slices.Sort(tools)
	p.tell(p.out, "%s accepted; %s covers %s\n", finding.Count(len(taken.Entries)), render.Safe(s.Path), strings.Join(slices.Compact(tools), ", "))
	return nil
}
