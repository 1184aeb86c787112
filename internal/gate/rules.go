package gate

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// rules are what a change is judged by.
type rules struct {
	policy   *policy.Policy
	origin   judge.Origin
	door     policy.Door
	baseline *baseline.Baseline
	own      bool             // the policy is the change's own, which serves only because the target has none
	whole    bool             // the list is honoured as it is, with what the change puts into it
	bytes    []byte           // the baseline as it is written
	offers   []baseline.Offer // what the change puts into the list, unless that is honoured as it is
	dropped  []baseline.Entry // what it takes out
	evidence []judge.Evidence // what is missing of them
	notices  []string
}

// rules finds the policy that counts, and the door.
func (s *scene) rules(q Request) (*rules, error) {
	p, origin, err := s.policyOf(q)
	if err != nil {
		return nil, err
	}
	r := &rules{policy: p, origin: origin, own: q.Policy == "" && origin.From == ownName}
	if doors := append(p.DoorsFor(s.kind), p.Doors...); q.AnyDoor && q.Door == "" && len(doors) > 0 {
		r.door = doors[0]
		r.door.Needs = nil
		return r, nil
	}
	r.door, err = s.doorOf(p, q.Door)
	return r, err
}

// lists reads the baseline, and tells what the change makes of it and of the policy.
func (s *scene) lists(q Request, r *rules) (err error) {
	if r.origin.Altered, err = s.alterations(q, r.policy, r); err != nil {
		return err
	}
	if n := len(s.authorities) - 1; q.Policy == "" && s.authorities[n].own && r.origin.From == ownName {
		r.notices = append(r.notices, fmt.Sprintf("%s has no policy, so this change is judged by its own", s.authorities[0].name))
		s.baselineAt = []git.Side{s.authorities[n].side}
	}
	if err := s.readBaseline(q, r); err != nil || q.Baseline != "" {
		return err
	}
	return s.readOffers(r)
}

// alterations tells what the change makes of the policy: of the target's, or where a local change is judged of the last
// commit's.
func (s *scene) alterations(q Request, judging *policy.Policy, r *rules) ([]policy.Alteration, error) {
	if s.patch || s.repo == nil || q.Policy != "" || s.kind == policy.Tree || s.diff == nil {
		return nil, nil
	}
	altered := false
	for _, path := range append(s.policyFiles, policy.Path) {
		a, err := s.diff.Alters(path)
		if err != nil {
			return nil, err
		}
		altered = altered || a
	}
	if !altered {
		return nil, nil
	}
	local := s.side == git.Index || s.side == git.Worktree
	side := s.side
	if local {
		commit, ok := s.repo.Head()
		if !ok {
			return nil, nil
		}
		side = git.Side(commit)
	}
	data, found, err := s.plainAt(side, policy.Path)
	if err != nil || !found {
		if !local && !found {
			r.notices = append(r.notices, "the change takes the policy away")
		}
		return nil, nil
	}
	lib := library{scene: s, side: side, name: shortSide(side), own: true}
	other, err := policy.Read(lib.text(policy.Path, data))
	var wrong policy.Problems
	switch {
	case err != nil && !local && !errors.As(err, &wrong):
		r.notices = append(r.notices, fmt.Sprintf("what the change makes of the policy can't be told: %v", err))
		return nil, nil
	case err != nil && !local:
		r.notices = append(r.notices, fmt.Sprintf("the policy that the change brings is invalid, and would judge no change after it: %v", err))
		return nil, nil
	case err != nil:
		return nil, nil
	case local:
		return policy.Compare(other, judging), nil
	}
	return policy.Compare(judging, other), nil
}

// policyOf finds the policy that counts: the one the call names, else that of the first authority that has one, else
// the built-in one.
func (s *scene) policyOf(q Request) (*policy.Policy, judge.Origin, error) {
	if q.Policy != "" {
		text, err := s.namedPolicy(q)
		if err != nil {
			return nil, judge.Origin{}, wrongCall("--policy %s: %v", q.Policy, err)
		}
		return readPolicy(text, q.Policy)
	}
	for _, at := range s.authorities {
		data, found, err := s.plainAt(at.side, policy.Path)
		if errors.Is(err, git.ErrLink) {
			return nil, judge.Origin{}, wrongCall("%s: %v", at.name, err)
		}
		if err != nil {
			return nil, judge.Origin{}, fmt.Errorf("the policy of %s can't be read: %w", at.name, err)
		}
		if found {
			lib := library{s, at.side, at.name, at.own, q}
			return readPolicy(lib.text(policy.Path, data), at.name)
		}
	}
	return readPolicy(policy.Text{Name: "built-in policy", Data: policy.BuiltinText()}, BuiltIn)
}

