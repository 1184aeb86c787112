package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"

	"zincdoor/internal/app"
	"zincdoor/internal/gittest"
	"zincdoor/internal/policyfile"
)

// client is an editor, over pipes.
type client struct {
	*testing.T
	*server
	rpc   *jrpc2.Client
	root  string
	ended chan error

	mutex       sync.Mutex
	diagnostics map[string][]diagnostic // by document
	version     map[string]int          // that they are of
	messages    []string
	doors       []doorStatus
	progress    []string
	answers     map[string]func(params json.RawMessage) any
}

// connect starts a server for an editor with some abilities, given as JSON.
func connect(t *testing.T, root, abilities, options string, change ...func(*Options)) *client {
	t.Helper()
	c := &client{T: t, root: root, ended: make(chan error, 1), diagnostics: map[string][]diagnostic{}, version: map[string]int{}, answers: map[string]func(json.RawMessage) any{}}
	fromEditor, toServer := io.Pipe()
	fromServer, toEditor := io.Pipe()
	o := Options{Request: app.GateRequest{Call: app.Call{Dir: root, Run: true}}, Today: func() string { return "2026-11-23" }, Version: "test"}
	for _, change := range change {
		change(&o)
	}
	ctx, cancel := context.WithCancel(context.Background())
	c.server = newServer(ctx, o)
	go func() { c.ended <- c.serve(ctx, fromEditor, toEditor) }()
	c.rpc = jrpc2.NewClient(channel.Header("")(fromServer, toServer), &jrpc2.ClientOptions{OnNotify: c.told, OnCallback: c.askedFor})
	t.Cleanup(func() {
		cancel()
		fromEditor.Close()
		toEditor.Close()
		c.rpc.Close()
		c.server.work.Wait()
	})
	if abilities == "" {
		abilities = "{}"
	}
	if options == "" {
		options = "null"
	}
	c.ask("initialize", json.RawMessage(fmt.Sprintf(`{"capabilities": %s, "initializationOptions": %s}`, abilities, options)), nil)
	c.tell("initialized", map[string]any{})
	return c
}

func (c *client) told(req *jrpc2.Request) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	switch req.Method() {
	case "textDocument/publishDiagnostics":
		var p struct {
			URI         string       `json:"uri"`
			Version     int          `json:"version"`
			Diagnostics []diagnostic `json:"diagnostics"`
		}
		req.UnmarshalParams(&p)
		c.diagnostics[p.URI], c.version[p.URI] = p.Diagnostics, p.Version
	case "window/showMessage":
		var p struct{ Message string }
		req.UnmarshalParams(&p)
		c.messages = append(c.messages, p.Message)
	case "zincdoor/door":
		var p doorStatus
		req.UnmarshalParams(&p)
		c.doors = append(c.doors, p)
	case "$/progress":
		c.progress = append(c.progress, req.ParamString())
	}
}

func (c *client) askedFor(_ context.Context, req *jrpc2.Request) (any, error) {
	c.mutex.Lock()
	answer := c.answers[req.Method()]
	c.mutex.Unlock()
	if answer == nil {
		return nil, nil
	}
	return answer(json.RawMessage(req.ParamString())), nil
}

func (c *client) ask(method string, params, to any) {
	c.Helper()
	if err := c.tryAsk(method, params, to); err != nil {
		c.Fatalf("%s: %v", method, err)
	}
}

func (c *client) tryAsk(method string, params, to any) error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	answer, err := c.rpc.Call(ctx, method, params)
	if err != nil || to == nil {
		return err
	}
	return answer.UnmarshalResult(to)
}

func (c *client) tell(method string, params any) {
	c.Helper()
	if err := c.rpc.Notify(context.Background(), method, params); err != nil {
		c.Fatal(err)
	}
}

func (c *client) uri(name string) string { return uriOf(filepath.Join(c.root, name)) }

// open opens a file with its text on disk.
func (c *client) open(name string) string {
	c.Helper()
	data, err := os.ReadFile(filepath.Join(c.root, name))
	if err != nil {
		c.Fatal(err)
	}
	c.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": c.uri(name), "languageId": "x", "version": 1, "text": string(data)}})
	return string(data)
}

