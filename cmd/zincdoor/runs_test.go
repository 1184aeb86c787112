package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// port is a sandbox whose policy names one linter of testdata/linters, with temporary and cache folders of its own.
type port struct {
	*sandbox
	log string // where linters note what they do
	tmp string
}

func newPort(t *testing.T, report string) *port {
	h := &port{sandbox: repository(t), tmp: t.TempDir(), log: filepath.Join(t.TempDir(), "log")}
	h.env = append(h.env, "TMPDIR="+h.tmp, "LOG="+h.log, "XDG_CACHE_HOME="+t.TempDir())
	if err := os.WriteFile(h.log, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(filepath.Join(h.dir, "tools"), os.DirFS("testdata/linters")); err != nil {
		t.Fatal(err)
	}
	h.write("core/tide.c", lines(10))
	h.write("fares/fare.go", "package fares\n")
	h.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports:\n  gauge: {"+report+`}
doors:
  commit: {judges: staged, limits: [{count: new, severity: warning, most: 0}]}
  merge: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}
  growth: {judges: branch, limits: [{count: all, severity: note, most: no-growth}]}
  now: {judges: worktree, limits: [{count: new, severity: warning, most: 0}]}
`)
	h.commit("one")
	h.git("config", "zincdoor.run", "true")
	return h
}

// state is the work tree and the index, byte for byte.
func (h *port) state() string {
	var all strings.Builder
	filepath.WalkDir(h.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			h.Fatal(err)
		}
		rel, _ := filepath.Rel(h.dir, path)
		if strings.HasPrefix(rel, ".git") && rel != ".git/index" {
			return nil
		}
		if d.Type().IsRegular() {
			data, _ := os.ReadFile(path)
			fmt.Fprintf(&all, "%s %x\n", rel, data)
		}
		return nil
	})
	return all.String()
}

// logged is what linters noted since the last time.
func (h *port) logged() []string {
	data, err := os.ReadFile(h.log)
	if err != nil {
		h.Fatal(err)
	}
	if err := os.WriteFile(h.log, nil, 0o644); err != nil {
		h.Fatal(err)
	}
	return strings.Fields(string(data))
}

// clear checks that nothing was left behind, no process and no file.
func (h *port) clear(before string) {
	h.Helper()
	if now := h.state(); now != before {
		h.Errorf("the work tree or the index has changed")
	}
	if left, _ := os.ReadDir(h.tmp); len(left) > 0 {
		h.Errorf("left in the temporary folder: %v", left)
	}
	data, _ := os.ReadFile(h.log)
	for _, pid := range strings.Fields(string(data)) {
		if _, err := os.Stat("/proc/" + pid + "/stat"); err == nil {
			if stat, _ := os.ReadFile("/proc/" + pid + "/stat"); !strings.Contains(string(stat), ") Z ") {
				h.Errorf("process %s is still there: %s", pid, stat)
			}
		}
	}
}

const shoal = "int depth; /* SHOAL */\n"

// TestRuns: a linter runs on what will be committed, and what it leaves is worth what it is worth.
func TestRuns(t *testing.T) {
	for _, c := range []struct {
		name, report string
		staged       string // of core/tide.c
		after        string // in the work tree alone
		code         int
		say          string
	}{
		{"finds what is staged", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'", shoal, lines(3), 1, "gauge read"},
		{"doesn't see what isn't", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'", "int depth;\n", shoal, 0, "gauge empty"},
		{"only what changed", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', given: changed", shoal, shoal, 1, "gauge read"},
		{"nothing for it", "run: [sh, tools/crash.sh], as: diagnostics, files: '**/*.go', given: changed", shoal, shoal, 0, "gauge skipped"},
		{"in a folder", "run: [sh, ../tools/shoal.sh], folder: core, as: diagnostics, files: 'core/*.c'", shoal, shoal, 1, "gauge read"},
		{"on standard error", "run: [sh, -c, 'sh tools/shoal.sh \"$@\" >&2', sh], inputs: 'tools/*', output: stderr, as: diagnostics, files: '**/*.c'", shoal, shoal, 1, "gauge read"},
		{"by its environment", "run: [sh, tools/quiet.sh], environment: {CODE: 3}, as: diagnostics", shoal, shoal, 2, "it ended with code 3. If that means it found something, write exits: {found: 3} in its report; its last output: all is well here"},
		{"a declared code", "run: [sh, tools/quiet.sh], environment: {CODE: 3}, exits: {found: 3}, as: diagnostics", shoal, shoal, 2, "gauge failed it ended with code 3, which means that it found something, and its output has no finding; its last output: all is well here"},
		{"0 among the declared codes", "run: [sh, tools/quiet.sh], exits: {found: [0, 3]}, as: diagnostics", shoal, shoal, 0, "gauge empty"},
		{"found something, in a document without a result", "run: [sh, -c, 'echo ''{\"version\":\"2.1.0\",\"runs\":[{\"tool\":{\"driver\":{\"name\":\"gauge\"}},\"results\":[]}]}''; exit 1'], exits: {found: 1}, as: sarif", shoal, shoal, 2, ", which means that it found something, and its output has no finding"},
		{"speaks as everywhere", "run: [sh, -c, 'test \"$LC_ALL\" = C.UTF-8'], as: diagnostics", shoal, shoal, 0, "gauge empty"},
		{"0 reports a failure", "run: [sh, tools/quiet.sh], exits: {failed: 0}, as: diagnostics", shoal, shoal, 2, "it ended with code 0, which means that it failed"},
		{"crashes", "run: [sh, tools/crash.sh], as: diagnostics", shoal, shoal, 2, "gauge failed it ended by itself: signal: segmentation fault"},
		{"hangs", "run: [sh, tools/hang.sh], as: diagnostics, timeout: 300ms", shoal, shoal, 2, "gauge failed it was stopped after 300ms"},
		{"writes garbage", "run: [sh, tools/garbage.sh], as: sarif", shoal, shoal, 2, "gauge failed"},
		{"an empty document", "run: [sh, tools/quiet.sh], as: sarif", shoal, shoal, 2, "even a tool that found nothing writes a document"},
		{"forks", "run: [sh, tools/forks.sh], as: diagnostics", shoal, shoal, 0, "gauge empty"},
		{"prints without end", "run: [sh, tools/flood.sh], as: diagnostics", shoal, shoal, 2, "it wrote more than 1024 MiB"},
		{"alters files", "run: [sh, tools/rewrite.sh], as: diagnostics", shoal, shoal, 0, "gauge empty"},
		{"isn't there", "run: nosuchgauge, as: diagnostics", shoal, shoal, 2, "nosuchgauge is not on the PATH; install it"},
		{"isn't there and isn't needed", "run: nosuchgauge, as: diagnostics, optional: true}\n  other: {run: [sh, tools/quiet.sh], as: diagnostics", shoal, shoal, 0, "gauge failed"},
		{"writes a file", "run: [sh, tools/file.sh], file: build/shoals.txt, as: diagnostics", lines(11), shoal, 0, "gauge read"},
		{"writes no file", "run: [sh, tools/quiet.sh], file: build/shoals.txt, as: diagnostics", shoal, shoal, 2, "it ended well and wrote no build/shoals.txt"},
		{"of the wanted version", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', version: '>=2', ask: [echo, gauge 2.1]", shoal, shoal, 1, "gauge read"},
		{"of another version", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', version: '>=3', ask: [echo, gauge 2.1]", shoal, shoal, 2, "it comes from version gauge 2.1, and the policy expects >=3"},
		{"one of two alters what both read", "run: [sh, tools/rewrite.sh], as: diagnostics}\n  other: {run: [sh, tools/quiet.sh], as: diagnostics", shoal, shoal, 2, "other failed a linter changed core/tide.c in the copy"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := newPort(t, c.report)
			h.write("core/tide.c", c.staged)
			h.git("add", "-A")
			h.write("core/tide.c", c.after)
			before := h.state()
			if v := h.judge("--staged"); v.Code != c.code || !strings.Contains(v.about(), c.say) {
				t.Errorf("exit code %d\n%s\nwant %d and %q", v.Code, v.about(), c.code, c.say)
			}
			h.clear(before)
		})
	}
}

// TestRunAnswers: a linter that looks at each file by itself is asked again only about what is new to it.
func TestRunAnswers(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', per: file, inputs: gauge.conf")
	other := strings.NewReplacer("SHOAL", "ROCK")
	for i := range 5 {
		h.write(fmt.Sprintf("core/quay%d.c", i), other.Replace(shoal))
	}
	h.write("gauge.conf", "a\n")
	for _, c := range []struct {
		name  string
		do    func()
		args  []string
		asked int
		state string
		found int
	}{
		{"all at first", func() {}, nil, 6, "empty", 0},
		{"none again", func() {}, nil, 0, "cached", 0},
		{"one that is new", func() { h.write("core/quay1.c", shoal) }, nil, 1, "read", 1},
		{"what was found stays", func() {}, nil, 0, "cached", 1},
		{"another, with what is known", func() { h.write("core/quay2.c", shoal+"\n") }, nil, 1, "read", 2},
		{"as it was", func() { h.write("core/quay2.c", other.Replace(shoal)) }, nil, 0, "cached", 1},
		{"asked anew", func() {}, []string{"--no-cache"}, 6, "read", 1},
		{"its inputs altered", func() { h.write("gauge.conf", "b\n") }, nil, 6, "read", 1},
		{"its command's file altered", func() { h.write("tools/shoal.sh", h.read("tools/shoal.sh")+"\n") }, nil, 6, "read", 1},
		{"a file that is gone", func() { os.Remove(filepath.Join(h.dir, "core/quay1.c")) }, nil, 0, "cached", 0},
		{"what was kept is damaged", func() { damage(h) }, nil, 5, "empty", 0},
		{"it speaks of other files", func() {
			h.write("tools/shoal.sh", "printf '%s\\n' \"$@\" >>$LOG; echo 'core/tide.h:1:1: warning: a shoal [-Wshoal]'\n")
			h.write("core/tide.h", shoal)
		}, nil, 5, "read", 1},
		{"so that nothing is kept", func() {}, nil, 5, "read", 1},
	} {
		c.do()
		h.git("add", "-A")
		v := h.judge(append([]string{"--staged"}, c.args...)...)
		if asked := len(h.logged()); asked != c.asked || v.Evidence[0].State != c.state || v.Totals["findings"] != c.found {
			t.Errorf("%s: asked about %d files, want %d; %s, want %s; %d findings, want %d", c.name, asked, c.asked, v.Evidence[0].State, c.state, v.Totals["findings"], c.found)
		}
	}
}

// TestRunHeaders: what a compiler finds in headers is remembered with the files that include them, as far as the policy or the
// compiler says what it read.
func TestRunHeaders(t *testing.T) {
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip(err)
	}
	const low, high = "static int low(void) { int unused; return 1; }\n", "static int low(void) { return 2; }\n"
	type step struct {
		name  string
		do    func(h *port)
		asked int
		found int
		say   string
	}
	steps := []step{
		{"all at first", func(*port) {}, 3, 2, ""},
		{"none again", func(*port) {}, 0, 2, ""},
		{"one of the two that include it", func(h *port) { h.write("core/two.c", "#include \"low.h\"\nint two(void) { return low() + 1; }\n") }, 1, 2, ""},
		{"the header", func(h *port) { h.write("core/low.h", high) }, 2, 0, ""},
		{"as it was", func(h *port) { h.write("core/low.h", low) }, 0, 2, ""},
	}
	shadow := step{"another of its name is found first", func(h *port) { h.write("core/inc/low.h", high) }, 2, 2, ""}
	for _, c := range []struct {
		name, report, door string
		steps              []step
	}{
		{"it says itself", "run: [sh, tools/headers.sh, -Icore/inc], output: stdout, as: diagnostics, files: '**/*.c', per: file, inputs: tools/headers.sh", "now", append(steps[:len(steps):len(steps)], shadow)},
		{"its inputs", "run: [sh, tools/headers.sh], environment: {DEPENDENCIES_OUTPUT: /dev/null}, as: diagnostics, files: '**/*.c', per: file, inputs: ['**/*.h', tools/*]", "commit", []step{
			steps[0], steps[1], steps[2], {"the header", steps[3].do, 3, 0, ""}, steps[4], {"any header", shadow.do, 3, 2, ""},
		}},
		{"neither", "run: [sh, tools/headers.sh], environment: {DEPENDENCIES_OUTPUT: /dev/null}, as: diagnostics, files: '**/*.c', per: file", "now", []step{
			{"all at first", func(*port) {}, 3, 2, "for core/one.c it found something in core/low.h, which isn't among its inputs: (and 1 more like it)"},
			{"those again", func(*port) {}, 2, 2, "for core/one.c it found something in core/low.h, which isn't among its inputs:"},
		}},
		{"a file that doesn't compile", "run: [sh, tools/headers.sh], as: diagnostics, files: '**/*.c', per: file, inputs: ['tools/*', '**/*.h'], exits: {found: 1}", "now", []step{
			{"it is written", func(h *port) { h.write("core/two.c", "#include \"gone.h\"\n") }, 3, 2, ""},
			{"it alone again", func(*port) {}, 1, 2, ""},
			{"it compiles", func(h *port) { h.write("core/two.c", "int two;\n") }, 1, 1, ""},
			{"none again", func(*port) {}, 0, 1, ""},
		}},
		{"a header that isn't in git", "run: [sh, tools/headers.sh], as: diagnostics, files: '**/*.c', per: file", "now", []step{
			steps[0], steps[1],
			{"it is made", func(h *port) {
				h.write(".git/info/exclude", "core/made.h\n")
				h.write("core/made.h", "")
				h.write("core/two.c", "#include \"made.h\"\n#include \"low.h\"\nint two(void) { return low(); }\n")
			}, 1, 2, ""},
			steps[1],
			{"it is made otherwise", func(h *port) { h.write("core/made.h", "static inline int made(void) { int more; return 1; }\n") }, 1, 3, ""},
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := newPort(t, c.report)
			h.write("core/tide.c", "int tide;\n")
			h.write("core/low.h", low)
			h.write("core/one.c", "#include \"low.h\"\nint one(void) { return low(); }\n")
			h.write("core/two.c", "#include \"low.h\"\nint two(void) { return low(); }\n")
			h.commit("two")
			h.write("core/tide.c", "int tide2;\n")
			for _, s := range c.steps {
				s.do(h)
				if c.door == "commit" {
					h.git("add", "-A")
				}
				v := h.judge("--door", c.door)
				asked, found := 0, 0
				for _, word := range h.logged() {
					if strings.HasSuffix(word, ".c") {
						asked++
					}
				}
				for _, f := range v.Findings {
					found += f.Occurrences
				}
				notices := strings.Join(v.Notices, "\n")
				if asked != s.asked || found != s.found || s.say != "" && !strings.Contains(notices, s.say) || s.say == "" && strings.Contains(notices, "remembered") {
					t.Errorf("%s: asked about %d files, want %d; %d occurrences, want %d\n%s", s.name, asked, s.asked, found, s.found, v.about())
				}
			}
		})
	}
}

// damage alters a byte in the middle of each file of answers.
func damage(h *port) {
	cache := strings.TrimPrefix(h.env[2], "XDG_CACHE_HOME=")
	files, _ := filepath.Glob(filepath.Join(cache, "zincdoor", "answers", "*"))
	if len(files) == 0 {
		h.Fatal("no answers are kept")
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			h.Fatal(err)
		}
		data[len(data)/2] ^= 1
		if err := os.WriteFile(file, data, 0o644); err != nil {
			h.Fatal(err)
		}
	}
}

// TestHalfBroken: where one of a linter's processes fails, nothing that the others say makes its files known.
func TestHalfBroken(t *testing.T) {
	t.Parallel()
	for _, fault := range []string{`printf '{"version"'`, "exit 3", "kill -KILL $$", `echo '{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[]}]}'; exit 1`} {
		h := newPort(t, "run: [sh, tools/half.sh], exits: {found: 1}, as: sarif, files: 'quays/*', per: file")
		h.write("tools/half.sh", `case "$*" in *quay1.c*) `+fault+` ;; *) echo '{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[]}]}' ;; esac`+"\n")
		for i := range 40 {
			h.write(fmt.Sprintf("quays/quay%d.c", i), "int depth;\n")
		}
		h.git("add", "-A")
		for range 3 {
			if v := h.judge("--staged"); v.Code != 2 || v.Evidence[0].State != "failed" {
				t.Errorf("%s: exit code %d\n%s", fault, v.Code, v.about())
			}
		}
	}
}

// TestRunNames: whatever files are called, a linter is given them, and as many at a time as a command line takes.
func TestRunNames(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, given: changed, inputs: 'tools/**'")
	names := []string{"-rf", "--help", "a b.c", "it's \"this\".c", "core/-x", "é.c", "$(touch x)"}
	for _, name := range names {
		h.write(name, shoal)
	}
	for i := range 3000 {
		h.write(fmt.Sprintf("quays/a-quay-with-a-name-that-goes-on-and-on-%d.c", i), "x\n")
	}
	h.write("a\nnew line.c", "x\n")
	h.git("add", "-A")
	v := h.judge("--staged")
	if v.Totals["new"] != len(names) || !strings.Contains(v.about(), `gauge failed diagnostic text can't carry the file name "a\nnew line.c"`) {
		t.Errorf("%d new, want %d\n%s", v.Totals["new"], len(names), v.about())
	}
	if asked := strings.Count(h.read(h.logName()), "\n"); asked != 3000+len(names)+2 {
		t.Errorf("asked about %d", asked)
	}
}

