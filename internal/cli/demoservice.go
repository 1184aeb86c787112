package cli

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/demo"
	"zincdoor/internal/service"
	"zincdoor/internal/service/ledger"
)

// playService shows pages of the operator's repositories until the call is ended, and leaves nothing behind.
func (p *program) playService(ctx context.Context) error {
	folder, err := os.MkdirTemp("", "fleet-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	var lines bytes.Buffer
	if err := demo.RememberFleet(&lines); err != nil {
		return err
	}
	place := app.Place{File: filepath.Join(folder, "records.db")}
	if _, err := app.ImportLines(ctx, app.Call{Dir: folder}, place, &lines); err != nil {
		return err
	}
	records, err := app.OpenRecords(ctx, folder, place)
	if err != nil {
		return err
	}
	defer records.Close()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "pages of %d repositories at http://%s until Ctrl-C; the half year ends in September 2026\n", len(demo.Fleet), listener.Addr())
	now := func() time.Time { return demo.HalfYearEnd }
	kept, err := ledger.Open(ctx, records.Store())
	if err != nil {
		return err
	}
	return p.answer(ctx, &http.Server{Handler: service.New(service.Options{Records: records, Ledger: kept, Now: now}).Handler(), ReadHeaderTimeout: 10 * time.Second}, listener)
}
