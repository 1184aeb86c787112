package slipway

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
)

// gitDir is where a repository's git folder is.
func (s *Slipway) gitDir(r *repository) string {
	return filepath.Join(s.Dir, "git", filepath.FromSlash(r.Name)+".git")
}

// gitEnvironment keeps the machine's own settings out.
func gitEnvironment() (env []string) {
	for _, pair := range os.Environ() {
		if !strings.HasPrefix(pair, "GIT_") {
			env = append(env, pair)
		}
	}
	return append(env, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+os.DevNull, "LC_ALL=C",
		"GIT_AUTHOR_NAME=Slipway", "GIT_AUTHOR_EMAIL=slipway@localhost", "GIT_COMMITTER_NAME=Slipway", "GIT_COMMITTER_EMAIL=slipway@localhost")
}

// run runs git in a repository.
func (s *Slipway) run(r *repository, args ...string) (string, error) {
	cmd := exec.Command("git", append([]string{"--git-dir", s.gitDir(r)}, args...)...)
	cmd.Env = gitEnvironment()
	var out, complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &complaint
	if err := cmd.Run(); err != nil {
		return strings.TrimSpace(out.String()), fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(complaint.String()))
	}
	return strings.TrimSpace(out.String()), nil
}

// updateHook refuses what isn't for pushes.
const updateHook = `#!/bin/sh
case $1 in
refs/heads/*) ;;
refs/tags/*) ;;
*) echo "only branches and tags are pushed here, not $1" >&2; exit 1 ;;
esac
if [ -f "$GIT_DIR/guarded" ] && grep -qxF -e "$1" "$GIT_DIR/guarded"; then
  echo "$1 is guarded: open a pull request" >&2
  exit 1
fi
exit 0
`

func (s *Slipway) gitInit(r *repository) error {
	dir := s.gitDir(r)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	if _, err := s.run(r, "init", "--quiet", "--bare", "--template=", "--initial-branch="+r.Main, dir); err != nil {
		return err
	}
	for key, value := range map[string]string{"http.receivepack": "true", "core.logAllRefUpdates": "false", "gc.auto": "0", "receive.autogc": "false"} {
		if _, err := s.run(r, "config", key, value); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "hooks"), 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "hooks", "update"), []byte(updateHook), 0o755)
}

func (s *Slipway) gitFork(from, to *repository) error {
	if err := s.gitInit(to); err != nil {
		return err
	}
	_, err := s.run(to, "fetch", "--quiet", s.gitDir(from), "refs/heads/*:refs/heads/*", "refs/tags/*:refs/tags/*")
	return err
}

func (s *Slipway) writeGuards(r *repository) error {
	var lines strings.Builder
	for branch := range r.Guards {
		fmt.Fprintf(&lines, "refs/heads/%s\n", branch)
	}
	return os.WriteFile(filepath.Join(s.gitDir(r), "guarded"), []byte(lines.String()), 0o644)
}

// longestPush is how long the body of a push may be.
const longestPush = 1 << 30

