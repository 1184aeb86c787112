// Package demo knows the made-up repository of Brackwater Ferries: its files at four moments, and what linters said of
// each. It writes them down; it judges nothing.
package demo

import (
	"embed"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/tools/txtar"
)

//go:embed scenes
var scenes embed.FS

// removed marks a file of a scene that the scene before had and this one doesn't.
const removed = " (removed)"

// Repository is the demo's repository on disk.
type Repository struct {
	Dir string
	day int // of the next commit
}

// New makes the repository in an empty folder, without a commit.
func New(dir string) (*Repository, error) {
	r := &Repository{Dir: dir}
	if err := r.Git("init", "--quiet", "--initial-branch=main"); err != nil {
		return nil, err
	}
	for key, value := range map[string]string{
		"zincdoor.repository": Name, "user.name": "Tide Desk", "user.email": "desk@brackwater.example", "core.autocrlf": "false", "commit.gpgsign": "false",
	} {
		if err := r.Git("config", key, value); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// Enter lays a scene's files and reports over those that are there: old, clean, loud or fixed.
func (r *Repository) Enter(state string) error {
	data, err := scenes.ReadFile("scenes/" + state + ".txtar")
	if err != nil {
		return err
	}
	for _, file := range txtar.Parse(data).Files {
		if name, gone := strings.CutSuffix(file.Name, removed); gone {
			if err := os.Remove(filepath.Join(r.Dir, filepath.FromSlash(name))); err != nil {
				return err
			}
			continue
		}
		if err := r.write(file.Name, file.Data); err != nil {
			return err
		}
	}
	return nil
}

// Fit writes the demo's policy.
func (r *Repository) Fit() error {
	data, err := scenes.ReadFile("scenes/policy.yaml")
	if err != nil {
		return err
	}
	return r.write(".zincdoor/policy.yaml", data)
}

func (r *Repository) write(name string, data []byte) error {
	path := filepath.Join(r.Dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o644)
}

// Past is the folder that keeps each commit's reports, in a folder of the commit's name.
const Past = "build/past"

// Commit commits all files, and keeps the reports that are there of them. Each commit is a day after the one before.
func (r *Repository) Commit(message string) error {
	if err := r.Git("add", "--all"); err != nil {
		return err
	}
	r.day++
	date := fmt.Sprintf("2026-10-%02dT09:00:00Z", r.day)
	if err := r.git([]string{"GIT_AUTHOR_DATE=" + date, "GIT_COMMITTER_DATE=" + date}, "commit", "--quiet", "--message", message); err != nil {
		return err
	}
	return r.keepReports()
}

func (r *Repository) keepReports() error {
	head, err := r.output(nil, "rev-parse", "HEAD")
	if err != nil {
		return err
	}
	reports, err := filepath.Glob(filepath.Join(r.Dir, "build", "*.*"))
	if err != nil {
		return err
	}
	for _, report := range reports {
		data, err := os.ReadFile(report)
		if err != nil {
			return err
		}
		if err := r.write(path.Join(Past, strings.TrimSpace(string(head)), filepath.Base(report)), data); err != nil {
			return err
		}
	}
	return nil
}

// Git runs git in the repository, without the user's own configuration and hooks.
func (r *Repository) Git(args ...string) error { return r.git(nil, args...) }

// Push pushes a branch to an address with a token, which goes where no list of processes shows it.
func (r *Repository) Push(address, token, branch string) error {
	return r.git([]string{"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer " + token}, "push", "--quiet", address, branch)
}

func (r *Repository) git(env []string, args ...string) error {
	_, err := r.output(env, args...)
	return err
}

func (r *Repository) output(env []string, args ...string) ([]byte, error) {
	cmd := exec.Command("git", append([]string{"-C", r.Dir, "-c", "core.hooksPath=/dev/null"}, args...)...)
	for _, pair := range os.Environ() {
		if !strings.HasPrefix(pair, "GIT_") {
			cmd.Env = append(cmd.Env, pair)
		}
	}
	cmd.Env = append(cmd.Env, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+os.DevNull)
	cmd.Env = append(cmd.Env, env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("git %s: %w: %s", args[0], err, out)
	}
	return out, nil
}