// namedPolicy is the policy that the call names. What it inherits is looked up in the revision that it is named with, else
// in the work tree.
func (s *scene) namedPolicy(q Request) (policy.Text, error) {
	if q.Policy == BuiltIn {
		return policy.Text{Name: "built-in policy", Data: policy.BuiltinText()}, nil
	}
	data, err := s.named(q.Dir, q.Policy)
	if err != nil {
		return policy.Text{}, err
	}
	lib := library{scene: s, side: git.Worktree, name: "the work tree", request: q}
	if rev, _, ok := strings.Cut(q.Policy, ":"); ok && s.repo != nil {
		if commit, err := s.repo.Commit(rev); err == nil {
			lib.side, lib.name = git.Side(commit), rev
		}
	}
	text := lib.text(q.Policy, data)
	text.Name = q.Policy
	return text, nil
}

// BuiltIn names the built-in policy where a call names one.
const BuiltIn = "built-in"

// refusal says why nothing that the policy names may be started, and what to do; "" where it may.
func (s *scene) refusal(q Request, r *rules) string {
	switch {
	case r.own:
		return "this change is judged by its own policy, of which nothing is started unless the call names it: --policy HEAD:" + policy.Path + " --run"
	case !s.mayRun(q):
		return "nothing that a policy names is started here without leave: git config zincdoor.run true, or --run, once you trust the policy"
	}
	return ""
}

// mayRun reports whether the user lets the policy's programs be started. It asks git, so it is called when there is one.
func (s *scene) mayRun(q Request) bool { return q.Run || s.repo != nil && s.repo.RunsHere() }

// fileName is a file of a state as messages name it: plain where it lies on disk, else with the revision before it.
func fileName(side git.Side, name, path string) string {
	switch side {
	case git.Worktree:
		return path
	case git.Index:
		return ":" + path
	}
	return name + ":" + path
}

func readPolicy(text policy.Text, from string) (*policy.Policy, judge.Origin, error) {
	p, err := policy.Read(text)
	origin := judge.Origin{From: from, Digest: text.Digest()}
	if p != nil {
		origin.Inherits = p.Inherits
	}
	return p, origin, err
}

// plainAt reads a file of a state, refusing symbolic links.
func (s *scene) plainAt(side git.Side, path string) (data []byte, found bool, err error) {
	if s.patch || side == s.side && s.head != nil {
		return s.head.Plain(path)
	}
	tree, err := s.repo.Tree(side)
	if err != nil {
		return nil, false, err
	}
	defer tree.Close()
	return tree.Plain(path)
}

// named reads FILE or REV:PATH as a call names it. A file of that name goes first.
func (s *scene) named(dir, name string) ([]byte, error) {
	data, err := os.ReadFile(inDir(dir, name))
	rev, path, isRev := strings.Cut(name, ":")
	if err == nil || !errors.Is(err, fs.ErrNotExist) || !isRev {
		return data, err
	}
	if s.repo == nil {
		return nil, fmt.Errorf("there is no such file, and no repository to look a revision up in")
	}
	commit, err := s.repo.Commit(rev)
	if err != nil {
		return nil, err
	}
	data, found, err := s.plainAt(git.Side(commit), path)
	if err == nil && !found {
		err = fmt.Errorf("%s has no file %s", rev, path)
	}
	return data, err
}

// doorOf takes the door that the call names, or the only one that judges this kind of change.
func (s *scene) doorOf(p *policy.Policy, name string) (policy.Door, error) {
	if name != "" {
		door, ok := p.Door(name)
		if !ok {
			return door, unknownDoor(p, name)
		}
		return door, nil
	}
	doors := p.DoorsFor(s.kind)
	switch len(doors) {
	case 1:
		return doors[0], nil
	case 0:
		return policy.Door{}, wrongCall("no door of the policy judges a %s; name one of them with --door: %s", s.kind, policy.Names(p.Doors))
	}
	return policy.Door{}, wrongCall("several doors judge a %s; name one of them with --door: %s", s.kind, policy.Names(doors))
}

