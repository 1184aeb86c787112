package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// Mirror is a bare repository of ours that follows another one. Several processes may use one at once.
type Mirror struct {
	Dir     string
	Address string        // of the other one
	Token   string        // is sent over HTTP, as Bearer; "" for none
	Patient time.Duration // how long a fetch may take, 0 for as long as it likes
}

// transports are how a mirror may be fetched: none of them starts a program that an address names.
const transports = "GIT_ALLOW_PROTOCOL=https:http:ssh:git:file"

// Fetch brings the branches and tags up to date, and further refs, each by a refspec; a mirror that isn't there is made. Where another
// fetch has begun after a time, that was enough, and nothing is done.
func (m Mirror) Fetch(ctx context.Context, since time.Time, more ...string) error {
	if m.Patient > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, m.Patient)
		defer cancel()
	}
	if err := os.MkdirAll(m.Dir, 0o777); err != nil {
		return err
	}
	turn := flock.New(filepath.Join(m.Dir, "fetch.lock"))
	if _, err := turn.TryLockContext(ctx, 20*time.Millisecond); err != nil {
		return fmt.Errorf("waiting for another fetch into %s: %w", m.Dir, err)
	}
	defer turn.Unlock()
	mark := filepath.Join(m.Dir, "fetched") // its time is when the last fetch began
	if last, err := os.Stat(mark); err == nil && last.ModTime().After(since) {
		return nil
	}
	began := time.Now()
	r := m.repo(ctx)
	if _, err := os.Stat(filepath.Join(m.Dir, "HEAD")); err != nil {
		if _, err := r.git("init", "--quiet", "--bare", "--template=", "."); err != nil {
			return err
		}
		if err := m.follow(r); err != nil {
			os.Remove(filepath.Join(m.Dir, "HEAD")) // so that the next call begins anew
			return err
		}
	}
	refs := append([]string{"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"}, more...)
	// What comes is kept as a pack, which is there whole or not at all: an object that is there has all that it names.
	_, err := r.git(slices.Concat([]string{"-c", "gc.autoDetach=false", "-c", "fetch.unpackLimit=1", "fetch", "--quiet", "--prune", "--no-tags", "--no-write-fetch-head", "--no-recurse-submodules", "--", m.Address}, refs)...)
	if err == nil {
		err = os.WriteFile(mark, nil, 0o666)
	}
	if err == nil {
		err = os.Chtimes(mark, began, began)
	}
	return err
}

// follow has HEAD name the branch that the other repository checks out.
func (m Mirror) follow(r *Repo) error {
	out, err := r.git("ls-remote", "--symref", "--", m.Address, "HEAD")
	if err != nil {
		return err
	}
	line, _, _ := strings.Cut(string(out), "\n")
	if ref, ok := strings.CutPrefix(line, "ref: "); ok {
		ref, _, _ = strings.Cut(ref, "\t")
		_, err = r.git("symbolic-ref", "HEAD", ref)
	}
	return err
}

// repo is the mirror for commands of our own. The token is where no list of processes shows it.
func (m Mirror) repo(ctx context.Context) *Repo {
	r := &Repo{ctx: ctx, Root: m.Dir, env: append(Unbound(environment()), transports)}
	if m.Token != "" { // which goes nowhere else
		r.env = append(r.env, "GIT_CONFIG_COUNT=2", "GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer "+m.Token, "GIT_CONFIG_KEY_1=http.followRedirects", "GIT_CONFIG_VALUE_1=false")
	}
	return r
}

// Tip is the commit of a branch, "" where there is none.
func (m Mirror) Tip(ctx context.Context, branch string) (string, error) {
	commit, err := m.repo(ctx).Commit(branch)
	if errors.Is(err, ErrUnknownRevision) {
		return "", nil
	}
	return commit, err
}

// Has reports whether it has a commit.
func (m Mirror) Has(ctx context.Context, commit string) bool {
	return m.repo(ctx).Has(commit)
}

// Main is the branch that the other repository checked out when it was fetched first, as a whole ref.
func (m Mirror) Main(ctx context.Context) string {
	ref, _ := m.repo(ctx).SymbolicRef("HEAD")
	return ref
}

// Parent is the first parent of a commit, "" for a root.
func (m Mirror) Parent(ctx context.Context, commit string) (string, error) {
	return m.Tip(ctx, commit+"^1")
}

// Alters reports whether what lies between two commits alters something in a folder; it does where that isn't known.
func (m Mirror) Alters(ctx context.Context, from, to, folder string) bool {
	_, err := m.repo(ctx).git("diff-tree", "--quiet", "-r", from, to, "--", folder)
	return err != nil
}
