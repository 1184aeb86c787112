package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"zincdoor/internal/slipway"
)

// between stands between the program and the host, and kills the program at a call: before the host got it, or after it was done.
type between struct {
	*httptest.Server
	calls  atomic.Int64
	at     int64
	after  bool
	victim func() *os.Process
}

func newBetween(t *testing.T, host string, at int64, after bool, victim func() *os.Process) *between {
	to, err := url.Parse(host)
	if err != nil {
		t.Fatal(err)
	}
	b := &between{at: at, after: after, victim: victim}
	proxy := httputil.NewSingleHostReverseProxy(to)
	b.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		dies := b.calls.Add(1) == b.at
		kill := func() {
			p := b.victim()
			p.Signal(syscall.SIGKILL)
			p.Wait()
		}
		switch {
		case dies && !b.after:
			kill()
			return
		case dies:
			proxy.ServeHTTP(httptest.NewRecorder(), r)
			kill()
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(b.Close)
	return b
}

// TestReviewKilled: wherever a review is killed, the next one comes to the same end, and nothing is posted twice.
func TestReviewKilled(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	q := newQuay(t)
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3, 8, 15)
	q.commit("Begin")
	q.propose("ebb")
	q.send()
	q.ebb("core/ebb.c", 0, nil, 3, 8)
	q.commit("One fixed")
	q.push("ida", "HEAD:refs/heads/ebb")
	q.send()
	q.ebb("core/ebb.c", 4, nil, 3, 15, 18) // one moved, one gone, one came back, one is new
	q.commit("All kinds")
	q.push("ida", "HEAD:refs/heads/ebb")

	// run sends a review to a copy of the host as it is now, killed at a call, and then again as often as it takes.
	run := func(at int64, after bool) (state string, calls int64) {
		data := filepath.Join(t.TempDir(), "quay")
		if err := os.CopyFS(data, os.DirFS(q.data)); err != nil {
			t.Fatal(err)
		}
		host, err := slipway.Open(slipway.Options{Dir: data})
		if err != nil {
			t.Fatal(err)
		}
		defer host.Close()
		server := httptest.NewServer(host)
		defer server.Close()
		copied := *q
		copied.address = server.URL
		var cmd *exec.Cmd
		var started sync.WaitGroup
		started.Add(1)
		gate := newBetween(t, server.URL, at, after, func() *os.Process { started.Wait(); return cmd.Process })
		defer gate.Close()
		send := func() *exec.Cmd {
			c := exec.Command(program, "review", "send", "--host", q.recipe, "--address", gate.URL+"/slipway/1", "--repository", "tideboard", "--pull", "1", "--quiet", "--into", "main", "--door", "merge")
			c.Dir, c.Env = q.dir, append(q.environment(), "ZINCDOOR_TOKEN="+q.tokens[keeper])
			return c
		}
		if at > 0 {
			cmd = send()
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			started.Done()
			cmd.Wait()
			if gate.calls.Load() < at {
				t.Fatalf("there was no call %d", at)
			}
		}
		before := gate.calls.Load()
		again := send()
		if out, err := again.CombinedOutput(); again.ProcessState == nil || again.ProcessState.ExitCode() != 1 {
			t.Fatalf("killed at call %d, then: %v\n%s", at, err, out)
		}
		threads, summaries := copied.shown()
		return fmt.Sprint(strings.Join(threads, "\n"), "\n", strings.Join(summaries, "\n"), "\n", copied.statusOf(q.git("rev-parse", "HEAD"), "zincdoor merge")), gate.calls.Load() - before
	}
	want, calls := run(0, false)
	if calls < 12 || !strings.Contains(want, gone) || strings.Count(want, says) != 3 {
		t.Fatalf("%d calls come to\n%s", calls, want)
	}
	for at := int64(1); at <= calls; at++ {
		for _, after := range []bool{false, true} {
			if got, _ := run(at, after); got != want {
				t.Errorf("killed at call %d (after it was done: %v), it comes to\n%s\nnot\n%s", at, after, got, want)
			}
		}
	}
}

// TestReviewsAtOnce: several at once, from different clones, post nothing twice.
func TestReviewsAtOnce(t *testing.T) {
	t.Parallel()
	for name, once := range map[string]bool{"a host that knows keys": true, "one that doesn't": false} {
		t.Run(name, func(t *testing.T) {
			q := newQuay(t)
			if !once {
				text, err := os.ReadFile(q.recipe)
				if err != nil {
					t.Fatal(err)
				}
				os.WriteFile(q.recipe, []byte(strings.ReplaceAll(string(text), "    headers: {Slipway-Once: \"{key}\"}\n", "")), 0o644)
			}
			q.git("switch", "-q", "-c", "ebb")
			q.ebb("core/ebb.c", 0, nil, 3, 8, 15)
			q.commit("Begin")
			q.propose("ebb")
			var all sync.WaitGroup
			for i := range 4 {
				clone := *q
				clone.sandbox = &sandbox{T: t, dir: filepath.Join(t.TempDir(), fmt.Sprint(i))}
				if out, err := exec.Command("cp", "-r", q.dir, clone.dir).CombinedOutput(); err != nil {
					t.Fatal(string(out))
				}
				all.Go(func() { clone.send() })
			}
			all.Wait()
			if out, errs, code := q.send(); code != 1 {
				t.Fatalf("afterwards: %d\n%s%s", code, out, errs)
			}
			q.expect("sent by four", "core/ebb.c:15 "+says, "core/ebb.c:3 "+says, "core/ebb.c:8 "+says)
			if _, summaries := q.shown(); len(summaries) != 1 {
				t.Errorf("the summaries: %q", summaries)
			}
		})
	}
}
