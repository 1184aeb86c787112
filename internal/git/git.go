// Package git knows a repository, through the plumbing of the git program. Whatever the user's or the repository's
// configuration says, the same two states give the same lines everywhere. Reading (Repo, Comparison, Tree) starts no program
// that the repository names, takes no lock and changes nothing; what it must write it writes to a temporary folder of its
// own. What changes the repository is a Writer's alone.
package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/files"
	"zincdoor/internal/process"
)

// ErrNoRepository is the error of a folder that is in no repository.
var ErrNoRepository = errors.New("no git repository")

// ErrUnknownRevision is the error of a name that no commit has.
var ErrUnknownRevision = errors.New("unknown revision")

// Repo is an open repository.
type Repo struct {
	Root    string // the work tree's absolute path; the repository's own where it is bare
	Prefix  string // the folder of the call, relative to Root, "" or without a slash at the end
	Bare    bool
	Shallow bool
	Then    string // the commit that was checked out when it was opened, "" on a branch without one

	scratching sync.Mutex

	ctx       context.Context
	setting   sync.Mutex // guards env
	env       []string
	objects   string        // where it keeps contents
	common    string        // the folder that all work trees share
	mergeHead string        // the file that names what is merged into HEAD
	included  func() error  // includes untracked files, once
	scratch   *files.Folder // a folder of our own, nil until it is needed
}

// scratchFolders are for what reading must write, fetchFolders for repositories of which one file is read.
var scratchFolders, fetchFolders = files.NewKind("git", nil), files.NewKind("fetch", nil)

// scratchDir is a temporary folder of our own, made when it is first needed.
func (r *Repo) scratchDir() (dir string, err error) {
	r.scratching.Lock()
	defer r.scratching.Unlock()
	if r.scratch == nil {
		if r.scratch, err = scratchFolders.Folder(); err != nil {
			return "", err
		}
	}
	return r.scratch.Path, nil
}

// Close removes what was put aside for the repository's sake.
func (r *Repo) Close() error {
	if r.scratch == nil {
		return nil
	}
	return r.scratch.Remove()
}

// Open finds the repository that dir is in. The environment that git sets for its hooks is respected.
func Open(ctx context.Context, dir string) (*Repo, error) {
	r := &Repo{ctx: ctx, Root: dir, env: environment()}
	r.included = sync.OnceValue(r.includeUntracked)
	ask := []string{"rev-parse", "--is-shallow-repository", "--is-bare-repository", "--show-prefix", "--path-format=absolute", "--git-path", "objects", "--git-common-dir", "--git-path", "MERGE_HEAD", "--show-toplevel", "--is-inside-git-dir", "--default", "HEAD"}
	out, err := r.git(ask...)
	if err != nil {
		ask[slices.Index(ask, "--show-toplevel")] = "--absolute-git-dir"
		if out, err = r.git(ask...); err != nil {
			return nil, openError(dir, err)
		}
	}
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if last := len(lines) - 1; IsHash(lines[last]) { // where there is a commit, its hash is behind the word of whether this is inside
		r.Then, lines = lines[last], lines[:last]
	}
	if lines = lines[:len(lines)-1]; len(lines) < 7 {
		return nil, fmt.Errorf("git rev-parse answered %q", out)
	}
	r.Shallow = lines[0] == "true"
	r.Bare = lines[1] == "true"
	r.Prefix = strings.TrimSuffix(lines[2], "/")
	r.objects = filepath.FromSlash(lines[3])
	r.common = filepath.FromSlash(lines[4])
	r.mergeHead = filepath.FromSlash(lines[5])
	r.Root = filepath.FromSlash(strings.Join(lines[6:], "\n"))
	return r, nil
}

func openError(dir string, err error) error {
	if errors.Is(err, exec.ErrNotFound) {
		return fmt.Errorf("the git program is not installed, or not on the PATH: %w", err)
	}
	if strings.Contains(err.Error(), "not a git repository") {
		return fmt.Errorf("%s is in %w", dir, ErrNoRepository)
	}
	return err
}

