package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// history is a repository that random edits are made in. Its files hold many equal lines, so that a line's origin is
// often a matter of how two texts are aligned.
type history struct {
	*sandbox
	random *rand.Rand
	files  map[string][]string // by path: the lines as they are now
	serial int

	openEnds bool // one file in ten doesn't end in a line feed
}

var common = []string{"{", "}", "", "\treturn 0;", "\tbreak;", "\t}", "\tif (tide > datum) {", "# sill"}

func newHistory(t *testing.T, seed uint64) *history {
	h := &history{sandbox: repository(t), random: rand.New(rand.NewPCG(seed, 42)), files: map[string][]string{}}
	h.write(".git/info/exclude", "r.sarif\n")
	for i := range 5 {
		var text []string
		for range 20 + h.random.IntN(40) {
			text = append(text, h.line())
		}
		h.put(fmt.Sprintf("core/file%d.c", i), text)
	}
	h.write("counts.yaml", "zincdoor: 1\nplace: {whitespace: counts, moved: counts}\ndoors: {d: {limits: [{count: all, most: 9999}]}}\n")
	h.write("default.yaml", "zincdoor: 1\ndoors: {d: {limits: [{count: all, most: 9999}]}}\n")
	h.commit("base")
	return h
}

// line makes a line: one in three is common to many files and places, one in fifty isn't UTF-8.
func (h *history) line() string {
	h.serial++
	switch n := h.random.IntN(150); {
	case n < 50:
		return common[h.random.IntN(len(common))]
	case n < 53:
		return fmt.Sprintf("\t/* gr\xfcn %d */", h.serial)
	}
	return fmt.Sprintf("\t%s = %s(%d, %d);", words[h.random.IntN(len(words))], words[h.random.IntN(len(words))], h.random.IntN(9), h.serial)
}

func (h *history) put(path string, text []string) {
	h.files[path] = text
	end := "\n"
	if len(text) == 0 || h.openEnds && h.random.IntN(10) == 0 {
		end = ""
	}
	h.write(path, strings.Join(text, "\n")+end)
}

// pick chooses a file and a stretch of at least n of its lines.
func (h *history) pick(n int) (path string, from, to int) {
	for range 100 {
		paths := slices.Sorted(func(yield func(string) bool) {
			for p := range h.files {
				if !yield(p) {
					return
				}
			}
		})
		path = paths[h.random.IntN(len(paths))]
		if size := len(h.files[path]); size >= n+1 {
			from = h.random.IntN(size - n)
			return path, from, min(from+n+h.random.IntN(4), size)
		}
	}
	return path, 0, 0
}

// The plain edits: what they touch is what git's own blame says.
var plainEdits = []func(h *history){
	func(h *history) { // insert
		path, at, _ := h.pick(0)
		text := h.files[path]
		var fresh []string
		for range 1 + h.random.IntN(4) {
			fresh = append(fresh, h.line())
		}
		h.put(path, slices.Concat(text[:at], fresh, text[at:]))
	},
	func(h *history) { // delete
		path, from, to := h.pick(1)
		h.put(path, slices.Concat(h.files[path][:from], h.files[path][to:]))
	},
	func(h *history) { // edit
		path, from, to := h.pick(1)
		text := slices.Clone(h.files[path])
		for i := from; i < to; i++ {
			text[i] += " /* seen */"
		}
		h.put(path, text)
	},
	func(h *history) { // copy a stretch below itself
		path, from, to := h.pick(2)
		text := h.files[path]
		h.put(path, slices.Concat(text[:to], text[from:to], text[to:]))
	},
	func(h *history) { // rename
		path, _, _ := h.pick(8)
		to := fmt.Sprintf("fares/moved%d.c", h.serial)
		h.serial++
		os.Remove(filepath.Join(h.dir, path))
		text := h.files[path]
		delete(h.files, path)
		h.put(to, text)
	},
	func(h *history) { // a new file
		var text []string
		for range 3 + h.random.IntN(20) {
			text = append(text, h.line())
		}
		h.serial++
		h.put(fmt.Sprintf("boards/new%d.c", h.serial), text)
	},
	func(h *history) { // other line ends
		path, from, to := h.pick(1)
		text := slices.Clone(h.files[path])
		for i := from; i < to; i++ {
			text[i] = strings.TrimSuffix(text[i], "\r") + "\r"
		}
		h.put(path, text)
	},
	func(h *history) { // merge a branch that adds a line
		h.commit("before the branch")
		h.git("switch", "-q", "-c", fmt.Sprintf("side%d", h.serial))
		path, at, _ := h.pick(0)
		text := slices.Insert(slices.Clone(h.files[path]), at, h.line())
		h.put(path, text)
		h.commit("side")
		side := h.git("rev-parse", "HEAD")
		h.git("switch", "-q", "-")
		h.git("merge", "-q", "--no-ff", "-m", "merge", side)
	},
}