func (h *port) logName() string {
	rel, err := filepath.Rel(h.dir, h.log)
	if err != nil {
		h.Fatal(err)
	}
	return rel
}

// TestRunsOfBranches: at the door of a branch linters run on what is committed, by the target's policy, and where the
// report says so on the state before the change too.
func TestRunsOfBranches(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', base: true")
	h.write("core/old.c", shoal)
	h.commit("a shoal of old")
	h.git("checkout", "-q", "-b", "work")
	h.write("core/tide.c", shoal)
	h.write(".zincdoor/policy.yaml", strings.Replace(h.read(".zincdoor/policy.yaml"), "tools/shoal.sh", "tools/crash.sh", 1))
	h.commit("a new one")
	for _, c := range []struct {
		name, door string
		do         func()
		code       int
		say        string
		runs       int
	}{
		{"in the clean work tree", "merge", func() {}, 1, "before the change: gauge read", 4},
		{"the base's answer is kept", "merge", func() {}, 1, "before the change: gauge cached", 2},
		{"nothing may grow", "growth", func() {}, 1, "gauge read", 2},
		{"not what isn't committed", "merge", func() { h.write("core/tide.c", "int depth;\n") }, 1, "gauge read", 2},
		{"what is fixed is gone", "growth", func() { h.write("core/tide.c", lines(3)); h.write("core/old.c", "\n"); h.commit("fixed") }, 0, "gauge empty", 2},
		{"not allowed", "merge", func() { h.git("config", "zincdoor.run", "false") }, 2, `gauge missing "sh tools/shoal.sh" isn't started`, 0},
	} {
		c.do()
		before := h.state()
		v := h.judge("--into", "main", "--door", c.door)
		if runs := len(h.logged()); v.Code != c.code || !strings.Contains(v.about(), c.say) || runs != c.runs {
			t.Errorf("%s: exit code %d, asked about %d files\n%s", c.name, v.Code, runs, v.about())
		}
		h.clear(before)
	}
	if v := h.judge("--into", "main", "--door", "merge", "--run"); v.Code != 0 {
		t.Errorf("with --run: exit code %d\n%s", v.Code, v.about())
	}
	h.git("branch", "-q", "bare", h.git("commit-tree", "-m", "no policy", h.git("mktree", "--missing")))
	h.git("config", "zincdoor.run", "true")
	work := h.git("rev-parse", "work")
	if v := h.judge("--range", "bare..work", "--door", "merge"); v.Code != 2 || !strings.Contains(v.about(), "--policy "+work[:12]+":.zincdoor/policy.yaml --run") {
		t.Errorf("by its own policy: exit code %d\n%s", v.Code, v.about())
	}
}

