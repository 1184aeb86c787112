//go:build unix

package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"
)

// boundsPolicy has every kind of reader at work.
const boundsPolicy = `zincdoor: 1
house: {yaml-syntax: on, toml-syntax: on, json-syntax: on, xml-syntax: on, conflict-marks: on, blank-ends: on, hidden-signs: on, private-key: on, line-ends: on, indentation: on, bad-utf8: on}
recipes:
  lines: {as: text, match: '^(?P<path>[^:]+):(?P<line>\d+): (?P<message>.*)$'}
  values: {as: json, each: "$[*]", path: $.path, line: $.line, message: $.message}
  elements: {as: xml, each: "//item", path: "@path", line: "@line", message: "."}
  rows: {as: csv, path: path, line: line, message: message}
doors:
  now: {judges: worktree, limits: [{count: new, severity: note, most: 0}]}
  mine: {judges: worktree, needs: house, limits: [{count: new, severity: note, most: 0}]}
`

// bounded is a shape of input of which there can be ever more.
type bounded struct {
	name string
	text func(n int) string // about n bytes
	args []string           // {} stands for the file
	file string             // of the work tree, "" for one beside it
}

func boundedShapes(list string) []bounded {
	repeat := func(unit string) func(n int) string {
		return func(n int) string { return strings.Repeat(unit, max(1, n/len(unit))) }
	}
	around := func(head string, middle func(n int) string, tail string) func(n int) string {
		return func(n int) string { return head + middle(n) + tail }
	}
	numbered := func(format string) func(n int) string {
		return func(n int) string {
			var all strings.Builder
			for i := 0; all.Len() < n; i++ {
				fmt.Fprintf(&all, format, i)
			}
			return all.String()
		}
	}
	const result = `{"ruleId":"deep","level":"warning","message":{"text":"deep %d"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":2}}}]},`
	log := func(results func(n int) string) func(n int) string {
		return around(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[`, results, strings.TrimSuffix(fmt.Sprintf(result, 0), ",")+`]}]}`)
	}
	packed := func(text func(n int) string) func(n int) string {
		return func(n int) string {
			var all bytes.Buffer
			w, _ := gzip.NewWriterLevel(&all, gzip.BestSpeed)
			w.Write([]byte(text(n)))
			w.Close()
			return all.String()
		}
	}
	report := func(format string) []string {
		return []string{"gate", "--worktree", "--door", "now", "--report", format + "={}"}
	}
	judged := func(flag string) []string {
		return []string{"gate", "--worktree", "--door", "now", "--report", "gnu=.git/one.txt", flag, "{}"}
	}
	patch := []string{"gate", "--patch", "{}", "--door", "now", "--report", "gnu=.git/one.txt", "--policy", ".zincdoor/policy.yaml", "--baseline", ".git/list"}
	template := append(judged("--template"), "--format", "template")
	mine := []string{"gate", "--worktree", "--door", "mine"}
	const diff = "diff --git a/core/tide.c b/core/tide.c\n--- a/core/tide.c\n+++ b/core/tide.c\n@@ -0,0 +1,999999999 @@\n"
	header, entry, _ := strings.Cut(strings.TrimSpace(list), "\n")
	entry = strings.ReplaceAll(strings.ReplaceAll(entry, "%", "%%"), `"message":"`, `"message":"%d `) + "\n"
	return []bounded{
		{"SARIF: results", log(numbered(result)), report("sarif"), ""},
		{"SARIF: a string", log(around(`{"ruleId":"deep","message":{"text":"`, repeat("d"), `"}},`)), report("sarif"), ""},
		{"SARIF: depth", around(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"g"}},"properties":`, repeat("["), ""), report("sarif"), ""},
		{"SARIF: runs", around(`{"version":"2.1.0","runs":[`, repeat(`{"tool":{"driver":{"name":"gauge"}},"results":[]},`), `{"tool":{"driver":{"name":"gauge"}},"results":[]}]}`), report("sarif"), ""},
		{"SARIF: rules", around(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge","rules":[`, numbered(`{"id":"r%d"},`), `{"id":"r"}]}},"results":[]}]}`), report("sarif"), ""},
		{"SARIF: related places", log(around(strings.TrimSuffix(result, "},")+`,"relatedLocations":[`, repeat(`{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"}}},`), `{}]},`)), report("sarif"), ""},
		{"SARIF: fixes", log(around(strings.TrimSuffix(result, "},")+`,"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"core/tide.c"},"replacements":[`, repeat(`{"deletedRegion":{"startLine":2,"startColumn":1,"endColumn":1},"insertedContent":{"text":"x"}},`), `{"deletedRegion":{"startLine":2}}]}]}]},`)), []string{"fix", "--worktree", "--door", "now", "--report", "sarif={}"}, ""},
		{"SARIF: packed", packed(log(numbered(result))), report("sarif"), ""},
		{"text: findings", numbered("core/tide.c:%d:1: warning: deep [-Wdeep]\n"), report("gnu"), ""},
		{"text: a line", repeat("x"), report("diagnostics"), ""},
		{"text: colons", repeat("a:1:"), report("diagnostics"), ""},
		{"text: quotes", repeat("'\"`{[("), report("diagnostics"), ""},
		{"text: JSON on a line", repeat(`{"a":[`), report("diagnostics"), ""},
		{"text: what can't be read", numbered("step %d of the tide\n"), report("diagnostics"), ""},
		{"text: escapes", repeat("\x1b]\x1b[31m"), report("diagnostics"), ""},
		{"text: a message", around("core/tide.c:3:1: warning: ", repeat("d"), " [-Wdeep]\n"), report("gnu"), ""},
		{"text: includes", repeat("In file included from core/a.h:1,\n                 from core/tide.c:2:\n"), report("diagnostics"), ""},
		{"text: blocks", repeat("warning: deep\n --> core/tide.c:3:1\n  |\n3 | int b;\n  | ^\n\n"), report("arrows"), ""},
		{"text: brackets", repeat("core/tide.c(3,1): error CS12: deep\n"), report("brackets"), ""},
		{"text: packed", packed(repeat("core/tide.c:3:1: warning: deep [-Wdeep]\n")), report("gnu"), ""},
		{"recipe: lines", repeat("core/tide.c:3: deep\n"), report("lines"), ""},
		{"recipe: JSON values", repeat(`{"path":"core/tide.c","line":3,"message":"deep"}` + "\n"), report("values"), ""},
		{"recipe: a JSON list", around("[", repeat("1,"), "1]"), report("values"), ""},
		{"recipe: JSON depth", repeat("["), report("values"), ""},
		{"recipe: elements", around("<r>", repeat(`<item path="core/tide.c" line="3">deep</item>`), "</r>"), report("elements"), ""},
		{"recipe: XML depth", repeat("<a>"), report("elements"), ""},
		{"recipe: attributes", around("<r ", numbered(`a%d="" `), "/>"), report("elements"), ""},
		{"recipe: rows", around("path,line,message\n", repeat("core/tide.c,3,deep\n"), ""), report("rows"), ""},
		{"recipe: an open quote", around("path,line,message\n\"", repeat("x"), ""), report("rows"), ""},
		{"recipe: columns", around("path,line,message", repeat(","), "\n"), report("rows"), ""},
		{"diff: lines", around(diff, repeat("+int a;\n"), ""), patch, ""},
		{"diff: files", numbered("diff --git a/core/x%[1]d.c b/core/x%[1]d.c\n--- a/core/x%[1]d.c\n+++ b/core/x%[1]d.c\n@@ -0,0 +1 @@\n+a\n"), patch, ""},
		{"diff: a line", around(diff+"+", repeat("a"), "\n"), patch, ""},
		{"policy: depth", around("zincdoor: 1\ndoors: ", repeat("["), ""), judged("--policy"), ""},
		{"policy: maps", around("zincdoor: 1\ndoors: ", repeat("{a: "), ""), judged("--policy"), ""},
		{"policy: keys", around("zincdoor: 1\n", numbered("k%d: 1\n"), ""), judged("--policy"), ""},
		{"policy: aliases", around("zincdoor: 1\ny: &y [a]\n", numbered("y%[1]d: &y [*y,*y,*y,*y,*y,*y,*y,*y]\n"), ""), judged("--policy"), ""},
		{"policy: a regular expression", around("zincdoor: 1\nreports:\n  a: {as: diagnostics, file: x, noise: '", repeat("(a|b{99})*"), "'}\ndoors:\n  now: {judges: worktree, limits: [{count: new, severity: note, most: 0}]}\n"), judged("--policy"), ""},
		{"policy: a glob", around("zincdoor: 1\npaths: {sets: {s: ['", repeat("**/*{a,b}"), "']}}\ndoors:\n  now: {judges: worktree, limits: [{count: new, severity: note, most: 0, path: s}]}\n"), judged("--policy"), ""},
		{"baseline: entries", around(header+"\n", numbered(entry), ""), judged("--baseline"), ""},
		{"baseline: a line", around(header+"\n{\"path\":\"", repeat("a"), "\"}\n"), judged("--baseline"), ""},
		{"baseline: depth", around(header+"\n{\"path\":", repeat("["), "\n"), judged("--baseline"), ""},
		{"template: text", repeat("x"), template, ""},
		{"template: loops", func(n int) string {
			return strings.Repeat("{{range .findings}}{{range $.findings}}", n/80) + strings.Repeat("{{end}}{{end}}", n/80)
		}, template, ""},
		{"template: depth", func(n int) string { return strings.Repeat("{{if true}}", n/18) + strings.Repeat("{{end}}", n/18) }, template, ""},
		{"house: YAML depth", repeat("["), mine, "core/big.yaml"},
		{"house: YAML list", repeat("- a: b\n"), mine, "core/big.yaml"},
		{"house: YAML documents", repeat("---\na\n"), mine, "core/big.yaml"},
		{"house: TOML depth", around("a = ", repeat("["), ""), mine, "core/big.toml"},
		{"house: TOML parts", around("a", repeat(".a"), " = 1"), mine, "core/big.toml"},
		{"house: TOML keys", numbered("k%d = 1\n"), mine, "core/big.toml"},
		{"house: JSON depth", repeat("["), mine, "core/big.json"},
		{"house: XML depth", repeat("<a>"), mine, "core/big.xml"},
		{"house: lines", repeat("int a;  \n"), mine, "core/big.c"},
		{"house: a line", repeat("\u202e"), mine, "core/big.c"},
		{"house: conflicts", repeat("<<<<<<< \n"), mine, "core/big.c"},
		{"house: waivers", repeat("/* zincdoor: allow deep: because */\n"), mine, "core/big.c"},
	}
}

