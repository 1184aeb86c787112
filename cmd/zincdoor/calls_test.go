package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCommandLine: help, versions, misspelt words, and the folder that a call is made in.
func TestCommandLine(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(3))
	s.commit("one")
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"", 0, "Judge a change\n  gate "},
		{"--version", 0, "zincdoor "},
		{"gat", 3, "did you mean zincdoor gate?"},
		{"frobnicate", 3, "zincdoor --help lists them"},
		{"baseline tak", 3, "did you mean zincdoor baseline take?"},
		{"help baseline take", 0, "zincdoor baseline take [OPTION]..."},
		{"help nothing", 3, `there is no command "nothing"`},
		{"gate --stagd", 3, "did you mean --staged?"},
		{"baseline take --baseline x", 3, "has no option --baseline"},
		{"baseline list extra", 3, `takes no argument, and was given "extra"`},
		{"completion csh", 3, "there are bash, zsh, fish, powershell"},
		{"explain waiver", 0, "A waiver in the code is flawed"},
		{"schema nothing", 3, "there are findings, host, policy, review, service, verdict, verified"},
		{"-C nowhere gate --worktree", 3, "there is no folder nowhere"},
		{"findings nowhere.c", 3, "there is no file or folder nowhere.c here"},
		{"findings --exact", 3, "--exact needs a --severity"},
		{"findings --number 15", 3, `compared as in ">15"`},
		{"findings --group nothing", 3, "--group is one of file, rule, severity, team, tool"},
		{"baseline list --count-by nothing", 3, "--count-by is one of"},
		{"baseline renew --rule nothing --until 9d --reason x --yes", 0, "nothing to renew"},
	} {
		out, errs, code := s.run(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%s: exit code %d, want %d and %q\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
	away := &sandbox{T: t, dir: t.TempDir()}
	if out, errs, code := away.run("-C", s.dir, "gate", "--worktree", "--report", "r.txt"); code != 2 || !strings.Contains(out, "there is no such file") {
		t.Errorf("called from elsewhere: %d\n%s%s", code, out, errs)
	}
	s.write("r.txt", warn("core/tide.c", 2))
	if out, errs, code := away.run("gate", "-C", s.dir, "--tree", "--report", "r.txt"); code != 1 || !strings.Contains(out, "core/tide.c") {
		t.Errorf("called from elsewhere, with the report of there: %d\n%s%s", code, out, errs)
	}
}

// TestCompletion: what a shell is offered comes from the repository at hand, and is nothing where there is none.
func TestCompletion(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(9))
	s.write(".gitignore", "build/\n")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
teams: {tides: {path: core}, fares: {path: fares}}
reports: {compiler: {file: build/r.txt, as: diagnostics, tool: gcc}}
doors:
  quay: {judges: range, limits: [{count: new, severity: warning, most: 0}]}
  slip: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}
