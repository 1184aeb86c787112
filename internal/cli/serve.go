package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/history"
	"zincdoor/internal/memory"
	"zincdoor/internal/service"
)

// serveFlags are the flags of zincdoor serve.
type serveFlags struct {
	store, address   string
	certificate, key string
	quiet            bool
}

func (p *program) serve() *cobra.Command {
	var flags serveFlags
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Show what is recorded of many repositories as pages",
		Long: `Show what is recorded of many repositories as pages for a browser: how each of them stands, how its findings grew and shrank, its verdicts, and the life of a finding. Nothing can be changed there.

Records are read where gate --record puts them: the store of the repository at hand, or of --store. Who can reach the address can read all of it; it listens on this machine alone unless --address says otherwise. A line for each request goes to standard error, as JSON.`,
		Example: "zincdoor serve --address 127.0.0.1:7312\nzincdoor serve --store postgres://records.brackwater.example/zincdoor",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if address, err := url.Parse(flags.store); err == nil && history.IsServer(flags.store) {
				if _, secret := address.User.Password(); secret {
					return errors.New("a command line can be read by others, so no password belongs into --store; set PGPASSWORD, or ZINCDOOR_HISTORY in its place")
				}
			}
			if (flags.certificate == "") != (flags.key == "") {
				return errors.New("TLS takes both: --tls-certificate FILE and --tls-key FILE")
			}
			return p.runServe(cmd.Context(), flags)
		},
	}
	p.group(cmd, "Service", func(f *pflag.FlagSet) {
		f.StringVar(&flags.store, "store", "", "`PLACE`|a file, or postgres://… without a password; else as history has it")
		f.StringVar(&flags.address, "address", "127.0.0.1:7312", "`HOST:PORT`|where to listen; port 0 for any free one")
		f.StringVar(&flags.certificate, "tls-certificate", "", "answer by TLS, with the certificate in `FILE` (PEM)")
		f.StringVar(&flags.key, "tls-key", "", "the certificate's key is in `FILE` (PEM)")
		f.BoolVarP(&flags.quiet, "quiet", "q", false, "no line for each request")
	})
	return cmd
}

func (p *program) runServe(ctx context.Context, flags serveFlags) error {
	dir, err := workingDir()
	if err != nil {
		return err
	}
	place := app.Place{File: flags.store, Option: "--store", Environment: os.Getenv("ZINCDOOR_HISTORY")}
	if history.IsServer(flags.store) {
		place = app.Place{Environment: flags.store}
	}
	records, err := app.OpenRecords(ctx, dir, place)
	if err != nil {
		return graded(err)
	}
	defer records.Close()
	memory.KeepLean()
	o := service.Options{Records: records}
	if !flags.quiet {
		o.Log = slog.New(slog.NewJSONHandler(p.err, nil))
	}
	listener, err := net.Listen("tcp", flags.address)
	if err != nil {
		return unjudged{fmt.Errorf("it can't listen at %s: %w; name another place with --address", flags.address, err)}
	}
	scheme := "http"
	server := &http.Server{
		Handler: service.New(o).Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 20 * time.Second, WriteTimeout: 40 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10,
		ErrorLog: slog.NewLogLogger(slog.NewJSONHandler(p.err, nil), slog.LevelWarn),
	}
	if flags.certificate != "" {
		pair, err := tls.LoadX509KeyPair(flags.certificate, flags.key)
		if err != nil {
			listener.Close()
			return fmt.Errorf("TLS: %w", err)
		}
		scheme = "https"
		listener = tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	}
	p.tell(p.out, "pages at %s://%s\n", scheme, listener.Addr())
	return p.answer(ctx, server, listener)
}

// lastWords is how long requests that are being answered may go on once the service is to end.
const lastWords = 800 * time.Millisecond

// answer answers until the call is ended, and lets what is being answered end.
func (p *program) answer(ctx context.Context, server *http.Server, listener net.Listener) error {
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	select {
	case err := <-ended:
		return unjudged{err}
	case <-ctx.Done():
	}
	last, done := context.WithTimeout(context.Background(), lastWords)
	defer done()
	if err := server.Shutdown(last); err != nil {
		server.Close()
	}
	<-ended
	return nil
}
