package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/gate"
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

// survey is the work tree's findings, and the list that some of them are accepted in.
type survey struct {
	*gate.Result
	judge.Verdict
	file string // the list, on this machine
}

// survey reads the reports, all of which must be sound.
func (p *program) survey(ctx context.Context, evidence evidenceFlags, anew bool) (*survey, error) {
	request, err := evidence.request(p.in)
	if err != nil {
		return nil, err
	}
	if evidence.baseline != "" {
		return nil, fmt.Errorf("--baseline has no place here: the list that is kept is the one of the policy")
	}
	if err := oneStdin(request); err != nil {
		return nil, err
	}
	request.Anew = anew
	result, err := gate.Survey(ctx, request)
	if err != nil {
		return nil, graded(err)
	}
	for _, e := range result.Case.Evidence {
		if !e.Sound() {
			name := e.Name
			if name == "" {
				return nil, unjudged{errors.New(e.Problem)}
			}
			return nil, unjudged{fmt.Errorf("%s is no evidence (%s), so nothing is changed: %s", name, e.State, e.Problem)}
		}
	}
	return &survey{
		Result: result, Verdict: judge.Judge(result.Case),
		file: filepath.Join(result.Root, filepath.FromSlash(result.BaselinePath)),
	}, nil
}

// entryFor describes a present finding.
func (s *survey) entryFor(f judge.Finding, reasons baseline.Entry) baseline.Entry {
	return s.Case.Policy.EntryFor(*f.Finding, f.Severity).For(reasons)
}

// editList changes a list under a lock.
func editList(file string, change func(now *baseline.Baseline) (*baseline.Baseline, error)) error {
	err := baselinefile.Edit(file, func(old *baseline.Baseline, unread error) (*baseline.Baseline, error) {
		if unread != nil {
			return nil, unread
		}
		return change(old)
	})
	return storeError(err)
}

// storeError gives an error of keeping the list its exit code. A wrong call stays one.
func storeError(err error) error {
	var call callError
	if err == nil || errors.As(err, &call) {
		return err
	}
	return unjudged{err}
}

// callError marks a wrong call among errors of keeping the list.
type callError struct{ error }

// errChanged says that another run was faster.
var errChanged = errors.New("the list was changed while this ran; run it again")

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
	f.StringSliceVar(&c.severities, "severity", nil, "those on a `RUNG` of the ladder")
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

// byID finds what the beginnings of ids name, each exactly one. Source tells people where the names come from.
func byID(ids []string, names []string, source string) ([]int, error) {
	var all []int
	for _, id := range ids {
		var at []int
		for i, name := range names {
			if strings.HasPrefix(name, id) && id != "" {
				at = append(at, i)
			}
		}
		switch len(at) {
		case 0:
			return nil, fmt.Errorf("nothing is called %s; the names are those of %s", strconv.Quote(id), source)
		case 1:
			all = append(all, at[0])
		default:
			return nil, fmt.Errorf("%s is the beginning of %d names; write more of it", strconv.Quote(id), len(at))
		}
	}
	slices.Sort(all)
	return slices.Compact(all), nil
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

// entries is a number of entries in words.
func entriesInWords(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return strconv.Itoa(n) + " entries"
}

// accepted tells that findings were accepted into the list.
func (s *survey) accepted(n int) string {
	return fmt.Sprintf("%s accepted in %s", finding.Count(n), render.Safe(s.BaselinePath))
}
