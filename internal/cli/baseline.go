package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/render"
)

func (p *program) baseline() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "baseline",
		Short: "Keep the list of accepted findings",
		Long:  `Keep the baseline: the list of accepted findings. It is a file of the repository (.zincdoor/baseline.jsonl, or where the policy says), one entry a line. Commit it with the code it is about.`,
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
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
	progress := newProgress(p.err)
	s, err := app.OpenSurvey(ctx, app.SurveyRequest{Call: request.Call, Reports: request.Reports.Given, Fresh: request.Reports.Fresh, Anew: anew, Tell: progress.show})
	progress.end()
	return s, graded(err)
}

// reasonFlags say why findings are accepted.
type reasonFlags struct {
	why, reason, until, link, owner string
}

func (r *reasonFlags) add(f *pflag.FlagSet, why baseline.Why) {
	usage := "`KIND`|of reason: true but not now, no fault, or a deliberate exception:"
	if why != "" {
		usage = fmt.Sprintf("`KIND`|of reason, else %s:", why)
	}
	f.StringVar(&r.why, "why", string(why), usage)
	values(f, "why", words(baseline.Whys)...)
	f.StringVar(&r.reason, "reason", "", "the reason in your own `WORDS`")
	f.StringVar(&r.until, "until", "", "until `DATE`, included: 2027-02-01, or from today 90d, 12w, 6m")
	f.StringVar(&r.owner, "owner", "", "`NAME` is to put it right; else the file's team, else who wrote the line")
	f.StringVar(&r.link, "link", "", "where more is written, as `URL`")
}

// reasons are what the flags say, with who says it and when.
func (r *reasonFlags) reasons(today, author string) (baseline.Entry, error) {
	until, err := policy.EndDate(r.until, today)
	if err != nil {
		return baseline.Entry{}, err
	}
	if err := r.checkWhy(); err != nil {
		return baseline.Entry{}, err
	}
	return baseline.Entry{Why: baseline.Why(r.why), Reason: r.reason, Until: until, Link: r.link, Owner: r.owner, By: author, On: today}, nil
}

func (r *reasonFlags) checkWhy() error { return checkValue("why", r.why, words(baseline.Whys)) }

// mostShown is how many entries are shown before a question.
const mostShown = 20

// show lists entries for people, a line each.
func (p *program) show(entries []baseline.Entry, most int) {
	for i, e := range entries {
		if i == most && len(entries) > most+1 {
			p.tell(p.err, "  and %d more\n", len(entries)-most)
			return
		}
		p.tell(p.err, "  %s\n", render.Entry(e))
	}
}

// confirm shows what is about to happen and asks; where nobody can be asked, yes must have been said.
func (p *program) confirm(yes bool, question string, entries []baseline.Entry) (bool, error) {
	if yes {
		return true, nil
	}
	p.show(entries, mostShown)
	if !p.atTerminal() {
		return false, fmt.Errorf("%s There is no terminal to ask on: say --yes", question)
	}
	return p.agrees(question), nil
}