// change replaces all of a text.
func (c *client) change(name string, version int, text string) {
	c.Helper()
	c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": c.uri(name), "version": version}, "contentChanges": []contentChange{{Text: text}}})
}

func (c *client) save(name, text string) {
	c.Helper()
	if err := os.WriteFile(filepath.Join(c.root, name), []byte(text), 0o644); err != nil {
		c.Fatal(err)
	}
	c.tell("textDocument/didSave", map[string]any{"textDocument": map[string]any{"uri": c.uri(name)}})
}

// await waits until something is so.
func (c *client) await(what string, is func() bool) {
	c.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		c.mutex.Lock()
		done := is()
		c.mutex.Unlock()
		if done {
			return
		}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.Fatalf("%s: it didn't come to that; %+v\nmessages: %q\ndoors: %+v", what, c.diagnostics, c.messages, c.doors)
}

// shows waits until just these diagnostics are shown of a file, each as "line:character-character severity code", in order.
func (c *client) shows(name string, want ...string) {
	c.Helper()
	var got []string
	defer func() {
		if c.Failed() {
			c.Logf("%s: got %q, want %q", name, got, want)
		}
	}()
	c.await(name+" shows "+strings.Join(want, ", "), func() bool {
		list, known := c.diagnostics[c.uri(name)]
		got = nil
		for _, d := range list {
			text := fmt.Sprintf("%d:%d-%d %d %s", d.Range.Start.Line, d.Range.Start.Character, d.Range.End.Character, d.Severity, d.Code)
			if len(d.Tags) > 0 {
				text += " faded"
			}
			got = append(got, text)
		}
		return known && slices.Equal(got, want)
	})
}

// at is what a request about a place has.
func (c *client) at(name string, line, character int) map[string]any {
	return map[string]any{"textDocument": map[string]any{"uri": c.uri(name)}, "position": position{line, character}}
}

// actions are the code actions on a line, by their titles.
func (c *client) actions(name string, line int, only ...string) map[string]codeAction {
	c.Helper()
	var all []codeAction
	at := position{Line: line}
	c.ask("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": c.uri(name)}, "range": span{at, at}, "context": map[string]any{"diagnostics": []any{}, "only": only}}, &all)
	byTitle := map[string]codeAction{}
	for _, a := range all {
		byTitle[a.Title] = a
	}
	return byTitle
}

const testPolicy = `zincdoor: 1
doors:
  commit:
    judges: worktree
    waivers: {code: true}
    limits:
      - {count: new, severity: warning, most: 0}
      - {measure: decisions, of: function, most: 1}
reports:
  gauge: {run: [sh, -c, 'for f in "$@"; do grep -n slack "$f" | sed "s|^\\([0-9]*\\):.*|$f:\\1:5: warning: no slack here [-Wslack]|"; done; true', gauge], files: "core/*.c", per: file, as: diagnostics, tool: gauge}
  compiler: {file: build/compiler.txt, as: diagnostics, clean: empty, optional: true}
house: {blank-ends: on, last-line-end: on}
severities: [{rule: blank-ends, is: warning}]
`

// tideboard is a repository with a change that isn't committed.
func tideboard(t *testing.T) *gittest.Repo {
	r := gittest.New(t)
	r.Write(policyfile.Path, testPolicy)
	r.Write(".gitignore", "build/\n")
	r.Git("config", "user.name", "Tide Desk")
	r.Write("core/tide.c", "int a;\nint b;   \n")
	r.Write("docs/notes.md", "The ferry waits.\n")
	r.Commit("one")
	r.Write("core/tide.c", "int a;\nint b;   \nint slack = 4;\n")
	r.Write("build/compiler.txt", "")
	return r
}

