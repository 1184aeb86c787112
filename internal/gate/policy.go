package gate

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// PolicyFile is a policy with the files it speaks of.
type PolicyFile struct {
	Policy  *policy.Policy
	Text    policy.Text // as it is written
	BuiltIn bool        // the folder has none of its own
	Files   []string    // of the work tree; nil where there is none

	// Seen are findings of the policy's reports and those of the call, as far as these can be read, and what the baseline
	// accepts: no more of them than tool, rule and traits.
	Seen []finding.Finding
}

// OpenPolicy reads the policy that q names, else that of the work tree or folder, else the built-in one. With look it
// looks through reports and baseline too.
func OpenPolicy(ctx context.Context, q Request, look bool) (*PolicyFile, error) {
	s, err := folderScene(ctx, q)
	if err != nil {
		return nil, err
	}
	defer s.close()
	file := &PolicyFile{}
	lib := library{scene: s, side: git.Worktree, name: "the work tree", request: q}
	if q.Policy != "" {
		file.Text, err = s.namedPolicy(q)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			err = wrongCall("there is no file %s", q.Policy)
		case err != nil:
			err = wrongCall("the policy can't be read: %v", err)
		}
	} else {
		var found bool
		var data []byte
		if data, found, err = s.plainAt(git.Worktree, policy.Path); found {
			file.Text = lib.text(policy.Path, data)
		} else {
			file.Text, file.BuiltIn = policy.Text{Name: "built-in policy", Data: policy.BuiltinText()}, true
		}
		if errors.Is(err, git.ErrLink) {
			err = wrongCall("%v", err)
		}
	}
	if err != nil {
		return nil, err
	}
	if s.repo != nil && !s.repo.Bare {
		if file.Files, err = s.head.Paths(); err != nil {
			return nil, err
		}
	}
	if file.Policy, err = policy.Read(file.Text); err != nil || !look {
		return file, err
	}
	file.Seen, err = s.seen(q, file.Policy)
	return file, err
}

// seen looks through the reports and the baseline for what rules there are.
func (s *scene) seen(q Request, p *policy.Policy) (all []finding.Finding, err error) {
	r := &rules{policy: p}
	sources, err := s.sources(q, r)
	if err != nil {
		return nil, err
	}
	w := &witness{scene: s, request: q, rules: r}
	for _, from := range sources {
		if from.runs {
			continue
		}
		if t := w.read(from); t.report != nil {
			for _, f := range t.report.Findings {
				all = append(all, finding.Finding{Tool: cmp.Or(f.Tool, t.toolName()), Rule: f.Rule, Traits: f.Traits})
			}
		}
	}
	data, found, err := s.plainAt(git.Worktree, p.Baseline)
	if err != nil || !found {
		return all, nil // which the gate tells of
	}
	if b, err := baselinefile.Read(bytes.NewReader(data)); err == nil {
		for _, e := range b.Entries {
			all = append(all, finding.Finding{Tool: e.Tool, Rule: e.Rule})
		}
	}
	return all, nil
}

// folderScene opens the work tree that the call is made in, or the folder where there is none.
func folderScene(ctx context.Context, q Request) (*scene, error) {
	repo, err := git.Open(ctx, q.Dir)
	switch {
	case err == nil && !repo.Bare:
		return newScene(repo, Request{Change: Selection{Kind: policy.Tree}})
	case err != nil && !errors.Is(err, git.ErrNoRepository):
		return nil, err
	case err != nil:
		repo = nil
	}
	head, err := openFolder(q.Dir, nil)
	return &scene{repo: repo, root: q.Dir, head: head, side: git.Worktree}, err
}
