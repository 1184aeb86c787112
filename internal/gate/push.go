package gate

import (
	"bufio"
	"fmt"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// update is one ref that a push moves.
type update struct {
	ref      string // on the receiving side
	old, new string // commits, or other objects for tags; "" where the ref is made or deleted
}

// pushed is a push as one of git's hooks tells of it.
type pushed struct {
	updates []update
	server  bool // told by the receiving side
}

// readPush reads the lines that git gives its hooks: four words before a push (local ref and object, remote ref and
// object), three before it is received (old and new object, ref).
func readPush(in *bufio.Scanner) (pushed, error) {
	var p pushed
	for number := 1; in.Scan(); number++ {
		words := strings.Fields(in.Text())
		if len(words) == 0 {
			continue
		}
		var u update
		switch len(words) {
		case 4:
			u = update{ref: words[2], old: words[3], new: words[1]}
		case 3:
			u = update{ref: words[2], old: words[0], new: words[1]}
		}
		if !isObject(u.old) || !isObject(u.new) || len(p.updates) > 0 && p.server != (len(words) == 3) {
			return p, wrongCall("line %d of standard input is %q; --push takes the lines that git gives its pre-push or pre-receive hook", number, in.Text())
		}
		p.server = len(words) == 3
		u.old, u.new = orNone(u.old), orNone(u.new)
		p.updates = append(p.updates, u)
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

// receiver is what is known of the side that receives a push.
type receiver struct {
	repo   *git.Repo
	known  []string // revisions whose history it has, as arguments of git rev-list
	main   string   // the ref of its default branch, "" where that isn't known
	mainIs string   // how people call it
	hint   string   // what makes it known
}

// receiverOf finds out what the receiving side has: on the server all refs that are there; before a push the branches of
// the remote as they were last seen, and the old tips that git told of.
func receiverOf(repo *git.Repo, p pushed, remote string) (*receiver, error) {
	r := &receiver{repo: repo}
	for _, u := range p.updates {
		if u.old != "" && repo.Has(u.old) {
			r.known = append(r.known, u.old)
		}
	}
	if p.server {
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
			return nil, wrongCall("the repository has several remotes (%s); name the one that is pushed to with --remote NAME", strings.Join(remotes, ", "))
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

// pushScene finds the sides of one update. It is nil for an update that brings nothing to judge, with the reason.
func pushScene(repo *git.Repo, q Request, r *receiver, u update) (s *scene, nothing string, err error) {
	if u.new == "" {
		return nil, u.ref + " is deleted, which brings nothing in", nil
	}
	head, err := repo.Commit(u.new)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", u.ref, err)
	}
	boundary, fresh, err := repo.Boundary(head, r.known)
	if err != nil {
		return nil, "", err
	}
	if fresh == 0 {
		return nil, u.ref + " moves to a commit that the other side already has", nil
	}
	s = &scene{repo: repo, root: repo.Root, folder: repo.Prefix, kind: policy.Push, pushed: true}
	s.subject.Kind, s.subject.Ref, s.subject.Head = string(policy.Push), u.ref, head
	old, bases, err := s.pushBases(u, head, boundary)
	if err != nil {
		return nil, "", err
	}
	if err := s.pushRules(r, u, old, git.Side(head), bases[0]); err != nil {
		return nil, "", err
	}
	return s, "", s.sides(bases[0], git.Side(head), bases[1:]...)
}

// pushBases are the states that the other side has and the update is compared with: the old tip where the new one
// follows it, and the known commits that the new ones stand on. Where nothing is known, it is the empty tree.
func (s *scene) pushBases(u update, head string, boundary []string) (old git.Side, bases []git.Side, err error) {
	if u.old != "" {
		if commit, err := s.repo.Commit(u.old); err == nil {
			old = git.Side(commit)
		} else if !s.repo.Has(u.old) {
			return "", nil, fmt.Errorf("the other side has %s at %.12s, which isn't here; bring it with git fetch", u.ref, u.old)
		}
	}
	if old != "" {
		follows, err := s.repo.IsAncestor(string(old), head)
		if err != nil {
			return "", nil, err
		}
		if follows {
			bases = append(bases, old)
		} else {
			s.notices = append(s.notices, u.ref+" is forced to another history, and judged as a new branch")
		}
	}
	for _, commit := range boundary {
		if side := git.Side(commit); !slices.Contains(bases, side) {
			bases = append(bases, side)
		}
	}
	if len(bases) == 0 {
		empty, err := s.repo.EmptyTree()
		if err != nil {
			return "", nil, err
		}
		return old, []git.Side{git.Side(empty)}, nil
	}
	s.subject.Base = string(bases[0])
	return old, bases, nil
}

// pushRules settles whose policy and baseline count: those of the ref's old tip, for a new ref those of the receiving
// side's default branch; where the target has no policy at all, the head's own.
func (s *scene) pushRules(r *receiver, u update, old, head, base git.Side) error {
	if old != "" {
		s.authorities = append(s.authorities, authority{side: old, name: "the old tip of " + shortRef(u.ref)})
		s.baselineAt = append(s.baselineAt, old)
	} else if s.subject.Base != "" {
		s.baselineAt = append(s.baselineAt, base)
	}
	if r.main != "" {
		if tip, err := r.repo.Commit(r.main); err == nil {
			s.authorities = append(s.authorities, authority{side: git.Side(tip), name: r.mainIs})
			s.baselineAt = append(s.baselineAt, git.Side(tip))
		}
	}
	if old == "" && r.hint != "" {
		return fmt.Errorf("whose policy judges the new %s can't be told: %s", shortRef(u.ref), r.hint)
	}
	s.authorities = append(s.authorities, authority{side: head, name: ownName, own: true})
	return nil
}

func shortRef(ref string) string {
	return strings.TrimPrefix(strings.TrimPrefix(ref, "refs/heads/"), "refs/")
}