// TestFirstPush: the first push of a policy that names a linter says how to let it start for this push, and only for it.
func TestFirstPush(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'")
	h.write(".zincdoor/policy.yaml", strings.Replace(h.read(".zincdoor/policy.yaml"), "  merge:", "  push: {judges: push, limits: [{count: new, severity: warning, most: 0}]}\n  merge:", 1))
	h.commit("two")
	remote := t.TempDir()
	h.git("init", "-q", "--bare", remote)
	h.git("remote", "add", "quay", remote)
	h.git("push", "-q", "quay", h.git("commit-tree", "-m", "no policy", h.git("mktree", "--missing"))+":refs/heads/main")
	h.git("fetch", "-q", "quay")
	h.git("reset", "-q", "--soft", "quay/main")
	h.git("commit", "-q", "-m", "the policy")
	head := h.git("rev-parse", "HEAD")
	if out, errs, code := h.run("fit", "--hook", "push"); code != 0 {
		t.Fatal(code, out, errs)
	}
	h.env = append(h.env, "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
	push := func(leave ...string) (string, error) {
		cmd := exec.Command("git", append(leave, "push", "-q", "quay", "HEAD:main")...)
		cmd.Dir, cmd.Env = h.dir, h.environment()
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	advice := "git -c zincdoor.run=" + head[:12] + " push"
	for _, leave := range [][]string{nil, {"-c", "zincdoor.run=true"}, {"-c", "zincdoor.run=" + head[:9]}, {"-c", "zincdoor.run=" + h.git("rev-parse", "quay/main")}} {
		if out, err := push(leave...); err == nil || len(h.logged()) > 0 || !strings.Contains(strings.Join(strings.Fields(out), " "), advice) {
			t.Errorf("%q: %v\n%s", leave, err, out)
		}
	}
	h.git("config", "zincdoor.run", head)
	if out, err := push(); err == nil || len(h.logged()) > 0 {
		t.Errorf("what the repository's configuration says is no leave: %s", out)
	}
	h.git("config", "zincdoor.run", "true")
	if out, err := push("-c", "zincdoor.run="+head[:12]); err != nil || len(h.logged()) == 0 {
		t.Errorf("as it was called: %v\n%s", err, out)
	}
}

// TestOwnFiles: at doors that judge what comes from elsewhere, a linter judges by its own files as the target has them, and nothing
// that the change makes of them is started.
func TestOwnFiles(t *testing.T) {
	const evil = "echo EVIL >>$LOG\n"
	for _, c := range []struct {
		name, report string
		do           func(h *port)
		code         int
		say          string
	}{
		{"a linter that finds nothing any more", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'", func(h *port) { h.write("tools/shoal.sh", evil); h.write("core/tide.c", shoal) }, 1, "gauge: it uses tools/shoal.sh as in main, since this change edits it"},
		{"one that is better, and a change that is well", "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c'", func(h *port) {
			h.write("tools/shoal.sh", h.read("tools/shoal.sh")+"# better\n"+evil)
			h.write("core/tide.c", "int depth;\n")
		}, 0, "tools/shoal.sh as in main"},
		{"one that finds its files by itself", "run: [sh, tools/all.sh], as: diagnostics", func(h *port) { h.write("tools/all.sh", evil); h.write("core/tide.c", shoal) }, 1, "tools/all.sh as in main"},
		{"one that is taken away", "run: [sh, tools/all.sh], as: diagnostics", func(h *port) {
			os.Remove(filepath.Join(h.dir, "tools/all.sh"))
			h.write("core/tide.c", shoal)
		}, 1, "tools/all.sh as in main"},
		{"what it reads, trusted", "run: [sh, tools/reads.sh], as: diagnostics, trusted: 'tools/lib/**'", func(h *port) { h.write("tools/lib/words", "NOTHING\n"); h.write("core/tide.c", shoal) }, 1, "tools/lib/words as in main"},
		{"a file that only the change has, trusted", "run: [sh, tools/reads.sh], as: diagnostics, trusted: 'tools/lib/**'", func(h *port) { h.write("tools/lib/off", "off\n"); h.write("core/tide.c", shoal) }, 1, "tools/lib/off as in main"},
		{"what it reads, and nobody said so", "run: [sh, tools/reads.sh], as: diagnostics", func(h *port) { h.write("tools/lib/words", "NOTHING\n"); h.write("core/tide.c", shoal) }, 0, ""},
		{"through a link", "run: [sh, tools/link.sh], as: diagnostics", func(h *port) { h.write("tools/all.sh", evil); h.write("core/tide.c", shoal) }, 1, "tools/all.sh as in main"},
		{"a link in the place of its folder", "run: [sh, gauge/all.sh], as: diagnostics", func(h *port) {
			os.RemoveAll(filepath.Join(h.dir, "gauge"))
			h.write("evil/all.sh", evil)
			os.Symlink("evil", filepath.Join(h.dir, "gauge"))
			h.write("core/tide.c", shoal)
		}, 1, "gauge/all.sh as in main"},
		{"a link that leads out", "run: [sh, gauge/all.sh], as: diagnostics", func(h *port) {
			os.RemoveAll(filepath.Join(h.dir, "gauge"))
			os.WriteFile(filepath.Join(h.tmp, "all.sh"), []byte(evil), 0o644)
			os.Symlink(h.tmp, filepath.Join(h.dir, "gauge"))
			h.write("core/tide.c", shoal)
		}, 1, "gauge/all.sh as in main"},
		{"a folder in its place", "run: [sh, gauge/all.sh], as: diagnostics", func(h *port) {
			os.Remove(filepath.Join(h.dir, "gauge/all.sh"))
			h.write("gauge/all.sh/x", "x\n")
			h.write("core/tide.c", shoal)
		}, 1, "gauge/all.sh as in main"},
		{"an option's file", "run: [sh, tools/opt.sh, --with=tools/lib/words], as: diagnostics", func(h *port) { h.write("tools/lib/words", "NOTHING\n"); h.write("core/tide.c", shoal) }, 1, "tools/lib/words as in main"},
		{"what tells its version", "run: [sh, tools/all.sh], as: diagnostics, version: '>=2', ask: [sh, tools/version.sh]", func(h *port) { h.write("tools/version.sh", evil+"echo 1\n"); h.write("core/tide.c", shoal) }, 1, "gauge read"},
		{"a source that it is to look at", "run: [gcc, -Wall, -fsyntax-only, core/tide.c], output: stderr, as: diagnostics", func(h *port) { h.write("core/tide.c", "int f(void) { int unused; return 1; }\n") }, 1, "gauge read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := newPort(t, c.report)
			h.write("tools/all.sh", "grep -rn SHOAL core | sed 's/^\\([^:]*\\):\\([0-9]*\\):.*$/\\1:\\2:1: warning: a shoal [-Wshoal]/'\n")
			h.write("gauge/all.sh", h.read("tools/all.sh"))
			h.write("tools/reads.sh", "[ -e tools/lib/off ] || grep -rn \"$(cat tools/lib/words)\" core | sed 's/^\\([^:]*\\):\\([0-9]*\\):.*$/\\1:\\2:1: warning: a shoal [-Wshoal]/'\n")
			h.write("tools/opt.sh", "sh tools/reads.sh\n")
			h.write("tools/lib/words", "SHOAL\n")
			h.write("tools/version.sh", "echo 2.1\n")
			if err := os.Symlink("all.sh", filepath.Join(h.dir, "tools/link.sh")); err != nil {
				t.Fatal(err)
			}
			h.commit("two")
			h.git("switch", "-q", "-c", "work")
			c.do(h)
			h.commit("three")
			for _, change := range [][]string{{"--into", "main"}, {"--range", "main..work"}} {
				v := h.judge(append(change, "--door", "merge")...)
				if said := v.about(); v.Code != c.code || !strings.Contains(said, c.say) || strings.Contains(strings.Join(h.logged(), " "), "EVIL") {
					t.Errorf("%v: exit code %d, want %d and %q\n%s", change, v.Code, c.code, c.say, said)
				}
			}
			if left, _ := os.ReadDir(h.tmp); c.name == "a link that leads out" && len(left) != 1 {
				t.Errorf("what the link led to is gone: %v", left)
			}
			h.git("reset", "-q", "--soft", "main")
			if v := h.judge("--staged", "--door", "commit"); strings.Contains(v.about(), "as main has it") {
				t.Errorf("what is staged is the user's own: %s", v.about())
			}
		})
	}
}

// TestPlannedRuns: a dry run names what would be started, and starts nothing.
func TestPlannedRuns(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh, 'two words'], as: diagnostics, files: '**/*.c', version: '2', ask: [sh, -c, 'echo 2; echo asked >>$LOG']")
	h.write("core/tide.c", shoal)
	h.git("add", "-A")
	out, errs, code := h.run("gate", "--staged", "--dry-run")
	want := "gauge  sh tools/shoal.sh 'two words'\n  where   a copy of the index\n  files   1\n          core/tide.c\n\n"
	if out != want || code != 0 || len(h.logged()) > 0 {
		t.Errorf("exit code %d\n%s%s", code, out, errs)
	}
}

// TestInterruptedRun: a gate that is called off in the middle leaves nothing behind. Two at once don't mind each other.
func TestInterruptedRun(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/hang.sh], as: diagnostics")
	h.write("core/tide.c", shoal)
	h.git("add", "-A")
	before := h.state()
	var gates sync.WaitGroup
	for range 2 {
		cmd := exec.Command(program, "gate", "--staged")
		cmd.Dir, cmd.Env = h.dir, h.environment()
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		gates.Go(func() {
			for len(strings.Fields(h.read(h.logName()))) < 2 {
				time.Sleep(5 * time.Millisecond)
			}
			cmd.Process.Signal(syscall.SIGINT)
			cmd.Wait()
			if code := cmd.ProcessState.ExitCode(); code != 2 {
				t.Errorf("exit code %d", code)
			}
		})
	}
	gates.Wait()
	h.clear(before)
}

