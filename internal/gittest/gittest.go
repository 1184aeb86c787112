// Package gittest makes real repositories for tests, in which git knows nothing of the machine's own settings.
package gittest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Repo is a repository in a temporary folder, with its work tree.
type Repo struct {
	testing.TB
	Dir string
}

// New makes an empty repository on the branch main. For the rest of the test, git's own variables are those of the tests.
func New(t testing.TB) *Repo {
	t.Helper()
	for _, pair := range os.Environ() {
		if name, _, _ := strings.Cut(pair, "="); strings.HasPrefix(name, "GIT_") {
			t.Setenv(name, "") // so that it is put back
			os.Unsetenv(name)
		}
	}
	for name, value := range map[string]string{
		"GIT_CONFIG_GLOBAL": os.DevNull, "GIT_CONFIG_NOSYSTEM": "1",
		"GIT_AUTHOR_NAME": "Tide Desk", "GIT_AUTHOR_EMAIL": "desk@brackwater.example", "GIT_AUTHOR_DATE": "2026-10-01T09:00:00Z",
		"GIT_COMMITTER_NAME": "Tide Desk", "GIT_COMMITTER_EMAIL": "desk@brackwater.example", "GIT_COMMITTER_DATE": "2026-10-01T09:00:00Z",
	} {
		t.Setenv(name, value)
	}
	r := &Repo{TB: t, Dir: t.TempDir()}
	if real, err := filepath.EvalSymlinks(r.Dir); err == nil {
		r.Dir = real // as git names it
	}
	r.Git("init", "-q", "-b", "main", ".")
	return r
}

// Git runs git, which must succeed, and gives what it printed without blanks around.
func (r *Repo) Git(args ...string) string {
	r.Helper()
	out, err := exec.Command("git", append([]string{"-C", r.Dir}, args...)...).CombinedOutput()
	if err != nil {
		r.Fatalf("git %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return strings.TrimSpace(string(out))
}

// Write writes a file of the work tree.
func (r *Repo) Write(name, text string) {
	r.Helper()
	file := filepath.Join(r.Dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		r.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		r.Fatal(err)
	}
}

// Read reads a file of the work tree.
func (r *Repo) Read(name string) string {
	r.Helper()
	data, err := os.ReadFile(filepath.Join(r.Dir, filepath.FromSlash(name)))
	if err != nil {
		r.Fatal(err)
	}
	return string(data)
}

// Commit commits all that is there, and gives the commit's name.
func (r *Repo) Commit(message string) string {
	r.Helper()
	r.Git("add", "-A")
	r.Git("commit", "-q", "--allow-empty", "-m", message)
	return r.Git("rev-parse", "HEAD")
}
