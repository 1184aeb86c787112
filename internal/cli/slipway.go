package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/render"
	"zincdoor/internal/slipway"
)

func (p *program) slipway() *cobra.Command {
	var options slipway.Options
	var listen, rate string
	var quiet bool
	cmd := &cobra.Command{
		Use:   "slipway",
		Short: "Run a small stand-in of a code host, to try reviews with",
		Long: `Run a small code host of our own on this machine: git over HTTP, users with tokens, pull requests, comments on lines, statuses, guarded branches, webhooks, and a page for each pull request. Its interface is slipway/1 (docs/slipway.md); its host recipe is printed by zincdoor slipway --recipe. It is for trying things out, not for work that matters.

All its data is in one folder. When that is new, the token of the first user, who may do everything, is written to the file owner.token in it.`,
		Example: "zincdoor slipway --recipe > slipway.yaml\nzincdoor slipway --data quay --trouble 503,cut",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if recipe, _ := cmd.Flags().GetBool("recipe"); recipe {
				_, err := p.out.Write(slipway.Recipe)
				return err
			}
			if options.Dir == "" {
				return errors.New("name the folder for its data: zincdoor slipway --data DIR")
			}
			if rate != "" {
				if options.Rate, err = slipway.ParseRate(rate); err != nil {
					return fmt.Errorf("--rate: %w", err)
				}
			}
			if !quiet {
				options.Log = func(line string) { p.tell(p.err, "%s\n", render.Safe(line)) }
			}
			return p.runSlipway(cmd.Context(), options, listen)
		},
	}
	p.group(cmd, "Slipway", func(f *pflag.FlagSet) {
		f.StringVar(&options.Dir, "data", "", "keep everything in the folder `DIR`")
		f.StringVar(&listen, "listen", "127.0.0.1:7311", "`HOST:PORT`|where to listen; port 0 for any free one")
		f.StringVar(&rate, "rate", "", "`CALLS/TIME`|how many calls each user may make, as in 60/1m")
		f.StringSliceVar(&options.Trouble, "trouble", nil, "`KIND`|make trouble for clients, one or several of:")
		values(f, "trouble", slipway.Troubles...)
		f.BoolVarP(&quiet, "quiet", "q", false, "no line for each call")
		f.Bool("recipe", false, "print the host recipe for it, and end")
	})
	return cmd
}

// runSlipway answers until the call is ended.
func (p *program) runSlipway(ctx context.Context, o slipway.Options, listen string) error {
	s, err := slipway.Open(o)
	if err != nil {
		return unjudged{fmt.Errorf("the slipway can't be opened: %w", err)}
	}
	defer s.Close()
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return unjudged{fmt.Errorf("it can't listen at %s: %w; name another place with --listen", listen, err)}
	}
	fmt.Fprintf(p.out, "slipway at http://%s, the first user's token in %s\n", listener.Addr(), render.Safe(filepath.Join(o.Dir, slipway.OwnerFile)))
	server := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	return p.answer(ctx, server, listener)
}
