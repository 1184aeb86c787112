package main

import (
	"encoding/json"
	"fmt"
	"go/scanner"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/tools/cover"
)

const covered = `zincdoor: 1
reports:
  tests: {file: build/cover.info}
doors:
  merge: {judges: branch, limits: [{measure: coverage, of: touched, least: 70, say: Write a test.}]}
  commit: {judges: staged, limits: [{measure: coverage, of: touched, least: 70}]}
  files: {judges: branch, limits: [{measure: coverage, of: file, least: 70}]}
  whole: {judges: branch, limits: [{measure: coverage, of: all, least: no-drop}]}
  sizes: {judges: branch, needs: measure, limits: [{measure: decisions, of: function, most: 2, standing: [new, worsened]}, {measure: lines, of: touched, most: 9}]}
  copies: {judges: range, needs: measure, limits: [{measure: duplicated-lines, of: touched, most: 10%}, {measure: duplicated-lines, of: all, most: no-growth, mode: advise}]}
  nightly: {judges: tree, limits: [{measure: coverage, of: all, least: 40}]}
history: {record: true}
`

// ebb is a function of so many lines, each of them another one.
func ebb(name string, lines int) string {
	var text strings.Builder
	fmt.Fprintf(&text, "int %s(int hour)\n{\n", name)
	for n := range lines {
		fmt.Fprintf(&text, "\thour = hour * %d + level[%d];\n", n+3, n)
	}
	return text.String() + "\treturn hour;\n}\n"
}

// traced is a tracefile of a file: of lines from 1 whether tests came there, as + and -, and anything else for none.
func traced(path, lines string) string {
	text := "SF:" + path + "\n"
	for n, c := range lines {
		switch c {
		case '+':
			text += fmt.Sprintf("DA:%d,2\n", n+1)
		case '-':
			text += fmt.Sprintf("DA:%d,0\n", n+1)
		}
	}
	return text + "end_of_record\n"
}

// tested is a repository with code that tests cover, and a branch that adds to it.
func tested(t *testing.T) *sandbox {
	s := repository(t)
	s.write(".gitignore", "build\n")
	s.write(".zincdoor/policy.yaml", covered)
	s.write("core/tide.c", ebb("tide", 3))
	s.write("core/slack.c", ebb("slack", 2))
	s.commit("one")
	s.git("checkout", "-q", "-b", "more")
	s.write("core/tide.c", ebb("tide", 3)+ebb("ebb", 5))
	s.commit("two")
	return s
}

