package git

import (
	"cmp"
	"context"
	"fmt"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/process"
)

// SymbolicRef is the ref that a symbolic one points to.
func (r *Repo) SymbolicRef(name string) (ref string, ok bool) {
	out, err := r.git("symbolic-ref", "--quiet", name)
	return strings.TrimSpace(string(out)), err == nil
}

// Remotes lists the names of the remotes.
func (r *Repo) Remotes() ([]string, error) {
	out, err := r.git("remote")
	return strings.Fields(string(out)), err
}

// Refs lists the refs that begin with prefix, symbolic ones left out.
func (r *Repo) Refs(prefix string) ([]string, error) {
	out, err := r.git("for-each-ref", "--format=%(refname)%(if)%(symref)%(then) symbolic%(end)", prefix)
	var refs []string
	for line := range strings.Lines(string(out)) {
		if ref := strings.TrimSpace(line); !strings.HasSuffix(ref, " symbolic") {
			refs = append(refs, ref)
		}
	}
	return refs, err
}

// RefNames lists the short names of branches, remote branches and tags.
func (r *Repo) RefNames() ([]string, error) {
	out, err := r.git("for-each-ref", "--format=%(refname:short)", "refs/heads", "refs/remotes", "refs/tags")
	return strings.Fields(string(out)), err
}

// RefsAt lists the branches, here and as remotes had them when they were last seen, that are at a commit, and the commit's tree; "" where
// there are none.
func (r *Repo) RefsAt(commit string) (refs []string, tree string) {
	out, err := r.git("for-each-ref", "--points-at="+commit, "--format=%(refname) %(tree)", "refs/heads", "refs/remotes")
	if err != nil {
		return nil, ""
	}
	for line := range strings.Lines(string(out)) {
		var ref string
		ref, tree, _ = strings.Cut(strings.TrimSpace(line), " ")
		refs = append(refs, ref)
	}
	return refs, tree
}

// MainBranch is the branch that others build on: the default branch of the remote that this repository was cloned from, else the one
// that HEAD names where this is a bare repository, else main or master; "" where there is none of these.
func (r *Repo) MainBranch() string {
	if r.Bare {
		if head, ok := r.SymbolicRef("HEAD"); ok {
			return head
		}
	}
	out, err := r.git("for-each-ref", "--format=%(refname) %(symref)", "refs/remotes/origin/HEAD", "refs/heads/main", "refs/heads/master")
	if err != nil {
		return ""
	}
	var first string
	for line := range strings.Lines(string(out)) {
		ref, to, _ := strings.Cut(strings.TrimSpace(line), " ")
		if name, ok := strings.CutPrefix(to, "refs/remotes/origin/"); ok {
			return "refs/heads/" + name
		}
		first = cmp.Or(first, ref)
	}
	return first
}

// Tracked are the branches of a remote as they were last seen: the refs that follow them here, by their refs there. Where its
// configuration doesn't say which those are, they are those of its name. What follows another remote, whose name begins like this
// one's, isn't among them.
func (r *Repo) Tracked(remote string) (map[string]string, error) {
	remotes, err := r.Remotes()
	if err != nil {
		return nil, err
	}
	type follows struct{ there, here string } // what is before the names of branches
	ofName := func(name string) []follows { return []follows{{"refs/heads/", "refs/remotes/" + name + "/"}} }
	own, others := ofName(remote), []follows{}
	for _, name := range remotes {
		out, _ := r.git("config", "--get-all", "remote."+name+".fetch")
		all := ofName(name)
		for line := range strings.FieldsSeq(string(out)) {
			there, here, ok := strings.Cut(strings.TrimPrefix(line, "+"), ":")
			if from, is := strings.CutSuffix(there, "*"); ok && is && strings.HasSuffix(here, "*") && strings.HasPrefix(from, "refs/heads/") {
				all = append(all, follows{from, strings.TrimSuffix(here, "*")})
			}
		}
		if name == remote {
			own = all
		} else {
			others = append(others, all...)
		}
	}
	refs, err := r.Refs("refs/remotes/")
	tracked := map[string]string{}
	for _, ref := range refs {
		var best follows
		for _, f := range own {
			if strings.HasPrefix(ref, f.here) && len(f.here) > len(best.here) {
				best = f
			}
		}
		if best.here == "" || slices.ContainsFunc(others, func(o follows) bool { return strings.HasPrefix(ref, o.here) && len(o.here) > len(best.here) }) {
			continue
		}
		tracked[best.there+strings.TrimPrefix(ref, best.here)] = ref
	}
	return tracked, err
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
	there, _, err := r.follower(func(_, here string) bool { return here == ref })
	if err != nil || there != "" {
		return there, err
	}
	if _, branch, ok := strings.Cut(remote, "/"); ok {
		return "refs/heads/" + branch, nil
	}
	return ref, nil
}

// Follower is the ref that follows one of another side here, or the ref itself where none does.
func (r *Repo) Follower(ref string) (string, error) {
	_, here, err := r.follower(func(there, _ string) bool { return there == ref })
	return cmp.Or(here, ref), err
}

// follower finds a ref here that follows one of a remote; "" where there is none.
func (r *Repo) follower(is func(there, here string) bool) (there, here string, err error) {
	remotes, err := r.Remotes()
	for _, remote := range remotes {
		tracked, err := r.Tracked(remote)
		if err != nil {
			return "", "", err
		}
		for there, here := range tracked {
			if is(there, here) {
				return there, here, nil
			}
		}
	}
	return "", "", err
}

// mostAsked is how long a remote is waited for.
const mostAsked = 20 * time.Second

// Ask asks a remote for its refs, with the objects that they name, and for its default branch, "" where it has none. It is false
// where the remote can't be reached.
func (r *Repo) Ask(remote string) (refs map[string]string, head string, ok bool) {
	ctx, cancel := context.WithTimeout(r.ctx, mostAsked)
	defer cancel()
	cmd := r.command("ls-remote", "--symref", "--", remote)
	asking := exec.CommandContext(ctx, cmd.Path, cmd.Args[1:]...)
	asking.Dir, asking.Env = cmd.Dir, cmd.Env
	process.EndPolitely(asking)
	out, _, err := process.Output(asking)
	if err != nil {
		return nil, "", false
	}
	refs = map[string]string{}
	for line := range strings.Lines(string(out)) {
		what, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		to, symbolic := strings.CutPrefix(what, "ref: ")
		switch {
		case symbolic && name == "HEAD":
			head = to
		case !symbolic && strings.HasPrefix(name, "refs/") && !strings.HasSuffix(name, "^{}"):
			refs[name] = what
		}
	}
	return refs, head, true
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