// everyLine writes a report with a finding on every line of every file.
func (h *history) everyLine() {
	var results strings.Builder
	for _, path := range slices.Sorted(func(yield func(string) bool) {
		for p := range h.files {
			if !yield(p) {
				return
			}
		}
	}) {
		for n := range h.files[path] {
			results.WriteString(sarifResult(path, n+1))
		}
	}
	h.write("r.sarif", sarifLog(strings.TrimPrefix(results.String(), ",")))
}

// touched judges the range by a policy and gives the touched lines as path:line.
func (h *history) touched(base, policy string) []string {
	h.Helper()
	v := h.judge("--range", base+"..HEAD", "--report", "r.sarif", "--policy", policy)
	var all []string
	for _, f := range v.Findings {
		if f.Place == "touched" {
			all = append(all, fmt.Sprintf("%s:%d", f.Path, f.Line))
		}
	}
	slices.Sort(all)
	return all
}

// blamed asks git's blame which lines come from the range. The range is squashed into one commit first, as a line may be
// changed and changed back.
func (h *history) blamed(base string) []string {
	h.Helper()
	squashed := h.git("commit-tree", "HEAD^{tree}", "-p", base, "-m", "squashed")
	var all []string
	for path := range h.files {
		n := 0
		for line := range strings.Lines(h.git("blame", "-s", "-l", "--root", squashed, "--", path) + "\n") {
			if strings.TrimSpace(line) == "" {
				continue
			}
			n++
			if strings.HasPrefix(line, squashed) {
				all = append(all, fmt.Sprintf("%s:%d", path, n))
			}
		}
	}
	slices.Sort(all)
	return all
}

// lineAt is the line that path:line names.
func (h *history) lineAt(at string) string {
	path, number, _ := strings.Cut(at, ":")
	n, _ := strconv.Atoi(number)
	return h.files[path][n-1]
}

func difference(a, b []string) (only []string) {
	for _, s := range a {
		if !slices.Contains(b, s) {
			only = append(only, s)
		}
	}
	return only
}

func rounds(t *testing.T) uint64 {
	if testing.Short() {
		return 4
	}
	return 25
}

// TestBlame holds the touched lines of random histories against git's blame: for plain edits, and with white space and
// moved blocks counted, they are the same.
func TestBlame(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	for seed := range rounds(t) {
		h := newHistory(t, seed)
		h.openEnds = true
		base := h.git("rev-parse", "HEAD")
		for range 1 + h.random.IntN(8) {
			plainEdits[h.random.IntN(len(plainEdits))](h)
		}
		h.commit("head")
		h.everyLine()
		ours, theirs := h.touched(base, "counts.yaml"), h.blamed(base)
		if !slices.Equal(ours, theirs) {
			t.Errorf("seed %d: touched but not blamed %v, blamed but not touched %v", seed, difference(ours, theirs), difference(theirs, ours))
		}
		if more := difference(h.touched(base, "default.yaml"), ours); len(more) > 0 {
			t.Errorf("seed %d: touched only where white space and moves don't count: %v", seed, more)
		}
	}
}

