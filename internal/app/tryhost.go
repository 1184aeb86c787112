package app

import (
	"cmp"
	"context"
	"slices"

	"zincdoor/internal/codehost"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
)

// TryHost does what a recipe can do without changing anything, and shows what it would send for the rest.
func TryHost(ctx context.Context, c Call, q HostRequest) (looks []codehost.Look, samples []codehost.Sample, err error) {
	repo, err := openIfAny(ctx, c.Dir)
	if err != nil {
		return nil, nil, err
	}
	if repo != nil {
		defer repo.Close()
	}
	read, err := ReadPolicy(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	recipe, err := findHost(c.Dir, q.Host, read.Policy, "", true)
	if err != nil {
		return nil, nil, err
	}
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
			samples = append(samples, codehost.Sample{Act: spec.Act, Call: call, Body: body})
		case slices.Contains(spec.Takes, "commit") && head == "":
		default:
			look := h.Look(ctx, spec.Act, head)
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
