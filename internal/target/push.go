package target

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"maps"
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

// SealedRefs begins the names of the refs that carry sealed statements, which are no code.
const SealedRefs = "refs/zincdoor/sealed/"

// Receiver is what is known of the side that receives a push.
type Receiver struct {
	repo  *git.Repo
	refs  map[string]string // its refs as they are, or were last seen: the revision here, by the ref there
	known []string          // revisions whose history it has, as arguments of git rev-list
	main  string            // the ref of its default branch there, "" where that isn't known
	named string            // how people call that
	hint  string            // what makes it known
	empty bool              // it has no branch at all
}

// ReceiverOf finds out what the receiving side has: on the server all refs that are there; before a push the branches of
// the remote as they were last seen, and the old tips that git told of.
func ReceiverOf(repo *git.Repo, p Push, remote string) (*Receiver, error) {
	r := &Receiver{repo: repo, refs: map[string]string{}}
	for _, u := range p.Updates {
		if u.Old == "" || strings.HasPrefix(u.Ref, SealedRefs) {
			continue
		}
		r.refs[u.Ref] = u.Old
		if repo.Has(u.Old) {
			r.known = append(r.known, u.Old)
		}
	}
	if p.Server {
		return r, r.lookHere()
	}
	return r, r.lookThere(remote)
}

// lookHere looks at the refs of this repository, which receives the push.
func (r *Receiver) lookHere() error {
	refs, err := r.repo.Refs("refs/")
	if err != nil {
		return err
	}
	branches := 0
	for _, ref := range refs {
		if strings.HasPrefix(ref, SealedRefs) {
			continue
		}
		r.refs[ref] = ref
		if strings.HasPrefix(ref, "refs/heads/") {
			branches++
		}
	}
	r.known = append(r.known, "--all")
	r.empty = branches == 0
	r.main, _ = r.repo.SymbolicRef("HEAD")
	r.named = shortRef(r.main)
	if _, there := r.refs[r.main]; !there && !r.empty {
		return fmt.Errorf("HEAD of this repository names %s, which doesn't exist, so the guarded branch isn't known; set it: git symbolic-ref HEAD refs/heads/NAME", cmp.Or(r.main, "no branch"))
	}
	return nil
}

// lookThere looks at what is known here of the remote that will receive the push.
func (r *Receiver) lookThere(remote string) error {
	if remote == "" {
		remotes, err := r.repo.Remotes()
		if err != nil {
			return err
		}
		if len(remotes) > 1 {
			return WrongCall("the repository has several remotes (%s); name the one it goes to: --remote NAME", strings.Join(remotes, ", "))
		}
		remote = strings.Join(remotes, "")
	}
	if remote == "" {
		r.hint = "the remote isn't known; name it: --remote NAME"
		return nil
	}
	tracked, err := r.repo.Tracked(remote)
	if err != nil {
		return err
	}
	for there, here := range tracked {
		if r.refs[there] == "" { // which git told of just now
			r.refs[there] = here
		}
		r.known = append(r.known, here)
	}
	if head, ok := r.repo.SymbolicRef("refs/remotes/" + remote + "/HEAD"); ok {
		for there, here := range tracked {
			if here == head {
				r.main = there
			}
		}
	}
	answered := true
	if r.main == "" {
		var refs map[string]string
		var head string
		refs, head, answered = r.repo.Ask(remote)
		r.main, r.empty = head, answered && len(refs) == 0
		for there, at := range refs {
			if r.refs[there] == "" {
				r.refs[there] = at
				if r.repo.Has(at) {
					r.known = append(r.known, at)
				}
			}
		}
	}
	branches := slices.DeleteFunc(slices.Sorted(maps.Keys(r.refs)), func(ref string) bool { return !strings.HasPrefix(ref, "refs/heads/") })
	if r.main == "" && len(branches) == 1 {
		r.main = branches[0]
	}
	r.named = cmp.Or(strings.TrimPrefix(tracked[r.main], "refs/remotes/"), shortRef(r.main))
	switch {
	case r.main == "" && !answered:
		r.hint = fmt.Sprintf("the default branch of %s isn't known, and it can't be asked; if it is a remote: git remote set-head NAME main", remote)
	case r.main == "" && !r.empty:
		r.hint = fmt.Sprintf("git doesn't know the default branch of %s; set it: git remote set-head %s --auto", remote, remote)
	}
	if _, here := r.mainTip(); r.main != "" && !here && !r.empty {
		r.hint = fmt.Sprintf("the default branch of %s, %s, is newer there; fetch it: git fetch %s", remote, shortRef(r.main), remote)
	}
	return nil
}

