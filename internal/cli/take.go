package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
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
	reasons, err := flags.reason.reasons(s.Case.Today, s.Author)
	if err != nil {
		return err
	}
	taken, err := s.take(reasons, flags.tool)
	if err != nil {
		return err
	}
	err = baselinefile.Edit(s.file, func(old *baseline.Baseline, unread error) (*baseline.Baseline, error) {
		if unread != nil && (!flags.replace || flags.tool != "") {
			return nil, fmt.Errorf("%w; mend it, or write it anew with --replace", unread)
		}
		if unread != nil {
			return taken, nil
		}
		lost := old.Entries
		if flags.tool != "" {
			kept := old.WithoutTool(flags.tool)
			lost = baseline.Minus(old.Entries, kept.Entries)
			kept.Entries = append(kept.Entries, taken.Entries...)
			kept.Cover(taken.Covers)
			if err := mayLose(lost, s.BaselinePath, flags.replace); err != nil {
				return nil, err
			}
			return kept, nil
		}
		return taken, mayLose(lost, s.BaselinePath, flags.replace)
	})
	if err != nil {
		return storeError(err)
	}
	var tools []string
	for _, c := range taken.Covers {
		tools = append(tools, render.Safe(c.Tool))
	}
	slices.Sort(tools)
	fmt.Fprintf(p.out, "%s accepted, covering %s; written to %s\n", finding.Count(len(taken.Entries)), strings.Join(slices.Compact(tools), ", "), render.Safe(s.BaselinePath))
	return nil
}

// take makes a list of all findings, or of those of one tool.
func (s *survey) take(reasons baseline.Entry, tool string) (*baseline.Baseline, error) {
	list := &baseline.Baseline{}
	for _, f := range s.Findings {
		if f.Severity != policy.Ignored && (tool == "" || f.Tool == tool) {
			list.Entries = append(list.Entries, s.entryFor(f, reasons))
		}
	}
	var others []string
	for _, e := range s.Evidence {
		for _, c := range e.Covers {
			if tool == "" || c.Tool == tool {
				list.Cover([]baseline.Cover{c})
			} else {
				others = append(others, c.Tool)
			}
		}
	}
	if tool != "" && len(list.Covers) == 0 {
		slices.Sort(others)
		return nil, fmt.Errorf("no report is of a tool called %q; they are of %s", tool, strings.Join(slices.Compact(others), ", "))
	}
	return list, nil
}

// mayLose refuses to replace entries unless that was asked for, and tells what would be lost.
func mayLose(lost []baseline.Entry, name string, replace bool) error {
	if len(lost) == 0 || replace {
		return nil
	}
	reasons, ends := 0, 0
	for _, e := range lost {
		if e.Reason != "" || e.Link != "" {
			reasons++
		}
		if e.Until != "" {
			ends++
		}
	}
	what := "their authors and dates"
	if reasons > 0 {
		what = fmt.Sprintf("the reasons of %d, ", reasons) + what
	}
	if ends > 0 {
		what = fmt.Sprintf("the ends of %d, ", ends) + what
	}
	return callError{fmt.Errorf("%s holds %s already, which would be lost (%s); accept single findings with zincdoor baseline accept, or take all anew with --replace",
		name, entriesInWords(len(lost)), what)}
}
