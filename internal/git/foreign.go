package git

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// bound are the variables that tie git to one repository.
var bound = []string{
	"GIT_DIR", "GIT_WORK_TREE", "GIT_IMPLICIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_COMMON_DIR", "GIT_PREFIX", "GIT_OBJECT_DIRECTORY",
	"GIT_ALTERNATE_OBJECT_DIRECTORIES", "GIT_QUARANTINE_PATH", "GIT_SHALLOW_FILE", "GIT_GRAFT_FILE", "GIT_REPLACE_REF_BASE", "GIT_NAMESPACE",
}

// Unbound takes these out of an environment, so that a program started in another folder doesn't come upon this
// repository by accident.
func Unbound(env []string) []string {
	return slices.DeleteFunc(env, func(pair string) bool {
		name, _, _ := strings.Cut(pair, "=")
		return slices.Contains(bound, name)
	})
}

// elsewhere opens another repository than the one the process was called for.
func elsewhere(ctx context.Context, dir string) (*Repo, error) {
	r := &Repo{ctx: ctx, Root: dir, env: append(Unbound(environment()), "GIT_NO_LAZY_FETCH=1")} // nothing is fetched, and so started, because that repository says so
	if _, err := r.git("rev-parse", "--git-dir"); err != nil {
		return nil, openError(dir, err)
	}
	return r, nil
}

// ReadAt reads a plain file of another repository on this machine, at a tag or a whole commit name.
func ReadAt(ctx context.Context, dir, at, path string) ([]byte, error) {
	r, err := elsewhere(ctx, dir)
	if err != nil {
		return nil, err
	}
	return r.readAt(at, path)
}

func (r *Repo) readAt(at, path string) ([]byte, error) {
	commit, err := r.Commit("refs/tags/" + at)
	if err != nil && IsHash(at) {
		commit, err = r.Commit(at)
	}
	if err != nil {
		return nil, fmt.Errorf("%s is no tag and no whole commit name there: %w", at, ErrUnknownRevision)
	}
	tree, err := r.Tree(Side(commit))
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	data, found, err := tree.Plain(path)
	if err == nil && !found {
		err = fmt.Errorf("there is no file %s at %s", path, at)
	}
	return data, err
}

// IsHash reports whether a name is a whole name of an object.
func IsHash(name string) bool {
	return (len(name) == 40 || len(name) == 64) && strings.Trim(name, "0123456789abcdef") == ""
}

// FetchFile fetches a tag or commit of a repository at an address and reads a plain file of it.
func FetchFile(ctx context.Context, address, at, path string) (data []byte, err error) {
	folder, err := fetchFolders.Folder()
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, folder.Remove()) }()
	r := &Repo{ctx: ctx, Root: folder.Path, env: Unbound(environment())}
	if _, err := r.git("init", "--quiet", "--bare", "."); err != nil {
		return nil, err
	}
	fetch := func(args ...string) error {
		_, err := r.git(slices.Concat([]string{"fetch", "--quiet", "--no-tags", "--no-recurse-submodules"}, args)...)
		return err
	}
	tag := "+refs/tags/" + at + ":refs/tags/" + at
	err = fetch("--depth=1", "--", address, tag)
	if err != nil && IsHash(at) { // a server may give no commit that isn't the tip of something
		if err = fetch("--depth=1", "--", address, at); err != nil {
			err = fetch("--", address, "+refs/*:refs/*")
		}
	}
	if err != nil {
		return nil, err
	}
	return r.readAt(at, path)
}

// Leave is the key of git's configuration by which a user lets programs be started.
const Leave = "zincdoor.run"

// RunsHere reports whether the user lets programs be started that the repository's policy names: by zincdoor.run in the
// repository's own configuration, or by its path in that of the user, which no clone brings along.
func (r *Repo) RunsHere() bool {
	if out, err := r.git("config", "--local", "--type=bool", "--get", Leave); err == nil {
		return strings.TrimSpace(string(out)) == "true"
	}
	out, _ := r.git("config", "--global", "--type=path", "--get-all", Leave)
	return slices.Contains(strings.Split(strings.TrimSpace(string(out)), "\n"), r.Root)
}

// leastCommit is how many digits of a commit the leave for what it names must have.
const leastCommit = 10

// RunsAt reports whether the user, in this very call of git (git -c), lets programs be started that the policy of a certain
// commit names.
func (r *Repo) RunsAt(commit string) bool {
	out, _ := r.git("config", "--null", "--show-scope", "--get-all", Leave)
	fields := strings.Split(string(out), "\x00")
	for i := 0; i+1 < len(fields); i += 2 {
		if scope, at := fields[i], fields[i+1]; scope == "command" && len(at) >= leastCommit && strings.HasPrefix(commit, at) {
			return true
		}
	}
	return false
}
