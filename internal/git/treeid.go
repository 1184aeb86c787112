package git

import (
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
