package app

import (
	"context"
	"slices"
	"strings"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// Explain explains a rule, or the finding that the beginning of an id names, by what the work tree's reports have.
func Explain(ctx context.Context, q GateRequest, name string) (*judge.Explanation, *Judged, error) {
	q.Change = target.Name{Kind: policy.Tree}
	all, err := List(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	j := all[0]
	e, err := j.Verdict.Explain(name, j.Input.Policy, j)
	switch {
	case err != nil:
		return nil, nil, target.WrongCall("%v", err)
	case e == nil:
		return nil, nil, unknownRule(name, j)
	}
	return e, j, nil
}

func unknownRule(name string, j *Judged) error {
	rules := j.RuleNames()
	for i := range j.Findings {
		rules = append(rules, j.Findings[i].Rule)
	}
	slices.Sort(rules)
	rules = slices.DeleteFunc(slices.Compact(rules), func(s string) bool { return s == "" })
	if nearest := policyfile.Nearest(name, rules); nearest != "" {
		return target.WrongCall("no rule and no finding is called %q; did you mean %s?", name, nearest)
	}
	if len(rules) == 0 {
		return target.WrongCall("no rule and no finding is called %q, and there is no report to look in, e.g. --report FILE", name)
	}
	return target.WrongCall("no rule and no finding is called %q; the reports here have %s", name, strings.Join(rules[:min(len(rules), 10)], ", "))
}
