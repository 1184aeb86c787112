package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"zincdoor/internal/authority"
	"zincdoor/internal/codehost"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
	"zincdoor/internal/verdictfile"
)

// ReviewRequest is a verdict to bring to a pull request.
type ReviewRequest struct {
	Call
	HostRequest
	Judged  *Judged        // the verdict of this call; nil where a file has it
	Verdict string         // the file of a verdict as JSON, where Judged and Given are nil
	Given   *judge.Verdict // a verdict that was recorded, nil for none

	Most    int    // how many comments are open at a time at most
	Status  string // the status's name; "" for zincdoor and the door
	Link    string // where the whole verdict can be read, "" for nowhere
	DryRun  bool
	Writing ReviewWriting
	Tell    func(string) // is called with what is being waited for; nil for nobody
}

// ReviewWriting is what writes the texts of a review, as Markdown.
type ReviewWriting struct {
	Comment func(judge.Verdict, review.Comment) string
	Summary func(v judge.Verdict, j *Judged, commented map[int]bool, longest int, notes []string) string
	Status  func(judge.Verdict) string
	Gone    func(string) string
}

// HostRequest names a code host and a pull request there.
type HostRequest struct {
	Host       string       // a recipe of the policy, or a file with one
	Recipe     *policy.Host // in its place; nil for none
	Pull       string
	Repository string // as the host calls it; "" for what the recipe or git's configuration says
	Settings   codehost.Settings
	TokenFrom  func() (string, error) // gives the token; "" for none
}

// Sent is what was done, or would be.
type Sent struct {
	Verdict judge.Verdict
	Pull    review.Pull
	Acts    []review.Act
	Notices []string
}

// reviewing is a review on its way.
type reviewing struct {
	ReviewRequest
	verdict judge.Verdict
	repo    *git.Repo // nil outside any
	policy  *policy.Policy
	host    *codehost.Host
	touched func(path string, line int) bool
	notices []string
}

// SendReview brings a verdict to a pull request. What was done before an error is in what it gives.
func SendReview(ctx context.Context, q ReviewRequest) (*Sent, error) {
	r := &reviewing{ReviewRequest: q}
	var err error
	if r.repo, err = openIfAny(ctx, q.Dir); err != nil {
		return nil, err
	}
	if r.repo != nil {
		defer r.repo.Close()
	}
	recipe, err := r.read()
	if err != nil {
		return nil, err
	}
	if !git.IsHash(r.verdict.Subject.Head) {
		return nil, target.WrongCall("the verdict is of %s, and a pull request proposes commits: judge one with --into, --range or --tree REV", cmp.Or(r.verdict.Subject.Head, "no commit"))
	}
	if r.host, err = openHost(recipe, q.HostRequest, r.repo, r.verdict.Door, q.Link); err != nil {
		return nil, err
	}
	defer r.host.Close()
	if r.host.LacksToken() && !q.DryRun {
		return &Sent{Verdict: r.verdict, Notices: append(r.notices, "there is no token, so nothing is sent: set ZINCDOOR_TOKEN, or name the variable that has it with --token-from; pull requests from forks often get none")}, nil
	}
	unlock, err := r.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	return r.send(ctx)
}

// read gets the verdict, the policy, and the recipe.
func (r *reviewing) read() (*policy.Host, error) {
	var origin string
	if r.Judged != nil {
		r.verdict, r.policy, origin = r.Judged.Verdict, r.Judged.Input.Policy, r.Judged.Origin.From
		r.touched = r.Judged.Touched
		if r.Judged.Input.Change == nil || r.Judged.Input.Change.Everything {
			r.touched = nil
		}
	} else {
		if err := r.given(); err != nil {
			return nil, err
		}
		var err error
		if origin, err = r.ofFile(); err != nil {
			return nil, err
		}
	}
	if r.Recipe != nil {
		return r.Recipe, nil
	}
	return findHost(r.Dir, r.Host, r.policy, origin, r.Call.Policy != "")
}

// given takes the verdict that was recorded, or reads the one of a file.
func (r *reviewing) given() error {
	if r.Given != nil {
		r.verdict = *r.Given
		return nil
	}
	data, err := os.ReadFile(target.InDir(r.Dir, r.Verdict))
	if err != nil {
		return target.WrongCall("the verdict can't be read: %v; gate writes one with --write json=FILE", err)
	}
	if r.verdict, err = verdictfile.Read(data); err != nil {
		return target.WrongCall("%s: %v; gate writes one with --write json=FILE", r.Verdict, err)
	}
	return nil
}