`)
	s.commit("one")
	s.git("tag", "spring")
	s.write("build/r.txt", warn("core/tide.c", 2)+"core/tide.c:3:1: warning: deep [-Wdeep]\n")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"gate", "--door", ""}, "quay slip"},
		{[]string{"gate", "--door", "q"}, "quay"},
		{[]string{"findings", "--team", ""}, "fares tides"},
		{[]string{"findings", "--rule=-W"}, "-Wdeep -Wunused"},
		{[]string{"explain", "-Wd"}, "-Wdeep"},
		{[]string{"findings", "--tool", "g"}, "gcc"},
		{[]string{"findings", "--severity", ""}, "error ignored note warning"},
		{[]string{"gate", "--into", ""}, "main spring"},
		{[]string{"gate", "--format", "j"}, "json junit"},
		{[]string{"gate", "--report", "c"}, "compiler-json= compiler="},
		{[]string{"completion", "z"}, "zsh"},
	} {
		out, _, _ := s.run(append([]string{"__complete"}, c.args...)...)
		var got []string
		for line := range strings.Lines(out) {
			if !strings.HasPrefix(line, ":") {
				got = append(got, strings.TrimSpace(line))
			}
		}
		words := map[string]bool{}
		for _, word := range strings.Fields(c.want) {
			words[word] = true
		}
		for _, word := range got {
			delete(words, word)
		}
		if len(words) > 0 || !strings.HasPrefix(c.want, "json") && len(got) != len(strings.Fields(c.want)) {
			t.Errorf("%q: %q, want %s", c.args, got, c.want)
		}
	}
	id := s.judge("--tree", "--door", "quay").Findings[0].ID
	if out, _, _ := s.run("__complete", "baseline", "accept", id[:3]); !strings.HasPrefix(out, id) {
		t.Errorf("an id: %s", out)
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if said := s.must(0, "completion", shell); len(said) < 1000 {
			t.Errorf("%s: %s", shell, said)
		}
	}
	nowhere := &sandbox{T: t, dir: t.TempDir()}
	if out, _, code := nowhere.run("__complete", "gate", "--into", ""); code != 0 || !strings.HasPrefix(out, ":") {
		t.Errorf("without a repository: %d %s", code, out)
	}
}

// TestSelection: the selectors are the same in every command, and mean what they mean in a limit.
func TestSelection(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(9))
	s.write("core/deep/low.c", lines(9))
	s.write("fares/fare.c", lines(9))
	s.write(".gitignore", "build/\n")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
teams: {tides: {path: core}, fares: {path: fares}}
numbers: [{rule: -Wcomplexity, number: 1}]
severities: [{rule: -Wcomplexity, number: ">80", except: {path: fares}, is: error}]
reports: {compiler: {file: build/r.txt, as: diagnostics, tool: gcc}}
doors:
  all: {limits: [{count: all, severity: warning, most: 0, except: {path: core/deep}}]}
`)
	s.commit("one")
	s.write("build/r.txt", warn("core/tide.c", 2)+"core/deep/low.c:3:1: warning: 'low' is unused [-Wunused]\n"+measured("core/tide.c", 5, 81)+measured("fares/fare.c", 5, 90)+"fares/fare.c:7:1: note: small [-Wsmall]\n")
	if v := s.judge("--tree"); v.Code != 1 || len(v.Limits) != 1 || v.Limits[0].Found != 3 {
		t.Errorf("a limit with an exception: %+v\n%s", v.Limits, v.standings())
	}
	list := func(args ...string) string {
		out, _, _ := s.run(append([]string{"findings", "--fields", "path,line"}, args...)...)
		return strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(out), "\t", ":"), "\n", " ")
	}
	for _, c := range []struct {
		args string
		want string
	}{
		{"core", "core/deep/low.c:3 core/tide.c:2 core/tide.c:5"},
		{"core/deep fares/fare.c", "core/deep/low.c:3 fares/fare.c:5 fares/fare.c:7"},
		{"--path core/*.c", "core/tide.c:2 core/tide.c:5"},
		{"--path core/", "core/deep/low.c:3 core/tide.c:2 core/tide.c:5"},
		{"--severity warning --path fares", "fares/fare.c:5"},
		{"--severity note --exact", "fares/fare.c:7"},
		{"--severity error", "core/tide.c:5"},
		{"--number >85", "fares/fare.c:5"},
		{"--team tides --message unused", "core/deep/low.c:3 core/tide.c:2"},
		{"--rule -Wnone", ""},
	} {
		if got := list(strings.Fields(c.args)...); got != c.want {
			t.Errorf("%s: %s, want %s", c.args, got, c.want)
		}
	}
	if _, errs, code := s.run("findings", "docs", "--path", "none"); code != 3 || !strings.Contains(errs, "there is no file or folder docs") {
		t.Errorf("a path that isn't there: %d %s", code, errs)
	}
	if out, errs, code := s.run("findings", "--path", "none"); code != 0 || out != "" || !strings.Contains(errs, "none of 5 findings is selected in none") {
		t.Errorf("nothing selected: %d %q %s", code, out, errs)
	}
	if out := s.must(0, "explain", "-Wunused", "--path", "core/deep"); !strings.Contains(out, "1 finding in the work tree") {
		t.Errorf("explained in part: %s", out)
	}
	if out, _, _ := s.run("gate", "--tree", "--path", "fares"); strings.Contains(out, "core/tide.c\n") || !strings.Contains(out, "only findings in fares are shown; the verdict counts all") || !strings.Contains(out, "SHUT all warning") {
		t.Errorf("shown in part: %s", out)
	}
	below := &sandbox{T: t, dir: filepath.Join(s.dir, "core")}
	if out, _, _ := below.run("findings", "deep", "--fields", "path"); out != "core/deep/low.c\n" {
		t.Errorf("a path from the folder of the call: %q", out)
	}

	s.must(0, "baseline", "accept", "--path", "core", "--severity", "warning", "--exact", "--yes")
	if out := s.must(0, "baseline", "list", "--path", "core/deep", "--format", "jsonl"); strings.Count(out, "\n") != 1 {
		t.Errorf("listed: %s", out)
	}
	// A message whose quoted name changes has another id; the entry's stays, and commands take either.
	s.write("build/r.txt", strings.Replace(s.read("build/r.txt"), "'low'", "'depth'", 1))
	var found struct{ ID, Entry string }
	out := s.must(0, "findings", "core/deep", "--format", "jsonl")
	if err := json.Unmarshal([]byte(out), &found); err != nil || found.Entry == "" || len(found.ID) != 16 || len(found.Entry) != 16 {
		t.Fatalf("%v: %s", err, out)
	}
	for _, id := range []string{found.ID, found.Entry, found.Entry[:6]} {
		if said := s.must(0, "explain", id); !strings.Contains(said, "core/deep/low.c") {
			t.Errorf("explained by %s: %s", id, said)
		}
	}
	s.must(0, "baseline", "renew", found.Entry[:8], "--until", "9d", "--reason", "x", "--yes")
	if err := os.WriteFile(filepath.Join(s.dir, "all.json"), []byte(s.must(0, "findings", "--format", "json")), 0o644); err != nil {
		t.Fatal(err)
	}
	validateBy(t, s.must(0, "schema", "findings"), s.read("all.json"))
	validateBy(t, s.must(0, "schema", "findings"), out)
}
