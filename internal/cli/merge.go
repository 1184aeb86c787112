package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
)

func (p *program) merge() *cobra.Command {
	return &cobra.Command{
		Use:   "merge BASE OURS THEIRS",
		Short: "Merge two baselines, as git's merge driver",
		Long: `Merge what two branches made of a baseline: what either took out is out, what either put in is in. Where both changed the same entry, the acceptance that ends first stays. The result is written to OURS.

zincdoor fit makes git do this (git config merge.zincdoor.driver "zincdoor baseline merge %O %A %B").`,
		Example: "zincdoor baseline merge base.jsonl ours.jsonl theirs.jsonl",
		Args:    arguments("the common file", "ours", "theirs"),
		RunE: func(_ *cobra.Command, args []string) error {
			var sides [3]*baseline.Baseline
			for i, file := range args {
				if info, err := os.Stat(file); err == nil && info.Size() == 0 && i == 0 {
					sides[i] = &baseline.Baseline{} // both branches began the list
					continue
				}
				var err error
				if sides[i], err = baselinefile.Open(file); err != nil {
					return unjudged{fmt.Errorf("nothing is merged: %w", err)}
				}
			}
			if err := baselinefile.Save(args[1], baseline.Merge(sides[0], sides[1], sides[2])); err != nil {
				return unjudged{err}
			}
			return nil
		},
	}
}
