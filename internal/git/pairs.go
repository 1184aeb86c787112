package git

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"zincdoor/internal/core/change"
	"zincdoor/internal/process"
)

// pair is the contents of one file on both sides, by their hashes; "" where a side has none.
type pair struct {
	index    int // the file's, in the list of the comparison
	old, new string
}

// How many pairs one git process is given at least, how many stretches there are at most, and how many processes share these: which of
// them takes long nobody knows beforehand.
const (
	pairsAtLeast = 100
	stretches    = 6
	sharing      = 2
)

// diffPairs gives the diff of each pair, in any order. Git compares trees, not pairs, and finding a few hundred paths in large trees
// costs it more than their lines; so the pairs are laid out as two small trees, in a store of our own that borrows
// the repository's contents. Names there are the pairs' numbers, so that no attribute of a path has a say.
func (r *Repo) diffPairs(pairs []pair, flags ...string) ([]change.File, error) {
	chunks := make([][]pair, max(1, min(len(pairs)/pairsAtLeast, stretches)))
	for i, p := range pairs { // in turn, since the large files of a folder follow one another
		chunks[i%len(chunks)] = append(chunks[i%len(chunks)], p)
	}
	trees, env, err := r.layOut(chunks)
	if err != nil {
		return nil, err
	}
	files := make([][]change.File, len(chunks))
	var group errgroup.Group
	group.SetLimit(sharing)
	for i := range chunks {
		group.Go(func() error {
			args := append(append([]string{"diff-tree", "-r"}, diffFlags...), "--no-renames")
			args = append(append(args, patchFlags...), flags...)
			cmd := r.command(append(args, trees[2*i], trees[2*i+1])...)
			cmd.Env = env
			_, err := streamCommand(cmd, func(out io.Reader) (err error) {
				files[i], err = change.ReadUnified(out)
				return err
			})
			return err
		})
	}
	err = group.Wait()
	return slices.Concat(files...), err
}

// layOut makes two trees of each chunk, its old and its new side, and returns the environment in which git finds them.
func (r *Repo) layOut(chunks [][]pair) (trees, env []string, err error) {
	if env, err = r.ownStore(); err != nil {
		return nil, nil, err
	}
	var list strings.Builder
	for _, chunk := range chunks {
		for _, p := range chunk {
			writeEntry(&list, p.index, p.old)
		}
		list.WriteByte('\n') // which ends a tree, an empty one too
		for _, p := range chunk {
			writeEntry(&list, p.index, p.new)
		}
		list.WriteByte('\n')
	}
	cmd := r.command("mktree", "--missing", "--batch")
	cmd.Env, cmd.Stdin = env, strings.NewReader(list.String())
	out, complaint, err := process.Output(cmd)
	if err != nil {
		return nil, nil, failure("mktree", err, string(complaint))
	}
	if trees = strings.Fields(string(out)); len(trees) != 2*len(chunks) {
		return nil, nil, fmt.Errorf("git mktree made %d trees of %d", len(trees), 2*len(chunks))
	}
	return trees, env, nil
}

// ownStore is the environment in which git writes objects to a store of our own, which borrows the repository's.
func (r *Repo) ownStore() (env []string, err error) {
	scratch, err := r.scratchDir()
	if err != nil {
		return nil, err
	}
	store := filepath.Join(scratch, "objects")
	if err := os.MkdirAll(store, 0o700); err != nil {
		return nil, err
	}
	borrowed := quoteAlternate(r.objects)
	for _, name := range r.environment() {
		if more, ok := strings.CutPrefix(name, alternates+"="); ok && more != "" {
			borrowed += string(os.PathListSeparator) + more
		}
	}
	return append(r.environment(), "GIT_OBJECT_DIRECTORY="+store, alternates+"="+borrowed), nil
}

// readOwnStore lets git read from now on what was written in an environment of our own store.
func (r *Repo) readOwnStore(env []string) {
	store, borrowed := "", ""
	for _, name := range env {
		if path, ok := strings.CutPrefix(name, "GIT_OBJECT_DIRECTORY="); ok {
			store = path
		}
	}
	for _, name := range r.environment() {
		if path, ok := strings.CutPrefix(name, alternates+"="); ok && path != "" {
			borrowed = path + string(os.PathListSeparator)
		}
	}
	r.addToEnvironment(alternates + "=" + borrowed + quoteAlternate(store))
}

// alternates is the variable that names further stores of contents.
const alternates = "GIT_ALTERNATE_OBJECT_DIRECTORIES"

// quoteAlternate writes a path so that git takes it for one even if it holds what separates paths.
func quoteAlternate(path string) string {
	if !strings.ContainsRune(path, os.PathListSeparator) && !strings.HasPrefix(path, `"`) {
		return path
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(path) + `"`
}

func writeEntry(list *strings.Builder, index int, object string) {
	if strings.Trim(object, "0") != "" {
		fmt.Fprintf(list, "100644 blob %s\t%08d\n", object, index)
	}
}

// pairIndex reads a pair's number back from its name.
func pairIndex(f change.File) (int, error) { return strconv.Atoi(f.Path) }
