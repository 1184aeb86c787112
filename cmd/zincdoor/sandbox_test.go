package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"zincdoor/internal/pgtest"
)

// program is the built program, made once for all tests: with the race detector where ZINCDOOR_RACE is set, else as it is
// released.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "zincdoor-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "zincdoor")
	os.Setenv("GORACE", "atexit_sleep_ms=0") // else every run of a program with the race detector sleeps a second at its end
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if raceBuild() {
		build = exec.Command("go", "build", "-race", "-o", program, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=1")
	}
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	code := m.Run()
	pgtest.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

// lookAtSources looks at all that the program is built from, so that go runs the tests anew when any of it changes: of a program
// that a test starts it knows nothing by itself.
var lookAtSources = sync.OnceFunc(func() {
	err := filepath.WalkDir("../../internal", func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.Contains(path, "testdata") {
			_, err = os.Stat(path)
		}
		return err
	})
	if err != nil {
		panic(err)
	}
})

// raceBuild reports whether the program is built with the race detector.
func raceBuild() bool { return os.Getenv("ZINCDOOR_RACE") != "" }

// raceExit is the code that a program with the race detector ends with where it found one: none of the program's own.
const raceExit = 66

// sandbox is a temporary folder, as a rule a repository, in which git knows nothing of the machine's own settings.
type sandbox struct {
	*testing.T
	dir   string
	stdin string
	env   []string
}

// wholeRun skips a test of many cases in a short run, such as the one of the program with the race detector.
func wholeRun(t *testing.T) {
	if testing.Short() {
		t.Skip("many cases of what shorter tests try too")
	}
}

// repository makes a sandbox with an empty repository in it.
func repository(t *testing.T) *sandbox {
	s := &sandbox{T: t, dir: t.TempDir()}
	s.git("init", "-q", "-b", "main", ".")
	return s
}

func (s *sandbox) environment() []string {
	lookAtSources()
	var env []string
	for _, pair := range os.Environ() {
		if !strings.HasPrefix(pair, "GIT_") && !strings.HasPrefix(pair, "LC_") && !strings.HasPrefix(pair, "LANG") {
			env = append(env, pair)
		}
	}
	return append(append(env, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+os.DevNull, "LC_ALL=C.UTF-8", "TMPDIR="+filepath.Dir(program), "XDG_CACHE_HOME="+filepath.Join(filepath.Dir(program), "cache"),
		"GIT_AUTHOR_NAME=Tide Desk", "GIT_AUTHOR_EMAIL=desk@brackwater.example", "GIT_AUTHOR_DATE=2026-10-01T09:00:00Z",
		"GIT_COMMITTER_NAME=Tide Desk", "GIT_COMMITTER_EMAIL=desk@brackwater.example", "GIT_COMMITTER_DATE=2026-10-01T09:00:00Z"), s.env...)
}

func (s *sandbox) git(args ...string) string {
	s.Helper()
	cmd := exec.Command("git", append([]string{"-C", s.dir}, args...)...)
	cmd.Env = s.environment()
	out, err := cmd.CombinedOutput()
	if err != nil {
		s.Fatalf("git %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return strings.TrimSpace(string(out))
}

func (s *sandbox) write(name, text string) {
	s.Helper()
	path := filepath.Join(s.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		s.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		s.Fatal(err)
	}
}

func (s *sandbox) read(name string) string {
	s.Helper()
	data, err := os.ReadFile(filepath.Join(s.dir, name))
	if err != nil {
		s.Fatal(err)
	}
	return string(data)
}

func (s *sandbox) commit(message string) string {
	s.Helper()
	s.git("add", "-A")
	s.git("commit", "-q", "--allow-empty", "-m", message)
	return s.git("rev-parse", "HEAD")
}

// run runs the program and returns what it wrote, and its exit code.
func (s *sandbox) run(args ...string) (out, errs string, code int) {
	s.Helper()
	return s.command(program, args...)
}

// command runs any program as run does.
func (s *sandbox) command(name string, args ...string) (out, errs string, code int) {
	s.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env, cmd.Stdin = s.dir, s.environment(), strings.NewReader(s.stdin)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.Fatal(err)
	}
	code = cmd.ProcessState.ExitCode()
	if raceBuild() && (code == raceExit || strings.Contains(stderr.String(), "WARNING: DATA RACE")) {
		s.Fatalf("%s %s: a race\n%s", filepath.Base(name), strings.Join(args, " "), &stderr)
	}
	return stdout.String(), stderr.String(), code
}

// verdict is what the tests look at of a verdict/1 document.
type verdict struct {
	Version  string `json:"zincdoor"`
	Outcome  string
	Enforced string
	Change   struct {
		Kind, Ref, Base, Head string
		Files                 int
	}
	Policy struct {
		From     string
		Altered  []string
		Inherits []struct{ Name, Digest string }
	}
	Evidence []struct{ Name, State, Problem string }
	Totals   map[string]int
	Findings []struct {
		ID, Path, Rule, Severity, Place, Standing string
		Line, Occurrences                         int
	}
	Limits []struct {
		Name  string
		Found int
		Held  bool
	}
	Acceptances []struct {
		Change, Path, Problem string
		Honoured              bool
	}
	Waivers []struct {
		Path  string
		Line  int
		Added bool
	}
	Notices []string
	Code    int `json:"-"`
}

// judge runs gate and returns its verdict.
func (s *sandbox) judge(args ...string) verdict {
	s.Helper()
	out, errs, code := s.run(append([]string{"gate", "--format", "json"}, args...)...)
	v := verdict{Code: code}
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		s.Fatalf("gate %s: no verdict (%v), exit code %d\n%s%s", strings.Join(args, " "), err, code, out, errs)
	}
	want := map[string]int{"open": 0, "shut": 1, "unjudged": 2}[v.Outcome]
	if code != want || v.Version != "verdict/1" {
		s.Fatalf("outcome %s with exit code %d", v.Outcome, code)
	}
	return v
}

// standings tells each finding in a word: path:line place standing.
func (v verdict) standings() string {
	var all []string
	for _, f := range v.Findings {
		all = append(all, fmt.Sprintf("%s:%d %s %s", f.Path, f.Line, f.Place, f.Standing))
	}
	return strings.Join(all, "\n")
}

func (v verdict) about() string {
	text := v.Outcome
	for _, e := range v.Evidence {
		text += fmt.Sprintf("\n%s %s %s", e.Name, e.State, e.Problem)
	}
	return text + "\n" + strings.Join(v.Notices, "\n")
}

// warn is a compiler's line about a place.
func warn(path string, line int) string {
	return fmt.Sprintf("%s:%d:1: warning: unused [-Wunused]\n", path, line)
}

// lines gives the numbers from 1 to n, a line each.
func lines(n int) string {
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "line %d;\n", i+1)
	}
	return text.String()
}
