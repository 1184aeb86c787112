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
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/app"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/history"
	"zincdoor/internal/memory"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service"
	"zincdoor/internal/service/jobs"
	"zincdoor/internal/service/ledger"
)

// serveFlags are the flags of zincdoor serve.
type serveFlags struct {
	store, address   string
	certificate, key string
	settings         string
	mirrors          string
	quiet, proxy     bool
}

func (p *program) serve() *cobra.Command {
	var flags serveFlags
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "One place for many repositories: judge there, show pages",
		Long: `Show what is recorded of many repositories as pages for a browser: how each of them stands, how its findings grew and shrank, its pull requests and verdicts, what is accepted and until when, the life of a finding.

With --settings FILE it also takes reports that CI sends (zincdoor report send), judges a pull request once all that its door needs has come, brings the verdict to the code host, and notifies people when a guarded branch's door changes. Any number of instances share the work over one PostgreSQL.

Records are read where gate --record puts them: the store of the repository at hand, or of --store; outside of any repository, zincdoor.db in this folder. It listens on this machine alone unless --address says otherwise. What was taken and refused, and a line for each request, goes to standard error as JSON.`,
		Example: "zincdoor serve --address 127.0.0.1:7312\nzincdoor serve --settings service.yaml --store postgres://records.example/door",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return p.commandsOnly(cmd, args)
			}
			if (flags.certificate == "") != (flags.key == "") {
				return errors.New("TLS takes both: --tls-certificate FILE and --tls-key FILE")
			}
			return p.runServe(cmd.Context(), flags)
		},
	}
	cmd.AddCommand(p.token())
	p.group(cmd, "Service", func(f *pflag.FlagSet) {
		addStore(f, &flags.store)
		f.StringVar(&flags.settings, "settings", "", "the repositories, and who is notified, are in `FILE` (YAML)")
		f.StringVar(&flags.mirrors, "mirrors", "", "keep copies of the repositories in `FOLDER`; else beside the store")
		f.StringVar(&flags.address, "address", "127.0.0.1:7312", "`HOST:PORT`|where to listen; port 0 for any free one")
		f.StringVar(&flags.certificate, "tls-certificate", "", "answer by TLS, with the certificate in `FILE` (PEM)")
		f.StringVar(&flags.key, "tls-key", "", "the certificate's key is in `FILE` (PEM)")
		f.BoolVar(&flags.proxy, "behind-proxy", false, "believe X-Forwarded-For and X-Forwarded-Proto")
		f.BoolVarP(&flags.quiet, "quiet", "q", false, "no line for each request")
	})
	return cmd
}

// openRecords opens the store of a service.
func openRecords(ctx context.Context, store string) (*app.Records, error) {
	if address, err := url.Parse(store); err == nil && history.IsServer(store) {
		if _, secret := address.User.Password(); secret {
			return nil, errors.New("a command line can be read by others, so no password belongs into --store; set PGPASSWORD, or ZINCDOOR_HISTORY in its place")
		}
	}
	dir, err := workingDir()
	if err != nil {
		return nil, err
	}
	place := app.Place{File: store, Option: "--store", Environment: os.Getenv("ZINCDOOR_HISTORY"), Otherwise: "zincdoor.db"}
	if history.IsServer(store) {
		place.File, place.Environment = "", store
	}
	records, err := app.OpenRecords(ctx, dir, place)
	return records, graded(err)
}

// lineLog writes lines of JSON to standard error.
func (p *program) lineLog() *slog.Logger { return slog.New(slog.NewJSONHandler(p.err, nil)) }

func (p *program) runServe(ctx context.Context, flags serveFlags) error {
	settings, hosts, err := readSettings(flags.settings)
	if err != nil {
		return err
	}
	records, err := openRecords(ctx, flags.store)
	if err != nil {
		return err
	}
	defer records.Close()
	memory.KeepLean()
	o := service.Options{Records: records, Settings: settings, Secret: os.Getenv, Log: p.lineLog(), Requests: !flags.quiet, Proxy: flags.proxy, Metrics: service.NewMetrics()}
	if o.Ledger, err = ledger.Open(ctx, records.Store()); err != nil {
		return unjudged{err}
	}
	if settings != nil && len(settings.Repositories) > 0 {
		mirrors, err := mirrorsFolder(flags.mirrors, records.Place())
		if err != nil {
			return unjudged{err}
		}
		o.Jobs, err = jobs.Open(ctx, jobs.Options{Store: records.Store(), Ledger: o.Ledger, Settings: settings, Hosts: hosts, Mirrors: mirrors, Secret: os.Getenv, Now: time.Now, Log: o.Log, Seen: o.Metrics})
		if err != nil {
			return unjudged{err}
		}
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
	if o.Jobs != nil {
		if err := o.Jobs.Start(ctx); err != nil {
			listener.Close()
			return unjudged{err}
		}
		needToEnd(ctx, lastWords+lastWork+3*time.Second)
		defer func() {
			last, done := context.WithTimeout(context.Background(), lastWork)
			defer done()
			o.Jobs.Stop(last)
		}()
	}
	p.tell(p.out, "pages at %s://%s\n", scheme, listener.Addr())
	return p.answer(ctx, server, listener)
}

// mirrorsFolder is the folder for copies of repositories, where the call names none: beside the store, or in the user's cache where that
// is a server.
func mirrorsFolder(named, place string) (string, error) {
	switch {
	case named != "":
		return filepath.Abs(named)
	case !history.IsServer(place):
		return filepath.Abs(place + ".mirrors")
	}
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "zincdoor", "mirrors"), err
}

// readSettings reads the settings of a service, and the recipes of the code hosts that they name; nil where there are none. Every
// environment variable that they name must be there.
func readSettings(file string) (*policyfile.Service, map[string]*policy.Host, error) {
	if file == "" {
		return nil, nil, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, fmt.Errorf("--settings: %w", err)
	}
	s, err := policyfile.ReadService(file, data)
	if err != nil {
		return nil, nil, err
	}
	hosts, read := map[string]*policy.Host{}, map[string]*policy.Host{}
	for _, r := range s.Repositories {
		if r.Host == "" {
			continue
		}
		at := r.Host
		if !filepath.IsAbs(at) {
			at = filepath.Join(filepath.Dir(file), at)
		}
		if read[at] == nil {
			data, err := os.ReadFile(at)
			if err != nil {
				return nil, nil, fmt.Errorf("repository %s: its host recipe can't be read: %w", r.Name, err)
			}
			if read[at], err = policyfile.ReadHost(at, data); err != nil {
				return nil, nil, err
			}
		}
		hosts[r.Name] = read[at]
	}
	for _, name := range s.Variables() {
		if os.Getenv(name) == "" {
			return nil, nil, fmt.Errorf("%s: the environment variable %s, which it names, is empty or not set", file, name)
		}
	}
	return s, hosts, nil
}

// How long things may go on once the service is to end: requests that are being answered, and jobs that are being done.
const (
	lastWords = 800 * time.Millisecond
	lastWork  = 10 * time.Second
)

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