// TestTyping: what is found follows the text, fades where its line is edited, comes back with it, and is found anew when it is saved.
func TestTyping(t *testing.T) {
	r := tideboard(t)
	c := connect(t, r.Dir, "", "")
	text := c.open("core/tide.c")
	c.shows("core/tide.c", "1:6-9 4 blank-ends", "2:4-9 2 -Wslack")
	c.await("the door is shut", func() bool {
		return len(c.messages) == 1 && strings.Contains(c.messages[0], "door commit is shut") && len(c.doors) > 0 && c.doors[len(c.doors)-1].Broken[0] == "new warning"
	})
	c.change("core/tide.c", 2, "\n// slack\n"+text)
	c.shows("core/tide.c", "3:6-9 4 blank-ends", "4:4-9 2 -Wslack")
	c.change("core/tide.c", 3, strings.Replace(text, "slack", "pace  ", 1))
	c.shows("core/tide.c", "1:6-9 4 blank-ends", "2:0-15 4 -Wslack faded")
	c.change("core/tide.c", 4, text+"int c; \n")
	c.shows("core/tide.c", "1:6-9 4 blank-ends", "2:4-9 2 -Wslack", "3:6-7 2 blank-ends")
	c.change("core/tide.c", 5, "int a;\nint b;   \n") // as it was: no file of the change
	c.shows("core/tide.c")
	c.save("core/tide.c", "int a;\nint b;   \n")
	c.await("the door is open", func() bool { return slices.Contains(c.messages, "zincdoor: door commit is open") })
	c.change("core/tide.c", 6, "int a2; \nint b;   \n")
	c.shows("core/tide.c", "0:7-8 2 blank-ends", "1:6-9 4 blank-ends")
	c.tell("workspace/didChangeConfiguration", map[string]any{"settings": map[string]any{"zincdoor": map[string]any{"existing": "hidden"}}})
	c.shows("core/tide.c", "0:7-8 2 blank-ends")
	r.Write("build/compiler.txt", "core/tide.c:1:5: warning: unused [-Wunused]\n")
	c.save("core/tide.c", "int a2; \nint b;   \n")
	c.shows("core/tide.c", "0:7-8 2 blank-ends")
	r.Write("build/compiler.txt", "core/tide.c:1:5: warning: unused [-Wunused]\n") // as it comes after the text now
	c.shows("core/tide.c", "0:4-6 2 -Wunused", "0:7-8 2 blank-ends")
	c.tell("textDocument/didClose", map[string]any{"textDocument": map[string]any{"uri": c.uri("core/tide.c")}})
	c.shows("core/tide.c")
}

