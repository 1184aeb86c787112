package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/process"
)

// Writer changes a repository: its index and its own configuration. It takes git's locks, and runs the filters that git's
// attributes name, as git itself does when it writes a file.
type Writer struct{ repo *Repo }

// Writer gives what changes the repository.
func (r *Repo) Writer() Writer { return Writer{r} }

// Store puts a content into the object store and gives the object's name.
func (w Writer) Store(data []byte) (object string, err error) {
	return w.store(w.lasting(), w.environment(""), data)
}

// lasting is a context that doesn't end with the call, for what changes the repository, takes no time and isn't to be cut off.
func (w Writer) lasting() context.Context { return context.WithoutCancel(w.repo.ctx) }

// store puts a content into the object store of an environment.
func (w Writer) store(ctx context.Context, env []string, data []byte, how ...string) (object string, err error) {
	out, err := w.run(ctx, env, data, append([]string{"hash-object", "-w", "--stdin"}, how...)...)
	return strings.TrimSuffix(string(out), "\n"), err
}

// run runs a command and gives what it printed.
func (w Writer) run(ctx context.Context, env []string, input []byte, args ...string) ([]byte, error) {
	cmd := (&Repo{ctx: ctx, Root: w.repo.Root, env: env}).command(args...)
	cmd.Stdin = bytes.NewReader(input)
	out, complaint, err := process.Output(cmd)
	if err != nil {
		return nil, failure(args[0], err, string(complaint))
	}
	return out, nil
}

// indexed is a file of the index.
type indexed struct {
	mode, object        string
	skipped, unverified bool // skip-worktree and assume-unchanged
}

// staged lists the files of an index, "" for the repository's own, those of a conflict left out.
func (w Writer) staged(index string) (map[string]indexed, error) {
	out, err := w.run(w.lasting(), w.environment(index), nil, "ls-files", "--stage", "-v", "--full-name", "-z")
	if err != nil {
		return nil, err
	}
	all := map[string]indexed{}
	for entry := range strings.SplitSeq(string(out), "\x00") {
		about, path, _ := strings.Cut(entry, "\t")
		if f := strings.Fields(about); len(f) == 4 && f[3] == "0" {
			all[path] = indexed{mode: f[1], object: f[2], skipped: strings.EqualFold(f[0], "s"), unverified: f[0] == strings.ToLower(f[0])}
		}
	}
	return all, nil
}

// environment is that in which git uses an index, "" for the repository's own.
func (w Writer) environment(index string) []string {
	if index == "" {
		return w.repo.environment()
	}
	return append(w.repo.environment(), "GIT_INDEX_FILE="+index)
}

// mostArguments is how many bytes of arguments one command is given, far below what any system takes.
const mostArguments = 64 << 10

// Stage puts objects in the place of the contents of files in the index, which keeps their modes and flags. The files must be in it.
// While git commits some paths alone it has two indexes, that of the commit and the one that is left afterwards: they get
// the same.
func (w Writer) Stage(objects map[string]string) error {
	if len(objects) == 0 {
		return nil
	}
	was, err := w.staged("")
	if err != nil {
		return err
	}
	after, err := w.indexAfterCommit()
	if err != nil {
		return err
	}
	if after == "" {
		return w.stage("", objects, was)
	}
	left, err := w.staged(after)
	if err != nil {
		return err
	}
	old := map[string]string{}
	for path := range objects {
		if old[path] = left[path].object; left[path] != was[path] {
			return fmt.Errorf("%s is staged otherwise than it is being committed", path)
		}
	}
	err = w.stage(after, objects, left)
	if err == nil {
		err = w.stage("", objects, was)
	}
	if err != nil {
		return errors.Join(err, w.stage(after, old, left))
	}
	return nil
}

func (w Writer) stage(index string, objects map[string]string, was map[string]indexed) error {
	rest := slices.Sorted(maps.Keys(objects))
	for len(rest) > 0 {
		put, skipped, unverified := []string{"update-index"}, []string{"--skip-worktree"}, []string{"--assume-unchanged"}
		for size := 0; len(rest) > 0 && size < mostArguments; rest = rest[1:] {
			path := rest[0]
			f, known := was[path]
			if !known {
				return fmt.Errorf("%s isn't in the index", path)
			}
			put = append(put, "--cacheinfo", f.mode+","+objects[path]+","+path)
			if f.skipped {
				skipped = append(skipped, "./"+path)
			}
			if f.unverified {
				unverified = append(unverified, "./"+path)
			}
			size += 3*len(path) + 128
		}
		if _, err := w.run(w.lasting(), w.environment(index), nil, slices.Concat(put, skipped, unverified)...); err != nil {
			return err
		}
	}
	return nil
}

