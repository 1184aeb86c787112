package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

func (p *program) findings() *cobra.Command {
	var evidence evidenceFlags
	var change changeFlags
	var selected selectFlags
	var door, file string
	var owners []string
	var list render.List
	cmd := &cobra.Command{
		Use:   "findings [PATH]...",
		Short: "List findings with place and standing, without a verdict",
		Long: `List findings, each with its place in the change and its standing, without holding them against limits: of the change that is named as for gate, else of the whole work tree. PATH names files and folders; the selectors mean what they mean in a limit.

With --fields each finding is a line for scripts, the fields separated by tabs. What the policy ignores is left out, unless --severity ignored asks for it.

Exit codes: 0; 2 where a report is no evidence: the list is what there is without it.`,
		Example: `zincdoor findings core/tide.c
zincdoor findings --rule "-Wunused*" --severity warning
zincdoor findings --into main --standing new --group team
zincdoor findings --count-by rule
zincdoor findings --fields path,line,rule,id
zincdoor findings --rule spelling --fields word --unique`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			revision, paths, err := revisionAndPaths(change.tree, args)
			if err != nil {
				return err
			}
			selected.under = paths
			request, err := evidence.gateRequest(&change, cmd.Flags(), revision, p.in)
			if err != nil {
				return err
			}
			if request.Change.Kind == "" {
				request.Change.Kind = policy.Tree
			}
			request.Door, request.Remote = door, change.remote
			if err := list.Check(); err != nil {
				return err
			}
			return p.listFindings(cmd.Context(), request, &selected, owners, list, file)
		},
	}
	p.group(cmd, selectionHeading, selected.add, func(f *pflag.FlagSet) {
		f.StringSliceVar(&owners, "owner", nil, "that `NAME` is to put right: as entry, team, or git blame say")
	})
	p.group(cmd, outputHeading, func(f *pflag.FlagSet) {
		f.StringVar(&list.Format, "format", render.Text, "`FORMAT`|how they are written:")
		values(f, "format", render.ListFormats...)
		f.StringSliceVar(&list.Fields, "fields", nil, "`FIELDS`|only these, comma-separated:")
		values(f, "fields", render.FieldNames()...)
		f.StringSliceVar(&list.Sort, "sort", nil, "in the order of `FIELDS`; -FIELD from last to first")
		addCountBy(f, &list.CountBy, "any field")
		addGroup(f, &list.Group, "")
		f.BoolVar(&list.Context, "context", false, "show the line of each finding")
		f.BoolVar(&list.Unique, "unique", false, "write equal lines once")
		f.BoolVar(&list.Null, "null", false, "end lines with NUL, for xargs -0")
		f.StringVar(&file, "output", "", "write to `FILE` instead of standard output")
	})
	p.group(cmd, changeHeading+" (else the work tree)", change.add)
	p.group(cmd, reportsHeading, evidence.addReports, evidence.addBaseReports, evidence.addRuns)
	p.group(cmd, policyHeading, func(f *pflag.FlagSet) {
		f.StringVar(&door, "door", "", "`NAME`|the door whose waivers and acceptances count")
	}, evidence.addPolicy, evidence.addBaseline, evidence.addToday)
	return cmd
}

// addCountBy adds the flag that counts what is selected.
func addCountBy(f *pflag.FlagSet, by *string, what string) {
	f.StringVar(by, "count-by", "", "`FIELD`|count them, by "+what)
}

// addGroup adds the flag that puts together what is shown.
func addGroup(f *pflag.FlagSet, by *string, otherwise string) {
	f.StringVar(by, "group", otherwise, "`WORD`|put them together by:")
	values(f, "group", render.Groups...)
}

// revisionAndPaths tells the arguments of a list apart: the first one after --tree that names no file is a revision.
func revisionAndPaths(tree bool, args []string) (revision, paths []string, err error) {
	for i, arg := range args {
		switch _, missing := os.Lstat(arg); {
		case missing == nil:
			paths = append(paths, arg)
		case tree && i == 0:
			revision = []string{arg}
		default:
			return nil, nil, fmt.Errorf("there is no file or folder %s here; for files that a glob matches: --path GLOB", arg)
		}
	}
	return revision, paths, nil
}

func (p *program) listFindings(ctx context.Context, q app.GateRequest, selected *selectFlags, owners []string, list render.List, file string) error {
	judged, err := p.watched(ctx, q, app.List)
	if err != nil {
		return err
	}
	left, all := 0, 0
	write := func(w io.Writer) error {
		for _, j := range judged {
			takes, err := selected.takes(j.Input.Policy, j.Dir, j.Root)
			if err != nil {
				return err
			}
			v := j.Verdict
			all += len(v.Findings)
			v.Findings = slices.DeleteFunc(v.Findings, func(f judge.Finding) bool { return !takes(f) })
			if len(owners) > 0 || list.Asks(render.FieldOwner) {
				if err := j.NameOwners(ctx, v.Findings); err != nil {
					return unjudged{err}
				}
			}
			if len(owners) > 0 {
				v.Findings = slices.DeleteFunc(v.Findings, func(f judge.Finding) bool { return !policy.TakesName(owners, f.Owner) })
			}
			left += len(v.Findings)
			v.Limits, v.Gone = nil, nil
			for _, e := range v.Evidence {
				if !e.Sound() {
					p.code = exitUnjudged
					p.tell(p.err, "zincdoor: %s is %s: %s\n", cmp.Or(render.Safe(e.Name), "the evidence"), e.State, render.Safe(e.Problem))
				}
			}
			if err := list.Write(w, v, render.Options{Text: j.Text, Rule: j.Rule, Like: p.out, Link: j.Input.Policy.Link}); err != nil {
				return err
			}
		}
		return nil
	}
	if file != "" {
		err = replace(file, write)
	} else {
		err = write(p.out)
	}
	if err == nil && left == 0 {
		p.sayNone(selected, all)
	}
	return err
}

// sayNone says that nothing was selected, and of how much.
func (p *program) sayNone(selected *selectFlags, all int) {
	switch paths := slices.Concat(selected.under, selected.selector.Paths); {
	case all == 0:
		p.tell(p.err, "zincdoor: there are no findings\n")
	case len(paths) > 0:
		p.tell(p.err, "zincdoor: none of %s is selected in %s\n", finding.Count(all), render.Safe(strings.Join(paths, ", ")))
	default:
		p.tell(p.err, "zincdoor: none of %s is selected\n", finding.Count(all))
	}
}