// TestActions: a finding can be explained, fixed, waived, accepted, and its limit shown; all in a file can be fixed where it is touched.
func TestActions(t *testing.T) {
	r := tideboard(t)
	c := connect(t, r.Dir, `{"workspace": {"workspaceEdit": {"documentChanges": true}}, "window": {"showDocument": {"support": true}}, "textDocument": {"hover": {"contentFormat": ["markdown"]}}}`, `{"asksText": true}`)
	text := "int a; \nint b;   \nint slack = 4; \nint gauge(int x)\n{\n\tif (x > 1 && x < 9) return x;\n\treturn 1;\n}\n"
	r.Write("core/tide.c", text)
	c.open("core/tide.c")
	c.shows("core/tide.c", "0:6-7 2 blank-ends", "1:6-9 4 blank-ends", "2:4-9 2 -Wslack", "2:14-15 2 blank-ends", "3:0-16 2 decisions-of-function")
	var h hover
	c.ask("textDocument/hover", c.at("core/tide.c", 2, 5), &h)
	for _, part := range []string{"`-Wslack` (gauge)", "graded warning", "counted by new warning: at most 0 (door commit)", "new, on a touched line", "may be waived"} {
		if !strings.Contains(h.Contents.Value, part) {
			t.Errorf("the hover has no %q: %s", part, h.Contents.Value)
		}
	}
	c.ask("textDocument/hover", c.at("core/tide.c", 3, 0), &h)
	if !strings.Contains(h.Contents.Value, "`gauge`: 5 lines, 5 of code; 2 decisions") || !strings.Contains(h.Contents.Value, "at most 1") {
		t.Errorf("of a function: %s", h.Contents.Value)
	}
	apply := func(edit *workspaceEdit) string {
		t.Helper()
		if edit == nil || len(edit.DocumentChanges) != 1 || *edit.DocumentChanges[0].TextDocument.Version != 1 {
			t.Fatalf("edit %+v", edit)
		}
		d := &document{text: []byte(text)}
		for _, e := range slices.Backward(edit.DocumentChanges[0].Edits) {
			d.apply([]contentChange{{&e.Range, e.NewText}}, c.unit)
		}
		return string(d.text)
	}
	on := c.actions("core/tide.c", 2, "quickfix")
	if got, want := apply(on["Waive -Wslack here, with a comment"].Edit), strings.Replace(text, "int slack", "// door waiver(-Wslack):\nint slack", 1); got != want {
		t.Errorf("waived: %q", got)
	}
	for title, a := range on {
		if strings.HasPrefix(title, "Fix blank-ends") {
			if got, want := apply(a.Edit), strings.Replace(text, "4; \n", "4;\n", 1); got != want || !a.Preferred {
				t.Errorf("fixed: %q", got)
			}
		}
	}
	all := c.actions("core/tide.c", 0, "source.fixAll")
	if got, want := apply(all["Fix all that zincdoor can on the lines that the change touches"].Edit), strings.ReplaceAll(text, "; \n", ";\n"); got != want || len(all) != 1 {
		t.Errorf("fixed all: %q", got)
	}
	var shownAt string
	c.mutex.Lock()
	c.answers["window/showDocument"] = func(params json.RawMessage) any {
		shownAt = string(params)
		return map[string]bool{"success": true}
	}
	c.answers["window/showMessageRequest"] = func(params json.RawMessage) any {
		if strings.Contains(string(params), "Why accept") {
			return map[string]string{"title": "no fault: the tool is mistaken"}
		}
		return map[string]string{"title": "for 30 days"}
	}
	c.answers["zincdoor/askText"] = func(json.RawMessage) any { return map[string]string{"text": "the chart has it"} }
	c.mutex.Unlock()
	c.ask("workspace/executeCommand", on["Show the limit that counts -Wslack"].Command, nil)
	if !strings.Contains(shownAt, ".zincdoor/policy.yaml") || !strings.Contains(shownAt, `"line":6`) {
		t.Errorf("the limit is shown at %s", shownAt)
	}
	accept := on["Accept -Wslack into the baseline…"].Command
	c.change("core/tide.c", 2, "\n"+text)
	if err := c.tryAsk("workspace/executeCommand", accept, nil); err == nil || !strings.Contains(err.Error(), "save the file first") {
		t.Errorf("accepted in a text that isn't saved: %v", err)
	}
	c.change("core/tide.c", 3, text)
	c.ask("workspace/executeCommand", accept, nil)
	c.shows("core/tide.c", "0:6-7 2 blank-ends", "1:6-9 4 blank-ends", "2:4-9 4 -Wslack", "2:14-15 2 blank-ends", "3:0-16 2 decisions-of-function")
	list := r.Read(".zincdoor/baseline.jsonl")
	for _, part := range []string{`"rule":"-Wslack"`, `"why":"mistaken"`, `"reason":"the chart has it"`, `"until":"2026-12-23"`, `"by":"Tide Desk"`, `"on":"2026-11-23"`} {
		if !strings.Contains(list, part) {
			t.Errorf("the baseline has no %s: %s", part, list)
		}
	}
	if err := c.tryAsk("workspace/executeCommand", accept, nil); err != nil && !strings.Contains(err.Error(), "no finding") {
		t.Errorf("accepted twice: %v", err)
	}
}