func unknownDoor(p *policy.Policy, name string) error {
	var names []string
	for _, d := range p.Doors {
		names = append(names, d.Name)
	}
	if nearest := policy.Nearest(name, names); nearest != "" {
		return wrongCall("the policy has no door %q; did you mean %q?", name, nearest)
	}
	return wrongCall("the policy has no door %q; it has %s", name, strings.Join(names, ", "))
}

// readBaseline reads the baseline from where it counts. One that the policy names and that isn't there is evidence that
// is missing.
func (s *scene) readBaseline(q Request, r *rules) error {
	r.baseline = &baseline.Baseline{}
	if q.Baseline != "" {
		data, err := s.named(q.Dir, q.Baseline)
		if err != nil {
			return wrongCall("--baseline %s: %v", q.Baseline, err)
		}
		return r.parseBaseline(q.Baseline, data)
	}
	path := r.policy.Baseline
	for _, side := range s.baselineAt {
		data, found, err := s.plainAt(side, path)
		if errors.Is(err, git.ErrLink) {
			return wrongCall("%v", err)
		}
		if err != nil {
			return fmt.Errorf("the baseline can't be read: %w", err)
		}
		if found {
			return r.parseBaseline(fileName(side, shortSide(side), path), data)
		}
	}
	if r.policy.BaselineNamed {
		r.evidence = append(r.evidence, judge.Evidence{
			Name: path, Format: "baseline", State: judge.Missing,
			Problem: "the policy names this baseline and it isn't there; make it with zincdoor baseline take, or take the key out of the policy",
		})
	}
	return nil
}

func shortSide(side git.Side) string { return string(side[:min(len(side), 12)]) }

func (r *rules) parseBaseline(name string, data []byte) error {
	b, err := baselinefile.Read(bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	r.baseline, r.bytes = b, data
	return nil
}

// readOffers finds what the change makes of the list. Where a local change is judged, the list is honoured as it is, and
// what it adds to that of the last commit is a notice, unless the door says what a change may accept.
func (s *scene) readOffers(r *rules) error {
	path := r.policy.Baseline
	local := s.kind == policy.Staged || s.kind == policy.Worktree || s.kind == policy.Tree
	if s.patch || s.repo == nil || local && r.bytes == nil && r.door.Acceptances == nil {
		return nil
	}
	other := s.side // the state to compare the list with
	if local {
		commit, ok := s.repo.Head()
		if !ok {
			return nil
		}
		other = git.Side(commit)
	}
	data, found, err := s.plainAt(other, path)
	if err != nil && local {
		return nil // a list that took the place of something else
	}
	if !found && local && r.door.Acceptances == nil {
		return nil // a first list
	}
	theirs := &baseline.Baseline{}
	if found && bytes.Equal(data, r.bytes) {
		return nil
	}
	if found {
		if theirs, err = baselinefile.Read(bytes.NewReader(data)); err != nil && local {
			return nil
		}
	}
	if err != nil { // which would leave all later changes without one
		r.evidence = append(r.evidence, judge.Evidence{
			Name: path, Format: "baseline", State: judge.Failed, Problem: fmt.Sprintf("what the change makes of it can't be read: %v; mend it", err),
		})
		return nil
	}
	before, after := r.baseline.Entries, theirs.Entries
	if local {
		before, after = after, before
	}
	offers, dropped := baseline.Offers(before, after)
	if local && r.door.Acceptances == nil {
		added := 0
		for _, o := range offers {
			if o.Was == nil {
				added++
			}
		}
		if added > 0 {
			r.notices = append(r.notices, fmt.Sprintf("the baseline accepts %s more than that of the last commit", finding.Count(added)))
		}
		r.offers, r.dropped, r.whole = offers, dropped, true
		return nil
	}
	if local {
		r.baseline = &baseline.Baseline{Covers: r.baseline.Covers, Entries: before}
	}
	r.offers, r.dropped = offers, dropped
	return nil
}