// indexAfterCommit is the index that git will have once it has committed some paths alone, and now keeps beside the one of that
// commit; "" where it does nothing of the kind.
func (w Writer) indexAfterCommit() (string, error) {
	dir, passing, err := w.passingIndex()
	if err != nil || !strings.HasPrefix(filepath.Base(passing), "next-index-") || filepath.Dir(passing) != dir {
		return "", err
	}
	after := filepath.Join(dir, "index.lock")
	if _, err := os.Stat(after); err != nil {
		return "", ignoreAbsent(err)
	}
	return after, nil
}

// passingIndex is the index that the call was told to use, "" where it is the repository's own, in dir.
func (w Writer) passingIndex() (dir, index string, err error) {
	if dir, err = w.repo.GitDir(); err != nil {
		return "", "", err
	}
	for _, pair := range w.repo.environment() { // the last one counts
		if value, ok := strings.CutPrefix(pair, "GIT_INDEX_FILE="); ok {
			index = value
		}
	}
	if index == filepath.Join(dir, "index") {
		index = ""
	}
	return dir, index, nil
}

// Passes reports whether the index that the call uses is another than the repository's own, as that of a commit that is being made.
func (w Writer) Passes() (bool, error) {
	_, index, err := w.passingIndex()
	return index != "", err
}

// Written is a content of git's as it is written into the work tree at path.
func (w Writer) Written(path string, data []byte) ([]byte, error) {
	return w.convert(data, nil, "--filters", "--path="+path)
}

// Kept is a text of the work tree at path as git keeps it.
func (w Writer) Kept(path string, data []byte) ([]byte, error) {
	return w.convert(data, []string{"--path=" + path}, "blob")
}

// keep puts a text of the work tree at path into a store of our own, as git keeps it, and gives its name there.
func (w Writer) keep(path string, data []byte) (object string, err error) {
	object, _, err = w.putAside(data, "--path="+path)
	return object, err
}

// putAside puts a content into a store of our own in one way, and gives its name there, and where git finds it.
func (w Writer) putAside(data []byte, storing ...string) (object string, env []string, err error) {
	if env, err = w.repo.ownStore(); err != nil {
		return "", nil, err
	}
	object, err = w.store(w.repo.ctx, env, data, storing...)
	return object, env, err
}

// convert puts a content into a store of our own in one way, and reads it in another.
func (w Writer) convert(data []byte, storing []string, reading ...string) ([]byte, error) {
	object, env, err := w.putAside(data, storing...)
	if err != nil {
		return nil, err
	}
	return w.run(w.repo.ctx, env, nil, append(append([]string{"cat-file"}, reading...), object)...)
}

// SetLocal sets a value of the repository's own configuration.
func (w Writer) SetLocal(key, value string) error {
	_, err := w.repo.git("config", "--local", key, value)
	return err
}

// UnsetLocal takes a value out of the repository's own configuration, where it is that one. Other keys of its section stay;
// a section that is empty then goes.
func (w Writer) UnsetLocal(key, value string) error {
	if now, err := w.repo.git("config", "--local", "--get", key); err != nil || strings.TrimSpace(string(now)) != value {
		return nil
	}
	_, err := w.repo.git("config", "--local", "--unset", key)
	return err
}

// AddBlob stores a content and names it by a ref that must be new, or name just that already.
func (w Writer) AddBlob(ref string, data []byte) error {
	object, err := w.Store(data)
	if err != nil {
		return err
	}
	if there, err := w.repo.git("rev-parse", "--verify", "--quiet", "--end-of-options", ref); err == nil && strings.TrimSpace(string(there)) == object {
		return nil
	}
	_, err = w.run(w.lasting(), w.environment(""), nil, "update-ref", ref, object, strings.Repeat("0", len(object)))
	return err
}