// TestRulesBeyondBlame checks what is left untouched on purpose by what was done: nothing but white space changed, or
// nothing but the place of a block.
func TestRulesBeyondBlame(t *testing.T) {
	wholeRun(t)
	t.Parallel()
	for seed := range rounds(t) {
		h := newHistory(t, 1000+seed)
		base := h.git("rev-parse", "HEAD")
		path, from, to := h.pick(6)
		text := slices.Clone(h.files[path])
		for i := from; i < to; i++ {
			if strings.TrimSpace(text[i]) != "" {
				text[i] = "    " + text[i] + strings.Repeat(" ", h.random.IntN(3))
			}
		}
		h.put(path, text)
		h.commit("re-indented")
		h.everyLine()
		if got := h.touched(base, "default.yaml"); len(got) > 0 {
			t.Errorf("seed %d: re-indented lines %d to %d of %s, and touched are %v", seed, from+1, to, path, got)
		}

		h = newHistory(t, 2000+seed)
		base = h.git("rev-parse", "HEAD")
		path, at, _ := h.pick(0)
		block := []string{"static int sill_of(int ramp)", "{", fmt.Sprintf("\treturn datum[ramp] - %d;", seed), "}"}
		text = h.files[path]
		h.put(path, slices.Concat(text[:at], block, text[at:]))
		h.commit("with the block")
		base = h.git("rev-parse", "HEAD")
		h.put(path, text)
		other, to, _ := h.pick(0)
		moved := slices.Clone(block)
		if seed%2 == 0 {
			for i := range moved {
				moved[i] = "  " + moved[i]
			}
		}
		text = h.files[other]
		h.put(other, slices.Concat(text[:to], moved, text[to:]))
		h.commit("moved")
		h.everyLine()
		got := h.touched(base, "default.yaml")
		if path == other { // over a short way, what lies between moved just as well
			got = slices.DeleteFunc(got, func(at string) bool {
				return !slices.ContainsFunc(block, func(line string) bool { return strings.Contains(h.lineAt(at), line) && len(line) > 2 })
			})
		}
		if len(got) > 0 {
			t.Errorf("seed %d: moved a block from %s:%d to %s:%d, and touched are %v", seed, path, at+1, other, to+1, got)
		}
	}
}

// TestBlameOnRealVersions does the same on the versions of a real module: ZINCDOOR_VERSIONS names a folder that holds a
// folder for each, in the order of their names.
func TestBlameOnRealVersions(t *testing.T) {
	t.Parallel()
	dir := os.Getenv("ZINCDOOR_VERSIONS")
	if dir == "" {
		t.Skip("ZINCDOOR_VERSIONS names no folder")
	}
	versions, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	h := newHistory(t, 1)
	for i, version := range versions {
		for path := range h.files {
			os.Remove(filepath.Join(h.dir, path))
		}
		clear(h.files)
		root := filepath.Join(dir, version.Name())
		err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			data, err := os.ReadFile(path)
			name, _ := filepath.Rel(root, path)
			if err != nil || strings.ContainsRune(string(data), 0) || len(data) == 0 {
				return err
			}
			h.write(name, string(data))
			h.files[name] = strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		h.commit(version.Name())
		if i == 0 {
			continue
		}
		h.everyLine()
		base := h.git("rev-parse", "HEAD~")
		ours, theirs := h.touched(base, "counts.yaml"), h.blamed(base)
		t.Logf("%s: %d files, %d touched lines", version.Name(), len(h.files), len(ours))
		if !slices.Equal(ours, theirs) {
			t.Errorf("%s: touched but not blamed %v, blamed but not touched %v", version.Name(), difference(ours, theirs), difference(theirs, ours))
		}
	}
}
