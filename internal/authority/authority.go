// Package authority knows whose policy and whose baseline count for what is judged, and what a change makes of them. It is
// handed the states they may be read from, and doesn't know how these were named.
package authority

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// Overrides are what a call puts in the place of what counts.
type Overrides struct {
	Dir      string // where the call is made
	Policy   string // FILE or REV:PATH, or BuiltIn; "" for the one that counts
	Baseline string // the same for the baseline
	Run      bool   // the programs that the policy names may be started
	Digest   bool   // the baseline's digest will be asked for

	// Fitted reports whether a policy is, byte for byte, one that was fitted into this repository by who uses it; by its digest as
	// verdicts have it, or "" for whether any was. It may be nil.
	Fitted func(repo *git.Repo, digest string) bool
	Within []string // the repositories from which policies may be inherited, and nothing else outside; nil without such bounds
}

// fitted reports whether a policy was fitted into the repository.
func (by Overrides) fitted(repo *git.Repo, digest string) bool {
	return repo != nil && by.Fitted != nil && by.Fitted(repo, digest)
}

// BuiltIn names the built-in policy where a call names one, and in the verdict.
const BuiltIn = "built-in"

// Authority is whose policy counts. It isn't written to once it was found.
type Authority struct {
	Policy  *policyfile.File
	Origin  judge.Origin // without what the change alters
	Door    policy.Door
	Notices []string

	near  []string     // files that look like the policy where there is none
	own   string       // the commit of the change whose policy serves, only because the target has none; "" for others
	bare  string       // how people call the target then
	kind  policy.Kind  // of what is judged
	at    target.State // where the policy was read from; without a side where it was no commit
	files []string     // paths of the policy, and of those that it inherits, in the state they were read from
}

// Find finds the policy that counts: the one the call names, else that of the first of the target's states that has one,
// else the built-in one. The door is still to be chosen.
func Find(t *target.Target, by Overrides) (*Authority, error) {
	l := &library{Target: t, by: by}
	var text policyfile.Text
	from, err := by.Policy, error(nil)
	if by.Policy != "" {
		if text, err = l.named(by.Policy); err != nil {
			return nil, target.WrongCall("--policy %s: %v", by.Policy, err)
		}
	} else if text, from, err = l.first(); errors.Is(err, git.ErrLink) {
		return nil, target.WrongCall("%s: %v", from, err)
	} else if err != nil {
		return nil, fmt.Errorf("the policy of %s can't be read: %w", from, err)
	}
	file, err := policyfile.Read(text)
	if err != nil {
		return nil, err
	}
	a := &Authority{Policy: file, Origin: judge.Origin{From: from, Digest: text.Digest(), Inherits: file.Inherits}, Notices: l.notices, files: l.paths}
	if by.Policy == "" && from == BuiltIn {
		a.near = nearMisses(t)
		a.Notices = append(a.Notices, a.near...)
	}
	if from != BuiltIn && l.at.Side != git.Worktree && l.at.Side != git.Index {
		a.at = target.State{Side: l.at.Side, Name: cmp.Or(l.at.Name, from)}
	} else if by.Policy != "" && !t.IsPatch && len(t.PolicyAt) > 0 && !t.PolicyAt[0].Own {
		a.at = t.PolicyAt[0]
	}
	if by.Policy == "" && from == target.OwnName {
		a.own, a.bare, a.kind = string(l.at.Side), t.PolicyAt[0].Name, t.Kind
		if t.PolicyAt[0].Own {
			a.bare = "the other side"
		}
	}
	return a, nil
}

// first is the text of the policy of the first of the target's states that has one, else of the built-in one, and how
// people call where it is from.
func (l *library) first() (text policyfile.Text, from string, err error) {
	for _, at := range l.PolicyAt {
		data, found, err := l.Plain(at.Side, policyfile.Path)
		if err != nil {
			return text, at.Name, err
		}
		if found {
			l.at = at
			return l.text(policyfile.Path, data), at.Name, nil
		}
	}
	if text, ok := l.uncommitted(); ok {
		l.at = target.State{Side: git.Worktree, Name: "the work tree"}
		l.notices = append(l.notices, "judged by the policy of the work tree, which isn't committed yet; commit it: git add "+policy.Folder+" && git commit")
		return text, l.at.Name, nil
	}
	return builtInText(), BuiltIn, nil
}

// uncommitted is the policy of the work tree where one was fitted there and no state has one yet.
func (l *library) uncommitted() (text policyfile.Text, ok bool) {
	if l.Repo == nil || l.Repo.Bare || l.IsPatch {
		return text, false
	}
	if !l.by.fitted(l.Repo, "") {
		return text, false
	}
	data, found, err := l.Plain(git.Worktree, policyfile.Path)
	return policyfile.Text{Name: policyfile.Path, Data: data}, err == nil && found
}

