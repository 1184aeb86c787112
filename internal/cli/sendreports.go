package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/render"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/service/client"
)

func (p *program) report() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "report",
		Short: "Send reports to a service",
		Long:  "Send the reports of linters to a service (zincdoor serve), which judges once all that a door needs has come.",
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.sendReports())
	return cmd
}

// serviceToken is the environment variable with the token for a service, where the call names no other.
const serviceToken = "ZINCDOOR_SERVICE_TOKEN"

// sendFlags are the flags of zincdoor report send.
type sendFlags struct {
	address, repository, commit, pull string
	tokenFrom, roots                  string
	plain                             bool
	patience                          time.Duration
	reports, sealed                   []string
}

func (p *program) sendReports() *cobra.Command {
	var flags sendFlags
	cmd := &cobra.Command{
		Use:   "send",
		Short: "Send reports of a commit to a service",
		Long: `Send reports of a commit to a service. A report is called as in the policy of the repository. The same content again is fine; other content for the same commit and name is refused, unless the token has the right to replace it.

With --sealed an envelope (zincdoor seal) goes along, for a policy that asks for sealed reports. It serves in the place of a token too: what a key of the policy sealed for the commit is taken by that alone.

It is sent again while the service can't be reached or asks to come later. The token is taken from the environment, and is never written anywhere.

Exit codes: 0 all were taken; 2 the service can't be reached or refuses one; 3 the call is wrong.`,
		Example: `zincdoor report send --service https://records.example --report vet=vet.json
zincdoor report send --service http://127.0.0.1:7312 --pull 1 --report cc=r`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runSend(cmd.Context(), flags) },
	}
	p.group(cmd, "Service", func(f *pflag.FlagSet) {
		f.StringVar(&flags.address, "service", "", "`URL`|where the service is")
		f.StringVar(&flags.tokenFrom, "token-from", "", "the token's environment variable `NAME`; else "+serviceToken)
		f.StringVar(&flags.roots, "ca", "", "trust the certificates in `FILE` (PEM) too")
		f.BoolVar(&flags.plain, "plain-http", false, "let the token go to another machine unencrypted")
		f.DurationVar(&flags.patience, "patience", 5*time.Minute, "`TIME`|how long to send a report again")
	})
	p.group(cmd, reportsHeading, func(f *pflag.FlagSet) {
		f.StringArrayVar(&flags.reports, "report", nil, "`NAME=FILE`|a report, called as in the policy; repeatable")
		f.StringArrayVar(&flags.sealed, "sealed", nil, "`FILE`|an envelope about the reports, or a sealed verdict; repeatable")
		f.StringVar(&flags.commit, "commit", "HEAD", "`REV`|the commit that it was made at")
		f.StringVar(&flags.pull, "pull", "", "the pull request's number `N`, where there is one")
		f.StringVar(&flags.repository, "repository", "", "`NAME`|as the service calls it; else as history does")
	})
	return cmd
}

func (p *program) runSend(ctx context.Context, flags sendFlags) error {
	switch {
	case flags.address == "":
		return errors.New("name the service: --service https://records.example")
	case len(flags.reports)+len(flags.sealed) == 0:
		return errors.New("name what to send: --report NAME=FILE, as the policy calls it")
	}
	s := client.Service{Address: flags.address, Plain: flags.plain, Patience: flags.patience, Tell: func(text string) { p.tell(p.err, "zincdoor: %s\n", render.Safe(text)) }}
	variable := serviceToken
	if flags.tokenFrom != "" {
		variable = flags.tokenFrom
	}
	if s.Token = strings.TrimSpace(os.Getenv(variable)); s.Token == "" && (len(flags.sealed) == 0 || flags.tokenFrom != "") {
		return fmt.Errorf("the environment variable %s, for the token, is empty or not set; who runs the service makes one: zincdoor serve token make; or seal what you send: --sealed FILE", variable)
	}
	os.Unsetenv(variable)
	var err error
	if flags.roots != "" {
		if s.Roots, err = os.ReadFile(flags.roots); err != nil {
			return fmt.Errorf("--ca: the certificates can't be read: %w", err)
		}
	}
	c, err := client.New(s)
	if err != nil {
		return err
	}
	dir, err := workingDir()
	if err != nil {
		return err
	}
	repository, commit, err := app.CommitToSend(ctx, dir, flags.repository, flags.commit)
	if err != nil {
		return graded(err)
	}
	all, err := flags.contents()
	if err != nil {
		return err
	}
	for _, r := range all {
		r.Repository, r.Commit, r.Pull = repository, commit, flags.pull
		answer, err := c.Send(ctx, r)
		if err != nil {
			return unjudged{fmt.Errorf("the report %s isn't sent: %w", r.Name, err)}
		}
		p.tell(p.out, "%s %s, %s of %.10s\n", answer.State, render.Safe(r.Name), render.ByteCount(answer.Size), commit)
	}
	return nil
}

// contents are what is to be sent: envelopes first, so that no report waits for its own.
func (s *sendFlags) contents() (all []client.Report, err error) {
	var envelopes []*seal.Envelope
	for _, file := range s.sealed {
		e, data, err := sealed.ReadFile(file)
		switch {
		case errors.Is(err, seal.ErrMalformed):
			return nil, fmt.Errorf("--sealed %s: %w", file, err)
		case err != nil:
			return nil, unjudged{fmt.Errorf("the envelope %s can't be read: %w; nothing was sent", file, err)}
		}
		envelopes = append(envelopes, e)
		all = append(all, client.Report{Name: sealed.SentName(e), Content: data, Seal: data})
	}
	files, err := namedReports(s.reports)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		content, err := os.ReadFile(file.Path)
		if err != nil {
			return nil, unjudged{fmt.Errorf("the report %s can't be read: %w; nothing was sent", file.Name, err)}
		}
		r := client.Report{Name: file.Name, Content: content}
		for n, e := range envelopes {
			if e.Statement.Reports != nil && e.Statement.Reports.Named(file.Name) != nil {
				r.Seal = all[n].Content
			}
		}
		all = append(all, r)
	}
	return all, nil
}
