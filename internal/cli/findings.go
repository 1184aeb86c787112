package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

// chooseFlags choose findings by everything that a limit can.
type chooseFlags struct {
	selector                   policy.Selector
	severities, levels, places []string
	message                    string
}

func (c *chooseFlags) add(f *pflag.FlagSet) {
	s := &c.selector
	f.StringSliceVar(&s.Rules, "rule", nil, "those of rules that a `GLOB` takes or that are in a group; repeatable, as are the next ones")
	f.StringSliceVar(&s.Paths, "path", nil, "those in files that a `GLOB` from the repository's root takes, or in a set")
	f.StringSliceVar(&s.Tools, "tool", nil, "those of tools that a `GLOB` takes")
	f.StringSliceVar(&s.Tags, "tag", nil, "those with a `TAG`")
	f.StringSliceVar(&s.Teams, "team", nil, "those in files that a `TEAM` answers for")
	f.StringSliceVar(&c.severities, "severity", nil, "those of a `SEVERITY`, or ignored")
	f.StringSliceVar(&c.levels, "level", nil, "those of a `LEVEL` of SARIF")
	f.StringSliceVar(&c.places, "place", nil, "those that are `touched|file|elsewhere`")
	f.StringSliceVar(&s.Standings, "standing", nil, "those that are `new|worsened|expired|existing|accepted|waived`")
	f.StringVar(&c.message, "message", "", "those whose message a `PATTERN` matches, a regular expression")
	f.Float64Var(&s.Rank, "rank", 0, "those of at least this rank, 0 to 100")
	f.Float64Var(&s.Security, "security", 0, "those of at least this security severity, 0 to 10")
}

// ready makes the flags a selector, with the policy's groups and sets.
func (c *chooseFlags) ready(p *policy.Policy) (policy.Selector, error) {
	s := c.selector
	known := func(what string, list, words []string) error {
		for _, word := range list {
			if !slices.Contains(words, word) {
				return fmt.Errorf("--%s is one of %s, not %q", what, strings.Join(words, ", "), word)
			}
		}
		return nil
	}
	var levels, standings []string
	for _, level := range finding.Levels {
		levels = append(levels, string(level))
	}
	for _, standing := range judge.Standings {
		standings = append(standings, string(standing))
	}
	for _, check := range []struct {
		what        string
		list, words []string
	}{
		{"severity", c.severities, append(slices.Clone([]string(p.Ladder)), policy.Ignored)}, {"level", c.levels, levels},
		{"place", c.places, []string{string(change.OnTouched), string(change.InFile), string(change.Elsewhere)}}, {"standing", s.Standings, standings},
	} {
		if err := known(check.what, check.list, check.words); err != nil {
			return s, err
		}
	}
	for _, level := range c.levels {
		s.Levels = append(s.Levels, finding.Level(level))
	}
	for _, place := range c.places {
		s.Places = append(s.Places, change.Place(place))
	}
	if c.message != "" {
		var err error
		if s.Message, err = regexp.Compile(c.message); err != nil {
			return s, fmt.Errorf("--message: %w", err)
		}
	}
	return p.Choose(s)
}

// takes reports whether the flags choose a finding; what the policy ignores only where that is asked for.
func (c *chooseFlags) takes(s *policy.Selector, f judge.Finding) bool {
	if len(c.severities) > 0 && !slices.Contains(c.severities, f.Severity) || len(c.severities) == 0 && f.Severity == policy.Ignored {
		return false
	}
	return f.AnySource(func(g judge.Finding) bool { return s.Takes(*g.Finding, g.Team) }) && s.TakesPlace(f.Place, string(f.Standing))
}

// takesBy gives what reports whether the flags choose a finding, by a policy.
func (c *chooseFlags) takesBy(p *policy.Policy) (func(judge.Finding) bool, error) {
	selector, err := c.ready(p)
	return func(f judge.Finding) bool { return c.takes(&selector, f) }, err
}

func (p *program) findings() *cobra.Command {
	var evidence evidenceFlags
	var change changeFlags
	var choose chooseFlags
	var door, file string
	var list render.List
	cmd := &cobra.Command{
		Use:   "findings",
		Short: "List findings with place and standing, without a verdict",
		Long: `List findings, each with its place in the change and its standing, without holding them against limits: of the change
that is named as for gate, else of the whole work tree.

  zincdoor findings --report build/warnings.txt --rule "-Wunused*" --standing new
  zincdoor findings --into main --count-by team
  zincdoor findings --fields path,line,rule --null | xargs -0 -n1 ...

With --fields each finding is a line for scripts, the fields apart by tabs. What the policy ignores is left out, unless
--severity ignored asks for it. Exit codes: 0; 2 where a report is no evidence, and the list is all there is without it.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.gateRequest(&change, cmd.Flags(), args, p.in)
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
			return p.listFindings(cmd.Context(), request, &choose, list, file)
		},
	}
	f := cmd.Flags()
	f.SortFlags = false
	choose.add(f)
	f.StringSliceVar(&list.Fields, "fields", nil, "only these `FIELDS`, apart by tabs: "+strings.Join(render.FieldNames(), ", "))
	f.StringSliceVar(&list.Sort, "sort", nil, "in the order of these `FIELDS`, one with a - before it from the last to the first")
	f.StringVar(&list.CountBy, "count-by", "", "count them by a `FIELD`, most first, instead of listing them")
	f.BoolVar(&list.Unique, "unique", false, "each line once")
	f.BoolVar(&list.Null, "null", false, "end each with a NUL in place of a line feed")
	f.StringVar(&list.Format, "format", "text", "how they are listed: `text|json|csv|sarif`")
	f.StringVar(&file, "output", "", "write them to `FILE` instead of standard output")
	f.StringVar(&door, "door", "", "the `NAME` of the door whose waivers and acceptances count")
	change.add(f)
	f.StringArrayVar(&evidence.baseReports, "base-report", nil, "a report of the state before the change, as `[FORMAT=]FILE`. Repeatable")
	evidence.add(f)
	return cmd
}

func (p *program) listFindings(ctx context.Context, q app.GateRequest, choose *chooseFlags, list render.List, file string) error {
	judged, err := p.watched(ctx, q, app.List)
	if err != nil {
		return err
	}
	write := func(w io.Writer) error {
		for _, j := range judged {
			selector, err := choose.ready(j.Input.Policy)
			if err != nil {
				return err
			}
			v := j.Verdict
			v.Findings = slices.DeleteFunc(v.Findings, func(f judge.Finding) bool { return !choose.takes(&selector, f) })
			v.Limits, v.Gone = nil, nil
			for _, e := range v.Evidence {
				if !e.Sound() {
					p.code = exitUnjudged
					fmt.Fprintf(p.err, "zincdoor: %s is %s: %s\n", cmp.Or(render.Safe(e.Name), "the evidence"), e.State, render.Safe(e.Problem))
				}
			}
			if err := list.Write(w, v, render.Options{Text: j.Text, Rule: j.Rule, Like: p.out, Link: j.Input.Policy.Link}); err != nil {
				return err
			}
		}
		return nil
	}
	if file != "" {
		return replace(file, write)
	}
	return write(p.out)
}
