package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/render"
)

func (p *program) policy() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "policy",
		Short: "Check and show what the repository demands",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(p.checkPolicy(), p.showPolicy(), p.schema())
	return cmd
}

// errNoPolicy says that there is no file to read.
var errNoPolicy = errors.New("there is no .zincdoor/policy.yaml here, so the built-in policy judges; see zincdoor policy show --built-in, or write a starter policy with zincdoor fit")

// policyText reads a policy: of the file that is named, else the work tree's. The files are those of the repository, nil
// where there is none.
func (p *program) policyText(ctx context.Context, file string) (name string, data []byte, files []string, err error) {
	dir, err := workingDir()
	if err != nil {
		return "", nil, nil, err
	}
	root := dir
	if repo, err := git.Open(ctx, dir); err == nil {
		defer repo.Close()
		if !repo.Bare {
			root = repo.Root
			if err := repo.IncludeUntracked(); err != nil {
				return "", nil, nil, unjudged{err}
			}
			tree, err := repo.Tree(git.Worktree)
			if err != nil {
				return "", nil, nil, unjudged{err}
			}
			defer tree.Close()
			if files, err = tree.Paths(); err != nil {
				return "", nil, nil, unjudged{err}
			}
		}
	}
	name = cmp.Or(file, filepath.Join(root, filepath.FromSlash(policy.Path)))
	data, err = os.ReadFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && file == "":
		return "", nil, files, errNoPolicy
	case err != nil:
		return "", nil, files, fmt.Errorf("the policy can't be read: %w", err)
	}
	return cmp.Or(file, policy.Path), data, files, nil
}

func (p *program) checkPolicy() *cobra.Command {
	return &cobra.Command{
		Use:   "check [FILE]",
		Short: "Find everything that is wrong in a policy, and what can never matter",
		Long: `Read a policy (the work tree's .zincdoor/policy.yaml, or FILE) and tell everything that is wrong in it at once, each
with its line, its column and what would be valid; then what can never matter here: paths that no file has, teams
without files, limits that another one always breaks with.

Exit code 3 where something is wrong.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, data, files, err := p.policyText(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			read, err := policy.Parse(name, data)
			if err != nil {
				return err
			}
			if files != nil {
				for _, idle := range read.Idle(files) {
					fmt.Fprintf(p.err, "zincdoor: %s: %s\n", render.Safe(name), render.Safe(idle))
				}
			}
			limits := 0
			for _, d := range read.Doors {
				limits += len(d.Limits)
			}
			fmt.Fprintf(p.out, "%s is valid; limits: %d, at the doors %s\n", render.Safe(name), limits, render.Safe(policy.Names(read.Doors)))
			return nil
		},
	}
}

func (p *program) schema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of a policy, for editors",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := p.out.Write(policy.Schema())
			return err
		},
	}
}

// showFlags are the flags of zincdoor policy show.
type showFlags struct {
	file, door, path, rule, tool string
	tags                         []string
	builtIn                      bool
}

func (p *program) showPolicy() *cobra.Command {
	var flags showFlags
	cmd := &cobra.Command{
		Use:   "show",
		Short: "Show the policy, or what it makes of a rule in a file",
		Long: `Show the policy of the work tree, or with --built-in the one that judges where there is none. With --rule and --path,
show step by step which rung such a finding gets, and which limits count it.

  zincdoor policy show --rule -Wshadow --path core/tide.c`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runShow(cmd.Context(), flags) },
	}
	f := cmd.Flags()
	f.SortFlags = false
	f.BoolVar(&flags.builtIn, "built-in", false, "the policy that judges where there is none")
	f.StringVar(&flags.file, "policy", "", "the policy in `FILE`")
	f.StringVar(&flags.rule, "rule", "", "what becomes of findings of a `RULE`")
	f.StringVar(&flags.path, "path", "", "in the file `PATH`, from the repository's root")
	f.StringVar(&flags.tool, "tool", "", "of the tool `NAME`")
	f.StringSliceVar(&flags.tags, "tag", nil, "with a `TAG`")
	f.StringVar(&flags.door, "door", "", "at the door `NAME` alone")
	return cmd
}

func (p *program) runShow(ctx context.Context, flags showFlags) error {
	name, data := "built-in policy", policy.BuiltinText()
	if !flags.builtIn {
		var err error
		if name, data, _, err = p.policyText(ctx, flags.file); errors.Is(err, errNoPolicy) {
			name, data = "built-in policy", policy.BuiltinText()
		} else if err != nil {
			return err
		}
	}
	read, err := policy.Parse(name, data)
	if err != nil {
		return err
	}
	doors := read.Doors
	if flags.door != "" {
		door, ok := read.Door(flags.door)
		if !ok {
			return fmt.Errorf("the policy has no door %q; it has %s", flags.door, policy.Names(read.Doors))
		}
		doors = []policy.Door{door}
	}
	if flags.rule == "" && flags.path == "" && flags.tool == "" && len(flags.tags) == 0 {
		if flags.door != "" {
			for _, l := range doors[0].Limits {
				fmt.Fprintf(p.out, "%s\n", render.Limit(l, doors[0].ModeOf(l)))
			}
			return nil
		}
		_, err := p.out.Write(data)
		return err
	}
	team := read.TeamOf(flags.path)
	if team != "" {
		fmt.Fprintf(p.out, "team %s answers for %s\n", render.Safe(team), render.Safe(flags.path))
	}
	for _, level := range finding.Levels {
		f := finding.Finding{Rule: flags.rule, Path: flags.path, Tool: flags.tool, Tags: flags.tags, Level: level}
		var steps []string
		rung := ""
		for _, s := range read.Steps(f, team) {
			rung = s.Rung
			if s.Line > 0 {
				steps = append(steps, fmt.Sprintf("%s (line %d)", s.What, s.Line))
			} else {
				steps = append(steps, s.What)
			}
		}
		fmt.Fprintf(p.out, "%s: %s\n", render.Safe(strings.Join(steps, ", then ")), render.Safe(rung))
		for _, d := range doors {
			var names []string
			for _, l := range d.Limits {
				if rung != policy.Ignored && l.TakesRung(read.Ladder, rung) && l.Takes(f, team) {
					names = append(names, l.Name)
				}
			}
			if len(names) > 0 {
				fmt.Fprintf(p.out, "  door %s counts it in %s\n", render.Safe(d.Name), render.Safe(strings.Join(slices.Compact(names), "; ")))
			}
		}
	}
	return nil
}