// TestWatch: whenever a file is written the work tree is judged again, also in a folder that is new, and a linter that
// looks at each file by itself is asked only about that.
func TestWatch(t *testing.T) {
	t.Parallel()
	h := newPort(t, "run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', per: file")
	h.write("core/quay.c", "int depth;\n")
	h.commit("two")
	cmd := exec.Command(program, "watch")
	cmd.Dir, cmd.Env = h.dir, h.environment()
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	screens := bufio.NewScanner(out)
	next := func() string {
		var text strings.Builder
		for screens.Scan() && !strings.HasPrefix(screens.Text(), "  judged at ") {
			fmt.Fprintln(&text, screens.Text())
		}
		return text.String()
	}
	for _, c := range []struct {
		name  string
		do    func()
		asked int
		say   string
	}{
		{"at first", func() {}, 2, "OPEN"},
		{"a file is written", func() { h.write("core/tide.c", shoal) }, 1, "core/tide.c"},
		{"one in a new folder", func() { h.write("boards/pier/board.c", shoal) }, 1, "boards/pier/board.c"},
		{"fixed", func() { h.write("core/tide.c", "int depth;\n") }, 1, "SHUT new warning: 1, at most 0"},
		{"the policy can't be read", func() { h.write(".zincdoor/policy.yaml", "zincdoor: 1\ndors:\n") }, 0, "unknown key"},
	} {
		c.do()
		screen := next()
		if asked := len(h.logged()); !strings.Contains(screen, c.say) || asked != c.asked {
			t.Errorf("%s: asked about %d files\n%s", c.name, asked, screen)
		}
	}
	cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
}

