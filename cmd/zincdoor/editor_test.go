package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
)

// editing is an editor that has started the program.
type editing struct {
	*sandbox
	client *jrpc2.Client
	cmd    *exec.Cmd
	errs   strings.Builder
}

// edit starts the program as an editor does, which hands its notifications to told.
func (s *sandbox) edit(abilities string, told func(*jrpc2.Request), args ...string) *editing {
	s.Helper()
	e := &editing{sandbox: s}
	e.cmd = exec.Command(program, append([]string{"lsp"}, args...)...)
	e.cmd.Dir, e.cmd.Env, e.cmd.Stderr = s.dir, s.environment(), &e.errs
	in, err := e.cmd.StdinPipe()
	if err != nil {
		s.Fatal(err)
	}
	out, err := e.cmd.StdoutPipe()
	if err != nil {
		s.Fatal(err)
	}
	if err := e.cmd.Start(); err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { e.cmd.Process.Kill() })
	e.client = jrpc2.NewClient(channel.Header("")(out, in), &jrpc2.ClientOptions{
		OnNotify: told, OnCallback: func(context.Context, *jrpc2.Request) (any, error) { return nil, nil },
	})
	e.ask("initialize", json.RawMessage(`{"capabilities": `+abilities+`}`), nil)
	e.tell("initialized", map[string]any{})
	return e
}

func (e *editing) ask(method string, params, to any) {
	e.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	answer, err := e.client.Call(ctx, method, params)
	if err == nil && to != nil {
		err = answer.UnmarshalResult(to)
	}
	if err != nil {
		e.Fatalf("%s: %v\n%s", method, err, e.errs.String())
	}
}

func (e *editing) tell(method string, params any) {
	e.Helper()
	if err := e.client.Notify(context.Background(), method, params); err != nil {
		e.Fatal(err)
	}
}

func (e *editing) document(name string) map[string]any {
	return map[string]any{"uri": "file://" + filepath.Join(e.dir, name)}
}

// leave ends the program as an editor does.
func (e *editing) leave() {
	e.Helper()
	e.ask("shutdown", nil, nil)
	e.tell("exit", nil)
	if err := e.cmd.Wait(); err != nil || e.errs.Len() > 0 {
		e.Errorf("it ended with %v\n%s", err, e.errs.String())
	}
}

// withEdits makes a few edits of a text.
func withEdits(random *rand.Rand, text string) string {
	pieces := []string{"int gauge = 4;\n", "/* the tide recieves */\n", "x = 1;   \n", "\n", "int slack;\n", "// door waiver(blank-ends): the chart needs it\n", "int é≈ = 3;\r\n"}
	lines := strings.SplitAfter(text, "\n")
	for range 1 + random.IntN(3) {
		if at := random.IntN(len(lines) + 1); random.IntN(2) == 0 || at == len(lines) {
			lines = slices.Insert(lines, at, pieces[random.IntN(len(pieces))])
		} else {
			lines = slices.Delete(lines, at, at+1)
		}
	}
	return strings.Join(lines, "")
}

const editedPolicy = `zincdoor: 1
doors:
  commit:
    judges: worktree
    waivers: {code: true}
    limits:
      - {count: new, severity: warning, most: 1}
      - {count: all, severity: note, most: 4, mode: advise}
reports:
  gauge: {run: [sh, -c, 'for f in "$@"; do grep -n slack "$f" | sed "s|^\([0-9]*\):.*|$f:\1:5: warning: no slack here [-Wslack]|"; done; true', gauge], files: "core/*.c", per: file, as: diagnostics, tool: gauge}
  count: {run: [sh, -c, 'grep -n x core/*.c | sed "s|\([^:]*:[0-9]*\):.*|\1:1: error: an x [-Wx]|"'], as: diagnostics, tool: count, exits: {found: [0]}}
house: {blank-ends: on, last-line-end: on, spelling: on}
`

