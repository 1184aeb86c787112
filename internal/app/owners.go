package app

import (
	"context"
	"errors"
	"maps"
	"slices"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/git"
)

// NameOwners names who is to put findings of the verdict right where neither an entry nor a team says: whom git blames for the line
// that they stand on. Lines that no commit has yet are the caller's.
func (j *Judged) NameOwners(ctx context.Context, all []judge.Finding) error {
	open := map[string]map[int][]int{} // the findings without an owner, by file and line
	for i, f := range all {
		if f.Owner == "" && f.Path != "" && f.Region.Line > 0 && !f.Outside {
			if open[f.Path] == nil {
				open[f.Path] = map[int][]int{}
			}
			open[f.Path][f.Region.Line] = append(open[f.Path][f.Region.Line], i)
		}
	}
	if len(open) == 0 || j.side == "" {
		return nil
	}
	repo, err := git.Open(ctx, j.Dir)
	if errors.Is(err, git.ErrNoRepository) {
		return nil
	} else if err != nil {
		return err
	}
	defer repo.Close()
	for _, path := range slices.Sorted(maps.Keys(open)) {
		lines := open[path]
		blamed, err := repo.Blame(j.side, path, slices.Sorted(maps.Keys(lines)))
		if err != nil {
			blamed = nil // it isn't tracked yet
		}
		for line, these := range lines {
			owner := blamed[line].Author
			if owner == "" {
				owner = repo.UserName()
			}
			for _, i := range these {
				all[i].Owner = owner
			}
		}
	}
	return ctx.Err()
}