// TestRealRuns: compilers are linters too.
func TestRealRuns(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, needs, report, path, text, rule string }{
		{"gcc", "gcc", "run: [gcc, -Wall, -fsyntax-only], output: stderr, as: diagnostics, files: '**/*.c', given: changed, per: file", "core/tide.c", "int f(void) { int unused; return 1; }\n", "-Wunused-variable"},
		{"clang", "clang", "run: [CLANG, -Wall, -fsyntax-only, -fdiagnostics-format=sarif], output: stderr, as: sarif, files: '**/*.c', given: changed", "core/tide.c", "int f(void) { int unused; return 1; }\n", ""},
		{"go vet", "go", "run: [go, vet, -json, ./...], as: vet-lines", "fares/fare.go", "package fares\n\nimport \"fmt\"\n\nfunc Say(n int) { fmt.Printf(\"%s\", n) }\n", "printf"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.needs == "clang" {
				c.report = strings.ReplaceAll(c.report, "CLANG", clang(t, "-fdiagnostics-format=sarif"))
			} else if _, err := exec.LookPath(c.needs); err != nil {
				t.Skip(err)
			}
			h := newPort(t, c.report)
			if cache, err := exec.Command("go", "env", "GOCACHE").Output(); err == nil { // which has what is needed already
				h.env = append(h.env, "GOCACHE="+strings.TrimSpace(string(cache)))
			}
			h.write(".zincdoor/policy.yaml", h.read(".zincdoor/policy.yaml")+`recipes:
  vet-lines: {as: json, each: "$.*.*[*]", clean: "^(\\{\\}\\s*)+$", path: {at: $.posn, cut: "^(.+?):\\d+"}, line: {at: $.posn, cut: ":(\\d+):\\d+$"}, rule: {member: 1}, message: $.message}
`)
			h.write("go.mod", "module tideboard\n\ngo 1.21\n")
			h.write("core/tide.c", "int f(void) { return 1; }\n")
			h.commit("two")
			h.write(c.path, c.text)
			h.git("add", "-A")
			before := h.state()
			v := h.judge("--staged")
			if v.Code != 1 || len(v.Findings) != 1 || v.Findings[0].Path != c.path || c.rule != "" && v.Findings[0].Rule != c.rule {
				t.Errorf("exit code %d\n%v\n%s", v.Code, v.Findings, v.about())
			}
			h.clear(before)
		})
	}
}