// Guard says which refs are guarded, by the policy that counts for an update.
type Guard struct {
	Takes  func(ref string) bool // a ref there, where the default branch counts only if it isn't named
	Named  bool                  // the policy names refs
	Called bool                  // the call itself names the policy
}

// Main is the receiving side's default branch, as a ref there; "" where it isn't known.
func (r *Receiver) Main() string { return r.main }

// OfUpdate finds the sides of one update, once guard has said by the policy that counts for it which refs are guarded. It is nil
// for an update that brings nothing to judge, with the reason.
func OfUpdate(repo *git.Repo, r *Receiver, u Update, guard func(*Target) (Guard, error)) (t *Target, nothing string, err error) {
	if strings.HasPrefix(u.Ref, "refs/replace/") && u.New != "" {
		return nil, "", fmt.Errorf("it would make git show another object than the one judged, so such refs are refused (git push --delete removes one)")
	}
	t = inRepository(repo, policy.Push)
	t.OwnTreeOnly, t.Subject.Ref = true, u.Ref
	old, head, err := t.tips(u)
	if err != nil {
		return nil, "", err
	}
	if u.New != "" && head == "" {
		return nil, u.Ref + " names no commit, so there are no lines to judge", nil
	}
	t.pushPolicies(r, u, old, head)
	if len(t.PolicyAt) == 0 {
		return nil, u.Ref + " is deleted, which brings nothing in", nil
	}
	g, err := guard(t)
	if err != nil {
		return nil, "", err
	}
	guarded := g.Takes(u.Ref)
	if u.New != "" && !g.Named && !g.Called && r.main == "" && u.Old != "" && r.hint != "" {
		guarded = true
		t.Notices = append(t.Notices, r.hint+"; until then every ref is judged by all lines that differ from its old tip")
	}
	switch {
	case u.New == "" && guarded && !g.Called:
		return nil, "", fmt.Errorf("%s is guarded, so a push that deletes it can't be judged; an operator can allow it with --policy, or remove it from refs: first", u.Ref)
	case u.New == "":
		return nil, u.Ref + " is deleted, which brings nothing in", nil
	case old == "" && r.hint != "" && !g.Called:
		return nil, "", fmt.Errorf("the policy for the new %s isn't known: %s", shortRef(u.Ref), r.hint)
	}
	t.Subject.Head, t.Guarded = string(head), guarded
	bases, nothing, err := t.pushBases(r, u, old, head, guarded, g)
	if err != nil || nothing != "" {
		return nil, nothing, err
	}
	t.pushBaselines(r, old, bases[0])
	return t, "", t.sides(bases[0], head, bases[1:]...)
}

// tips are the commits that a ref moves from and to; "" where there is none.
func (t *Target) tips(u Update) (old, head git.Side, err error) {
	if u.New != "" {
		commit, err := t.Repo.Commit(u.New)
		if kind, wrong := t.Repo.TypeOf(u.New); err != nil && (wrong != nil || kind == "commit") {
			return "", "", fmt.Errorf("%s: %w", u.Ref, err)
		}
		head = git.Side(commit)
	}
	if u.Old != "" {
		if commit, err := t.Repo.Commit(u.Old); err == nil {
			old = git.Side(commit)
		} else if !t.Repo.Has(u.Old) && u.New != "" {
			return "", "", fmt.Errorf("the other side has %s at %.12s, which isn't here; fetch it: git fetch", u.Ref, u.Old)
		}
	}
	return old, head, nil
}