// Text is the text of the policy that the call names, else that of the first of the target's states that has one, else the
// built-in one, which builtIn says. Unlike Find it gives the errors of reading as they are.
func Text(t *target.Target, by Overrides) (text policyfile.Text, builtIn bool, err error) {
	l := &library{Target: t, by: by}
	if by.Policy != "" {
		text, err = l.named(by.Policy)
		return text, false, err
	}
	text, from, err := l.first()
	return text, from == BuiltIn, err
}

// Typed is the text of the work tree's policy as somebody types it, with the way to those that it inherits.
func Typed(t *target.Target, by Overrides, data []byte) policyfile.Text {
	l := &library{Target: t, by: by, at: target.State{Side: git.Worktree, Name: "the work tree"}}
	return l.text(policyfile.Path, data)
}

func builtInText() policyfile.Text {
	return policyfile.Text{Name: policyfile.BuiltinName, Data: policyfile.BuiltinText()}
}

// named is the policy that a call names. What it inherits is looked up in the revision that it is named with, else in the
// work tree.
func (l *library) named(name string) (policyfile.Text, error) {
	if name == BuiltIn {
		return builtInText(), nil
	}
	data, err := readNamed(l.Target, l.by.Dir, name)
	if err != nil {
		return policyfile.Text{}, err
	}
	l.at = target.State{Side: git.Worktree, Name: "the work tree"}
	if rev, _, ok := strings.Cut(name, ":"); ok && l.Repo != nil {
		if commit, err := l.Repo.Commit(rev); err == nil {
			l.at = target.State{Side: git.Side(commit), Name: rev}
		}
	}
	text := l.text(name, data)
	text.Name = name
	return text, nil
}

// readNamed reads FILE or REV:PATH as a call names it. A file of that name goes first.
func readNamed(t *target.Target, dir, name string) ([]byte, error) {
	data, err := os.ReadFile(target.InDir(dir, name))
	rev, path, isRev := strings.Cut(name, ":")
	if err == nil || !errors.Is(err, fs.ErrNotExist) || !isRev {
		return data, err
	}
	if t.Repo == nil {
		return nil, fmt.Errorf("there is no such file, and no repository to look a revision up in")
	}
	commit, err := t.Repo.Commit(rev)
	if err != nil {
		return nil, err
	}
	data, found, err := t.Plain(git.Side(commit), path)
	if err == nil && !found {
		err = fmt.Errorf("%s has no file %s", rev, path)
	}
	return data, err
}

// Refusal says why nothing that the policy names may be started, and what to do; "" where it may. It asks git, so it is
// called when there is something to start.
func (a *Authority) Refusal(t *target.Target, by Overrides) string {
	switch {
	case a.own != "" && t.Repo.RunsAt(a.own):
	case a.own != "" && mayRun(t, by) && by.fitted(t.Repo, a.Origin.Digest):
	case a.own != "" && a.kind == policy.Push:
		return fmt.Sprintf("%s has no policy yet, so this push is judged by its own policy, and the linters it names aren't started. If you trust this policy: git -c %s=%.12s push", a.bare, git.Leave, a.own)
	case a.own != "":
		rev := "HEAD"
		if a.kind == policy.Range {
			rev = a.own[:12]
		}
		return "this change is judged by its own policy, and the linters it names aren't started. If you trust this policy: --policy " + rev + ":" + policyfile.Path + " --run"
	case !mayRun(t, by):
		return "linters that a policy names aren't allowed to run here yet. If you trust this policy: git config zincdoor.run true, or --run"
	}
	return ""
}

// Trusted is the state from which the linters' own files are taken where a change from elsewhere is judged: that of the policy,
// or of the change's target where a file of this machine is the policy. Without a side it is the judged one.
func (a *Authority) Trusted(t *target.Target) target.State {
	if t.Local() {
		return target.State{}
	}
	return a.at
}

// mayRun reports whether the user lets the policy's programs be started.
func mayRun(t *target.Target, by Overrides) bool { return by.Run || t.Repo != nil && t.Repo.RunsHere() }