// inherited are the variables that would change what git's plumbing prints. Objects that stand in for others (refs/replace, and
// grafts) are never followed: what they show isn't what a commit holds.
var inherited = []string{"GIT_NO_REPLACE_OBJECTS", "GIT_REPLACE_REF_BASE", "GIT_GRAFT_FILE", "GIT_DIFF_OPTS", "GIT_EXTERNAL_DIFF", "GIT_LITERAL_PATHSPECS", "GIT_GLOB_PATHSPECS", "GIT_NOGLOB_PATHSPECS", "GIT_ICASE_PATHSPECS", "GIT_TRACE", "LC_ALL", "LANGUAGE"}

// places are the variables that hold paths, which git's hooks give relative to the folder they start in.
var places = []string{"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR", "GIT_QUARANTINE_PATH"}

// environment is the process's own, less what changes git's output, with paths made absolute.
func environment() []string {
	var env []string
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		if slices.Contains(inherited, name) {
			continue
		}
		if slices.Contains(places, name) && value != "" {
			if abs, err := filepath.Abs(value); err == nil {
				pair = name + "=" + abs
			}
		}
		env = append(env, pair)
	}
	return append(env, "LC_ALL=C", "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0", "GIT_NO_REPLACE_OBJECTS=1", "GIT_GRAFT_FILE="+os.DevNull)
}

// fixed are the settings that go before every command.
var fixed = []string{
	"--no-pager", "--literal-pathspecs",
	"-c", "core.fsmonitor=false",
	"-c", "core.quotePath=true",
	"-c", "diff.suppressBlankEmpty=false",
	"-c", "advice.graftFileDeprecated=false",
}

// environment is that of the commands. It is the caller's to add to.
func (r *Repo) environment() []string {
	r.setting.Lock()
	defer r.setting.Unlock()
	return slices.Clip(r.env)
}

func (r *Repo) addToEnvironment(pair string) {
	r.setting.Lock()
	defer r.setting.Unlock()
	r.env = append(slices.Clip(r.env), pair)
}

// isPartial reports whether contents may be missing that another side has: git fetches them when they are asked for, each by itself but
// for its own comparisons, which fetch all that they need at once.
func (r *Repo) isPartial() bool {
	packs, err := os.ReadDir(filepath.Join(r.objects, "pack"))
	return err == nil && slices.ContainsFunc(packs, func(f os.DirEntry) bool { return strings.HasSuffix(f.Name(), ".promisor") })
}

// Context is that of the call.
func (r *Repo) Context() context.Context { return r.ctx }

func (r *Repo) command(args ...string) *exec.Cmd {
	cmd := exec.CommandContext(r.ctx, "git", append(append([]string{"-C", r.Root}, fixed...), args...)...)
	cmd.Env = r.environment()
	process.EndPolitely(cmd)
	return cmd
}

// git runs a command and returns what it printed.
func (r *Repo) git(args ...string) ([]byte, error) {
	out, complaint, err := process.Output(r.command(args...))
	if err != nil {
		return nil, failure(args[0], err, string(complaint))
	}
	return out, nil
}