// TestEditorAgrees: whatever was edited, an editor shows once everything is saved and asked just what gate --worktree finds.
func TestEditorAgrees(t *testing.T) {
	s := repository(t)
	s.write(".zincdoor/policy.yaml", editedPolicy)
	texts := map[string]string{"core/tide.c": "int a;\nint x;   \nint slack;\n", "core/pier.c": "int b;\n", "docs/notes.md": "The ferry waits.\n"}
	for name, text := range texts {
		s.write(name, text)
	}
	s.commit("one")
	e := s.edit(`{"textDocument": {"diagnostic": {}}}`, func(*jrpc2.Request) {}, "--run")
	names := []string{"core/tide.c", "core/pier.c", "docs/notes.md"}
	for _, name := range names {
		document := e.document(name)
		document["version"], document["text"] = 1, texts[name]
		e.tell("textDocument/didOpen", map[string]any{"textDocument": document})
	}
	type shown struct {
		Severity int
		Range    struct{ Start struct{ Line int } }
		Data     struct{ ID string }
	}
	pull := func(name string) []shown {
		var report struct{ Items []shown }
		e.ask("textDocument/diagnostic", map[string]any{"textDocument": e.document(name)}, &report)
		return report.Items
	}
	random := rand.New(rand.NewPCG(26, 11))
	for round := range 12 {
		for _, name := range names {
			texts[name] = withEdits(random, texts[name])
			document := e.document(name)
			document["version"] = round + 2
			e.tell("textDocument/didChange", map[string]any{"textDocument": document, "contentChanges": []any{map[string]any{"text": texts[name]}}})
			if random.IntN(2) == 0 {
				pull(name)
			}
		}
		for _, name := range names {
			s.write(name, texts[name])
			e.tell("textDocument/didSave", map[string]any{"textDocument": e.document(name)})
		}
		var door struct{ Outcome string }
		e.ask("workspace/executeCommand", map[string]any{"command": "zincdoor.gate"}, &door)
		v := s.judge("--worktree", "--run")
		if door.Outcome != v.Outcome {
			t.Errorf("round %d: the editor's door is %s, the gate's %s", round, door.Outcome, v.Outcome)
		}
		counted := map[string]bool{}
		var whole struct {
			Limits []struct {
				Held     bool
				Findings []string
			}
		}
		out, _, _ := s.run("gate", "--worktree", "--run", "--format", "json")
		if err := json.Unmarshal([]byte(out), &whole); err != nil {
			t.Fatal(err)
		}
		for _, l := range whole.Limits {
			for _, id := range l.Findings {
				counted[id] = counted[id] || !l.Held
			}
		}
		var want, got []string
		for _, f := range v.Findings {
			shuts := counted[f.ID]
			want = append(want, fmt.Sprintf("%s:%d %s %v", f.Path, f.Line, f.ID, !shuts && f.Standing != "new"))
		}
		for _, name := range names {
			for _, d := range pull(name) {
				got = append(got, fmt.Sprintf("%s:%d %s %v", name, d.Range.Start.Line+1, d.Data.ID, d.Severity == 4))
			}
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Fatalf("round %d: the editor shows\n%s\nthe gate\n%s", round, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	e.leave()
}

// neovimScript is what a user does in Neovim; it writes what is shown after each step, a line each.
const neovimScript = `
local out = io.open('steps', 'w')
local function shown(step)
  local list = {}
  for _, d in ipairs(vim.diagnostic.get(0)) do
    table.insert(list, string.format('%d:%d %d %s', d.lnum + 1, d.col, d.severity, d.code or '-'))
  end
  table.sort(list)
  return step .. ' | ' .. table.concat(list, ' | ')
end
local function expect(step, want)
  vim.wait(15000, function() return shown(step) == step .. ' | ' .. want end, 20)
  out:write(shown(step) .. '\n')
  out:flush()
end
local client = vim.lsp.start_client({name = 'zincdoor', cmd = {os.getenv('ZINCDOOR'), 'lsp', '--run'}, root_dir = vim.fn.getcwd(),
  handlers = {['window/showMessage'] = function(_, p) out:write('message ' .. p.message .. '\n') end}})
vim.cmd('edit core/tide.c')
vim.lsp.buf_attach_client(0, client)
vim.wait(10000, function() return vim.lsp.buf_get_clients(0)[client] ~= nil and vim.lsp.get_client_by_id(client).initialized end, 20)
expect('open', '2:6 4 blank-ends | 3:4 2 -Wslack')
vim.api.nvim_buf_set_lines(0, 0, 0, false, {'/* ferries definately wait */', 'int b;  '})
expect('type', '1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack')
vim.cmd('silent write')
expect('save', '1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack')
local params = {textDocument = vim.lsp.util.make_text_document_params(0), context = {diagnostics = {}, only = {'source.fixAll'}},
  range = {start = {line = 0, character = 0}, ['end'] = {line = 0, character = 0}}}
local answers = vim.lsp.buf_request_sync(0, 'textDocument/codeAction', params, 10000)
vim.cmd('let &undolevels = &undolevels') -- what follows is undone by itself
for _, action in ipairs(answers[client].result) do
  vim.lsp.util.apply_workspace_edit(action.edit, 'utf-16')
end
expect('fix all', '4:6 4 blank-ends | 5:4 2 -Wslack')
out:write('fixed ' .. table.concat(vim.api.nvim_buf_get_lines(0, 0, 2, false), '~') .. '\n')
vim.cmd('silent undo')
expect('undo', '1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack')
vim.cmd('let &undolevels = &undolevels')
vim.api.nvim_buf_set_lines(0, 4, 5, false, {'int pace;'})
expect('edit the line', '1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:0 4 -Wslack')
vim.cmd('silent undo')
expect('undo again', '1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack')
local hover = vim.lsp.buf_request_sync(0, 'textDocument/hover', {textDocument = params.textDocument, position = {line = 4, character = 5}}, 10000)
out:write('hover ' .. vim.split(hover[client].result.contents.value, '\n')[1] .. '\n')
vim.lsp.stop_client(client)
vim.wait(5000, function() return vim.lsp.get_client_by_id(client) == nil end, 20)
out:close()
vim.cmd('qa!')
`

// TestNeovim: a real editor shows what is found while somebody types, fixes it, and takes that back.
func TestNeovim(t *testing.T) {
	neovim, err := exec.LookPath("nvim")
	if err != nil {
		if os.Getenv("ZINCDOOR_NEOVIM") != "" {
			t.Fatal("there is no Neovim")
		}
		t.Skip("there is no Neovim here")
	}
	s := repository(t)
	s.write(".zincdoor/policy.yaml", strings.Replace(editedPolicy, "most: 1}", "most: 0}", 1)+"severities: [{rule: [blank-ends, spelling], is: warning}]\n")
	s.write("core/tide.c", "int a;\nint c;   \n")
	s.commit("one")
	s.write("core/tide.c", "int a;\nint c;   \nint slack;\n")
	script := filepath.Join(t.TempDir(), "steps.lua")
	if err := os.WriteFile(script, []byte(neovimScript), 0o644); err != nil {
		t.Fatal(err)
	}
	s.env = append(s.env, "ZINCDOOR="+program, "HOME="+t.TempDir())
	out, errs, _ := s.command("timeout", "-k", "2", "120", neovim, "--headless", "--clean", "-c", "luafile "+script)
	steps := s.read("steps")
	for _, want := range []string{
		"message zincdoor: door commit is shut: new warning: 1, at most 0",
		"open | 2:6 4 blank-ends | 3:4 2 -Wslack",
		"type | 1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack",
		"save | 1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack",
		"fix all | 4:6 4 blank-ends | 5:4 2 -Wslack",
		"fixed /* ferries definitely wait */~int b;",
		"undo | 1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack",
		"edit the line | 1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:0 4 -Wslack",
		"undo again | 1:11 2 spelling | 2:6 2 blank-ends | 4:6 4 blank-ends | 5:4 2 -Wslack",
		"hover `-Wslack` (gauge)",
	} {
		if !slices.Contains(strings.Split(steps, "\n"), want) {
			t.Errorf("no step is %q:\n%s\n%s%s", want, steps, out, errs)
		}
	}
}
