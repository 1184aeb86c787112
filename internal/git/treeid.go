package git

import (
	"fmt"
	"strconv"
	"strings"

	"zincdoor/internal/process"
)

// TreeID is the object id of a side's tree: of a commit its own; of the index, and of the work tree with its new files, the one that
// committing it would make. Nothing is left in the repository.
func (r *Repo) TreeID(side Side) (string, error) {
	switch side {
	case Index:
		return r.writeTree("")
	case Worktree:
		return r.workTreeID()
	}
	return r.TreeOf(string(side))
}

// writeTree makes a tree of an index, "" for the repository's own, in a store of our own.
func (r *Repo) writeTree(index string) (string, error) {
	env, err := r.ownStore()
	if err != nil {
		return "", err
	}
	cmd := r.command("write-tree")
	if cmd.Env = env; index != "" {
		cmd.Env = append(cmd.Env, "GIT_INDEX_FILE="+index)
	}
	out, complaint, err := process.Output(cmd)
	if err != nil {
		return "", failure("write-tree", err, string(complaint))
	}
	return strings.TrimSpace(string(out)), nil
}

func (r *Repo) workTreeID() (string, error) {
	copied, err := r.ownIndex("tree-index")
	if err != nil {
		return "", err
	}
	env, err := r.ownStore()
	if err != nil {
		return "", err
	}
	add := r.command("add", "--all", "--", ".")
	add.Env = append(env, "GIT_INDEX_FILE="+copied)
	if _, complaint, err := process.Output(add); err != nil {
		return "", failure("add", err, string(complaint))
	}
	return r.writeTree(copied)
}

// CommitsOf lists commits of this repository that have a tree, newest first, at most so many of the last ones that are looked at.
func (r *Repo) CommitsOf(tree string, look int) (commits []string, err error) {
	out, err := r.git("log", "--all", "--max-count="+strconv.Itoa(look), "--format=%T %H")
	for line := range strings.Lines(string(out)) {
		if id, commit, ok := strings.Cut(strings.TrimSpace(line), " "); ok && id == tree {
			commits = append(commits, commit)
		}
	}
	return commits, err
}

// Blob is a content that a ref names.
type Blob struct {
	Ref, Object string
	Size        int64 // in bytes
	IsBlob      bool
}

// Blobs lists what the refs that begin with prefix name.
func (r *Repo) Blobs(prefix string) (all []Blob, err error) {
	out, err := r.git("for-each-ref", "--format=%(objecttype) %(objectsize) %(objectname) %(refname)", prefix)
	for line := range strings.Lines(string(out)) {
		if fields := strings.Fields(line); len(fields) == 4 {
			size, err := strconv.ParseInt(fields[1], 10, 64)
			all = append(all, Blob{Ref: fields[3], Object: fields[2], Size: size, IsBlob: fields[0] == "blob" && err == nil})
		}
	}
	return all, err
}

// BlobAt is what an object is.
func (r *Repo) BlobAt(object string) (Blob, error) {
	kind, err := r.TypeOf(object)
	if err != nil {
		return Blob{}, err
	}
	out, err := r.git("cat-file", "-s", object)
	if err != nil {
		return Blob{}, err
	}
	size, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	return Blob{Object: object, Size: size, IsBlob: kind == "blob"}, err
}

// ReadBlob reads a blob, which must not have more than most bytes.
func (r *Repo) ReadBlob(b Blob, most int64) ([]byte, error) {
	switch {
	case !b.IsBlob:
		return nil, fmt.Errorf("it is no file's content")
	case b.Size > most:
		return nil, fmt.Errorf("it has %d bytes, where %d are allowed", b.Size, most)
	}
	return r.git("cat-file", "blob", b.Object)
}

// FullRef is the whole name of the ref that a revision names: of a branch of another side as it was last seen, what it is called there.
// It is "" where a revision isn't a ref's name.
func (r *Repo) FullRef(revision string) (string, error) {
	out, err := r.git("rev-parse", "--symbolic-full-name", "--end-of-options", revision)
	if err != nil {
		return "", denied(err, "%q isn't a revision here", revision)
	}
	ref := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(string(out)), "--end-of-options"))
	remote, is := strings.CutPrefix(ref, "refs/remotes/")
	if !is {
		return ref, nil
	}
	remotes, err := r.Remotes()
	if err != nil {
		return "", err
	}
	for _, name := range remotes {
		tracked, err := r.Tracked(name)
		if err != nil {
			return "", err
		}
		for there, here := range tracked {
			if here == ref {
				return there, nil
			}
		}
	}
	if _, branch, ok := strings.Cut(remote, "/"); ok {
		return "refs/heads/" + branch, nil
	}
	return ref, nil
}