// TestPolicyFile: a policy is checked as it is typed, and its keys and values are offered and explained.
func TestPolicyFile(t *testing.T) {
	r := tideboard(t)
	c := connect(t, r.Dir, "", "")
	text := c.open(policyfile.Path)
	c.shows(policyfile.Path)
	bad := strings.Replace(text, "judges: worktree", "judges: work", 1)
	c.change(policyfile.Path, 2, bad)
	c.shows(policyfile.Path, "3:12-16 1 ")
	var offered []completion
	c.ask("textDocument/completion", c.at(policyfile.Path, 3, 14), &offered)
	if len(offered) != 6 || offered[5].Label != "worktree" || offered[5].Edit.Range != (span{position{3, 12}, position{3, 16}}) {
		t.Errorf("offered %+v", offered)
	}
	var h hover
	c.ask("textDocument/hover", c.at(policyfile.Path, 3, 5), &h)
	if !strings.Contains(h.Contents.Value, "staged, worktree") {
		t.Errorf("explained as %q", h.Contents.Value)
	}
	c.save(policyfile.Path, bad)
	c.await("the policy can't be used", func() bool {
		return slices.ContainsFunc(c.messages, func(m string) bool { return strings.HasPrefix(m, "zincdoor can't judge: ") })
	})
	c.open("core/tide.c")
	c.change(policyfile.Path, 3, text)
	c.save(policyfile.Path, text)
	c.shows("core/tide.c", "1:6-9 4 blank-ends", "2:4-9 2 -Wslack")
	idle := text + "teams: {pier: {path: \"pier/**\"}}\n"
	c.change(policyfile.Path, 4, idle)
	c.save(policyfile.Path, idle)
	c.await("what never matters is shown", func() bool {
		list := c.diagnostics[c.uri(policyfile.Path)]
		return len(list) == 1 && list[0].Severity == severityInformation
	})
	alone := t.TempDir()
	if err := os.MkdirAll(filepath.Join(alone, filepath.Dir(policyfile.Path)), 0o755); err != nil {
		t.Fatal(err)
	}
	c.root = alone
	c.save(policyfile.Path, bad)
	c.open(policyfile.Path)
	c.shows(policyfile.Path, "3:12-16 1 ")
}

