package cli

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
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
	if err := furnishLedger(ctx, records, kept); err != nil {
		return err
	}
	return p.answer(ctx, &http.Server{Handler: service.New(service.Options{Records: records, Ledger: kept, Now: now}).Handler(), ReadHeaderTimeout: 10 * time.Second}, listener)
}

// made-up pull requests: their titles, and the reports that each still waits for.
var demoPulls = []struct {
	title   string
	lacking []string
}{{"Receipts", nil}, {"Spring tides on the boards", []string{"compiler"}}, {"Ask for the day once", nil}}

// furnishLedger adds what the service knows beside records: what each branch accepts, and open pull requests.
func furnishLedger(ctx context.Context, records *app.Records, kept *ledger.Ledger) error {
	branches, err := records.Branches(ctx, "")
	if err != nil {
		return err
	}
	for n, b := range branches {
		made, _, err := records.Record(ctx, b.ID)
		if err != nil {
			return err
		}
		var all []app.Acceptance
		for i, f := range made.Verdict.Findings {
			if f.Standing != judge.Accepted {
				continue
			}
			e := baseline.Entry{Path: f.Path, Tool: f.Tool, Rule: f.Rule, Message: f.Message, Severity: f.Severity, Why: baseline.Debt, By: "Ida Strand", On: "2026-04-06"}
			if i%3 > 0 {
				e.Until = demo.HalfYearEnd.AddDate(0, 0, 5+17*(i+n)%190).Format(time.DateOnly)
			}
			all = append(all, app.Acceptance{Entry: e, ID: f.ID, Owner: f.Team})
		}
		if err := kept.SetAcceptances(ctx, b.Repository, b.Branch, all, nil); err != nil {
			return err
		}
		is := demoPulls[n%len(demoPulls)]
		err = kept.Update(ctx, b.Repository, ledger.PullName(fmt.Sprint(41+n)), func(_ *sql.Tx, s *ledger.Subject) error {
			s.Head, s.Target, s.Title, s.Lacking, s.Seen = b.Head, "main", is.title, is.lacking, demo.HalfYearEnd.Add(-time.Duration(n+1)*time.Hour)
			if len(is.lacking) == 0 {
				s.Judged, s.Record, s.Sent, s.Outcome, s.Door, s.Time = b.Head, b.ID, b.ID, b.Outcome, b.Door, b.Time
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