// KindOfDoor lets a door decide what is judged where the call doesn't say. The door is looked up in the work tree's policy,
// since only changes found there may be left unnamed.
func KindOfDoor(repo *git.Repo, by Overrides, door string) (policy.Kind, error) {
	t := &target.Target{Repo: repo, Root: repo.Root, Folder: repo.Prefix, PolicyAt: []target.State{{Side: git.Worktree, Name: "the work tree"}}}
	a, err := Find(t, by)
	if err != nil {
		return "", err
	}
	if door == "" {
		return "", target.WrongCall("name the change to judge: --staged, --worktree, --into REF, --range A..B, --push, --patch FILE or --tree; or a --door that judges one of its own")
	}
	found, ok := a.Policy.Policy.Door(door)
	switch {
	case !ok:
		return "", a.unknownDoor(door)
	case found.Judges.Local():
		return found.Judges, nil
	case found.Judges == "":
		return "", target.WrongCall("door %s judges any kind of change; name one%s", door, suggestChange(found))
	}
	return "", target.WrongCall("door %s judges a %s; name it%s", door, found.Judges, suggestChange(found))
}

func suggestChange(d policy.Door) string {
	switch {
	case d.Judges == policy.Push:
		return ": --push, with the lines that git gives its hook on standard input"
	case d.Into != "":
		return ", as in --into " + d.Into
	}
	return ": --into REF, --range A..B or --patch FILE"
}

// NoDoor says that no push door stands at a ref.
type NoDoor struct{ why string }

func (n NoDoor) Error() string { return n.why }

// ChooseDoor takes the door that the call names, or the only one that judges this kind of change; for a push, that stands at its
// ref. The error is a NoDoor where none stands there.
func (a *Authority) ChooseDoor(t *target.Target, name string) error {
	if t.Kind == policy.Push && a.Policy.Policy.NamesRefs() {
		return a.choosePushDoor(t.Subject.Ref, name)
	}
	return a.chooseDoor(t.Kind, name)
}

func (a *Authority) choosePushDoor(ref, name string) error {
	standing := a.Policy.Policy.Standing(ref)
	at := slices.IndexFunc(standing, func(d policy.Door) bool { return d.Name == name })
	door, known := a.Policy.Policy.Door(name)
	switch {
	case at >= 0:
		a.Door = standing[at]
	case name != "" && !known:
		return a.unknownDoor(name)
	case name != "" && len(door.Refs) == 0:
		a.Door = door // whatever stands there beside it
	case name != "":
		return NoDoor{fmt.Sprintf("door %s isn't for %s, so it isn't judged", name, ref)}
	case len(standing) == 0:
		return NoDoor{fmt.Sprintf("no push door is for %s, so it isn't judged", ref)}
	case len(standing) > 1:
		return target.WrongCall("several doors are for %s; name one: --door %s", ref, policy.Names(standing))
	default:
		a.Door = standing[0]
	}
	return nil
}

func (a *Authority) chooseDoor(kind policy.Kind, name string) error {
	p := a.Policy.Policy
	if name != "" {
		door, ok := p.Door(name)
		if !ok {
			return a.unknownDoor(name)
		}
		a.Door = door
		return nil
	}
	doors := p.DoorsFor(kind)
	switch len(doors) {
	case 1:
		a.Door = doors[0]
		return nil
	case 0:
		return target.WrongCall("the policy has no door that judges a %s; name one of its doors: --door %s", kind, policy.Names(p.Doors))
	}
	return target.WrongCall("several doors judge a %s; name one: --door %s", kind, policy.Names(doors))
}

// ChooseAnyDoor takes the door that the call names, else the first that judges this kind of change, else the first; whatever
// it needs.
func (a *Authority) ChooseAnyDoor(t *target.Target, name string) error {
	doors := append(a.Policy.Policy.DoorsFor(t.Kind), a.Policy.Policy.Doors...)
	if name != "" || len(doors) == 0 {
		return a.chooseDoor(t.Kind, name)
	}
	a.Door = doors[0]
	if p := a.Policy.Policy; len(p.Reports) > 0 || !a.Door.NeedsOwn() { // else our own checks are all there is
		a.Door.Needs = nil
	}
	return nil
}

func (a *Authority) unknownDoor(name string) error {
	p := a.Policy.Policy
	if a.Origin.From == BuiltIn && len(a.near) > 0 {
		return target.WrongCall("there is no door %q: %s", name, strings.Join(a.near, "; "))
	}
	if a.Origin.From == BuiltIn {
		return target.WrongCall("there is no door %q: there is no policy (%s), and the built-in one has only the door %s. Bring the policy back, leave out --door, or remove the hooks: zincdoor fit --remove", name, policyfile.Path, policy.Names(p.Doors))
	}
	var names []string
	for _, d := range p.Doors {
		names = append(names, d.Name)
	}
	if nearest := policyfile.Nearest(name, names); nearest != "" {
		return target.WrongCall("the policy has no door %q; did you mean %q?", name, nearest)
	}
	return target.WrongCall("the policy has no door %q; it has %s", name, strings.Join(names, ", "))
}
