package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/spelling"
	"zincdoor/internal/render"
)

func (p *program) spelling() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "spelling",
		Short: "Keep the list of the team's own words",
		Long:  `Keep the words that the house check on spelling takes for right: a file of the repository, .zincdoor/words.txt or where the policy says, a word a line. Commit it with the code it is about.`,
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.addWords())
	return cmd
}

func (p *program) addWords() *cobra.Command {
	var list, policy string
	var inflected bool
	cmd := &cobra.Command{
		Use:   "add WORD...",
		Short: "Add words to the team's own list",
		Long: `Add words to the list of the team's own words, which stays sorted. Words that are there already are left as they are.

A + behind a word in the list takes its inflected forms too: "ferry +" is for ferries as well.`,
		Example: `zincdoor spelling add slackwater tideboard
zincdoor spelling add --inflected ferry`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir, err := workingDir()
			if err != nil {
				return err
			}
			var words []spelling.OwnWord
			for _, arg := range args {
				if !spelling.IsWord(arg) {
					return fmt.Errorf("%q is no word: letters and apostrophes alone, each word by itself", arg)
				}
				words = append(words, spelling.OwnWord{Word: arg, Inflected: inflected})
			}
			added, file, err := app.AddWords(cmd.Context(), app.Call{Dir: dir, Policy: policy}, list, words)
			switch {
			case err != nil:
				return graded(err)
			case len(added) == 0:
				_, err = fmt.Fprintf(p.out, "%s has all of these already\n", render.Safe(file))
			default:
				_, err = fmt.Fprintf(p.out, "%s: %s\n", render.Safe(file), strings.Join(added, ", "))
			}
			return err
		},
	}
	p.group(cmd, "List", func(f *pflag.FlagSet) {
		f.BoolVar(&inflected, "inflected", false, "with their inflected forms")
		f.StringVar(&list, "list", "", "add them to `FILE`, if the policy names several lists")
	})
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) { addPolicy(f, &policy) })
	return cmd
}