// clang is the name of a clang that takes an option, whatever version it is. Without one the test is skipped, or fails
// where ZINCDOOR_CLANG says that there must be one.
func clang(t *testing.T, option string) string {
	t.Helper()
	names := []string{"clang"}
	for version := 30; version >= 14; version-- {
		names = append(names, fmt.Sprintf("clang-%d", version))
	}
	for _, name := range names {
		try := exec.Command(name, option, "-fsyntax-only", "-x", "c", "-")
		try.Stdin = strings.NewReader("int tide;\n")
		if try.Run() == nil {
			return name
		}
	}
	if os.Getenv("ZINCDOOR_CLANG") != "" {
		t.Fatalf("no clang on the PATH takes %s", option)
	}
	t.Skipf("no clang on the PATH takes %s", option)
	return ""
}

// BenchmarkKnownAnswers judges a commit again by five linters that answered for each of 2,000 files before, beside the
// one git diff that this needs.
func BenchmarkKnownAnswers(b *testing.B) {
	h := &port{sandbox: &sandbox{T: &testing.T{}, dir: b.TempDir()}}
	h.env = append(h.env, "XDG_CACHE_HOME="+b.TempDir())
	h.git("init", "-q", "-b", "main", ".")
	if err := os.CopyFS(filepath.Join(h.dir, "tools"), os.DirFS("testdata/linters")); err != nil {
		b.Fatal(err)
	}
	reports := ""
	for i := range 5 {
		reports += fmt.Sprintf("  gauge%d: {run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', per: file, tool: gauge%d}\n", i, i)
	}
	h.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports:\n"+reports+"doors:\n  commit: {judges: staged, limits: [{count: new, severity: warning, most: 0}]}\n")
	for i := range 2000 {
		h.write(fmt.Sprintf("core/quay%d/tide%d.c", i%40, i), lines(60))
	}
	h.commit("one")
	for i := range 9 {
		h.write(fmt.Sprintf("core/quay%d/tide%d.c", i, i), shoal+lines(60))
	}
	h.git("add", "-A")
	if v := h.judge("--staged", "--run"); v.Totals["new"] != 9 {
		b.Fatal(v.about())
	}
	h.over(b, 40, gate("--staged", "--run"), git("diff-index", "--cached", "-p", "HEAD"))
}

