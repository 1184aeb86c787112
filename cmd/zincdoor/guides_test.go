package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// shownCall is a command of a guide, and the output that is shown below it.
type shownCall struct {
	line    int
	command string
	output  []string // nil where none is shown
	hidden  bool     // it only prepares what follows
}

// callsOf reads the commands of a guide: those behind a dollar sign in blocks marked as console, and in comments marked as run.
func callsOf(text string) (calls []shownCall) {
	inside, hidden := false, false
	for n, line := range strings.Split(text, "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			inside = line == "```console"
			continue
		case line == "<!-- run", line == "-->":
			hidden = line == "<!-- run"
			continue
		case !inside && !hidden:
			continue
		}
		last := len(calls) - 1
		switch command, begins := strings.CutPrefix(line, "$ "); {
		case begins:
			calls = append(calls, shownCall{line: n + 1, command: command, hidden: hidden})
		case last >= 0 && calls[last].output == nil && strings.HasSuffix(calls[last].command, "\\"):
			calls[last].command += "\n" + strings.TrimPrefix(line, "> ")
		case last >= 0 && strings.HasPrefix(line, "> "):
			calls[last].command += "\n" + line[2:]
		case last >= 0:
			calls[last].output = append(calls[last].output, line)
		}
	}
	return calls
}

var (
	someHex  = regexp.MustCompile(`\b[0-9a-f]{7,64}\b`)
	someDate = regexp.MustCompile(`\b2\d{3}-\d\d-\d\d\b`)
	someTime = regexp.MustCompile(`\b\d+(\.\d+)?(ms|s)\b`)
	someWait = regexp.MustCompile(`(?m)^zincdoor: \S+ ran [0-9.hmµs]+(, .*)?\n`) // of linters that take their time, as all do on a slow machine
	someFoot = regexp.MustCompile(`[ \t]+$`)
)

// plainOutput is a line of output without what differs from run to run.
func plainOutput(line string) string {
	for _, p := range []struct {
		of *regexp.Regexp
		by string
	}{{someDate, "DATE"}, {someHex, "HEX"}, {someTime, "TIME"}, {someFoot, ""}} {
		line = p.of.ReplaceAllString(line, p.by)
	}
	return line
}

// sameOutput reports whether lines are as shown, in which … alone stands for any lines.
func sameOutput(shown, got []string) bool {
	if len(shown) == 0 {
		return len(got) == 0
	}
	if strings.TrimSpace(shown[0]) == "…" {
		for i := range len(got) + 1 {
			if sameOutput(shown[1:], got[i:]) {
				return true
			}
		}
		return false
	}
	return len(got) > 0 && sameLine(plainOutput(shown[0]), plainOutput(got[0])) && sameOutput(shown[1:], got[1:])
}

// sameLine reports whether a line is as shown, in which … stands for anything.
func sameLine(shown, got string) bool {
	if shown == got {
		return true
	}
	parts := strings.Split(shown, "…")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	return regexp.MustCompile("^" + strings.Join(parts, ".*") + "$").MatchString(got)
}

// TestGuides: every command that the guides show runs, in their order in a folder of its own, and prints what they show.
func TestGuides(t *testing.T) {
	wholeRun(t)
	guides, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, guide := range append(guides, "../../README.md") {
		t.Run(filepath.Base(guide), func(t *testing.T) {
			t.Parallel()
			data, err := os.ReadFile(guide)
			if err != nil {
				t.Fatal(err)
			}
			docs, err := filepath.Abs("../../docs")
			if err != nil {
				t.Fatal(err)
			}
			g := &guideShell{dir: t.TempDir(), docs: docs}
			for _, c := range callsOf(string(data)) {
				out, code := g.do(t, c.command)
				out = someWait.ReplaceAllString(out, "")
				got := strings.Split(strings.TrimRight(out, "\n"), "\n")
				if out == "" {
					got = nil
				}
				shown := c.output
				for len(shown) > 0 && strings.TrimSpace(shown[len(shown)-1]) == "" {
					shown = shown[:len(shown)-1]
				}
				switch {
				case c.hidden && code != 0:
					t.Fatalf("%s:%d: %s: exit code %d\n%s", guide, c.line, c.command, code, out)
				case code > 2, code == 2 && !strings.Contains(out, "CANNOT JUDGE"):
					t.Errorf("%s:%d: %s: exit code %d\n%s", guide, c.line, c.command, code, out)
				case shown != nil && !sameOutput(shown, got):
					t.Errorf("%s:%d: %s prints\n%s\n\nwhere the guide shows\n%s", guide, c.line, c.command, strings.Join(got, "\n"), strings.Join(shown, "\n"))
				}
			}
		})
	}
}

// TestExamples: the examples of every command's help run in the demo's repository.
func TestExamples(t *testing.T) {
	wholeRun(t)
	data, err := os.ReadFile("../../docs/reference.md")
	if err != nil {
		t.Fatal(err)
	}
	g := &guideShell{dir: t.TempDir()}
	if out, code := g.do(t, "zincdoor demo --keep tideboard"); code != 0 {
		t.Fatal(out)
	}
	whole := filepath.Join(g.dir, "tideboard")
	var examples []string
	inside := false
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSuffix(line, "\n")
		switch {
		case line == "Examples":
			inside = true
		case !strings.HasPrefix(line, "  "):
			inside = false
		case inside && strings.HasPrefix(line, "  zincdoor "):
			examples = append(examples, line)
		case inside && len(examples) > 0:
			examples[len(examples)-1] += "\n" + line
		}
	}
	if len(examples) < 40 {
		t.Fatalf("%d examples", len(examples))
	}
	for i, example := range examples {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			one := &guideShell{dir: filepath.Join(t.TempDir(), "tideboard")}
			if out, err := exec.Command("cp", "-a", whole, one.dir).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			command := strings.TrimSpace(example)
			for _, name := range []string{"base", "ours", "theirs"} { // as git's merge driver has them
				if strings.Contains(command, name+".jsonl") {
					command = "cp .zincdoor/baseline.jsonl " + name + ".jsonl; " + command
				}
			}
			if strings.Contains(command, " fix --undo") {
				command = "echo 'house: {blank-ends: on}' >>.zincdoor/policy.yaml; echo 'berth = 1 ' >>boards/board.py; zincdoor fix --rule blank-ends --apply; " + command
			}
			if strings.HasPrefix(command, "zincdoor fit --for") {
				command = "rm -r .zincdoor; " + command
			}
			if strings.HasPrefix(command, "zincdoor watch") || command == "zincdoor demo --service" {
				command = "timeout 2 " + command + "; test $? = 124 -o $? = 0 -o $? = 2"
			}
			if strings.HasPrefix(command, "zincdoor slipway --data") {
				command = "timeout 1 " + command + " --listen 127.0.0.1:0; test $? = 124 -o $? = 0 -o $? = 2"
			}
			if strings.HasPrefix(command, "zincdoor lsp") { // an editor that comes and goes
				words := ""
				for _, message := range []string{`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"capabilities":{}}}`, `{"jsonrpc":"2.0","id":2,"method":"shutdown"}`, `{"jsonrpc":"2.0","method":"exit"}`} {
					words += fmt.Sprintf("Content-Length: %d\\r\\n\\r\\n%s", len(message), message)
				}
				command = "printf '" + words + "' | " + command
			}
			if strings.HasPrefix(command, "zincdoor serve --address") {
				command = "timeout 1 zincdoor serve --address 127.0.0.1:0; test $? = 124 -o $? = 0 -o $? = 2"
			}
			if strings.HasPrefix(command, "zincdoor serve --settings") { // which finds nobody at that address
				command = "echo 'zincdoor: service/1' >service.yaml; " + command + "; test $? = 2"
			}
			if strings.HasPrefix(command, "zincdoor serve token revoke") { // which there isn't
				command += "; test $? = 3"
			}
			if strings.HasPrefix(command, "zincdoor seal --") && !strings.Contains(command, "--generate-key") || strings.HasPrefix(command, "zincdoor verify") {
				command = "zincdoor seal --generate-key ci-key; cp ci-key ops-key; mkdir -p build; echo >build/cc.txt; zincdoor seal --report compiler=build/cc.txt --key ci-key --output cc.seal; zincdoor gate --into main --door merge --key ci-key --quiet --write sealed=verdict.seal; " + command
			}
			if strings.HasPrefix(command, "zincdoor report send") { // which finds nobody at that address
				command = "echo >vet.json; echo >r; export ZINCDOOR_SERVICE_TOKEN=5d01c2a7.x; " + command + " --patience 1ms; test $? = 2"
			}
			if strings.HasPrefix(command, "zincdoor review ") { // which finds nobody at that address
				command = "zincdoor slipway --recipe | tee quay.yaml >slipway.yaml; zincdoor gate --into main --quiet --write json=verdict.json; " + command + " --address http://127.0.0.1:9; test $? = 2"
			}
			if out, code := one.do(t, command); code > 1 {
				t.Errorf("%s: exit code %d\n%s", strings.TrimSpace(example), code, out)
			}
		})
	}
}

// guideShell runs commands as a reader of the guides would, one after the other.
type guideShell struct{ dir, docs string }

// do runs a command in the folder that the ones before have left it in, with what it prints to both streams.
func (g *guideShell) do(t *testing.T, command string) (out string, code int) {
	t.Helper()
	const mark = "\x01in "
	cmd := exec.Command("sh", "-c", command+"\ncode=$?; printf '"+mark+"%s' \"$PWD\"; exit $code")
	cmd.Dir = g.dir
	cmd.Env = append(slices.DeleteFunc(os.Environ(), func(pair string) bool { return strings.HasPrefix(pair, "GIT_") }),
		"PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"), "NO_COLOR=1", "LC_ALL=C.UTF-8", "TERM=dumb", "GUIDES="+g.docs, "COLUMNS=100",
		"GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=Tide Desk", "GIT_AUTHOR_EMAIL=desk@brackwater.example",
		"GIT_COMMITTER_NAME=Tide Desk", "GIT_COMMITTER_EMAIL=desk@brackwater.example")
	var both bytes.Buffer
	cmd.Stdout, cmd.Stderr = &both, &both
	if err := cmd.Run(); err != nil {
		if _, ended := err.(*exec.ExitError); !ended {
			t.Fatal(err)
		}
	}
	text, dir, _ := strings.Cut(both.String(), mark)
	if dir != "" {
		g.dir = dir
	}
	return text, cmd.ProcessState.ExitCode()
}
