package service

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/history"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/address"
	"zincdoor/internal/service/jobs"
	"zincdoor/internal/service/ledger"
)

// hostile is a text that breaks out of where it stands, if it is let.
const hostile = "<img src=x onerror=\"window.broken=1\">\"'><script>window.broken=1</script>{{.}}\u202e\x1b[31m"

// hostileService serves a store in which every text is hostile.
func hostileService(t *testing.T) (*httptest.Server, string) {
	t.Helper()
	ctx := context.Background()
	place := filepath.Join(t.TempDir(), "records.db")
	store, err := history.Open(ctx, place)
	if err != nil {
		t.Fatal(err)
	}
	for ago := range 3 {
		r := state(hostile, ago, "a1b2c3d4e5f60718", "b1b2c3d4e5f60718")
		r.Verdict.Door, r.Branch = hostile, "refs/heads/"+hostile
		for i := range r.Verdict.Findings {
			f := &r.Verdict.Findings[i]
			f.Message, f.Rule, f.Path, f.Tool, f.Team = hostile, hostile, hostile, hostile, hostile
		}
		if err := store.Put(ctx, r, nil); err != nil {
			t.Fatal(err)
		}
	}
	all, err := store.List(ctx, history.Filter{})
	if err != nil {
		t.Fatal(err)
	}
	store.Close()
	records, err := app.OpenRecords(ctx, filepath.Dir(place), app.Place{File: place})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	kept, err := ledger.Open(ctx, records.Store())
	if err != nil {
		t.Fatal(err)
	}
	accepted := app.Acceptance{Entry: baseline.Entry{Path: hostile, Rule: hostile, Message: hostile, Tool: hostile, Severity: hostile, Why: baseline.Debt, Reason: hostile, By: hostile, On: "2026-10-01", Until: "2026-12-01"}, ID: "a1b2c3d4e5f60718", Owner: hostile}
	if err := kept.SetAcceptances(ctx, hostile, "refs/heads/"+hostile, []app.Acceptance{accepted}, []string{hostile}); err != nil {
		t.Fatal(err)
	}
	err = kept.Update(ctx, hostile, ledger.PullName("7"), func(_ *sql.Tx, s *ledger.Subject) error {
		s.Head, s.Title, s.Target, s.Trouble, s.Door, s.Lacking, s.Seen = strings.Repeat("a", 40), hostile, hostile, hostile, hostile, []string{hostile}, today
		s.Judged, s.Record, s.Outcome = s.Head, all[0].ID, judge.Shut
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	settings := &policyfile.Service{Repositories: []policyfile.ServedRepository{{Name: hostile, Wait: time.Minute, Look: time.Minute}}}
	work, err := jobs.Open(ctx, jobs.Options{Store: records.Store(), Ledger: kept, Settings: settings, Mirrors: t.TempDir(), Now: time.Now, Secret: os.Getenv})
	if err != nil {
		t.Fatal(err)
	}
	errors, _ := json.Marshal([]any{map[string]any{"at": today, "attempt": 12, "error": hostile, "trace": ""}})
	args, _ := json.Marshal(map[string]string{"repository": hostile})
	db, _ := records.Store().Database()
	if _, err := db.Exec("INSERT INTO river_job (state, attempt, max_attempts, kind, queue, priority, args, errors, finalized_at) VALUES ('discarded', 12, 12, 'look', 'default', 1, $1, $2, datetime('now'))", string(args), string(errors)); err != nil {
		t.Fatal(err)
	}
	if dead, err := work.Dead(ctx, 10); err != nil || len(dead) != 1 || dead[0].Error != hostile || dead[0].Tries != 12 {
		t.Fatalf("what was given up: %v, %v", dead, err)
	}
	server := httptest.NewServer(New(Options{Records: records, Ledger: kept, Jobs: work, Settings: settings, Now: func() time.Time { return today }}).Handler())
	t.Cleanup(server.Close)
	return server, all[len(all)-1].ID
}

// checks is what a page is asked in the browser: what is wrong with it, a line each.
const checks = `(() => {
  const wrong = [];
  const name = (e) => e.outerHTML.slice(0, 120);
  const shown = (e) => e.getClientRects().length > 0 && getComputedStyle(e).visibility !== "hidden";
  if (document.documentElement.scrollWidth > innerWidth) wrong.push("wider than the window: " + document.documentElement.scrollWidth + " " + [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > innerWidth && !e.closest(".wide, .code")).map(name).slice(0, 2));
  if (!document.documentElement.lang || document.querySelectorAll("h1").length !== 1 || !document.title) wrong.push("no language, title or one heading");
  for (const e of document.querySelectorAll("input:not([type=hidden]), select, textarea")) if (!e.labels.length && !e.ariaLabel) wrong.push("no label: " + name(e));
  for (const e of document.querySelectorAll("a, button")) if (!e.textContent.trim() && !e.ariaLabel) wrong.push("no name: " + name(e));
  for (const e of document.querySelectorAll("img")) if (!e.alt) wrong.push("no text: " + name(e));
  for (const e of document.querySelectorAll("svg")) if (e.ariaHidden !== "true" && !e.ariaLabel) wrong.push("no name: " + name(e));
  if (window.broken || document.querySelector("img[src=x]")) wrong.push("a text got out of its place");
  for (const e of document.querySelectorAll("script")) if (!e.src.startsWith(location.origin) && location.pathname !== "/record") wrong.push("a script of somebody's: " + name(e));
  const parse = (c) => { const m = c.match(/[\d.]+/g).map(Number); return {r: m[0], g: m[1], b: m[2], a: m[3] === undefined ? 1 : m[3]}; };
  const light = (c) => { const f = (v) => (v /= 255) <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; return 0.2126 * f(c.r) + 0.7152 * f(c.g) + 0.0722 * f(c.b); };
  const ground = (e) => { for (; e; e = e.parentElement) { const c = parse(getComputedStyle(e).backgroundColor); if (c.a === 1) return c; } return parse(matchMedia("(prefers-color-scheme: dark)").matches ? "rgb(0,0,0)" : "rgb(255,255,255)"); };
  const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  const seen = new Set();
  while (walk.nextNode()) {
    const e = walk.currentNode.parentElement;
    if (!walk.currentNode.data.trim() || seen.has(e) || !shown(e)) continue;
    seen.add(e);
    const style = getComputedStyle(e), size = parseFloat(style.fontSize);
    const large = size >= 24 || size >= 18.66 && style.fontWeight >= 700;
    const [a, b] = [light(parse(style.color)), light(ground(e))];
    const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
    if (ratio < (large ? 3 : 4.5)) wrong.push("contrast " + ratio.toFixed(2) + ": " + name(e));
  }
  return JSON.stringify(wrong);
})()`

// stops are what the tabulator comes to, in order, with whether that can be seen.
const stops = `(() => { const e = document.activeElement; if (!e || e === document.body) return ""; const s = getComputedStyle(e); return e.tagName + (s.outlineStyle !== "none" && parseFloat(s.outlineWidth) > 0 ? "" : " unseen") + " " + [...document.querySelectorAll("*")].indexOf(e); })()`

const mainText = `document.querySelector("main").innerText`

// evaluated is what a script gives.
func evaluated[T any](t *testing.T, ctx context.Context, script string) T {
	t.Helper()
	is, err := chromedp.Run(ctx, chromedp.Evaluate[T](script))
	if err != nil {
		t.Fatal(err)
	}
	return is
}

// TestBrowser: each page in a real browser, at three widths, light and dark: nothing is said on its console, nothing stands out of it,
// everything has a name and can be read and reached by keys; and without scripts it has the same text.
func TestBrowser(t *testing.T) {
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("ZINCDOOR_BROWSER") != "" {
			t.Fatal("there is no chromium")
		}
		t.Skip("there is no chromium")
	}
	server, record := hostileService(t)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))
	allocated, end := chromedp.NewExecAllocator(t.Context(), options...)
	defer end()
	ctx, leave := chromedp.NewContext(allocated)
	defer leave()
	must := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := chromedp.Do(ctx, steps...); err != nil {
			t.Fatal(err)
		}
	}
	must(chromedp.Navigate("about:blank"))
	var mutex sync.Mutex
	var said []string
	note := func(format string, args ...any) {
		mutex.Lock()
		defer mutex.Unlock()
		said = append(said, fmt.Sprintf(format, args...))
	}
	err = chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			note("console %s", e.Type)
		case *runtime.EventExceptionThrown:
			note("exception: %s", e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			if !strings.Contains(e.Entry.URL, "favicon") {
				note("%s: %s", e.Entry.Text, e.Entry.URL)
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	const words = "q"
	pages := []string{
		"/", address.Repository(hostile), address.Of("/records", "name", hostile), address.Of("/findings", "record", record), address.Of("/finding", "record", record, "id", "a1b2c3d4e5f60718"),
		"/changes", address.Of("/change", "repository", hostile, "pull", "7"), "/acceptances", address.Of("/acceptances", "name", hostile, "ending", "soon"), address.Of("/search", words, "img"), address.Of("/files", "name", hostile), "/work", "/sign-in", address.Record(record), address.Repository("none of that name"),
	}
	for _, path := range pages {
		var text string
		for _, dark := range []bool{false, true} {
			for _, width := range []int64{360, 800, 1400} {
				scheme := "light"
				if dark {
					scheme = "dark"
				}
				media := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}
				if _, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, media); err != nil {
					t.Fatal(err)
				}
				must(chromedp.EmulateViewport(width, 800), chromedp.Navigate(server.URL+path))
				wrong := evaluated[string](t, ctx, checks)
				text = evaluated[string](t, ctx, mainText)
				var list []string
				json.Unmarshal([]byte(wrong), &list)
				for _, one := range list {
					t.Errorf("%.60s, %d wide, %s: %s", path, width, scheme, one)
				}
			}
		}
		reachable := evaluated[int](t, ctx, `document.querySelectorAll("a[href], button, input:not([type=hidden], [hidden]), select, [tabindex='0']").length`)
		reached := map[string]bool{}
		for range 5*reachable + 10 { // a field with a date takes several
			must(chromedp.KeyEvent(kb.Tab))
			at := evaluated[string](t, ctx, stops)
			if at == "" && len(reached) > 0 {
				break
			}
			if at != "" {
				reached[at] = true
			}
			if strings.Contains(at, "unseen") {
				t.Errorf("%.60s: what has the focus isn't seen: %s", path, at)
			}
		}
		if len(reached) < reachable {
			t.Errorf("%.60s: keys reach %d of %d", path, len(reached), reachable)
		}
		for _, without := range []bool{true, false} {
			if _, err := chromedp.Call(ctx, emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{Value: without}); err != nil {
				t.Fatal(err)
			}
			if without {
				must(chromedp.Navigate(server.URL + path))
				// A verdict's page can be sifted where scripts run.
				if plain := evaluated[string](t, ctx, mainText); plain != text && !strings.HasPrefix(path, "/record?") || plain == "" {
					t.Errorf("%.60s is another one without scripts", path)
				}
			}
		}
	}
	mutex.Lock()
	defer mutex.Unlock()
	for _, one := range said {
		if !strings.Contains(one, "404") { // the page that isn't there
			t.Errorf("on the console: %s", one)
		}
	}
}
