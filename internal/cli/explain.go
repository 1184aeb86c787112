package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"zincdoor/internal/app"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/render"
)

func (p *program) explain() *cobra.Command {
	var evidence evidenceFlags
	cmd := &cobra.Command{
		Use:   "explain RULE|ID",
		Short: "Tell what a rule means, why it matters here, and what to do",
		Long: `Tell what a rule means, by its tool and by the team's own notes (notes: in the policy); where it stands in the code
now; its severity and why, and which limits count it; and how to accept or waive a finding of it. A finding is named
by its id in a verdict, or any beginning of it that is its alone.

  zincdoor explain -Wsign-compare --report build/warnings.txt
  zincdoor explain 3f2a --report build/warnings.txt`,
		Args: one("a rule, or the id of a finding"),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			request.Lines = true
			return p.runExplain(cmd.Context(), request, args[0])
		},
	}
	evidence.add(cmd.Flags())
	return cmd
}

func (p *program) runExplain(ctx context.Context, q app.GateRequest, name string) error {
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
	for _, evidence := range j.Evidence {
		if !evidence.Sound() && !evidence.Optional && evidence.Name != "" {
			fmt.Fprintf(p.err, "zincdoor: told without %s, which is %s: %s\n", render.Safe(evidence.Name), evidence.State, render.Safe(evidence.Problem))
		}
	}
	at := func(index int) string {
		if index < 0 {
			return ""
		}
		return j.Policy.Severities[index].At.String()
	}
	return render.Explain(p.out, render.Explanation{Explanation: e, At: at}, render.Options{Text: j.Text, Touched: j.Touched, Rule: j.Rule})
}