// TestOwnFolderIsKnown: a commit that touches nothing but what the door keeps takes what a linter of all of the code said before,
// and where nothing was said, the linter runs.
func TestOwnFolderIsKnown(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports: {gauge: {run: [sh, -c, 'echo run >> "+s.dir+"/.git/runs; echo core/tide.c:2:1: warning: x [-Wx]'], as: diagnostics}}\ndoors: {d: {judges: staged, limits: [{count: new, severity: warning, most: 0}]}}\n")
	s.commit("one")
	s.git("config", "zincdoor.run", "true")
	runs := func() int { return strings.Count(s.read(".git/runs"), "run") }
	step := func(what string, want int, state string) {
		t.Helper()
		s.git("add", "-A")
		v := s.judge("--staged", "--door", "d")
		if runs() != want || v.Evidence[0].State != state || v.Totals["findings"] != 1 {
			t.Errorf("%s: %d runs, want %d; %s", what, runs(), want, v.about())
		}
	}
	s.write("core/tide.c", altered)
	step("code", 1, "read")
	s.commit("two")
	s.write(baselineFile, "{\"zincdoor\":\"baseline/1\",\"covers\":[]}\n")
	step("a list, code that is known", 1, "cached")
	s.write("core/tide.c", lines(10))
	step("a list and code", 2, "read")
	s.git("reset", "-q", "--hard")
	s.write("core/other.c", lines(3))
	s.commit("three, which no linter saw")
	s.write(baselineFile, "{\"zincdoor\":\"baseline/1\",\"covers\":[]}\n")
	step("a list, code that isn't known", 3, "read")
}