// pushBases are the states that the update is compared with, of those that the other side has. A guarded ref is compared with its
// own old tip and nothing else, or where it is new with where it left the guarded ones; another ref also with where its new
// commits left any. Where nothing is known, it is the empty tree.
func (t *Target) pushBases(r *Receiver, u Update, old, head git.Side, guarded bool, g Guard) (bases []git.Side, nothing string, err error) {
	follows := false
	if old != "" {
		if follows, err = t.Repo.IsAncestor(string(old), string(head)); err != nil {
			return nil, "", err
		}
	}
	if guarded && old != "" {
		if !follows {
			t.Notices = append(t.Notices, u.Ref+" is a forced push, judged by all lines that differ from the old tip")
		}
		t.Subject.Base = string(old)
		return []git.Side{old}, "", nil
	}
	known, has := r.known, "the other side"
	if guarded {
		known, has = nil, "a guarded branch"
	}
	guards := slices.DeleteFunc(slices.Sorted(maps.Keys(r.refs)), func(ref string) bool { return !g.Takes(ref) })
	contained, err := r.contained(string(head), guards)
	if err != nil {
		return nil, "", err
	}
	if contained && u.Old == "" {
		return nil, u.Ref + " names a commit that a guarded branch already has", nil
	}
	if guarded {
		for _, ref := range guards {
			known = append(known, r.refs[ref])
		}
	}
	boundary, fresh, err := t.Repo.Boundary(string(head), known)
	if err != nil {
		return nil, "", err
	}
	if fresh == 0 {
		return nil, fmt.Sprintf("%s moves to a commit that %s already has", u.Ref, has), nil
	}
	if boundary, err = t.Repo.Independent(boundary); err != nil {
		return nil, "", err
	}
	switch {
	case follows:
		bases = append(bases, old)
	case old != "":
		t.Notices = append(t.Notices, u.Ref+" is a forced push, judged as a new branch")
	}
	for _, commit := range boundary {
		inOld := false
		if follows {
			if inOld, err = t.Repo.IsAncestor(commit, string(old)); err != nil {
				return nil, "", err
			}
		}
		if !inOld {
			bases = append(bases, git.Side(commit))
		}
	}
	if len(bases) == 0 {
		empty, err := t.Repo.EmptyTree()
		if err != nil {
			return nil, "", err
		}
		if r.empty {
			t.Notices = append(t.Notices, "the other side has no branch yet, so all of "+shortRef(u.Ref)+" is judged")
		}
		return []git.Side{git.Side(empty)}, "", nil
	}
	t.Subject.Base = string(bases[0])
	return bases, "", nil
}

// contained reports whether one of some refs has a commit in its history.
func (r *Receiver) contained(commit string, refs []string) (bool, error) {
	for _, ref := range refs {
		if at := r.refs[ref]; r.repo.Has(at) {
			if has, err := r.repo.IsAncestor(commit, at); has || err != nil {
				return has, err
			}
		}
	}
	return false, nil
}

// pushPolicies settles whose policy counts: that of the ref's old tip, for a new ref that of the receiving side's default
// branch; where the target has no policy at all, the head's own.
func (t *Target) pushPolicies(r *Receiver, u Update, old, head git.Side) {
	if old != "" {
		t.PolicyAt = append(t.PolicyAt, State{Side: old, Name: "the old tip of " + shortRef(u.Ref)})
	}
	if tip, ok := r.mainTip(); ok {
		t.PolicyAt = append(t.PolicyAt, State{Side: tip, Name: r.named})
	}
	if head != "" {
		t.PolicyAt = append(t.PolicyAt, State{Side: head, Name: OwnName, Own: true})
	}
}

// pushBaselines settles whose baseline counts: that of the old tip, for a new ref that of where it left the branches that are
// known; then that of the default branch.
func (t *Target) pushBaselines(r *Receiver, old, base git.Side) {
	if old != "" {
		t.BaselineAt = append(t.BaselineAt, old)
	} else if t.Subject.Base != "" {
		t.BaselineAt = append(t.BaselineAt, base)
	}
	if tip, ok := r.mainTip(); ok {
		t.BaselineAt = append(t.BaselineAt, tip)
	}
}

// mainTip is the tip of the default branch.
func (r *Receiver) mainTip() (tip git.Side, ok bool) {
	at := r.refs[r.main]
	if r.main == "" || at == "" {
		return "", false
	}
	commit, err := r.repo.Commit(at)
	return git.Side(commit), err == nil
}

func shortRef(ref string) string {
	return strings.TrimPrefix(strings.TrimPrefix(ref, "refs/heads/"), "refs/")
}