// crashed finds what go prints of a program that ended by itself.
var crashed = regexp.MustCompile(`(?m)^(?:fatal error|panic|SIG[A-Z]+|runtime: |goroutine )`)

// TestBounds: whatever a reader is given, however much of it, under a limit of 512 MB the program answers or says what is too much.
// ZINCDOOR_BOUNDS is up to how many bytes are tried, ten times as many each time; -v shows the seconds and the megabytes.
func TestBounds(t *testing.T) {
	wholeRun(t)
	if runtime.GOOS != "linux" || raceBuild() {
		t.Skip("memory is limited as on Linux, and the race detector needs more of it")
	}
	most := 1_000_000
	if far := os.Getenv("ZINCDOOR_BOUNDS"); far != "" {
		if _, err := fmt.Sscan(far, &most); err != nil {
			t.Fatal(err)
		}
	}
	s := crashPort(t)
	if out, errs, code := s.run("baseline", "take", "--report", "gnu=r.txt"); code != 0 {
		t.Fatalf("%s%s", out, errs)
	}
	list := s.read(".zincdoor/baseline.jsonl")
	list = strings.Join(strings.SplitN(list, "\n", 3)[:2], "\n")
	os.Remove(filepath.Join(s.dir, ".zincdoor/baseline.jsonl"))
	s.write(".git/list", list+"\n")
	s.write(".git/one.txt", "core/tide.c:3:1: warning: deep [-Wdeep]\n")
	s.write(".zincdoor/policy.yaml", boundsPolicy)
	s.write("core/tide.c", "int a;\n")
	s.commit("two")
	s.write("core/tide.c", "int a;\n"+strings.Repeat("int b;\n", 20))
	for _, c := range boundedShapes(list) {
		t.Run(c.name, func(t *testing.T) {
			file := ".git/big"
			if c.file != "" {
				file = c.file
				defer os.Remove(filepath.Join(s.dir, file))
			}
			args := []string{"-c", `ulimit -d 524288; exec "$0" "$@"`, program}
			for _, arg := range c.args {
				args = append(args, strings.ReplaceAll(arg, "{}", file))
			}
			for n := 10_000; n <= most; n *= 10 {
				s.write(file, c.text(n))
				ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
				cmd := exec.CommandContext(ctx, "sh", args...)
				cmd.Dir, cmd.Env, cmd.WaitDelay = s.dir, s.environment(), time.Second
				var out, said bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &said
				if err := cmd.Start(); err != nil {
					t.Fatal(err)
				}
				peak := watchPeak(cmd.Process.Pid)
				err := cmd.Wait()
				took := peak()
				timedOut := ctx.Err() != nil
				cancel()
				var exit *exec.ExitError
				if timedOut || err != nil && !errors.As(err, &exit) || cmd.ProcessState.ExitCode() < 0 || cmd.ProcessState.ExitCode() > 3 || crashed.Match(said.Bytes()) {
					t.Fatalf("%d bytes: %v (%v)\n%.600s", n, cmd.ProcessState, timedOut, said.String())
				}
				t.Logf("%11d bytes: code %d, %5.1f s, %4d MB", n, cmd.ProcessState.ExitCode(), (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds(), took>>20)
			}
		})
	}
}

// TestMemory: gate takes at most 1.5 KiB for each finding, beside their texts and 50 MiB, whatever the format.
func TestMemory(t *testing.T) {
	if runtime.GOOS != "linux" || raceBuild() {
		t.Skip("memory is measured as on Linux, and the race detector needs more of it")
	}
	const findings = 150_000
	s := repository(t)
	s.write("core/tide.c", lines(40))
	s.commit("one")
	for format, line := range map[string]string{
		"gnu":   "core/tide.c:%d:%d: warning: deep %[1]d %[2]d [-Wdeep]\n",
		"sarif": `{"ruleId":"deep","message":{"text":"deep %[1]d %[2]d"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":%[1]d,"startColumn":%[2]d}}}]},`,
	} {
		var r strings.Builder
		if format == "sarif" {
			r.WriteString(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[`)
		}
		for i := range findings {
			fmt.Fprintf(&r, line, i%40+1, i/40+1)
		}
		text := r.String()
		if format == "sarif" {
			text = strings.TrimSuffix(text, ",") + `]}]}`
		}
		s.write(".git/r", text)
		cmd := exec.Command(program, "gate", "--worktree", "--report", format+"=.git/r", "--quiet")
		cmd.Dir, cmd.Env = s.dir, s.environment()
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		peak := watchPeak(cmd.Process.Pid)
		err := cmd.Wait()
		if code := cmd.ProcessState.ExitCode(); code > 1 {
			t.Fatalf("%s: %v", format, err)
		}
		took, most := peak(), int64(findings*3<<9+len(text)+50<<20)
		t.Logf("%s: %d MiB of %d, %d bytes for each finding", format, took>>20, most>>20, took/findings)
		if took > most {
			t.Errorf("%s: it takes %d MiB, more than %d", format, took>>20, most>>20)
		}
	}
}
