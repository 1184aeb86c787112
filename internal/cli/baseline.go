package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

func (p *program) baseline() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "baseline",
		Short: "Keep the list of accepted findings",
		Long: `Keep the list of accepted findings. It is a file of the repository (.zincdoor/baseline.jsonl, or where the policy
says), one entry a line; commit it with the code it speaks of.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(p.take(), p.accept(), p.list(), p.sweep(), p.renew(), p.merge())
	return cmd
}

// survey reads the reports of the work tree, all of which must be sound.
func (p *program) survey(ctx context.Context, evidence evidenceFlags, anew bool) (*app.Survey, error) {
	request, err := evidence.request(p.in)
	if err != nil {
		return nil, err
	}
	if err := oneStdin(request); err != nil {
		return nil, err
	}
	s, err := app.OpenSurvey(ctx, app.SurveyRequest{Call: request.Call, Reports: request.Reports.Given, Fresh: request.Reports.Fresh, Anew: anew})
	return s, graded(err)
}

// reasonFlags say why findings are accepted.
type reasonFlags struct {
	why, reason, until, link string
}

func (r *reasonFlags) add(f *pflag.FlagSet, why baseline.Why) {
	f.StringVar(&r.why, "why", string(why), "the reason: `debt` (true, but not now), mistaken (not a fault) or meant (a deliberate exception)")
	f.StringVar(&r.reason, "reason", "", "the reason in your own `WORDS`")
	f.StringVar(&r.until, "until", "", "until when: a `DATE` like 2027-02-01, included, or a time from today like 90d, 12w or 6m")
	f.StringVar(&r.link, "link", "", "where more is said, as a `URL`")
}

// reasons are what the flags say, with who says it and when.
func (r *reasonFlags) reasons(today, author string) (baseline.Entry, error) {
	until, err := endDate(r.until, today)
	if err != nil {
		return baseline.Entry{}, err
	}
	if err := r.checkWhy(); err != nil {
		return baseline.Entry{}, err
	}
	return baseline.Entry{Why: baseline.Why(r.why), Reason: r.reason, Until: until, Link: r.link, By: author, On: today}, nil
}

func (r *reasonFlags) checkWhy() error {
	if !slices.Contains([]baseline.Why{baseline.Debt, baseline.Mistaken, baseline.Meant}, baseline.Why(r.why)) {
		return fmt.Errorf("--why is one of debt, mistaken, meant, not %q", r.why)
	}
	return nil
}

// endDate reads a last day: a date, or a time from today in days, weeks or months.
func endDate(s, today string) (string, error) {
	if s == "" {
		return "", nil
	}
	day, err := time.Parse(time.DateOnly, s)
	if err != nil {
		n, bad := strconv.Atoi(s[:len(s)-1])
		start, broken := time.Parse(time.DateOnly, today)
		if bad != nil || broken != nil || n < 1 || n > 9999 {
			return "", fmt.Errorf("%q is no date like 2027-02-01 and no time like 90d, 12w or 6m", s)
		}
		switch s[len(s)-1] {
		case 'd':
			day = start.AddDate(0, 0, n)
		case 'w':
			day = start.AddDate(0, 0, 7*n)
		case 'm':
			day = start.AddDate(0, n, 0)
		default:
			return "", fmt.Errorf("%q is no date like 2027-02-01 and no time like 90d, 12w or 6m", s)
		}
	}
	if date := day.Format(time.DateOnly); date >= today {
		return date, nil
	}
	return "", fmt.Errorf("%s is past", s)
}

// filterFlags choose findings, or entries of the list, by what they are. Without any, all are chosen.
type filterFlags struct {
	rules, paths, tools, severities []string
}

func (c *filterFlags) add(f *pflag.FlagSet) {
	f.StringSliceVar(&c.rules, "rule", nil, "those of rules that a `GLOB` takes; repeatable, as are the next three")
	f.StringSliceVar(&c.paths, "path", nil, "those in files that a `GLOB` from the repository's root takes")
	f.StringSliceVar(&c.tools, "tool", nil, "those of a tool, by its `NAME`")
	f.StringSliceVar(&c.severities, "severity", nil, "those of a `SEVERITY`")
}

func (c *filterFlags) any() bool {
	return len(c.rules)+len(c.paths)+len(c.tools)+len(c.severities) > 0
}

func (c *filterFlags) takes(tool, rule, path, severity string) bool {
	in := func(list []string, name string) bool { return len(list) == 0 || slices.Contains(list, name) }
	s := policy.Selector{Rules: c.rules, Paths: c.paths}
	return s.TakesRule(finding.Finding{Rule: rule}) && s.TakesPath(path) && in(c.tools, tool) && in(c.severities, severity)
}

func (c *filterFlags) takesEntry(e baseline.Entry) bool {
	return c.takes(e.Tool, e.Rule, e.Path, e.Severity)
}

// mostShown is how many entries are shown before a question.
const mostShown = 20

// show lists entries for people, a line each.
func (p *program) show(entries []baseline.Entry, most int) {
	for i, e := range entries {
		if i == most && len(entries) > most+1 {
			fmt.Fprintf(p.err, "  and %d more\n", len(entries)-most)
			return
		}
		fmt.Fprintf(p.err, "  %s\n", render.Entry(e))
	}
}

// confirm shows what is about to happen and asks; where nobody can be asked, yes must have been said.
func (p *program) confirm(yes bool, question string, entries []baseline.Entry) (bool, error) {
	if yes {
		return true, nil
	}
	p.show(entries, mostShown)
	if !p.atTerminal() {
		return false, fmt.Errorf("%s Nobody can be asked without a terminal; say --yes", question)
	}
	return p.agrees(question), nil
}
