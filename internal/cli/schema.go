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
	schemas["policy"], schemas["host"], schemas["service"] = policyfile.Schema, policyfile.HostSchema, policyfile.ServiceSchema
	names := slices.Sorted(maps.Keys(schemas))
	return &cobra.Command{
		Use:       "schema NAME",
		Short:     "Print the JSON Schema of what programs read and write",
		Long:      `Print a JSON Schema (2020-12): of a policy, of a verdict (gate --format json), of findings (findings --format json, and each line of jsonl), of review comments (gate --write review=FILE), of a checked seal (verify --format json), of a host recipe (review send --host FILE), of the settings of a service (serve --settings FILE).`,
		Example:   "zincdoor schema verdict\nzincdoor schema policy",
		Args:      arguments("one of " + strings.Join(names, ", ")),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			schema, ok := schemas[args[0]]
			if !ok {
				return fmt.Errorf("there is no schema of %q; there are %s", args[0], strings.Join(names, ", "))
			}
			_, err := p.out.Write(schema())
			return err
		},
	}
}

// rulesAsArguments keeps a rule that looks like an option, as compilers call theirs, an argument of explain.
func rulesAsArguments(args []string) []string {
	at := slices.Index(args, "explain")
	if at < 0 || slices.Contains(args, "--") {
		return args
	}
	for i := at + 1; i < len(args); i++ {
		if arg := args[i]; (len(arg) > 2 || len(arg) == 2 && args[0] == "__complete") && arg[0] == '-' && arg[1] >= 'A' && arg[1] <= 'Z' && arg[1] != 'C' && !strings.HasPrefix(args[i-1], "--rule") {
			return slices.Concat(args[:i], args[i+1:], []string{"--", arg})
		}
	}
	return args
}
