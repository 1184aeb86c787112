// Package app knows what a user can do, a function for each thing: judge a change, list and explain findings, keep the list
// of accepted ones, fix, rehearse a policy. It leads values through target, authority, evidence and the core, and prints
// nothing.
package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/authority"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/source"
	"zincdoor/internal/evidence"
	"zincdoor/internal/fit"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// ErrCall is the error of a call that makes no sense as it stands, as opposed to one that can't be answered. So is a
// policyfile.Problems.
var ErrCall = target.ErrCall

// Said is what an error says to people: that a call is wrong they see by what it says.
func Said(err error) string { return strings.TrimPrefix(err.Error(), ErrCall.Error()+": ") }

// Call is where and when a call is made, and what it puts in the place of what counts.
type Call struct {
	Dir      string // where the call is made
	Today    string // YYYY-MM-DD, UTC
	Policy   string // FILE or REV:PATH in place of the policy that counts
	Baseline string // the same for the baseline
	Run      bool   // the programs that the policy names may be started

	// Within are the repositories, as policies name them, from which policies may be inherited: no others, and nothing else outside of the
	// repository. It is nil where a call has no such bounds.
	Within []string
}

func (c Call) overrides() authority.Overrides {
	return authority.Overrides{Dir: c.Dir, Policy: c.Policy, Baseline: c.Baseline, Run: c.Run, Fitted: fittedHere, Within: c.Within}
}

// fittedHere reports whether a policy is one that was fitted into a repository.
func fittedHere(repo *git.Repo, digest string) bool {
	return fit.WrotePolicy(repo.CommonDir(), digest)
}

// Reports are the reports of a call.
type Reports struct {
	evidence.Given
	Base  []evidence.File // of the state before the change
	Fresh bool            // linters are asked anew, whatever they answered before
}

// Judged is a verdict with what it was made of, and the texts to show it with.
type Judged struct {
	judge.Verdict
	Input  judge.Input
	Policy *policyfile.File
	Dir    string // where the call was made
	Root   string // of the judged tree on this machine

	// Refused says why none of the policy's linters may be started to fix something, "" where they may or there is none.
	Refused string
	side    git.Side // that was judged; "" for a patch
	trusted git.Side // that has the linters' own files, "" where they are the judged state's

	texts      map[string]*source.Text
	sealable   *sealable   // what sealing it needs; nil for what can't be sealed
	unrecorded *unrecorded // the record of it, until it is put in; nil for none

	rules map[string]map[string]finding.Rule // what tools say of their rules, by report and rule
}

// Text is the text of a file that a finding stands in, nil where it isn't known.
func (j *Judged) Text(path string) *source.Text { return j.texts[path] }

// Touched reports whether a line of the judged state is one that the change adds or modifies.
func (j *Judged) Touched(path string, line int) bool { return touches(j.Input.Change, path, line) }

// TouchedWithSpace reports whether a line differs from the one before the change in anything, white space included.
func (j *Judged) TouchedWithSpace(path string, line int) bool {
	return j.Touched(path, line) || j.Input.Spaced != nil && touches(j.Input.Spaced, path, line)
}

func touches(c *change.Change, path string, line int) bool {
	return c.Place(path, finding.Region{Line: line}, true) == change.OnTouched
}

// Rule gives what a finding's tool says of its rule: of one with a name like a/b/c, else of a/b, else of a (SARIF 2.1.0,
// 3.52.4).
func (j *Judged) Rule(f *finding.Finding) (finding.Rule, bool) {
	for _, source := range f.Sources {
		for name := f.Rule; name != ""; name = name[:max(strings.LastIndexByte(name, '/'), 0)] {
			if rule, ok := j.rules[source][name]; ok {
				return rule, true
			}
		}
	}
	return finding.Rule{}, false
}

// GradedAt is where one of the policy's severities is set, by its index; "" below 0.
func (j *Judged) GradedAt(severity int) string {
	if severity < 0 {
		return ""
	}
	return j.Policy.Severities[severity].At.String()
}

// RuleNamed gives what some tool says of a rule, and the tool's report, whether or not it found anything.
func (j *Judged) RuleNamed(name string) (rule finding.Rule, source string, ok bool) {
	for _, source := range slices.Sorted(maps.Keys(j.rules)) {
		if rule, ok := j.rules[source][name]; ok {
			return rule, source, true
		}
	}
	return finding.Rule{}, "", false
}

// RuleNames lists the rules that the reports describe.
func (j *Judged) RuleNames() (all []string) {
	for _, rules := range j.rules {
		all = slices.AppendSeq(all, maps.Keys(rules))
	}
	return all
}

// open finds the repository that a call is made in. It must be closed.
func open(ctx context.Context, dir string) (*git.Repo, error) {
	repo, err := git.Open(ctx, dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, fmt.Errorf("%w: run zincdoor inside a repository, or judge a diff: --patch FILE", err)
	}
	return repo, err
}

// openIfAny finds the repository that a call is made in, nil where there is none. One must be closed.
func openIfAny(ctx context.Context, dir string) (*git.Repo, error) {
	repo, err := git.Open(ctx, dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil, nil
	}
	return repo, err
}

// collecting is the request for evidence by an authority.
func collecting(t *target.Target, a *authority.Authority, call Call, reports Reports, tell func(lint.Step)) evidence.Request {
	return evidence.Request{
		Target: t, Policy: a.Policy.Policy, Door: a.Door, Given: reports.Given, BuiltIn: a.Origin.From == authority.BuiltIn,
		Trusted: a.Trusted(t), Depends: digestsOf(a), Refusal: func() string { return a.Refusal(t, call.overrides()) }, Fresh: reports.Fresh, Tell: tell,
	}
}

// digestsOf are the digests of the policy and of all that it inherits.
func digestsOf(a *authority.Authority) string {
	all := []string{a.Origin.Digest}
	for _, i := range a.Origin.Inherits {
		all = append(all, i.Digest)
	}
	return strings.Join(all, " ")
}
