package gate

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// patchScene reads a diff in place of asking a repository for one.
func patchScene(repo *git.Repo, q Request) (s *scene, err error) {
	s = &scene{kind: policy.Range, patch: true, root: q.Dir, subject: judge.Subject{Kind: "patch"}}
	if repo != nil && !repo.Bare {
		s.repo, s.root, s.folder = repo, repo.Root, repo.Prefix
	}
	in := q.Stdin
	if q.Change.Patch != "-" {
		f, err := os.Open(inDir(q.Dir, q.Change.Patch))
		if err != nil {
			return nil, fmt.Errorf("the patch can't be read: %w", err)
		}
		defer f.Close()
		in = f
	}
	if s.files, err = change.ReadUnified(in); err != nil {
		return nil, fmt.Errorf("%s: %w", nameOf(q.Change.Patch), err)
	}
	folder, err := openFolder(s.root, s.files)
	if err != nil {
		return nil, err
	}
	s.head = folder
	s.notices = append(s.notices, folder.notices()...)
	s.authorities, s.baselineAt = []authority{{side: git.Worktree, name: "the folder"}}, []git.Side{git.Worktree}
	s.subject.Files = len(s.files)
	if q.Policy == "" || q.Baseline == "" {
		for _, f := range s.files {
			if strings.HasPrefix(f.Path, policy.Folder+"/") || strings.HasPrefix(f.Old, policy.Folder+"/") {
				return nil, fmt.Errorf("the patch changes %s, so the folder's own can't judge it; name the ones that count with --policy and --baseline", f.Path)
			}
		}
	}
	return s, nil
}

// nameOf is a file's name in messages.
func nameOf(file string) string {
	if file == "-" {
		return "standard input"
	}
	return file
}

// inDir is the path of a file named in a call made in dir.
func inDir(dir, file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(dir, file)
}
