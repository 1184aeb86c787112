package target

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// Update is one ref that a push moves.
type Update struct {
	Ref      string // on the receiving side
	Old, New string // commits, or other objects for tags; "" where the ref is made or deleted
}

// Push is a push as one of git's hooks reports it.
type Push struct {
	Updates []Update
	Server  bool // reported by the receiving side
}

// ReadPush reads the lines that git gives its hooks: four words before a push (local ref and object, remote ref and
// object), three before it is received (old and new object, ref).
func ReadPush(input io.Reader) (Push, error) {
	var p Push
	in := bufio.NewScanner(input)
	for number := 1; in.Scan(); number++ {
		words := strings.Fields(in.Text())
		if len(words) == 0 {
			continue
		}
		var u Update
		switch len(words) {
		case 4:
			u = Update{Ref: words[2], Old: words[3], New: words[1]}
		case 3:
			u = Update{Ref: words[2], Old: words[0], New: words[1]}
		}
		if !isObject(u.Old) || !isObject(u.New) || len(p.Updates) > 0 && p.Server != (len(words) == 3) {
			return p, WrongCall("line %d of standard input is %q; --push takes the lines that git gives its pre-push or pre-receive hook", number, in.Text())
		}
		p.Server = len(words) == 3
		u.Old, u.New = orNone(u.Old), orNone(u.New)
		p.Updates = append(p.Updates, u)
	}
	if err := in.Err(); err != nil {
		return p, fmt.Errorf("reading the pushed refs: %w", err)
	}
	return p, nil
}

func isObject(s string) bool {
	return len(s) >= 40 && strings.Trim(s, "0123456789abcdef") == ""
}

// orNone is "" for git's name of nothing, which is all zeros.
func orNone(object string) string {
	if strings.Trim(object, "0") == "" {
		return ""
	}
	return object
}

// Receiver is what is known of the side that receives a push.
type Receiver struct {
	repo   *git.Repo
	known  []string // revisions whose history it has, as arguments of git rev-list
	main   string   // the ref of its default branch, "" where that isn't known
	mainIs string   // how people call it
	hint   string   // what makes it known
}

// ReceiverOf finds out what the receiving side has: on the server all refs that are there; before a push the branches of
// the remote as they were last seen, and the old tips that git told of.
func ReceiverOf(repo *git.Repo, p Push, remote string) (*Receiver, error) {
	r := &Receiver{repo: repo}
	for _, u := range p.Updates {
		if u.Old != "" && repo.Has(u.Old) {
			r.known = append(r.known, u.Old)
		}
	}
	if p.Server {
		r.known = append(r.known, "--all")
		r.main, _ = repo.SymbolicRef("HEAD")
		r.mainIs = strings.TrimPrefix(r.main, "refs/heads/")
		return r, nil
	}
	if remote == "" {
		remotes, err := repo.Remotes()
		if err != nil {
			return nil, err
		}
		if len(remotes) > 1 {
			return nil, WrongCall("the repository has several remotes (%s); name the one that is pushed to with --remote NAME", strings.Join(remotes, ", "))
		}
		remote = strings.Join(remotes, "")
	}
	refs, err := repo.Refs("refs/remotes/" + remote + "/")
	if err != nil || remote == "" || len(refs) == 0 {
		return r, err // an address without a name, or one that nothing was fetched from
	}
	r.known = append(r.known, refs...)
	head, ok := repo.SymbolicRef("refs/remotes/" + remote + "/HEAD")
	switch {
	case ok:
		r.main = head
	case len(refs) == 1:
		r.main = refs[0]
	default:
		r.hint = fmt.Sprintf("git doesn't know the default branch of %s; tell it: git remote set-head %s --auto", remote, remote)
	}
	r.mainIs = strings.TrimPrefix(r.main, "refs/remotes/")
	return r, nil
}

// OfUpdate finds the sides of one update. It is nil for an update that brings nothing to judge, with the reason.
func OfUpdate(repo *git.Repo, r *Receiver, u Update) (t *Target, nothing string, err error) {
	if u.New == "" {
		return nil, u.Ref + " is deleted, which brings nothing in", nil
	}
	head, err := repo.Commit(u.New)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", u.Ref, err)
	}
	boundary, fresh, err := repo.Boundary(head, r.known)
	if err != nil {
		return nil, "", err
	}
	if fresh == 0 {
		return nil, u.Ref + " moves to a commit that the other side already has", nil
	}
	t = inRepository(repo, policy.Push)
	t.OwnTreeOnly, t.Subject.Ref, t.Subject.Head = true, u.Ref, head
	old, bases, err := t.pushBases(u, head, boundary)
	if err != nil {
		return nil, "", err
	}
	if err := t.pushPolicies(r, u, old, git.Side(head), bases[0]); err != nil {
		return nil, "", err
	}
	return t, "", t.sides(bases[0], git.Side(head), bases[1:]...)
}

// pushBases are the states that the other side has and the update is compared with: the old tip where the new one
// follows it, and the known commits that the new ones stand on. Where nothing is known, it is the empty tree.
func (t *Target) pushBases(u Update, head string, boundary []string) (old git.Side, bases []git.Side, err error) {
	if u.Old != "" {
		if commit, err := t.Repo.Commit(u.Old); err == nil {
			old = git.Side(commit)
		} else if !t.Repo.Has(u.Old) {
			return "", nil, fmt.Errorf("the other side has %s at %.12s, which isn't here; bring it with git fetch", u.Ref, u.Old)
		}
	}
	if old != "" {
		follows, err := t.Repo.IsAncestor(string(old), head)
		if err != nil {
			return "", nil, err
		}
		if follows {
			bases = append(bases, old)
		} else {
			t.Notices = append(t.Notices, u.Ref+" is forced to another history, and judged as a new branch")
		}
	}
	for _, commit := range boundary {
		if side := git.Side(commit); !slices.Contains(bases, side) {
			bases = append(bases, side)
		}
	}
	if len(bases) == 0 {
		empty, err := t.Repo.EmptyTree()
		if err != nil {
			return "", nil, err
		}
		return old, []git.Side{git.Side(empty)}, nil
	}
	t.Subject.Base = string(bases[0])
	return old, bases, nil
}

// pushPolicies settles whose policy and baseline count: those of the ref's old tip, for a new ref those of the receiving
// side's default branch; where the target has no policy at all, the head's own.
func (t *Target) pushPolicies(r *Receiver, u Update, old, head, base git.Side) error {
	if old != "" {
		t.PolicyAt = append(t.PolicyAt, State{Side: old, Name: "the old tip of " + shortRef(u.Ref)})
		t.BaselineAt = append(t.BaselineAt, old)
	} else if t.Subject.Base != "" {
		t.BaselineAt = append(t.BaselineAt, base)
	}
	if r.main != "" {
		if tip, err := r.repo.Commit(r.main); err == nil {
			t.PolicyAt = append(t.PolicyAt, State{Side: git.Side(tip), Name: r.mainIs})
			t.BaselineAt = append(t.BaselineAt, git.Side(tip))
		}
	}
	if old == "" && r.hint != "" {
		return fmt.Errorf("whose policy judges the new %s can't be told: %s", shortRef(u.Ref), r.hint)
	}
	t.PolicyAt = append(t.PolicyAt, State{Side: head, Name: OwnName, Own: true})
	return nil
}

func shortRef(ref string) string {
	return strings.TrimPrefix(strings.TrimPrefix(ref, "refs/heads/"), "refs/")
}
