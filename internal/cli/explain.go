package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/render"
)

func (p *program) explain() *cobra.Command {
	var evidence evidenceFlags
	var selected selectFlags
	cmd := &cobra.Command{
		Use:   "explain RULE|ID",
		Short: "Explain a rule: its meaning, its severity here, what to do",
		Long: `Explain a rule or a finding: what its tool and the team say of it (notes: in the policy), where it is found in the work tree, which severity it has and why, which limits count it, and how to accept or waive it.

A finding is named by its id in a verdict, or by a beginning of it that no other id has. The selectors choose which findings of the rule are shown.`,
		Example: `zincdoor explain -Wsign-compare
zincdoor explain -Wsign-compare --path core/gauge.c
zincdoor explain waiver`,
		Args: arguments("a rule, or the id of a finding"),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			request.Lines = true
			return p.runExplain(cmd.Context(), request, args[0], &selected)
		},
	}
	p.group(cmd, selectionHeading, selected.add)
	p.group(cmd, reportsHeading, evidence.addReports, evidence.addRuns)
	p.group(cmd, policyHeading, evidence.addPolicy, evidence.addBaseline, evidence.addToday)
	return cmd
}

func (p *program) runExplain(ctx context.Context, q app.GateRequest, name string, selected *selectFlags) error {
	var e *judge.Explanation
	judged, err := p.watched(ctx, q, func(ctx context.Context, q app.GateRequest) ([]*app.Judged, error) {
		found, j, err := app.Explain(ctx, q, name)
		e = found
		return []*app.Judged{j}, err
	})
	if err != nil {
		return err
	}
	j := judged[0]
	takes, err := selected.takes(j.Input.Policy, j.Dir, j.Root)
	if err != nil {
		return err
	}
	if selected.any() {
		e.Found = slices.DeleteFunc(e.Found, func(f *judge.Finding) bool { return !takes(*f) })
	}
	for _, evidence := range j.Evidence {
		if !evidence.Sound() && !evidence.Optional && evidence.Name != "" {
			p.tell(p.err, "zincdoor: this is without %s, which is %s: %s\n", render.Safe(evidence.Name), evidence.State, render.Safe(evidence.Problem))
		}
	}
	return render.Explain(p.out, render.Explanation{Explanation: e, At: j.GradedAt}, render.Options{Text: j.Text, Touched: j.Touched, Rule: j.Rule})
}