// TestPull: an editor that asks for diagnostics is given those of its present text, and told what stayed the same.
func TestPull(t *testing.T) {
	r := tideboard(t)
	c := connect(t, r.Dir, `{"textDocument": {"diagnostic": {}}, "workspace": {"diagnostics": {"refreshSupport": true}}, "general": {"positionEncodings": ["utf-32", "utf-8"]}}`, "")
	refreshed := make(chan bool, 100)
	c.mutex.Lock()
	c.answers["workspace/diagnostic/refresh"] = func(json.RawMessage) any { refreshed <- true; return nil }
	c.mutex.Unlock()
	text := c.open("core/tide.c")
	var report struct {
		Kind, ResultID string
		Items          []diagnostic
	}
	pull := func(previous string) {
		t.Helper()
		report.Items = nil
		c.ask("textDocument/diagnostic", map[string]any{"textDocument": map[string]any{"uri": c.uri("core/tide.c")}, "previousResultId": previous}, &report)
	}
	pull("")
	if report.Kind != "full" || len(report.Items) != 2 {
		t.Errorf("pulled %+v", report)
	}
	pull(report.ResultID)
	if report.Kind != "unchanged" {
		t.Errorf("pulled again: %+v", report)
	}
	c.change("core/tide.c", 2, text+"/* päges ≈ 3 */ \n")
	pull(report.ResultID)
	if report.Kind != "full" || len(report.Items) != 3 || report.Items[2].Range.Start != (position{3, 15}) { // in the unit that it prefers
		t.Errorf("pulled after an edit: %+v", report)
	}
	select {
	case <-refreshed:
	case <-time.After(10 * time.Second):
		t.Error("nothing was refreshed")
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if len(c.diagnostics) > 0 {
		t.Error("diagnostics are pushed to an editor that pulls")
	}
}

// TestGateNow: all linters are asked, the editor sees how far they are, and can call it off.
func TestGateNow(t *testing.T) {
	r := gittest.New(t)
	r.Write(policyfile.Path, `zincdoor: 1
doors: {commit: {judges: worktree, limits: [{count: new, severity: error, most: 0}]}}
reports:
  slow: {run: [sh, -c, 'while [ -e .git/wait ]; do sleep 0.05; done; echo "core/tide.c:1:1: error: slow [-Wslow]"'], as: diagnostics, exits: {found: [0]}}
  watched: {run: [sh, -c, 'echo x >> .git/watched; echo "core/tide.c:1:1: error: seen [-Wseen]"'], as: diagnostics, watch: true}
`)
	r.Commit("one")
	r.Write("core/tide.c", "int a;\n")
	c := connect(t, r.Dir, `{"window": {"workDoneProgress": true}}`, "")
	c.open("core/tide.c")
	c.shows("core/tide.c")
	c.save("core/tide.c", "int a;\n")
	c.shows("core/tide.c", "0:0-3 1 -Wseen")
	if asked := r.Read(".git/watched"); asked != "x\n" {
		t.Errorf("what is to be started on saving was started %q", asked)
	}
	var status doorStatus
	c.ask("workspace/executeCommand", map[string]any{"command": commandGate, "arguments": []any{map[string]string{"uri": c.uri("core/tide.c")}}}, &status)
	if status.Outcome != "shut" || status.Door != "commit" || len(status.Waiting) != 0 {
		t.Errorf("judged: %+v", status)
	}
	c.shows("core/tide.c", "0:0-3 1 -Wseen", "0:0-3 1 -Wslow")
	c.await("progress is shown", func() bool {
		all := strings.Join(c.progress, "\n")
		return strings.Contains(all, `"kind":"begin"`) && strings.Contains(all, "slow: ran") && strings.Contains(all, "door commit: shut")
	})
	r.Write(".git/wait", "")
	r.Write("core/other.c", "int z;\n")
	failed := make(chan error, 1)
	go func() {
		failed <- c.tryAsk("workspace/executeCommand", map[string]any{"command": commandGate, "workDoneToken": "mine"}, nil)
	}()
	c.await("it has begun", func() bool { return strings.Contains(strings.Join(c.progress, "\n"), `"token":"mine"`) })
	c.tell("window/workDoneProgress/cancel", map[string]any{"token": "mine"})
	if err := <-failed; err == nil || !strings.Contains(err.Error(), "called off") {
		t.Errorf("called off: %v", err)
	}
	c.shows("core/tide.c", "0:0-3 1 -Wseen", "0:0-3 1 -Wslow")
}

// TestLeave: nothing that a policy names is started before the user allows it, be the files opened through a link.
func TestLeave(t *testing.T) {
	r := tideboard(t)
	link := filepath.Join(t.TempDir(), "pier")
	if err := os.Symlink(r.Dir, link); err != nil {
		t.Fatal(err)
	}
	c := connect(t, link, "", "", func(o *Options) { o.Request.Run = false })
	c.open("core/tide.c")
	c.shows("core/tide.c", "1:6-9 4 blank-ends")
	c.await("it is said how to allow it", func() bool {
		return len(c.doors) > 0 && c.doors[len(c.doors)-1].Outcome == "unjudged" && strings.Contains(strings.Join(c.messages, ""), "git config zincdoor.run true")
	})
}

// TestManners: requests come in their order, what isn't understood is refused, files that no door judges are left alone, and the end is
// as it is asked for.
func TestManners(t *testing.T) {
	r := tideboard(t)
	c := connect(t, r.Dir, "", "")
	if err := c.tryAsk("initialize", map[string]any{}, nil); err == nil {
		t.Error("it is initialized twice")
	}
	if err := c.tryAsk("textDocument/nothing", map[string]any{}, nil); jrpc2.ErrorCode(err) != jrpc2.MethodNotFound {
		t.Errorf("an unknown request: %v", err)
	}
	elsewhere := filepath.Join(t.TempDir(), "a.c")
	for _, uri := range []string{uriOf(elsewhere), "untitled:one", "file:///%00", "http://pier.example/a.c", uriOf(filepath.Join(r.Dir, ".git/COMMIT_EDITMSG"))} {
		c.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 1, "text": "int a; \n"}})
		var h *hover
		c.ask("textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": uri}, "position": position{}}, &h)
		var report struct{ Items []diagnostic }
		c.ask("textDocument/diagnostic", map[string]any{"textDocument": map[string]any{"uri": uri}}, &report)
		if h != nil || len(report.Items) > 0 {
			t.Errorf("%s: %+v, %+v", uri, h, report)
		}
	}
	for _, params := range []any{
		map[string]any{"command": "zincdoor.nothing"}, map[string]any{"command": commandAccept}, map[string]any{"command": commandGate, "arguments": []any{map[string]string{"uri": uriOf(elsewhere)}}},
		map[string]any{"command": commandAccept, "arguments": []any{7}},
	} {
		if err := c.tryAsk("workspace/executeCommand", params, nil); err == nil {
			t.Errorf("%v is executed", params)
		}
	}
	c.ask("shutdown", nil, nil)
	if err := c.tryAsk("textDocument/hover", c.at("core/tide.c", 0, 0), nil); jrpc2.ErrorCode(err) != jrpc2.InvalidRequest {
		t.Errorf("after the end: %v", err)
	}
	c.tell("exit", nil)
	if err := <-c.ended; err != nil {
		t.Errorf("it ended with %v", err)
	}
	unasked := connect(t, r.Dir, "", "")
	unasked.tell("exit", nil)
	if err := <-unasked.ended; err != ErrUnasked {
		t.Errorf("without a word it ended with %v", err)
	}
}

