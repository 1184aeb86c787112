package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"zincdoor/internal/core/review"
	"zincdoor/internal/demo"
	"zincdoor/internal/render"
	"zincdoor/internal/slipway"
)

// pullDemo is the demo of a pull request: the made-up repository, and a slipway beside it.
type pullDemo struct {
	*program
	self, dir string
	repo      *demo.Repository
	address   string // of the slipway
	tokens    map[string]string
	told      int // steps so far
}

// The people of the demo.
const (
	demoAuthor = "ida"
	demoKeeper = "doorkeeper"
	guardedBy  = "zincdoor merge"
)

// sendReceipts is the command that the demo runs at each head.
var sendReceipts = []string{"zincdoor", "review", "send", "--into", "main", "--host", "../slipway.yaml", "--pull", "1"}

// playPullRequest shows the life of a pull request, and leaves nothing behind.
func (p *program) playPullRequest(ctx context.Context) error {
	folder, err := os.MkdirTemp("", "tideboard-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	host, err := slipway.Open(slipway.Options{Dir: filepath.Join(folder, "slipway")})
	if err != nil {
		return err
	}
	defer host.Close()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: host}
	go server.Serve(listener)
	defer server.Close()
	d := &pullDemo{program: p, dir: filepath.Join(folder, demo.Name), address: "http://" + listener.Addr().String(), tokens: map[string]string{}}
	if d.self, err = os.Executable(); err != nil {
		return err
	}
	if err := os.Mkdir(d.dir, 0o755); err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{d.prepare, d.propose, d.refuse, d.fix, d.merge} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// prepare makes the repository, the users and the recipe.
func (d *pullDemo) prepare(ctx context.Context) (err error) {
	owner, err := os.ReadFile(filepath.Join(filepath.Dir(d.dir), "slipway", slipway.OwnerFile))
	if err != nil {
		return err
	}
	d.tokens[""] = strings.TrimSpace(string(owner))
	for _, name := range []string{demoAuthor, demoKeeper} {
		made, err := d.call("", http.MethodPost, "/users", map[string]any{"name": name, "right": slipway.Write})
		if err != nil {
			return err
		}
		d.tokens[name] = fmt.Sprint(made["token"])
	}
	if _, err := d.call("", http.MethodPost, "/repositories", map[string]any{"name": demo.Name}); err != nil {
		return err
	}
	recipe := strings.Replace(string(slipway.Recipe), "http://127.0.0.1:7311", d.address, 1)
	if err := os.WriteFile(filepath.Join(filepath.Dir(d.dir), "slipway.yaml"), []byte(recipe), 0o644); err != nil {
		return err
	}
	if d.repo, err = demo.New(d.dir); err != nil {
		return err
	}
	if err := errors.Join(d.repo.Enter("old"), d.repo.Commit("Tides, fares and boards"), d.repo.Fit()); err != nil {
		return err
	}
	d.story("tideboard lies at a code host on this machine. All that its linters said of the old code is accepted; main is guarded: it takes only what has the status %q as good.", guardedBy)
	if err := d.runShown(ctx, d.self, d.dir, nil, takeAll, exitOpen); err != nil {
		return err
	}
	return errors.Join(d.repo.Commit("Fit the door"), d.push("main"), d.guard())
}

func (d *pullDemo) guard() error {
	_, err := d.call("", http.MethodPut, "/repositories/"+demo.Name+"/guards/main", map[string]any{"statuses": []string{guardedBy}})
	return err
}

// propose opens a pull request with three faults, and sends the first review.
func (d *pullDemo) propose(ctx context.Context) error {
	d.story("Ida pushes a branch and opens a pull request. CI runs the linters, and brings the verdict there.")
	if err := errors.Join(d.repo.Git("switch", "--quiet", "--create", "receipts"), d.repo.Enter("clean"), d.repo.Enter("loud"), d.repo.Commit("Receipts, the longest slack, the last ferry"), d.push("receipts")); err != nil {
		return err
	}
	if _, err := d.call(demoAuthor, http.MethodPost, "/repositories/"+demo.Name+"/pulls", map[string]any{"title": "Receipts", "source": "receipts"}); err != nil {
		return err
	}
	return d.send(ctx, exitShut)
}

// refuse shows the comments, and that it can't be merged.
func (d *pullDemo) refuse(context.Context) error {
	d.story("The comments stand at the lines, and main doesn't take the merge.")
	if err := d.showThreads(); err != nil {
		return err
	}
	_, err := d.merged()
	if err == nil {
		return errors.New("the shut door let it be merged")
	}
	fmt.Fprintf(d.out, "  merge refused: %s\n\n", render.Safe(err.Error()))
	return nil
}

// fix pushes the fix, and sends the review again.
func (d *pullDemo) fix(ctx context.Context) error {
	d.story("Ida fixes the three and pushes. The same call again brings everything up to date.")
	if err := errors.Join(d.repo.Enter("fixed"), d.repo.Commit("Look at the error; count in size_t; ask for the day"), d.push("receipts")); err != nil {
		return err
	}
	return d.send(ctx, exitOpen)
}

// merge shows the resolved comments, and merges.
func (d *pullDemo) merge(context.Context) error {
	d.story("What was said is resolved, and the merge goes through.")
	if err := d.showThreads(); err != nil {
		return err
	}
	commit, err := d.merged()
	if err != nil {
		return err
	}
	fmt.Fprintf(d.out, "  merged as %s\n\nNothing of this stays. How to do it at your code host: docs/pull-requests.md.\n", review.Short(commit))
	return nil
}

func (d *pullDemo) story(format string, args ...any) {
	d.told++
	d.tellStory(d.told, fmt.Sprintf(format, args...))
}

func (d *pullDemo) push(branch string) error {
	return d.repo.Push(d.address+"/git/"+demo.Name+".git", d.tokens[demoAuthor], branch)
}

func (d *pullDemo) send(ctx context.Context, code int) error {
	return d.runShown(ctx, d.self, d.dir, []string{tokenVariable + "=" + d.tokens[demoKeeper]}, sendReceipts, code)
}

// showThreads shows the comments on lines, a line each.
func (d *pullDemo) showThreads() error {
	answer, err := d.call(demoAuthor, http.MethodGet, "/repositories/"+demo.Name+"/pulls/1/threads?most=100", nil)
	if err != nil {
		return err
	}
	text, err := json.Marshal(answer["items"])
	if err != nil {
		return err
	}
	var threads []struct {
		On *struct {
			Path string
			Last int
		}
		Resolved bool
		Comments []struct{ Author, Text string }
	}
	if err := json.Unmarshal(text, &threads); err != nil {
		return err
	}
	for _, t := range threads {
		if t.On == nil {
			continue
		}
		state := "open    "
		if t.Resolved {
			state = "resolved"
		}
		first, _, _ := strings.Cut(strings.TrimPrefix(t.Comments[0].Text, render.ReviewGone("")), "\n")
		fmt.Fprintf(d.out, "  %s  %s:%d  %s\n", state, t.On.Path, t.On.Last, render.Safe(first))
	}
	return nil
}

func (d *pullDemo) merged() (commit string, err error) {
	const pull = "/repositories/" + demo.Name + "/pulls/1"
	is, err := d.call(demoAuthor, http.MethodGet, pull, nil)
	if err != nil {
		return "", err
	}
	done, err := d.call(demoAuthor, http.MethodPost, pull+"/merge", map[string]any{"head": is["head"]})
	return fmt.Sprint(done["merged"]), err
}

// call calls the slipway as one of its users.
func (d *pullDemo) call(user, method, path string, body any) (answer map[string]any, err error) {
	var in io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequest(method, d.address+"/"+slipway.Interface+path, in)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+d.tokens[user])
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer reply.Body.Close()
	if err := json.NewDecoder(reply.Body).Decode(&answer); err != nil {
		return nil, err
	}
	if reply.StatusCode >= http.StatusMultipleChoices {
		text := fmt.Sprint(answer["problem"])
		if lacking, ok := answer["lacking"].([]any); ok && len(lacking) > 0 {
			one, _ := lacking[0].(map[string]any)
			text += fmt.Sprintf(" (%v is %v)", one["name"], one["state"])
		}
		return answer, errors.New(text)
	}
	return answer, nil
}