// git answers git itself, by the program's own server for HTTP. Anybody may fetch; who pushes needs the right to write.
func (s *Slipway) git(w http.ResponseWriter, r *http.Request) {
	name, rest, found := strings.Cut(strings.TrimPrefix(r.URL.Path, "/git/"), ".git/")
	pushes := strings.HasSuffix(rest, "git-receive-pack") || r.URL.Query().Get("service") == "git-receive-pack"
	s.mu.Lock()
	repo, err := s.repository(name)
	if err != nil || !found {
		s.mu.Unlock()
		http.Error(w, "there is no such repository", http.StatusNotFound)
		return
	}
	user, err := s.userOf(r)
	c := &call{r, user}
	right := Look
	if pushes {
		right = Write
	}
	if err == nil {
		err = c.needs(repo.Name, right)
	}
	s.mu.Unlock()
	if err != nil {
		if user == nil {
			w.Header().Set("WWW-Authenticate", `Basic realm="slipway"`)
			http.Error(w, err.Error(), http.StatusUnauthorized)
			return
		}
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	done, err := withLength(w, r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	defer done()
	program, err := exec.LookPath("git")
	if err != nil {
		http.Error(w, "the git program isn't there", http.StatusInternalServerError)
		return
	}
	handler := &cgi.Handler{
		Path: program, Args: []string{"http-backend"}, Root: "/git", Dir: s.Dir, Stderr: io.Discard,
		Env: append(gitEnvironment(), "GIT_PROJECT_ROOT="+filepath.Join(absolute(s.Dir), "git"), "GIT_HTTP_EXPORT_ALL=1", "GIT_PROTOCOL="+r.Header.Get("Git-Protocol")),
	}
	if user != nil {
		handler.Env = append(handler.Env, "REMOTE_USER="+user.Name)
	}
	r.Header.Del("Authorization") // the program needs none, and its environment is seen by others
	if !pushes || r.Method != http.MethodPost {
		handler.ServeHTTP(w, r)
		return
	}
	s.pushes.Lock()
	defer s.pushes.Unlock()
	handler.ServeHTTP(w, r)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.pushed(repo); err != nil && s.Log != nil {
		s.Log("after a push: " + err.Error())
	}
}

func absolute(dir string) string {
	if abs, err := filepath.Abs(dir); err == nil {
		return abs
	}
	return dir
}

// withLength keeps a body that comes in chunks in a file first, for programs behind CGI are told its length.
func withLength(w http.ResponseWriter, r *http.Request) (done func(), err error) {
	r.Body = http.MaxBytesReader(w, r.Body, longestPush)
	if !slices.Contains(r.TransferEncoding, "chunked") {
		return func() {}, nil
	}
	file, err := os.CreateTemp("", "slipway-push-")
	if err != nil {
		return nil, err
	}
	done = func() {
		file.Close()
		os.Remove(file.Name())
	}
	n, err := io.Copy(file, r.Body)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		done()
		return nil, err
	}
	r.Body, r.ContentLength, r.TransferEncoding = io.NopCloser(file), n, nil
	return done, nil
}

// tip is the commit of a branch, "" where there is none.
func (s *Slipway) tip(r *repository, branch string) string {
	commit, err := s.run(r, "rev-parse", "--verify", "--quiet", "refs/heads/"+branch+"^{commit}")
	if err != nil {
		return ""
	}
	return commit
}

// pushed brings the pull requests up to date whose source branch moved.
func (s *Slipway) pushed(from *repository) error {
	for _, r := range s.state.Repositories {
		for _, p := range r.Pulls {
			if p.State != pullOpen || p.From != from.Name {
				continue
			}
			tip := s.tip(from, p.Source)
			if tip == "" || tip == p.Head {
				continue
			}
			if err := s.takeHead(r, p, from, tip); err != nil {
				return err
			}
			s.tell(r, "pull.updated", map[string]any{"pull": s.pullView(r, p)})
		}
	}
	s.tell(from, "push", map[string]any{})
	return s.save()
}

// takeHead brings the commits of a pull request over.
func (s *Slipway) takeHead(r *repository, p *pull, from *repository, tip string) error {
	ref := fmt.Sprintf("refs/pulls/%d/head", p.Number)
	if _, err := s.run(r, "fetch", "--quiet", s.gitDir(from), "+"+tip+":"+ref); err != nil {
		return err
	}
	base, err := s.run(r, "merge-base", "refs/heads/"+p.Target, tip)
	if err != nil {
		base = ""
	}
	p.Head, p.Base = tip, base
	return nil
}

// isCommit reports whether a name is a whole name of a commit that is there.
func (s *Slipway) isCommit(r *repository, name string) bool {
	if len(name) < 40 || strings.Trim(name, "0123456789abcdef") != "" {
		return false
	}
	kind, err := s.run(r, "cat-file", "-t", name)
	return err == nil && kind == "commit"
}

// diff is what a commit changes since it left the target of a pull request.
func (s *Slipway) diff(r *repository, p *pull, commit string) (files []change.File, text string, err error) {
	base, err := s.run(r, "merge-base", "refs/heads/"+p.Target, commit)
	if err != nil || p.State == pullMerged {
		base = p.Base
	}
	of := r.Name + " " + base + " " + commit
	if known, there := s.diffs[of]; there {
		return known.files, known.text, nil
	}
	cmd := exec.Command("git", "--git-dir", s.gitDir(r), "diff", "--no-color", "--no-ext-diff", "--find-renames", "--unified=3", base, commit)
	cmd.Env = gitEnvironment()
	out, err := cmd.Output()
	if err != nil {
		return nil, "", fmt.Errorf("git diff: %w", err)
	}
	if files, err = change.ReadUnified(bytes.NewReader(out)); err != nil {
		return nil, "", err
	}
	if len(s.diffs) >= keptDiffs {
		clear(s.diffs)
	}
	s.diffs[of] = diff{files, string(out)}
	return files, string(out), nil
}

// diff is what one commit changes over another; what it is never changes.
type diff struct {
	files []change.File
	text  string
}

// keptDiffs is how many diffs are kept in memory.
const keptDiffs = 20

// mergeOf makes the commit that merges head into tip.
func (s *Slipway) mergeOf(r *repository, tip, head, message string) (commit string, err error) {
	tree, err := s.run(r, "merge-tree", "--write-tree", "--no-messages", tip, head)
	if err != nil {
		return "", wrong(http.StatusConflict, "it can't be merged by itself: there are conflicts")
	}
	return s.run(r, "commit-tree", tree, "-p", tip, "-p", head, "-m", message)
}

// move moves a ref from one commit to another, if it is still there.
func (s *Slipway) move(r *repository, ref, to, from string) error {
	if _, err := s.run(r, "update-ref", ref, to, from); err != nil {
		return wrong(http.StatusConflict, "%s moved meanwhile: try again", ref)
	}
	return nil
}