// ofFile finds the policy and the changed lines of a verdict that was read. Where the repository doesn't have its commits, they aren't
// known.
func (r *reviewing) ofFile() (origin string, err error) {
	r.policy = policyfile.Builtin().Policy
	base, head := r.verdict.Subject.Base, r.verdict.Subject.Head
	switch {
	case !isThere(r.repo, head):
		r.notices = append(r.notices, "the repository here doesn't have the judged commit, so comments keep to what the verdict alone says of lines")
		return "", nil
	case !isThere(r.repo, base):
		r.notices = append(r.notices, fmt.Sprintf("the repository here doesn't have %s, from which the change was judged, so neither its policy nor the changed lines are known; fetch it", review.Short(cmp.Or(base, "the commit"))))
		return "", nil
	}
	t, err := target.Of(r.repo, target.Name{Kind: policy.Range, From: base, To: head})
	if err != nil {
		return "", err
	}
	defer t.Close()
	a, err := authority.Find(t, r.overrides())
	if err != nil {
		return "", err
	}
	r.policy = a.Policy.Policy
	way, err := wayBetween(r.repo, base, head, r.policy.Place, pathsOf(r.verdict.Findings))
	if err != nil {
		return "", err
	}
	r.touched = func(path string, line int) bool { return touches(way, path, line) }
	return a.Origin.From, nil
}

// findHost finds a recipe: a file where the name is one's, else the policy's of that name. A policy that comes from the change itself
// doesn't say where a token goes.
func findHost(dir, name string, p *policy.Policy, origin string, named bool) (*policy.Host, error) {
	if name == "" {
		return nil, target.WrongCall("name the code host: --host FILE with its recipe, or the name of one of the policy")
	}
	file := target.InDir(dir, name)
	if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() || strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, target.WrongCall("the host recipe can't be read: %v", err)
		}
		h, err := policyfile.ReadHost(name, data)
		var problems policyfile.Problems
		if errors.As(err, &problems) {
			return nil, WrongHost{problems}
		}
		return h, err
	}
	var names []string
	for _, h := range p.Hosts {
		names = append(names, h.Name)
	}
	h, known := p.Host(name)
	switch {
	case known && origin == target.OwnName && !named:
		return nil, target.WrongCall("the policy comes from the change itself, which can't say where a token goes: name the recipe with --host FILE, or the policy with --policy")
	case known:
		return h, nil
	case len(names) == 0 && origin == "" && !named:
		return nil, target.WrongCall("the repository here doesn't have the commits of the verdict, so the policy isn't known: fetch them, or name the recipe with --host FILE")
	case len(names) == 0:
		return nil, target.WrongCall("the policy has no hosts, and there is no file %s; zincdoor schema host describes a recipe", name)
	}
	return nil, target.WrongCall("there is no file %s, and the policy has no host of that name; it has %s", name, strings.Join(names, ", "))
}

// WrongHost is the error of a host recipe that makes no sense.
type WrongHost struct{ policyfile.Problems }

// openHost makes the host of a recipe.
func openHost(recipe *policy.Host, q HostRequest, repo *git.Repo, door, link string) (*codehost.Host, error) {
	s := q.Settings
	s.Values = map[string]string{}
	for name, value := range q.Settings.Values {
		if !slices.Contains(recipe.VariableNames(""), name) || slices.Contains(policy.Secrets, name) {
			return nil, target.WrongCall("--set: the recipe has no variable %q", name)
		}
		s.Values[name] = value
	}
	repository := q.Repository
	if repository == "" && recipe.Variables["repository"] == "" && s.Values["repository"] == "" && repo != nil {
		repository = repo.Settings(`^zincdoor\.repository$`)[nameKey]
	}
	if repository != "" {
		s.Values["repository"] = repository
	}
	s.Values["pull"], s.Values["door"], s.Values["link"] = q.Pull, door, link
	var err error
	if s.Token, err = q.TokenFrom(); err != nil {
		return nil, target.WrongCall("%v", err)
	}
	h, err := codehost.New(recipe, s)
	if err != nil {
		return nil, target.WrongCall("%v", err)
	}
	return h, nil
}

// isMergeOf reports whether a commit merges another one into something.
func isMergeOf(repo *git.Repo, merge, commit string) bool {
	if !isThere(repo, merge) {
		return false
	}
	second, err := repo.Commit(merge + "^2") // which only a merge has
	if err != nil {
		return false
	}
	first, err := repo.Commit(merge + "^1")
	return err == nil && (first == commit || second == commit)
}

// comments are the comments that the verdict wants, at the commit that the pull request proposes. What was judged as a merge of it is
// brought back to its lines; what has no line there is left for the summary.
func (r *reviewing) comments(head string) (wanted []review.Comment, err error) {
	wanted = review.Comments(r.verdict, r.touched)
	for i := range wanted {
		wanted[i].Text = review.Clip(r.Writing.Comment(r.verdict, wanted[i]), r.host.Longest())
	}
	if r.verdict.Subject.Head != head {
		return r.broughtBack(wanted, head)
	}
	return wanted, nil
}

func (r *reviewing) broughtBack(wanted []review.Comment, head string) (there []review.Comment, err error) {
	way, err := wayBetween(r.repo, head, r.verdict.Subject.Head, change.Rules{}, pathsOf(r.verdict.Findings))
	if err != nil {
		return nil, err
	}
	for _, c := range wanted {
		if f := way.File(c.Path); f != nil {
			start, line := f.OldLine(c.Start), f.OldLine(c.Line)
			if f.Old == "" || start == 0 || line < start {
				continue
			}
			c.Path, c.Start, c.Line = f.Old, start, line
		}
		there = append(there, c)
	}
	return there, nil
}
