package app

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"zincdoor/internal/codehost"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
	"zincdoor/internal/git"
)

// HostLook is what an act that only reads gave.
type HostLook struct {
	codehost.Traced
	Fields []codehost.Field
	Things int
	Lists  bool
	Pages  int
	Err    error
}

// HostSample is a call that changes something, as it would be sent.
type HostSample struct {
	Act        policy.HostAct
	Call, Body string
}

// TryHost does what a recipe can do without changing anything, and shows what it would send for the rest.
func TryHost(ctx context.Context, c Call, q HostRequest) (looks []HostLook, samples []HostSample, err error) {
	repo, err := git.Open(ctx, c.Dir)
	switch {
	case err == nil:
		defer repo.Close()
	case errors.Is(err, git.ErrNoRepository):
		repo = nil
	default:
		return nil, nil, err
	}
	read, err := ReadPolicy(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	recipe, err := findHost(c.Dir, q.Host, read.Policy, "", true)
	if err != nil {
		return nil, nil, err
	}
	var traced []codehost.Traced
	q.Settings.Trace = func(t codehost.Traced) { traced = append(traced, t) }
	h, err := openHost(recipe, q, repo, "merge", "https://boards.example/verdict")
	if err != nil {
		return nil, nil, err
	}
	defer h.Close()
	head := ""
	for _, spec := range policy.HostActs {
		switch {
		case !recipe.Does(spec.Act):
		case spec.Writes:
			call, body := h.Sample(sampleOf(spec.Act, head))
			samples = append(samples, HostSample{spec.Act, call, body})
		case slices.Contains(spec.Takes, "commit") && head == "":
		default:
			traced = nil
			look := HostLook{Lists: spec.Lists}
			look.Fields, look.Things, look.Err = h.Look(ctx, spec.Act, head)
			if look.Act = spec.Act; len(traced) > 0 {
				look.Traced, look.Pages = traced[len(traced)-1], len(traced)
			}
			looks = append(looks, look)
			for _, f := range look.Fields {
				if spec.Act == policy.ReadPull && f.Name == "head" {
					if head = f.Value; look.Err == nil {
						h.SetHead(head)
					}
				}
			}
		}
	}
	return looks, samples, nil
}

// sampleOf is an act with made-up values.
func sampleOf(act policy.HostAct, head string) review.Act {
	return review.Act{
		Kind: act, ID: "1", Thread: "1", Text: "TEXT", Path: "core/tide.c", Start: 40, Line: 41, Commit: cmp.Or(head, "HEAD"), Key: "KEY",
		Status: "zincdoor merge", Outcome: judge.Shut, Link: "https://boards.example/verdict",
	}
}