// model is a text as an editor has it, kept by lines of characters of some unit: another way than the server's.
type model struct {
	unit  string
	lines [][]uint32 // each with what ends it
}

func newModel(unit, text string) *model {
	m := &model{unit: unit}
	var line []uint32
	units := m.units(text)
	for i, u := range units {
		line = append(line, u)
		if u == '\n' || u == '\r' && (i+1 == len(units) || units[i+1] != '\n') {
			m.lines, line = append(m.lines, line), nil
		}
	}
	m.lines = append(m.lines, line)
	return m
}

// units are the characters of a text; those of several units have the rest of them as zeros.
func (m *model) units(text string) (all []uint32) {
	for _, r := range text {
		n := 1
		switch m.unit {
		case "utf-8":
			n = len(string(r))
		case "utf-16":
			n = utf16.RuneLen(r)
		}
		all = append(all, uint32(r))
		for ; n > 1; n-- {
			all = append(all, 0)
		}
	}
	return all
}

func (m *model) text() string {
	var s strings.Builder
	for _, line := range m.lines {
		for _, u := range line {
			if u != 0 {
				s.WriteRune(rune(u))
			}
		}
	}
	return s.String()
}

// place is a random place between two characters.
func (m *model) place(random *rand.Rand) (p position, at int) {
	p.Line = random.IntN(len(m.lines))
	for _, line := range m.lines[:p.Line] {
		at += len(line)
	}
	line := m.lines[p.Line]
	end := len(line)
	for end > 0 && (line[end-1] == '\n' || line[end-1] == '\r') {
		end--
	}
	p.Character = random.IntN(end + 1)
	for p.Character < end && line[p.Character] == 0 {
		p.Character++
	}
	return p, at + p.Character
}

// TestText: the server's text is always the editor's, however it is edited and in whatever unit characters are counted.
func TestText(t *testing.T) {
	r := gittest.New(t)
	r.Write("a.txt", "")
	pieces := []string{"a", "tide\n", "\r\n", "\r", "≈", "é\n", "\U0001F6A2", "", "\n\n", "x\U0001F6A2y", "// slack\r\n"}
	for _, unit := range []string{"utf-8", "utf-16", "utf-32"} {
		c := connect(t, r.Dir, fmt.Sprintf(`{"general": {"positionEncodings": [%q]}}`, unit), "")
		c.open("a.txt")
		random := rand.New(rand.NewPCG(26, uint64(len(unit))))
		text := ""
		for version := 2; version < 200; version++ {
			var changes []contentChange
			for range 1 + random.IntN(3) {
				m := newModel(unit, text)
				from, first := m.place(random)
				to, last := m.place(random)
				if first > last {
					from, to, first, last = to, from, last, first
				}
				if last-first > 40 {
					to, last = from, first
				}
				piece := pieces[random.IntN(len(pieces))]
				units := slices.Concat(m.lines...)
				m.lines = [][]uint32{slices.Concat(units[:first], m.units(piece), units[last:])}
				text = m.text()
				changes = append(changes, contentChange{&span{from, to}, piece})
			}
			c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": c.uri("a.txt"), "version": version}, "contentChanges": changes})
			var h *hover
			c.ask("textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": "untitled:nothing"}, "position": position{}}, &h) // which comes after the edits
			c.server.mutex.Lock()
			got := string(c.documents[c.uri("a.txt")].text)
			c.server.mutex.Unlock()
			if got != text {
				t.Fatalf("%s, version %d: %q, want %q", unit, version, got, text)
			}
		}
	}
}