// TestCoverageLimits: what tests cover is held against limits, by reports that are believed as others are; what nobody provides opens
// nothing.
func TestCoverageLimits(t *testing.T) {
	t.Parallel()
	const whole = "+.+++++" // of tide
	for _, c := range []struct {
		name, args string
		prepare    func(s *sandbox)
		code       int
		want       string
	}{
		{"enough", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+")) }, 0, "71.4% of 7 lines, at least 70%"},
		{"too little", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", traced("core/tide.c", whole+"+.++---+")) }, 1, "no test runs these 3 changed lines"},
		{"no report", "--into main --door merge", func(s *sandbox) {}, 2, "no coverage report is there"},
		{"cut off", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", "SF:core/tide.c\nDA:1,1\n") }, 2, "doesn't end"},
		{"empty", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", "") }, 2, "tests"},
		{"of nothing", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", "mode: set\n") }, 2, "it speaks of no file"},
		{"of another tree", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", traced("/src/fares/x.c", "++++")) }, 2, "none of the files it names is in the repository"},
		{"of a longer text", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", traced("core/tide.c", strings.Repeat("+", 40))) }, 2, "core/tide.c:17, and the file has 16 lines"},
		{"of an earlier commit", "--into main --door merge --report-commit main", func(s *sandbox) { s.write("build/cover.info", traced("core/tide.c", whole)) }, 2, "differs from the judged state"},
		{"of another machine", "--into main --door merge", func(s *sandbox) {
			s.write("build/cover.info", traced("/builds/7/core/tide.c", whole+"+.+++--+")+traced("/builds/7/core/slack.c", "+.++++"))
		}, 0, "71.4% of 7 lines"},
		{"not mentioned", "--into main --door merge", func(s *sandbox) { s.write("build/cover.info", traced("core/slack.c", "+.++++")) }, 1, "no test runs these 9 changed lines"},
		{"of another kind", "--into main --door merge", func(s *sandbox) {
			s.write("boards/b.py", "print(1)\n")
			s.commit("three")
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+"))
		}, 0, "71.4% of 7 lines"},
		{"of a kind that it covers", "--into main --door merge", func(s *sandbox) {
			s.write("boards/b.py", "print(1)\n")
			s.commit("three")
			s.write("policy", strings.Replace(covered, "build/cover.info", `build/cover.info, covers: ["core/**", "boards/**"]`, 1))
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+"))
		}, 1, "62.5% of 8 lines"},
		{"in shards", "--into main --door merge", func(s *sandbox) {
			s.write("policy", strings.Replace(covered, "build/cover.info", "[build/a.info, build/b.info]", 1))
			s.write("build/a.info", traced("core/tide.c", whole+"+.++---+"))
			s.write("build/b.info", traced("core/tide.c", whole+"-.---+--"))
		}, 0, "71.4% of 7 lines"},
		{"a shard is missing", "--into main --door merge", func(s *sandbox) {
			s.write("policy", strings.Replace(covered, "build/cover.info", "[build/a.info, build/b.info]", 1))
			s.write("build/a.info", traced("core/tide.c", whole+"+.+++++++"))
		}, 2, "build/b.info is missing"},
		{"by a recipe", "--into main --door merge", func(s *sandbox) {
			s.write("policy", strings.Replace(covered, "{file: build/cover.info}", "{file: build/cover.csv, as: lines}\nrecipes: {lines: {as: csv, path: file, line: line, hits: n}}", 1))
			s.write("build/cover.csv", "file,line,n\ncore/tide.c,8,1\ncore/tide.c,10,0\ncore/tide.c,11,4\ncore/tide.c,12,1\n")
		}, 0, "75% of 4 lines"},
		{"the change brings it", "--into main --door merge", func(s *sandbox) {
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++++++"))
			s.git("add", "-f", "build/cover.info")
			s.commit("mine")
		}, 2, "the change itself brings build/cover.info"},
		{"each file", "--into main --door files", func(s *sandbox) {
			s.write("build/cover.info", traced("core/tide.c", whole+"+.-----+")+traced("core/slack.c", "+.----"))
		}, 1, "61.5% in core/tide.c, at least 70%"},
		{"no drop, not known", "--into main --door whole", func(s *sandbox) { s.write("build/cover.info", traced("core/tide.c", whole+"+.+++++++")) }, 2, "what it was before the change isn't known"},
		{"no drop", "--into main --door whole --base-report build/before.info", func(s *sandbox) {
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+"))
			s.write("build/before.info", traced("core/tide.c", "+.+++-+"))
		}, 0, "84.6% of 13 lines, before the change 83.3%"},
		{"a drop", "--into main --door whole --base-report build/before.info", func(s *sandbox) {
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+"))
			s.write("build/before.info", traced("core/tide.c", whole))
		}, 1, "84.6% of 13 lines, before the change 100%"},
		{"a file that is tested no more", "--into main --door whole --base-report build/before.info", func(s *sandbox) {
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++++++"))
			s.write("build/before.info", traced("core/tide.c", whole)+traced("core/slack.c", "+.++++"))
		}, 1, "73.7% of 19 lines, before the change 100%"},
		{"a drop from what was recorded", "--into main --door whole", func(s *sandbox) {
			s.git("checkout", "-q", "main")
			s.write("build/cover.info", traced("core/tide.c", whole))
			s.must(0, "gate", "--tree", "HEAD", "--door", "nightly")
			s.git("checkout", "-q", "more")
			s.write("build/cover.info", traced("core/tide.c", whole+"+.+++--+"))
		}, 1, "84.6% of 13 lines, before the change 100%"},
		{"nothing staged", "--staged --door commit", func(s *sandbox) {}, 0, "nothing is staged"},
		{"staged in part", "--staged --door commit", func(s *sandbox) {
			s.write("core/slack.c", ebb("slack", 2)+"int a;\n")
			s.git("add", "-A")
			s.write("core/slack.c", ebb("slack", 2)+"int a;\nint b;\n")
			s.write("build/cover.info", traced("core/slack.c", "+.++++++"))
		}, 2, "core/slack.c is staged in part"},
		{"changed since", "--staged --door commit", func(s *sandbox) {
			s.write("build/cover.info", traced("core/slack.c", "+.++++"))
			old := s.stat("build/cover.info").ModTime().Add(-1e10)
			os.Chtimes(filepath.Join(s.dir, "build/cover.info"), old, old)
			s.write("core/slack.c", ebb("slack", 2)+"int a;\n")
			s.git("add", "-A")
		}, 2, "core/slack.c was changed after the report was written"},
		{"only deleted", "--into main --door merge", func(s *sandbox) {
			s.git("reset", "-q", "--hard", "main")
			s.git("rm", "-q", "core/slack.c")
			s.commit("less")
			s.write("build/cover.info", traced("core/tide.c", whole))
		}, 0, "nothing to measure"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := tested(t)
			c.prepare(s)
			args := append([]string{"gate"}, strings.Fields(c.args)...)
			if _, err := os.Stat(filepath.Join(s.dir, "policy")); err == nil {
				args = append(args, "--policy", "policy")
			}
			out, errs, code := s.run(args...)
			if code != c.code || !strings.Contains(out+errs, c.want) {
				t.Errorf("zincdoor %s: exit code %d, want %d with %q\n%s%s", strings.Join(args, " "), code, c.code, c.want, out, errs)
			}
			document, _, _ := s.run(append(args, "--format", "json")...)
			s.validate(t, "verdict", document)
		})
	}
}

func (s *sandbox) stat(name string) os.FileInfo {
	info, err := os.Stat(filepath.Join(s.dir, name))
	if err != nil {
		s.Fatal(err)
	}
	return info
}

// TestSizeLimits: functions that a change makes too complex shut the door, those that were so before don't where the limit says so; what
// is accepted doesn't count until it grows, and a waiver sets it aside.
func TestSizeLimits(t *testing.T) {
	t.Parallel()
	s := repository(t)
	branchy := func(name string, n int) string {
		return fmt.Sprintf("int %s(int a)\n{\n%s\treturn 0;\n}\n", name, strings.Repeat("\tif (a++)\n\t\treturn a;\n", n))
	}
	s.write(".zincdoor/policy.yaml", strings.Replace(covered, "reports:\n  tests: {file: build/cover.info}\n", "", 1)+"cost: {severity: {warning: 10m}}\n")
	s.write("core/old.c", branchy("old", 4))
	s.commit("one")
	s.git("checkout", "-q", "-b", "more")
	gate := func(code int, want string) {
		t.Helper()
		s.git("add", "-A")
		s.git("commit", "-q", "--allow-empty", "-m", "more")
		out, errs, got := s.run("gate", "--into", "main", "--door", "sizes", "--policy", ".zincdoor/policy.yaml", "--baseline", "none.jsonl")
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf("exit code %d, want %d with %q\n%s%s", got, code, want, out, errs)
		}
	}
	s.write("none.jsonl", `{"zincdoor":"baseline/1","covers":[]}`+"\n")
	s.git("rm", "-q", "--cached", "--ignore-unmatch", "none.jsonl")
	s.write(".git/info/exclude", "none.jsonl\n")
	s.write("core/old.c", strings.Replace(branchy("old", 4), "return 0", "return a", 1))
	gate(0, "nothing to measure, at most 2")
	s.write("core/old.c", branchy("old", 5))
	gate(1, "worsened 4 → 5")
	s.write("core/old.c", "// door waiver(decisions-of-function): one after the other\n"+branchy("old", 5))
	gate(0, "1, at most 3")
	s.write("core/old.c", branchy("old", 4))
	s.write("core/new.c", branchy("fresh", 3))
	gate(1, "fresh has 3 decisions")
	s.write("core/new.c", branchy("fresh", 2)+"int x[] = {\n"+strings.Repeat("\t1,\n", 20)+"};\n")
	gate(1, "at most 9")
	s.git("mv", "core/new.c", "core/moved.c")
	s.write("core/moved.c", "")
	gate(0, "0, at most 9")
}

// TestDuplicateLimits: what a change copies is found in all of the tree, also where what is kept of it is damaged, of another build or
// can't be written.
func TestDuplicateLimits(t *testing.T) {
	t.Parallel()
	s := tested(t)
	cache := t.TempDir()
	s.env = append(s.env, "XDG_CACHE_HOME="+cache)
	s.write("core/gauge.c", "#include <x.h>\nint gauge;\n"+strings.NewReplacer("\n", " // new\n\n", "level", "depth").Replace(ebb("gauge", 12)))
	s.write("core/long.c", strings.ReplaceAll(ebb("long_one", 12), "level", "depth"))
	s.write("boards/b.py", "if x:\n    pass\n")
	s.commit("copied")
	const want = "85.7% of 35 lines, at most 10%"
	gate := func() string {
		t.Helper()
		out, errs, code := s.run("gate", "--range", "more~1..more", "--door", "copies")
		if code != 1 || !strings.Contains(out, want) || !strings.Contains(out, "these 15 changed lines duplicate other code") || !strings.Contains(out, "core/long.c:2: the same, up to line 16") {
			t.Fatalf("exit code %d\n%s%s", code, out, errs)
		}
		return out
	}
	first := gate()
	kept, err := filepath.Glob(filepath.Join(cache, "zincdoor", "prints", "*"))
	if err != nil || len(kept) != 1 {
		t.Fatalf("%v is kept: %v", kept, err)
	}
	whole, err := os.ReadFile(kept[0])
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for n := range 12 {
		data := slices.Clone(whole)
		switch n {
		case 0:
			data = nil
		case 1:
			data = data[:len(data)/2]
		case 2:
			data = append(data, data...)
		default:
			data[r.IntN(len(data))] ^= byte(1 + r.IntN(255))
		}
		if err := os.WriteFile(kept[0], data, 0o600); err != nil {
			t.Fatal(err)
		}
		if out := gate(); out != first {
			t.Errorf("what is kept is damaged (%d):\n%s\nwant\n%s", n, out, first)
		}
	}
	if err := os.RemoveAll(filepath.Join(cache, "zincdoor")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(cache, "zincdoor"), nil, 0o400); err != nil {
		t.Fatal(err)
	}
	if out := gate(); out != first {
		t.Errorf("nothing can be kept:\n%s", out)
	}
	if out := s.must(0, "measure", "--duplicates", "--format", "csv"); !strings.Contains(out, "core/gauge.c,5,33,15,core/long.c,2,16\n") {
		t.Error(out)
	}
	s.git("rm", "-q", "core/long.c")
	s.commit("moved")
	if out, _, code := s.run("gate", "--range", "more~2..more", "--door", "copies"); code != 0 {
		t.Errorf("what is there once is no copy: exit code %d\n%s", code, out)
	}
}

// TestTouchedLinesBlamed: the changed lines that count are those which git blames on the change.
func TestTouchedLinesBlamed(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(7, 9))
	s := repository(t)
	s.write(".gitignore", "build\n")
	next := 0
	fresh := func() string { next++; return fmt.Sprintf("call(%d); // %d", next*7919, next) }
	var lines []string
	for range 60 {
		lines = append(lines, fresh())
	}
	s.write("core/a.c", strings.Join(lines, "\n")+"\n")
	s.commit("one")
	for round := range 8 {
		for range 1 + r.IntN(6) {
			at := r.IntN(len(lines))
			switch r.IntN(3) {
			case 0:
				lines[at] = fresh()
			case 1:
				lines = slices.Insert(lines, at, fresh(), fresh())
			default:
				lines = slices.Delete(lines, at, at+1)
			}
		}
		s.write("core/a.c", strings.Join(lines, "\n")+"\n")
		s.git("commit", "-q", "-a", "--allow-empty", "-m", fmt.Sprint(round))
		s.write("build/c.info", traced("core/a.c", strings.Repeat("-", len(lines))))
		var blamed []int
		head := strings.TrimSpace(s.git("rev-parse", "HEAD"))
		for n, line := range strings.Split(strings.TrimSuffix(s.git("blame", "-s", "-l", "--abbrev=40", "HEAD", "--", "core/a.c"), "\n"), "\n") {
			if strings.HasPrefix(line, head) {
				blamed = append(blamed, n+1)
			}
		}
		var rows []struct{ Uncovered [][2]int }
		out := s.must(0, "measure", "--coverage", "build/c.info", "--range", "HEAD~1..HEAD", "--format", "json")
		if err := json.Unmarshal([]byte(out), &rows); err != nil {
			t.Fatal(err)
		}
		var touched []int
		for _, row := range rows {
			for _, stretch := range row.Uncovered {
				for n := stretch[0]; n <= stretch[1]; n++ {
					touched = append(touched, n)
				}
			}
		}
		if !slices.Equal(touched, blamed) {
			t.Errorf("round %d: %v count as touched, git blames %v", round, touched, blamed)
		}
	}
}

// TestCoverageOfTools: of real runs each line is covered as the tools' own readers and totals say: of a module of Go, and of C by gcov
// through a recipe.
func TestCoverageOfTools(t *testing.T) {
	t.Parallel()
	wholeRun(t)
	type row struct {
		Path      string
		Counted   int
		Covered   int
		Uncovered [][2]int
	}
	measure := func(s *sandbox, args ...string) (rows []row) {
		out := s.must(0, append([]string{"measure", "--worst", "0", "--format", "json"}, args...)...)
		if err := json.Unmarshal([]byte(out), &rows); err != nil {
			t.Fatal(err)
		}
		return rows
	}
	t.Run("Go", func(t *testing.T) {
		s := repository(t)
		module := filepath.Join(strings.TrimSpace(goOf(t, "../..", "list", "-m", "-f", "{{.Dir}}", "golang.org/x/mod")))
		if err := os.CopyFS(filepath.Join(s.dir, "mod"), os.DirFS(module)); err != nil {
			t.Fatal(err)
		}
		profile := filepath.Join(s.dir, "profile")
		goOf(t, filepath.Join(s.dir, "mod"), "test", "-coverprofile="+profile, "-covermode=count", "./semver", "./modfile", "./module")
		s.write(".gitignore", "profile\n")
		s.commit("a module")
		profiles, err := cover.ParseProfiles(profile)
		if err != nil {
			t.Fatal(err)
		}
		rows := measure(s, "--coverage", "profile")
		for _, p := range profiles {
			file := "mod/" + strings.TrimPrefix(p.FileName, "golang.org/x/mod/")
			at := slices.IndexFunc(rows, func(r row) bool { return r.Path == file })
			if at < 0 {
				t.Fatalf("%s isn't measured", file)
			}
			counts := map[int]int{}
			for _, b := range p.Blocks {
				if b.NumStmt == 0 {
					continue
				}
				for n := b.StartLine; n <= b.EndLine; n++ {
					if was, known := counts[n]; !known || was < b.Count {
						counts[n] = b.Count
					}
				}
			}
			code := codeLines(t, s.read(file))
			var missed []int
			for n, count := range counts {
				if code[n] && count == 0 {
					missed = append(missed, n)
				}
				if !code[n] {
					delete(counts, n)
				}
			}
			inside := func(n int) bool {
				return slices.ContainsFunc(rows[at].Uncovered, func(stretch [2]int) bool { return stretch[0] <= n && n <= stretch[1] })
			}
			if r := rows[at]; r.Counted != len(counts) || r.Counted-r.Covered != len(missed) {
				t.Errorf("%s: %d of %d lines are covered, where the profile has %d of %d", file, r.Covered, r.Counted, len(counts)-len(missed), len(counts))
			}
			for n, count := range counts {
				if inside(n) != (count == 0) {
					t.Errorf("%s:%d was run %d times", file, n, count)
				}
			}
		}
	})
	t.Run("C", func(t *testing.T) {
		for _, tool := range []string{"gcc", "gcov"} {
			if _, err := exec.LookPath(tool); err != nil {
				t.Skip("there is no ", tool)
			}
		}
		s := repository(t)
		s.write("tide.c", "#include <stdio.h>\n\nstatic int level(int hour)\n{\n\tif (hour > 6 && hour < 18)\n\t\treturn 1;\n\treturn hour % 2\n\t\t? 2 : 3;\n}\n\nstatic int never(int x)\n{\n\tswitch (x) {\n\tcase 1: return 2;\n\tdefault: return 4;\n\t}\n}\n\nint main(int argc, char **argv)\n{\n\tfor (int i = 0; i < 10; i++)\n\t\tprintf(\"%d\\n\", level(i));\n\tif (argc > 3) return never(argc);\n\treturn 0;\n}\n")
		s.write(".gitignore", "*.gc*\na.out\n")
		s.write(".zincdoor/policy.yaml", "zincdoor: 1\nrecipes:\n  gcov: {as: json, each: [\"$.files[*]\", \"$.lines[*]\"], path: {at: $.file, up: 1}, line: $.line_number, hits: $.count}\n  ways: {as: json, each: [\"$.files[*]\", \"$.lines[*]\", \"$.branches[*]\"], path: {at: $.file, up: 2}, line: {at: $.line_number, up: 1}, taken: $.count}\nreports: {lines: {file: tide.gcov.json.gz, as: gcov}, branches: {file: tide.gcov.json.gz, as: ways}}\ndoors: {d: {judges: tree, limits: [{measure: coverage, of: all, least: 0}, {measure: branch-coverage, of: all, least: 0}]}}\n")
		s.commit("one")
		script := "gcc --coverage -O0 -o a.out -c tide.c -o tide.o && gcc --coverage tide.o -o a.out && ./a.out >a.gcout && gcov --json-format -b tide.o >/dev/null && gcov -b tide.o"
		said, errs, code := s.command("sh", "-c", script)
		if code != 0 {
			t.Skipf("gcc can't make coverage here: %s", errs)
		}
		total := func(what string) (share float64, of string) {
			_, rest, _ := strings.Cut(said, what+":")
			line, _, _ := strings.Cut(rest, "\n")
			text, of, _ := strings.Cut(line, "% of ")
			share, _ = strconv.ParseFloat(text, 64)
			return share, of
		}
		out := s.must(0, "gate", "--tree", "--door", "d")
		var missed, known []int
		for line := range strings.Lines(s.read("tide.c.gcov")) {
			count, rest, _ := strings.Cut(line, ":")
			number, _, _ := strings.Cut(rest, ":")
			n, err := strconv.Atoi(strings.TrimSpace(number))
			switch count = strings.TrimSpace(count); {
			case err != nil || n == 0 || count == "-":
			case count == "#####":
				missed, known = append(missed, n), append(known, n)
			default:
				known = append(known, n)
			}
		}
		rows := measure(s, "--coverage", "gcov=tide.gcov.json.gz")
		var uncovered []int
		for _, stretch := range rows[0].Uncovered {
			for n := stretch[0]; n <= stretch[1]; n++ {
				if slices.Contains(known, n) {
					uncovered = append(uncovered, n)
				}
			}
		}
		if !slices.Equal(uncovered, missed) || rows[0].Counted != len(known) {
			t.Errorf("%v of %d lines are uncovered, where gcov has %v of %d", uncovered, rows[0].Counted, missed, len(known))
		}
		for what, unit := range map[string]string{"Lines executed": "lines", "Taken at least once": "branches"} {
			share, of := total(what)
			if want := fmt.Sprintf("%.1f%% of %s %s", share, of, unit); !strings.Contains(out, want) {
				t.Errorf("gcov says %s\n%s", want, out)
			}
		}
	})
}

// codeLines are the lines of a text of Go that hold tokens, by the language's own scanner.
func codeLines(t *testing.T, text string) map[int]bool {
	t.Helper()
	lines := map[int]bool{}
	var scan scanner.Scanner
	set := token.NewFileSet()
	file := set.AddFile("", -1, len(text))
	scan.Init(file, []byte(text), nil, 0)
	for {
		at, tok, literal := scan.Scan()
		if tok == token.EOF {
			return lines
		}
		if tok == token.SEMICOLON && literal == "\n" {
			continue
		}
		for n := range 1 + strings.Count(literal, "\n") {
			lines[file.Line(at)+n] = true
		}
	}
}

// goOf runs the go command in a folder.
func goOf(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("go", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod", "GOWORK=off")
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("go %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}
