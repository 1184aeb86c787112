package git

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Contents names the contents of a side's regular files, by path: two files of one name hold the same. In the work tree
// they are those that git tracks or that were included.
func (r *Repo) Contents(side Side) (map[string]string, error) {
	args := []string{"ls-files", "--stage", "--full-name", "-z"}
	stored := side != Index && side != Worktree
	if stored {
		args = []string{"ls-tree", "-r", "-z", "--full-tree", string(side)}
	}
	out, err := r.git(args...)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for entry := range strings.SplitSeq(string(out), "\x00") {
		about, path, _ := strings.Cut(entry, "\t")
		fields := strings.Fields(about) // mode, hash, stage; or mode, type, hash
		if len(fields) < 3 || !strings.HasPrefix(fields[0], "100") || !stored && fields[2] != "0" {
			continue
		}
		if all[path] = fields[1]; stored {
			all[path] = fields[2]
		}
	}
	if side == Worktree {
		err = r.overlay(all)
	}
	return all, err
}

// overlay puts in what differs between the index and the work tree.
func (r *Repo) overlay(all map[string]string) error {
	out, err := r.git("diff-files", "--name-only", "--ignore-submodules=all", "-z")
	if err != nil {
		return err
	}
	for path := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		if path == "" {
			continue
		}
		file := filepath.Join(r.Root, filepath.FromSlash(path))
		info, err := os.Lstat(file)
		if err != nil || !info.Mode().IsRegular() {
			delete(all, path)
			continue
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		all[path] = "text:" + hex.EncodeToString(sum[:])
	}
	return nil
}

// CheckOut writes files of the index or of a commit into an empty folder, as git writes them into a work tree. Paths
// limit it; nil means all files. Nothing of the repository or its work tree changes.
func (r *Repo) CheckOut(side Side, dir string, paths []string) error {
	env := append(r.environment(), "GIT_WORK_TREE="+dir)
	run := func(input []byte, args ...string) error {
		cmd := r.command(args...)
		cmd.Env, cmd.Stdin = env, bytes.NewReader(input)
		if out, err := cmd.CombinedOutput(); err != nil {
			return failure(args[0], err, string(out))
		}
		return nil
	}
	if side != Index {
		scratch, err := os.MkdirTemp(filepath.Dir(dir), "index-")
		if err != nil {
			return fmt.Errorf("no temporary folder can be made (TMPDIR names where): %w", err)
		}
		defer os.RemoveAll(scratch)
		env = append(env, "GIT_INDEX_FILE="+filepath.Join(scratch, "index"))
		if err := run(nil, "read-tree", string(side)); err != nil {
			return err
		}
	}
	if paths == nil {
		return run(nil, "checkout-index", "--quiet", "--all", "--ignore-skip-worktree-bits")
	}
	return run([]byte(strings.Join(paths, "\x00")+"\x00"), "checkout-index", "--quiet", "--stdin", "-z", "--ignore-skip-worktree-bits")
}

// Clean reports whether the work tree holds just what HEAD does, files aside that git ignores.
func (r *Repo) Clean() (bool, error) {
	if r.Bare {
		return false, nil
	}
	out, err := r.git("status", "--porcelain", "-z", "--untracked-files=normal", "--ignore-submodules=none")
	return len(out) == 0, err
}