// FuzzMessages: whatever comes where messages should, one is given whole or there is an error, and no more memory is taken than came.
func FuzzMessages(f *testing.F) {
	f.Add("Content-Length: 2\r\n\r\n{}Content-Length: 99999999\r\nContent-Type: x\r\n\r\n{")
	f.Add("content-length:1\n\nx\r\n\r\n")
	f.Fuzz(func(t *testing.T, in string) {
		c := frame(strings.NewReader(in), nil)
		for left := len(in); ; {
			message, err := c.Recv()
			if left -= len(message); left < 0 {
				t.Fatal("more was read than there is")
			}
			if err != nil {
				return
			}
		}
	})
}

// TestFlow: the way to a finding is shown with it, step by step, with what its tool says of its rule; another door is held against at once.
func TestFlow(t *testing.T) {
	r := gittest.New(t)
	r.Write(policyfile.Path, `zincdoor: 1
doors:
  commit: {judges: worktree, limits: [{count: new, severity: error, most: 0}]}
  calm: {judges: worktree, limits: [{count: new, severity: error, most: 1}]}
reports:
  pilot: {file: build/pilot.sarif, as: sarif}
`)
	r.Write(".gitignore", "build/\n")
	r.Write("core/quay.h", "int quay;\nint pier;\n")
	r.Commit("one")
	r.Write("core/tide.c", "int a;\nint b;\n")
	step := func(file string, line int, text string) string {
		return fmt.Sprintf(`{"location": {"message": {"text": %q}, "physicalLocation": {"artifactLocation": {"uri": %q}, "region": {"startLine": %d}}}}`, text, file, line)
	}
	r.Write("build/pilot.sarif", fmt.Sprintf(`{"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "pilot", "rules": [{"id": "P1", "helpUri": "https://pilot.example/P1", "shortDescription": {"text": "A ferry waits."}}]}},
		"results": [{"ruleId": "P1", "level": "error", "message": {"text": "waits"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "core/tide.c"}, "region": {"startLine": 2, "startColumn": 5}}}],
		"codeFlows": [{"threadFlows": [{"locations": [%s, %s]}]}]}]}]}`, step("core/quay.h", 2, "from here"), step("core/tide.c", 2, "to here")))
	c := connect(t, r.Dir, `{"window": {"showDocument": {"support": true}}}`, `{"door": "commit"}`)
	c.open("core/tide.c")
	c.shows("core/tide.c", "1:4-5 1 P1")
	c.mutex.Lock()
	d := c.diagnostics[c.uri("core/tide.c")][0]
	c.mutex.Unlock()
	if len(d.Related) != 2 || d.Related[0].Location.URI != c.uri("core/quay.h") || d.Related[0].Location.Range.Start.Line != 1 || d.Related[0].Message != "step 1: from here" || d.About == nil || d.About.Href != "https://pilot.example/P1" {
		t.Errorf("shown as %+v", d)
	}
	opened := make(chan string, 1)
	c.mutex.Lock()
	c.answers["window/showMessageRequest"] = func(params json.RawMessage) any {
		return map[string]string{"title": "1. core/quay.h:2 from here"}
	}
	c.answers["window/showDocument"] = func(params json.RawMessage) any {
		opened <- string(params)
		return map[string]bool{"success": true}
	}
	c.mutex.Unlock()
	var steps []location
	c.ask("workspace/executeCommand", c.actions("core/tide.c", 1)["Show the way to P1 (2 steps)"].Command, &steps)
	if len(steps) != 2 || steps[1].URI != c.uri("core/tide.c") || steps[1].Range.Start.Line != 1 {
		t.Errorf("steps %+v", steps)
	}
	select {
	case at := <-opened:
		if !strings.Contains(at, "quay.h") || !strings.Contains(at, `"line":1`) {
			t.Errorf("shown: %s", at)
		}
	case <-time.After(10 * time.Second):
		t.Error("no step is shown")
	}
	c.tell("workspace/didChangeConfiguration", map[string]any{"settings": map[string]any{"door": "calm"}})
	c.shows("core/tide.c", "1:4-5 3 P1")
}