// streamCommand runs a command and hands what it prints to read as it comes.
func streamCommand(cmd *exec.Cmd, read func(io.Reader) error) (complaint string, err error) {
	command := "command"
	if i := slices.IndexFunc(cmd.Args, func(arg string) bool {
		return strings.HasPrefix(arg, "diff-") || arg == "diff" || arg == "cat-file" || arg == "log"
	}); i >= 0 {
		command = cmd.Args[i]
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	process.Widen(out)
	var said bytes.Buffer
	running, err := process.Start(cmd, nil, &said)
	if err != nil {
		return "", failure(command, err, "")
	}
	readErr := read(out)
	if readErr != nil {
		cmd.Process.Kill()
	}
	waitErr := running.Wait()
	switch {
	case readErr != nil:
		return "", fmt.Errorf("reading git %s: %w", command, readErr)
	case waitErr != nil:
		return "", failure(command, waitErr, said.String())
	}
	return said.String(), nil
}

func failure(command string, err error, complaint string) error {
	complaint = strings.TrimSpace(complaint)
	if complaint == "" {
		return fmt.Errorf("git %s: %w", command, err)
	}
	return fmt.Errorf("git %s: %s: %w", command, strings.ReplaceAll(complaint, "\n", "; "), err)
}

// denied is the error of a revision that git says isn't there, which wraps ErrUnknownRevision. Where git couldn't say, it is git's.
func denied(err error, format string, args ...any) error {
	if exit := (*exec.ExitError)(nil); !errors.As(err, &exit) || exit.ExitCode() < 0 {
		return err
	}
	return fmt.Errorf(format+": %w", append(args, ErrUnknownRevision)...)
}

// Commit resolves a name to the commit it means, as Resolve does.
func (r *Repo) Commit(name string) (string, error) {
	commit, _, _, err := r.Resolve(name)
	return commit, err
}

// Resolve resolves a name to the commit it means. The name of a branch, here or of another side as it was last seen, goes before
// that of a tag: where it is the name of both, these are given as whole refs, else "".
func (r *Repo) Resolve(name string) (commit, tag, branch string, err error) {
	ask := func(name string) ([]byte, error) {
		return r.git("rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
	}
	var looked sync.WaitGroup
	looked.Go(func() { tag, branch = r.namesakes(name) })
	out, err := ask(name)
	if looked.Wait(); branch != "" {
		name = branch + name[len(refIn(name)):]
		out, err = ask(name)
	}
	if err != nil {
		return "", "", "", denied(err, "%q names no commit here", name)
	}
	return strings.TrimSpace(string(out)), tag, branch, nil
}

// refIn is the part of a revision that may be the name of a ref (gitrevisions); "" where it can't be one of several.
func refIn(revision string) string {
	end := len(revision)
	for _, sign := range []string{"~", "^", ":", "@{"} {
		if i := strings.Index(revision, sign); i >= 0 {
			end = min(end, i)
		}
	}
	if name := revision[:end]; name != "HEAD" && name != "@" && !strings.HasPrefix(name, "refs/") && !IsHash(name) {
		return name
	}
	return ""
}

// namesakes are the tag and the branch that a revision may mean both, as whole refs; "" where it isn't the name of both.
func (r *Repo) namesakes(revision string) (tag, branch string) {
	name := refIn(revision)
	if name == "" || strings.HasPrefix(name, "-") {
		return "", ""
	}
	out, err := r.git("for-each-ref", "--format=%(refname)", "refs/"+name, "refs/tags/"+name, "refs/heads/"+name, "refs/remotes/"+name)
	if err != nil {
		return "", ""
	}
	refs := strings.Fields(string(out))
	if !slices.Contains(refs, "refs/tags/"+name) || slices.Contains(refs, "refs/"+name) { // which git takes first
		return "", ""
	}
	for _, branch := range []string{"refs/heads/" + name, "refs/remotes/" + name} {
		if slices.Contains(refs, branch) {
			return "refs/tags/" + name, branch
		}
	}
	return "", ""
}

// Head is the commit checked out; ok is false on a branch without a commit.
func (r *Repo) Head() (commit string, ok bool) {
	commit, err := r.Commit("HEAD")
	return commit, err == nil
}

// TreeOf is the tree of a commit.
func (r *Repo) TreeOf(commit string) (string, error) {
	out, err := r.git("rev-parse", "--verify", "--quiet", "--end-of-options", commit+"^{tree}")
	if err != nil {
		return "", denied(err, "%q has no tree here", commit)
	}
	return strings.TrimSpace(string(out)), nil
}

// MergeBases lists the best common ancestors of two commits; none where their histories are apart.
func (r *Repo) MergeBases(a, b string) ([]string, error) {
	out, err := r.git("merge-base", "--all", a, b)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return nil, nil
	}
	return strings.Fields(string(out)), err
}

// MergeHeads lists the commits that are being merged into HEAD; none where no merge is going on.
func (r *Repo) MergeHeads() ([]string, error) {
	return lines(r.mergeHead)
}

// lines reads a file of the repository's own; none where there is no such file.
func lines(path string) ([]string, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return strings.Fields(string(data)), err
}

// CutShort reports whether a way from one of the tips, not leading through one of the bases, ends where a shallow clone
// was cut off: what lies beyond might hold a better common ancestor.
func (r *Repo) CutShort(tips, bases []string) (bool, error) {
	where, err := r.git("rev-parse", "--path-format=absolute", "--git-path", "shallow")
	if err != nil {
		return false, err
	}
	cuts, err := lines(strings.TrimSuffix(string(where), "\n"))
	if err != nil {
		return false, err
	}
	args := append(append([]string{"rev-list"}, tips...), "--not")
	out, err := r.git(append(args, bases...)...)
	if err != nil {
		return false, err
	}
	for commit := range strings.FieldsSeq(string(out)) {
		if slices.Contains(cuts, commit) {
			return true, nil
		}
	}
	return false, nil
}

// Has reports whether the repository holds an object.
func (r *Repo) Has(object string) bool {
	_, err := r.git("cat-file", "-e", object)
	return err == nil
}

// IsAncestor reports whether the history of tip holds commit.
func (r *Repo) IsAncestor(commit, tip string) (bool, error) {
	_, err := r.git("merge-base", "--is-ancestor", commit, tip)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return false, nil
	}
	return err == nil, err
}

