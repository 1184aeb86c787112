package main

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// estuaries is a clone in which several branches are worked on at random, and the bare repository that they are pushed to. Lines
// with the word fault and a number are what is found.
type estuaries struct {
	*sandbox
	bare   *sandbox
	random *rand.Rand
	serial int
}

var branches = []string{"north", "south", "ferry"}

func newEstuaries(t *testing.T, seed uint64) *estuaries {
	bare, clone := server(t, "")
	e := &estuaries{sandbox: clone, bare: bare, random: rand.New(rand.NewPCG(seed, 7))}
	for i := range 3 {
		var text []string
		for range 12 + e.random.IntN(10) {
			text = append(text, e.line())
		}
		e.write(fmt.Sprintf("core/file%d.c", i), strings.Join(text, "\n")+"\n")
	}
	e.commit("base")
	e.git("push", "-q", "origin", "HEAD:main")
	for _, b := range branches {
		e.git("branch", b)
	}
	return e
}

// line is one of a file: one in six is a fault, one in three is common to many places.
func (e *estuaries) line() string {
	e.serial++
	switch n := e.random.IntN(6); {
	case n < 2:
		return common[e.random.IntN(len(common))]
	case n == 2:
		return fmt.Sprintf("\tfault %d;", e.serial)
	}
	return fmt.Sprintf("\ttide[%d] = %d;", e.random.IntN(9), e.serial)
}

// edit alters a stretch of a file, or renames one.
func (e *estuaries) edit() {
	files, _ := filepath.Glob(filepath.Join(e.dir, "core", "*.c"))
	if len(files) == 0 {
		return
	}
	name := files[e.random.IntN(len(files))]
	data, _ := os.ReadFile(name)
	text := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	at := e.random.IntN(len(text) + 1)
	to := min(at+e.random.IntN(3), len(text))
	switch e.random.IntN(6) {
	case 0, 1:
		text = slices.Insert(text, at, e.line())
	case 2:
		text = slices.Delete(text, at, to)
	case 3:
		for i := at; i < to; i++ {
			text[i] = e.line()
		}
	case 4:
		text = slices.Insert(text, to, text[at:to]...)
	case 5:
		if e.random.IntN(4) == 0 {
			e.serial++
			os.Remove(name)
			name = filepath.Join(e.dir, "core", fmt.Sprintf("moved%d.c", e.serial))
		}
	}
	if err := os.WriteFile(name, []byte(strings.Join(text, "\n")+"\n"), 0o644); err != nil {
		e.Fatal(err)
	}
}

// try runs git, which may fail, and reports whether it didn't.
func (e *estuaries) try(args ...string) bool {
	cmd := exec.Command("git", append([]string{"-C", e.dir}, args...)...)
	cmd.Env = e.environment()
	return cmd.Run() == nil
}

// settle ends what is going on by taking one side of each conflict, whole.
func (e *estuaries) level() {
	for _, path := range strings.Fields(e.git("diff", "--name-only", "--diff-filter=U")) {
		side := []string{"--ours", "--theirs"}[e.random.IntN(2)]
		if !e.try("checkout", side, "--", path) {
			os.Remove(filepath.Join(e.dir, path))
		}
	}
	e.git("add", "-A")
}

// step does something at random on one of the branches.
func (e *estuaries) step() {
	e.git("switch", "-q", branches[e.random.IntN(len(branches))])
	other := append(slices.Clone(branches), "origin/main")[e.random.IntN(len(branches)+1)]
	switch e.random.IntN(8) {
	case 0, 1, 2:
		for range 1 + e.random.IntN(3) {
			e.edit()
		}
	case 3: // a merge, be it clean or settled, and sometimes with more than is merged
		e.try("merge", "-q", "--no-ff", "--no-commit", other)
		e.level()
		if e.random.IntN(3) == 0 {
			e.edit()
		}
	case 4:
		e.try("merge", "-q", "-s", "ours", "--no-edit", other)
		return
	case 5: // a merge with what went before as its second parent, and the tree of either
		all := strings.Fields(e.git("rev-list", "-20", "--all"))
		old := all[e.random.IntN(len(all))]
		if old == e.git("rev-parse", "HEAD") {
			return
		}
		tree := []string{"HEAD", old}[e.random.IntN(2)]
		e.git("reset", "-q", "--hard", e.git("commit-tree", "-m", "evil", "-p", "HEAD", "-p", old, tree+"^{tree}"))
		return
	case 6:
		all := strings.Fields(e.git("rev-list", "-20", "--no-merges", "--all"))
		e.try([]string{"cherry-pick", "revert"}[e.random.IntN(2)], "--no-commit", all[e.random.IntN(len(all))])
		e.level()
	case 7:
		e.try("push", "-q", "--force", "origin", "HEAD")
		return
	}
	e.git("add", "-A")
	e.try("commit", "-q", "--allow-empty", "-m", "step")
	e.try("reset", "-q", "--hard")
}

