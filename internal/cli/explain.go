package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/gate"
	"zincdoor/internal/render"
)

func (p *program) explain() *cobra.Command {
	var evidence evidenceFlags
	cmd := &cobra.Command{
		Use:   "explain RULE|ID",
		Short: "Tell what a rule means, why it matters here, and what to do",
		Long: `Tell what a rule means, by its tool and by the team's own notes (notes: in the policy); where it stands in the code
now; which rung it has and why, and which limits count it; and how to accept or waive a finding of it. A finding is named
by its id in a verdict, or any beginning of it that is its alone.

  zincdoor explain -Wsign-compare --report build/warnings.txt
  zincdoor explain 3f2a --report build/warnings.txt`,
		Args: one("a rule, or the id of a finding"),
		RunE: func(cmd *cobra.Command, args []string) error {
			request, err := evidence.request(p.in)
			if err != nil {
				return err
			}
			request.Change.Kind, request.AnyDoor, request.Around = policy.Tree, true, true
			return p.runExplain(cmd.Context(), request, args[0])
		},
	}
	evidence.add(cmd.Flags())
	return cmd
}

func (p *program) runExplain(ctx context.Context, q gate.Request, name string) error {
	results, err := p.gather(ctx, q)
	if err != nil {
		return err
	}
	r := results[0]
	v := judge.Judge(r.Case)
	e, err := explanationOf(r, v, name)
	if err != nil {
		return err
	}
	for _, evidence := range v.Evidence {
		if !evidence.Sound() && !evidence.Optional && evidence.Name != "" {
			fmt.Fprintf(p.err, "zincdoor: told without %s, which is %s: %s\n", render.Safe(evidence.Name), evidence.State, render.Safe(evidence.Problem))
		}
	}
	return render.Explain(p.out, *e, render.Options{Text: r.Text, Touched: r.Touched, Rule: r.Rule})
}

// explanationOf gathers what there is to tell of a rule, or of a finding and its rule.
func explanationOf(r *gate.Result, v judge.Verdict, name string) (*render.Explanation, error) {
	e := &render.Explanation{Rule: name}
	known := map[string]bool{}
	for i := range v.Findings {
		known[v.Findings[i].Rule] = true
	}
	if !known[name] {
		if f, err := findingNamed(v, name); err != nil {
			return nil, err
		} else if f != nil {
			e.Finding, e.Rule = f, f.Rule
		}
	}
	for i := range v.Findings {
		if f := &v.Findings[i]; f.Rule == e.Rule && (e.Finding == nil || f.Tool == e.Finding.Tool) {
			e.Found = append(e.Found, f)
		}
	}
	pol := r.Case.Policy
	e.Notes = pol.NotesOn(e.Rule)
	var sample finding.Finding
	team := ""
	switch {
	case e.Finding != nil:
		sample, team = *e.Finding.Finding, e.Finding.Team
	case len(e.Found) > 0:
		sample, team = *e.Found[0].Finding, e.Found[0].Team
	default:
		rule, tool, ok := r.RuleNamed(e.Rule)
		level := finding.Warning
		if ours := house.RuleOf(e.Rule); ours != nil && (!ok || tool == house.Tool) {
			rule, tool, ok, level = ours.Text(), house.Tool, true, ours.Level
			e.Off = !slices.ContainsFunc(pol.House, func(c policy.HouseCheck) bool { return c.Kind == e.Rule })
		}
		if !ok && len(e.Notes) == 0 {
			return nil, unknownRule(name, v, r)
		}
		sample = finding.Finding{Rule: e.Rule, Tool: tool, Level: level}
		e.Told, e.Tool = rule, tool
	}
	if e.Tool == "" {
		e.Tool = sample.Tool
		e.Told, _ = r.Rule(&sample)
		if e.Told.Address == "" {
			e.Told.Address = sample.Details().Help
		}
	}
	e.Tags = sample.Weight().Tags
	e.Severity, e.Steps = pol.Grade(sample, team), pol.Steps(sample, team)
	for _, d := range pol.Doors {
		for _, l := range d.Limits {
			if e.Severity != policy.Ignored && l.Selector.Takes(sample, team) && l.TakesRung(pol.Ladder, e.Severity) {
				e.Limits = append(e.Limits, render.DoorLimit{Door: d.Name, Limit: l, Mode: d.ModeOf(l)})
			}
		}
		if e.MayWaive == "" && d.Waivers.Code && d.Waivers.MayWaive(pol.Ladder, sample, e.Severity) {
			e.MayWaive = d.Name
		}
	}
	return e, nil
}

// findingNamed is the finding that the beginning of an id names, nil where none is.
func findingNamed(v judge.Verdict, name string) (*judge.Finding, error) {
	var found *judge.Finding
	for i := range v.Findings {
		if strings.HasPrefix(v.Findings[i].ID, name) {
			if found != nil {
				return nil, fmt.Errorf("%q is the beginning of several ids; write more of it", name)
			}
			found = &v.Findings[i]
		}
	}
	return found, nil
}

func unknownRule(name string, v judge.Verdict, r *gate.Result) error {
	var rules []string
	for i := range v.Findings {
		rules = append(rules, v.Findings[i].Rule)
	}
	rules = append(rules, r.RuleNames()...)
	slices.Sort(rules)
	rules = slices.DeleteFunc(slices.Compact(rules), func(s string) bool { return s == "" })
	if nearest := policy.Nearest(name, rules); nearest != "" {
		return fmt.Errorf("no rule and no finding is called %q; did you mean %s?", name, nearest)
	}
	if len(rules) == 0 {
		return fmt.Errorf("no rule and no finding is called %q, and there is no report to look in; name one with --report FILE", name)
	}
	return fmt.Errorf("no rule and no finding is called %q; the reports here know %s", name, strings.Join(rules[:min(len(rules), 10)], ", "))
}
