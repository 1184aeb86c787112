package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/render"
	"zincdoor/internal/service/ledger"
)

func (p *program) token() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Make, list and revoke the tokens of a service",
		Long:  "Make, list and revoke the tokens by which reports are sent to a service, and by which its pages are read. They are kept in the service's store, as hashes.",
		Args:  cobra.ArbitraryArgs,
		RunE:  p.commandsOnly,
	}
	cmd.AddCommand(p.makeToken(), p.listTokens(), p.revokeToken())
	return cmd
}

// tokenFlags are the flags of zincdoor serve token make.
type tokenFlags struct {
	store, repository, pull, until, note string
	lasts                                time.Duration
	rights                               []string
	all                                  bool
}

func addStore(f *pflag.FlagSet, store *string) {
	f.StringVar(store, "store", "", "`PLACE`|a file, or postgres://… without a password; else as history has it")
}

func (p *program) makeToken() *cobra.Command {
	var flags tokenFlags
	cmd := &cobra.Command{
		Use:   "make",
		Short: "Make a token",
		Long: `Make a token, and print it: it is shown this once alone. It is for one repository, or for all of them, and for sending reports unless --right says otherwise.

A token for one pull request (--pull) is what a run of a fork gets: what it sends serves that pull request and nothing else.`,
		Example: `zincdoor serve token make --repository tideboard --note "CI of tideboard"
zincdoor serve token make --repository tideboard --pull 12 --for 2h
zincdoor serve token make --all --right read --until 2027-06-30`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.runMakeToken(cmd.Context(), flags) },
	}
	p.group(cmd, "Token", func(f *pflag.FlagSet) {
		f.StringVar(&flags.repository, "repository", "", "`NAME`|the repository that it is for")
		f.BoolVar(&flags.all, "all", false, "it is for all repositories")
		f.StringVar(&flags.pull, "pull", "", "it is for the pull request `N` alone")
		f.StringSliceVar(&flags.rights, "right", []string{string(ledger.Send)}, "`RIGHTS`|what it is for, comma-separated:")
		values(f, "right", "send", "replace", "read")
		f.StringVar(&flags.until, "until", "", "`DAY`|it counts up to that day, as in 2027-06-30")
		f.DurationVar(&flags.lasts, "for", 0, "`TIME`|it counts so long from now on, as in 2h")
		f.StringVar(&flags.note, "note", "", "`TEXT`|what it is for, for people")
	})
	p.group(cmd, "Service", func(f *pflag.FlagSet) { addStore(f, &flags.store) })
	return cmd
}

func (p *program) runMakeToken(ctx context.Context, flags tokenFlags) error {
	now := time.Now()
	t := &ledger.Token{Repository: flags.repository, Pull: flags.pull, Note: flags.note, Made: now}
	switch {
	case (flags.repository == "") != flags.all:
		return errors.New("name the repository with --repository, or say --all")
	case flags.pull != "" && flags.all:
		return errors.New("a pull request is one of a repository: --repository NAME --pull N")
	case flags.until != "" && flags.lasts != 0:
		return errors.New("either --until or --for")
	case flags.lasts < 0:
		return errors.New("--for is a time from now on, as in 2h")
	case flags.lasts > 0:
		t.Ends = now.Add(flags.lasts)
	case flags.until != "":
		day, err := time.Parse(time.DateOnly, flags.until)
		if err != nil {
			return fmt.Errorf("--until is a day like 2027-06-30, not %q", flags.until)
		}
		if t.Ends = day.AddDate(0, 0, 1); !t.Ends.After(now) {
			return fmt.Errorf("--until: %s is over", flags.until)
		}
	}
	for _, right := range flags.rights {
		if !slices.Contains(ledger.Rights, ledger.Right(right)) {
			return fmt.Errorf("--right is one of send, replace, read, not %q", right)
		}
		t.Rights = append(t.Rights, ledger.Right(right))
	}
	if flags.pull != "" && slices.Contains(t.Rights, ledger.Read) {
		return errors.New("reading isn't for one pull request: make a token of its own for that, without --pull")
	}
	return p.withLedger(ctx, flags.store, func(l *ledger.Ledger) error {
		text, err := l.MakeToken(ctx, t)
		if err != nil {
			return unjudged{err}
		}
		fmt.Fprintln(p.out, text)
		p.tell(p.err, "zincdoor: this is shown once; %s names it: zincdoor serve token revoke %s\n", t.ID, t.ID)
		return nil
	})
}

// withLedger opens the ledger of a service for a while.
func (p *program) withLedger(ctx context.Context, store string, do func(*ledger.Ledger) error) error {
	records, err := openRecords(ctx, store)
	if err != nil {
		return err
	}
	defer records.Close()
	l, err := ledger.Open(ctx, records.Store())
	if err != nil {
		return unjudged{err}
	}
	return do(l)
}

func (p *program) listTokens() *cobra.Command {
	var store string
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List the tokens, without their secrets",
		Long:    "List the tokens of a service: what each is for, since when, until when. Their secrets are known nowhere.",
		Example: "zincdoor serve token list",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.withLedger(cmd.Context(), store, func(l *ledger.Ledger) error {
				all, err := l.Tokens(cmd.Context())
				if err != nil {
					return unjudged{err}
				}
				if len(all) == 0 {
					p.tell(p.out, "there is no token; make one: zincdoor serve token make --repository NAME\n")
					return nil
				}
				var rows [][]string
				for _, t := range all {
					rows = append(rows, []string{t.ID, tokenScope(t), rightsOf(t), t.Made.UTC().Format("2006-01-02 15:04"), tokenEnd(t), t.Note})
				}
				return render.Table(p.out, []string{"token", "for", "rights", "made (UTC)", "until (UTC)", "note"}, rows)
			})
		},
	}
	p.group(cmd, "Service", func(f *pflag.FlagSet) { addStore(f, &store) })
	return cmd
}

func tokenScope(t ledger.Token) string {
	switch {
	case t.Repository == "":
		return "all repositories"
	case t.Pull != "":
		return render.Safe(t.Repository + ", pull request " + t.Pull)
	}
	return render.Safe(t.Repository)
}

func rightsOf(t ledger.Token) string {
	var all []string
	for _, right := range t.Rights {
		all = append(all, string(right))
	}
	return strings.Join(all, ", ")
}

func tokenEnd(t ledger.Token) string {
	switch {
	case !t.Revoked.IsZero():
		return "revoked " + t.Revoked.UTC().Format("2006-01-02 15:04")
	case t.Ends.IsZero():
		return "no end"
	}
	return t.Ends.UTC().Format("2006-01-02 15:04")
}

func (p *program) revokeToken() *cobra.Command {
	var store string
	cmd := &cobra.Command{
		Use:     "revoke ID",
		Short:   "Have a token count no more",
		Long:    "Have a token count no more, from this moment on. What was sent by it stays.",
		Example: "zincdoor serve token revoke 5d01c2a7",
		Args:    arguments("the id of a token"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, _, _ := strings.Cut(args[0], ".")
			return p.withLedger(cmd.Context(), store, func(l *ledger.Ledger) error {
				known, err := l.Revoke(cmd.Context(), id, time.Now())
				switch {
				case err != nil:
					return unjudged{err}
				case !known:
					return fmt.Errorf("there is no token %q; zincdoor serve token list shows all", id)
				}
				p.tell(p.out, "revoked %s\n", id)
				return nil
			})
		},
	}
	p.group(cmd, "Service", func(f *pflag.FlagSet) { addStore(f, &store) })
	return cmd
}