// Boundary looks at the commits of tip's history that none of the known revisions has: fresh is their number, and
// boundary the known commits that they stand on, newest first.
func (r *Repo) Boundary(tip string, known []string) (boundary []string, fresh int, err error) {
	args := []string{"rev-list", "--boundary", "--topo-order", tip, "--not"}
	out, err := r.git(append(args, known...)...)
	if err != nil {
		return nil, 0, err
	}
	for line := range strings.FieldsSeq(string(out)) {
		if commit, ok := strings.CutPrefix(line, "-"); ok {
			boundary = append(boundary, commit)
		} else {
			fresh++
		}
	}
	return boundary, fresh, nil
}

// Independent leaves out of some commits those that are in the history of others.
func (r *Repo) Independent(commits []string) ([]string, error) {
	if len(commits) < 2 {
		return commits, nil
	}
	out, err := r.git(append([]string{"merge-base", "--independent"}, commits...)...)
	return strings.Fields(string(out)), err
}

// TypeOf is the kind of an object: commit, tree, blob or tag.
func (r *Repo) TypeOf(object string) (string, error) {
	out, err := r.git("cat-file", "-t", object)
	return strings.TrimSpace(string(out)), err
}

// EmptyTree is the name of the tree without files.
func (r *Repo) EmptyTree() (string, error) {
	out, err := r.git("hash-object", "-t", "tree", "--stdin")
	return strings.TrimSpace(string(out)), err
}

// CommonDir is the folder that all work trees of the repository share.
func (r *Repo) CommonDir() string { return r.common }

// GitDir is the folder of this work tree's own state: its index, what it has checked out.
func (r *Repo) GitDir() (string, error) {
	out, err := r.git("rev-parse", "--absolute-git-dir")
	return strings.TrimSuffix(string(out), "\n"), err
}

// HooksDir is where git looks for hooks.
func (r *Repo) HooksDir() (string, error) {
	out, err := r.git("rev-parse", "--path-format=absolute", "--git-path", "hooks")
	return strings.TrimSuffix(string(out), "\n"), err
}

// Local is a value of the repository's own configuration, "" where it has none.
func (r *Repo) Local(key string) string {
	out, err := r.git("config", "--local", "--get", key)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// Settings are the values of git's configuration under keys that a pattern takes (an extended regular expression), whoever set them, by
// their keys; of several for a key the last one, which counts.
func (r *Repo) Settings(pattern string) map[string]string {
	out, err := r.git("config", "--null", "--get-regexp", pattern)
	if err != nil {
		return nil
	}
	all := map[string]string{}
	for _, pair := range strings.Split(string(out), "\x00") {
		if key, value, ok := strings.Cut(pair, "\n"); ok {
			all[key] = value
		}
	}
	return all
}

// UserName is the name git would put on a commit, "" where none is set.
func (r *Repo) UserName() string {
	out, err := r.git("config", "user.name")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// WorkTreeFiles lists the files of the work tree from its root, as they are in the index or would be added to it.
func (r *Repo) WorkTreeFiles() ([]string, error) {
	out, err := r.git("-C", r.Root, "ls-files", "--cached", "--others", "--exclude-standard", "--full-name", "-z")
	all := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	slices.Sort(all)
	return slices.DeleteFunc(slices.Compact(all), func(name string) bool { return name == "" }), err
}
