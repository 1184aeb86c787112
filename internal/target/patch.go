package target

import (
	"fmt"
	"io"
	"os"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/memory"
)

// The bounds of a patch: how long it may be, where there is memory for it. Reading takes time in proportion to its length.
const (
	mostPatch = 256 << 20 // bytes
	patchPart = 24        // of the memory there is
)

// OfPatch reads a diff, from a file or from in where it is named "-", in place of asking a repository for one. There may
// be no repository. Where the folder's own policy and baseline don't judge, the patch may alter them.
func OfPatch(repo *git.Repo, dir, file string, in io.Reader, judgedByOthers bool) (*Target, error) {
	t := &Target{Kind: policy.Range, IsPatch: true, Root: dir, Subject: judge.Subject{Kind: "patch"}}
	if repo != nil && !repo.Bare {
		t.Repo, t.Root, t.Folder = repo, repo.Root, repo.Prefix
	}
	if file != "-" {
		f, err := os.Open(InDir(dir, file))
		if err != nil {
			return nil, fmt.Errorf("the patch can't be read: %w", err)
		}
		defer f.Close()
		in = f
	}
	var err error
	if t.Patch, err = change.ReadUnified(memory.Limit(in, memory.Share(mostPatch, patchPart))); err != nil {
		return nil, fmt.Errorf("%s: %w", FileName(file), err)
	}
	if len(t.Patch) == 0 {
		return nil, fmt.Errorf("%s: the patch is empty, so there is nothing to judge; check the program that makes it", FileName(file))
	}
	root, err := os.OpenRoot(t.Root)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var notices []string
	if t.Patch, notices, err = placePatch(root.FS(), t.Patch); err != nil {
		return nil, fmt.Errorf("%s: %w", FileName(file), err)
	}
	t.Notices = append(t.Notices, notices...)
	folder, err := openFolder(t.Root, t.Patch)
	if err != nil {
		return nil, err
	}
	t.Tree = folder
	t.Notices = append(t.Notices, folder.notices()...)
	t.PolicyAt, t.BaselineAt = []State{{Side: git.Worktree, Name: "the folder"}}, []git.Side{git.Worktree}
	t.Subject.Files = len(t.Patch)
	if judgedByOthers {
		return t, nil
	}
	for _, f := range t.Patch {
		if strings.HasPrefix(f.Path, policy.Folder+"/") || strings.HasPrefix(f.Old, policy.Folder+"/") {
			t.Close()
			return nil, fmt.Errorf("the patch changes %s, so name the policy and baseline to use: --policy and --baseline", f.Path)
		}
	}
	return t, nil
}
