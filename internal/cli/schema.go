package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

func (p *program) schemas() *cobra.Command {
	schemas := render.Schemas()
	schemas["policy"] = policyfile.Schema()
	names := slices.Sorted(maps.Keys(schemas))
	return &cobra.Command{
		Use:       "schema " + strings.Join(names, "|"),
		Short:     "Print the JSON Schema of what programs read or write",
		Long:      "Print the JSON Schema (2020-12) of a verdict (gate --format json), of review comments (gate --write review=FILE), or of a\npolicy.",
		Args:      one("of what, " + strings.Join(names, ", ")),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			text, ok := schemas[args[0]]
			if !ok {
				return fmt.Errorf("there is no schema of %q; there are %s", args[0], strings.Join(names, ", "))
			}
			_, err := p.out.Write(text)
			return err
		},
	}
}

// rulesAsArguments keeps a rule that looks like an option, as compilers call theirs, an argument of explain.
func rulesAsArguments(args []string) []string {
	if len(args) < 2 || args[0] != "explain" || slices.Contains(args, "--") {
		return args
	}
	for i, arg := range args[1:] {
		if len(arg) > 2 && arg[0] == '-' && arg[1] >= 'A' && arg[1] <= 'Z' {
			return slices.Concat(args[:i+1], args[i+2:], []string{"--", arg})
		}
	}
	return args
}
