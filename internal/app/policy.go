package app

import (
	"context"
	"errors"
	"io/fs"

	"zincdoor/internal/authority"
	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/measuring"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// PolicyRead is a policy as it was read, and the text of its file.
type PolicyRead struct {
	*policyfile.File
	Text    policyfile.Text
	BuiltIn bool // the folder has none of its own
}

// ReadPolicy reads the policy that the call names, else that of the work tree or folder, else the built-in one.
func ReadPolicy(ctx context.Context, c Call) (*PolicyRead, error) {
	t, err := target.InFolder(ctx, c.Dir)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	return readPolicy(t, c)
}

func readPolicy(t *target.Target, c Call) (*PolicyRead, error) {
	t.PolicyAt = []target.State{{Side: git.Worktree, Name: "the work tree"}}
	text, builtIn, err := authority.Text(t, c.overrides())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, target.WrongCall("there is no file %s", c.Policy)
	case errors.Is(err, git.ErrLink):
		return nil, target.WrongCall("%v", err)
	case err != nil && c.Policy != "":
		return nil, target.WrongCall("the policy can't be read: %v", err)
	case err != nil:
		return nil, err
	}
	file, err := policyfile.Read(text)
	return &PolicyRead{File: file, Text: text, BuiltIn: builtIn}, err
}

// CheckPolicy reads a policy as ReadPolicy does, and finds what of it can never matter: in the work tree's files, and by
// what the policy's reports and those of the call, as far as these can be read, and the baseline have.
func CheckPolicy(ctx context.Context, c Call, given evidence.Given) (*PolicyRead, policyfile.Problems, error) {
	t, err := target.InFolder(ctx, c.Dir)
	if err != nil {
		return nil, nil, err
	}
	defer t.Close()
	var files []string
	if t.Repo != nil && !t.Repo.Bare {
		if files, err = t.Tree.Paths(); err != nil {
			return nil, nil, err
		}
	}
	read, err := readPolicy(t, c)
	if err != nil || read.BuiltIn {
		return read, nil, err
	}
	seen, err := evidence.Rules(ctx, evidence.Request{Target: t, Policy: read.Policy, Given: given, Refusal: func() string { return (&authority.Authority{}).Refusal(t, c.overrides()) }})
	if err != nil {
		return read, nil, err
	}
	seen = append(seen, acceptedRules(t, read.Policy.Baseline)...)
	if len(seen) > 0 { // else nothing is known of the tools' rules
		seen = append(seen, ownRules(read.Policy)...)
	}
	return read, read.Idle(files, seen), nil
}

// ownRules are the rules of findings of our own that a policy can lead to.
func ownRules(p *policy.Policy) []finding.Finding {
	all := []finding.Finding{{Tool: waiver.Tool, Rule: waiver.Rule}}
	for _, s := range p.House {
		all = append(all, finding.Finding{Tool: house.Tool, Rule: s.Name})
	}
	for rule := range measuring.Rules() {
		all = append(all, finding.Finding{Tool: measure.Tool, Rule: rule})
	}
	return all
}

// CheckTypedPolicy reads a work tree's policy as somebody types it. Nothing is looked up but what it inherits. The error is a
// policyfile.Problems where the text is wrong.
func CheckTypedPolicy(ctx context.Context, c Call, data []byte) (*policyfile.File, error) {
	t, err := target.InFolder(ctx, c.Dir)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	return policyfile.Read(authority.Typed(t, c.overrides(), data))
}

// acceptedRules are the rules of a work tree's baseline, as findings of them; none where it can't be read, which the gate
// reports.
func acceptedRules(t *target.Target, path string) (all []finding.Finding) {
	data, found, err := t.Plain(git.Worktree, path)
	if err != nil || !found {
		return nil
	}
	b, err := baselinefile.Read(data)
	if err != nil {
		return nil
	}
	for _, e := range b.Entries {
		all = append(all, finding.Finding{Tool: e.Tool, Rule: e.Rule})
	}
	return all
}