var faultForm = regexp.MustCompile(`(?m)^[^:]+:(core/[^:]+):(\d+):\s*(fault \d+);`)

// faults are what is found in a commit of the bare repository: how often each, by its line, and as a report.
func (e *estuaries) faults(commit string) (all map[string]int, at map[string]string, report string) {
	cmd := exec.Command("git", "-C", e.bare.dir, "grep", "-n", "fault", commit)
	cmd.Env = e.environment()
	out, _ := cmd.Output()
	all, at = map[string]int{}, map[string]string{}
	for _, m := range faultForm.FindAllStringSubmatch(string(out), -1) {
		all[m[3]]++
		at[m[1]+":"+m[2]] = m[3]
		report += fmt.Sprintf("%s:%s:1: warning: %s [-Wfault]\n", m[1], m[2], m[3])
	}
	return all, at, report
}

// TestPushedMerges: whatever was merged how, all that comes to a guarded branch and wasn't there is counted by the push that
// brings it.
func TestPushedMerges(t *testing.T) {
	t.Parallel()
	for seed := range rounds(t) / 2 {
		if seed%uint64(raceSample) > 0 {
			continue
		}
		e := newEstuaries(t, seed)
		dir := t.TempDir()
		for push := range 6 {
			for range 1 + e.random.IntN(5) {
				e.step()
			}
			old := e.bare.git("rev-parse", "main")
			from := branches[e.random.IntN(len(branches))]
			if e.random.IntN(4) == 0 {
				from += "~1"
			}
			new, err := e.revision(from)
			if err != nil || new == old {
				continue
			}
			e.git("push", "-q", "--force", "origin", new+":refs/keep/it")
			before, _, _ := e.faults(old)
			after, at, report := e.faults(new)
			file := filepath.Join(dir, "r.txt")
			if err := os.WriteFile(file, []byte(report), 0o644); err != nil {
				t.Fatal(err)
			}
			e.bare.stdin = old + " " + new + " refs/heads/main\n"
			v := e.bare.judge("--push", "--report", "diagnostics="+file, "--empty-is-clean", "--report-commit", new)
			counted := map[string]int{}
			for _, f := range v.Findings {
				if f.Standing == "new" {
					counted[at[fmt.Sprintf("%s:%d", f.Path, f.Line)]]++
				}
			}
			for _, fault := range slices.Sorted(maps.Keys(after)) {
				if came := after[fault] - before[fault]; counted[fault] < came {
					t.Errorf("seed %d, push %d (%s, %.10s..%.10s): %s came %d times, and was counted %d times\n%s", seed, push, from, old, new, fault, came, counted[fault], v.standings())
				}
			}
			if v.Outcome == "unjudged" {
				t.Errorf("seed %d, push %d: %s", seed, push, v.about())
			}
			e.git("push", "-q", "--force", "origin", new+":main")
			e.git("fetch", "-q", "origin")
		}
	}
}

// revision is the commit that a name leads to, as far as there is one.
func (e *estuaries) revision(name string) (string, error) {
	cmd := exec.Command("git", "-C", e.dir, "rev-parse", "--verify", "--quiet", name+"^{commit}")
	out, err := cmd.Output()
	return strings.TrimSpace(string(out)), err
}

// TestUnmerged: where a merge left nothing but conflicts, what is staged is judged all the same: of a file that isn't merged yet all
// lines count as changed.
func TestUnmerged(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(9))
	s.commit("one")
	s.git("checkout", "-q", "-b", "side")
	s.write("core/tide.c", "side;\n"+lines(9))
	s.commit("side")
	s.git("checkout", "-q", "main")
	s.write("core/tide.c", "main;\n"+lines(9))
	s.commit("main")
	merge := exec.Command("git", "-C", s.dir, "merge", "-q", "side")
	merge.Env = s.environment()
	merge.Run() // which fails
	s.stdin = warn("core/tide.c", 9)
	if v := s.judge("--staged", "--report", "diagnostics=-"); v.Change.Files != 1 || v.Totals["new"] != 1 || v.Outcome != "shut" {
		t.Errorf("%s", v.about())
	}
}
