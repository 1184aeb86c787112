package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const housePolicy = `zincdoor: 1
house:
  blank-ends: on
  last-line-end: on
  conflict-marks: on
  forbid: {no-feet: {text: feet, with: metres, say: "Metres, please."}}
doors:
  commit: {judges: staged, needs: house, limits: [{count: new, severity: note, most: 0}]}
  merge: {judges: branch, needs: house, limits: [{count: new, severity: note, most: 0}]}
  now: {judges: worktree, needs: house, limits: [{count: new, severity: note, most: 0}]}
`

// TestFixStaged: on random files staged in part, what is staged is fixed on its own lines, what isn't staged stays as it
// is to the byte, a second time does nothing, and all of it can be taken back.
func TestFixStaged(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".zincdoor/policy.yaml", housePolicy)
	s.commit("policy")
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 9))
		name := fmt.Sprintf("core/tide%d.c", seed)
		base := make([]string, 60)
		for i := range base {
			base[i] = fmt.Sprintf("line %d of %d;", i, random.IntN(9))
			if random.IntN(4) == 0 {
				base[i] += "  " // of old, and left alone
			}
		}
		staged, disk, fixed, left := append([]string{}, base...), append([]string{}, base...), append([]string{}, base...), append([]string{}, base...)
		for i := 0; i < len(base); i += 4 { // far enough apart to be told apart
			fresh := fmt.Sprintf("fresh %d in %s;", i, []string{"feet", "metres"}[random.IntN(2)])
			blanks := strings.Repeat(" ", random.IntN(3))
			switch random.IntN(4) {
			case 0: // staged
				staged[i], disk[i] = fresh+blanks, fresh+blanks
				fixed[i] = strings.ReplaceAll(fresh, "feet", "metres")
				left[i] = fixed[i]
			case 1: // not staged
				disk[i], left[i] = fresh+blanks, fresh+blanks
			}
		}
		text := func(lines []string) string { return strings.Join(lines, "\n") + "\n" }
		s.write(name, text(base))
		s.git("add", "-A")
		s.git("commit", "-q", "-m", "base", "--no-verify")
		s.write(name, text(staged))
		s.git("add", "-A")
		s.write(name, text(disk))
		inIndex := func() string { return s.git("show", ":"+name) + "\n" }
		if text(staged) == text(fixed) {
			continue
		}
		for range 2 {
			if out, errs, code := s.run("fix", "--staged", "--apply"); code != 0 {
				t.Fatalf("seed %d: exit code %d\n%s%s", seed, code, out, errs)
			}
			if strings.TrimSpace(inIndex()) != strings.TrimSpace(text(fixed)) || s.read(name) != text(left) {
				t.Fatalf("seed %d: the index holds\n%s\nthe work tree\n%s", seed, inIndex(), s.read(name))
			}
		}
		if v := s.judge("--staged"); v.Code != 0 {
			t.Errorf("seed %d: %s", seed, v.standings())
		}
		if _, errs, code := s.run("fix", "--undo"); code != 0 {
			t.Fatalf("seed %d: %s", seed, errs)
		}
		if strings.TrimSpace(inIndex()) != strings.TrimSpace(text(staged)) || s.read(name) != text(disk) {
			t.Fatalf("seed %d: taken back, the index holds\n%s", seed, inIndex())
		}
		s.git("reset", "-q", "--hard")
	}
}

// TestFix: what is fixed, what is left and why, and what is written.
func TestFix(t *testing.T) {
	t.Parallel()
	crlf := strings.ReplaceAll(lines(4), "\n", "\r\n")
	for _, c := range []struct {
		name string
		do   func(s *sandbox)
		args []string
		code int
		says string
		file string // core/tide.c afterwards
	}{
		{"shown, not written", func(s *sandbox) { s.write("core/tide.c", lines(4)+"deep in feet; \n") }, nil, 0, "nothing is written yet; findings that break a limit: 2 → 0 with\n          zincdoor fix --apply", lines(4) + "deep in feet; \n"},
		{"written", func(s *sandbox) { s.write("core/tide.c", lines(4)+"deep in feet; \n") }, []string{"--apply"}, 0, "written 1 file; findings that break a limit: 2 → 0; to take it back: zincdoor fix --undo", lines(4) + "deep in metres;\n"},
		{"one rule alone, shown", func(s *sandbox) { s.write("core/tide.c", lines(4)+"deep in feet; \n") }, []string{"--rule", "no-feet,x", "--door", "now", "--today", "2026-11-23"}, 0, "zincdoor fix --rule no-feet --rule x --door now --today 2026-11-23 --apply", ""},
		{"one rule alone", func(s *sandbox) { s.write("core/tide.c", lines(4)+"deep in feet; \n") }, []string{"--apply", "--rule", "no-feet"}, 0, "fixes   1 no-feet", lines(4) + "deep in metres; \n"},
		{"nothing", func(s *sandbox) { s.write("core/tide.c", lines(5)) }, []string{"--apply"}, 0, "there is nothing to fix", lines(5)},
		{"beyond the change", func(s *sandbox) {
			s.write("core/tide.c", "old feet \n"+lines(4))
			s.commit("old")
			s.write("core/tide.c", "old feet \n"+lines(4)+"new feet\n")
		}, []string{"--apply", "--all"}, 0, "1 lines outside of the change are edited", "old metres\n" + lines(4) + "new metres\n"},
		{"carriage returns stay", func(s *sandbox) { s.write("core/tide.c", crlf+"deep in feet; \r\n") }, []string{"--apply"}, 0, "written", crlf + "deep in metres;\r\n"},
		{"by a report", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"int depht;\n")
			s.write("r.sarif", sarifLog(strings.TrimSuffix(sarifResult("core/tide.c", 5)[1:], "}")+`,"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"core/tide.c"},"replacements":[{"deletedRegion":{"startLine":5,"startColumn":5,"endColumn":10},"insertedContent":{"text":"depth"}}]}]}]}`))
		}, []string{"--apply", "--report", "r.sarif"}, 0, "written", lines(4) + "int depth;\n"},
		{"a report of another text", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"int depht;\n")
			s.write("r.sarif", sarifLog(strings.TrimSuffix(sarifResult("core/tide.c", 5)[1:], "}")+`,"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"core/tide.c"},"replacements":[{"deletedRegion":{"startLine":5,"startColumn":15,"endColumn":20},"insertedContent":{"text":"depth"}}]}]}]}`))
		}, []string{"--apply", "--report", "r.sarif"}, 0, "line 5, column 15: the text has no such place", lines(4) + "int depht;\n"},
		{"outside the repository", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"int depht;\n")
			s.write("r.sarif", sarifLog(strings.TrimSuffix(sarifResult("core/tide.c", 5)[1:], "}")+`,"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"../../evil.c"},"replacements":[{"deletedRegion":{"startLine":1},"insertedContent":{"text":"x"}}]}]}]}`))
		}, []string{"--apply", "--report", "r.sarif"}, 0, "it lies outside the repository", lines(4) + "int depht;\n"},
		{"the same lines unstaged", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"deep in feet\n")
			s.git("add", "-A")
			s.write("core/tide.c", lines(4)+"deep in feet, and more\n")
		}, []string{"--staged", "--apply"}, 0, "its unstaged part changes the same lines", lines(4) + "deep in feet, and more\n"},
		{"not what the commit has", func(s *sandbox) {
			s.git("checkout", "-q", "-b", "work")
			s.write("core/tide.c", lines(4)+"deep in feet\n")
			s.commit("two")
			s.write("core/tide.c", lines(4)+"deep in feet\nmore\n")
		}, []string{"--into", "main", "--apply"}, 0, "it isn't in the work tree as the judged commit has", lines(4) + "deep in feet\nmore\n"},
		{"a branch", func(s *sandbox) {
			s.git("checkout", "-q", "-b", "work")
			s.write("core/tide.c", lines(4)+"deep in feet\n")
			s.commit("two")
		}, []string{"--into", "main", "--apply"}, 0, "written", lines(4) + "deep in metres\n"},
		{"asked, one yes and one no", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"deep in feet; \n")
			s.stdin = "n\ny\n"
		}, []string{"--apply", "--interactive"}, 0, "leaves  core/tide.c:5:9 no-feet: you declined it\n", lines(4) + "deep in feet;\n"},
		{"asked, and quit", func(s *sandbox) {
			s.write("core/tide.c", lines(4)+"deep in feet; \n")
			s.stdin = "q\n"
		}, []string{"--apply", "--interactive"}, 0, "blank-ends: not asked for, since you quit\n  done    nothing is written\n", lines(4) + "deep in feet; \n"},
		{"the rest is within the limit", func(s *sandbox) {
			s.write(".zincdoor/policy.yaml", strings.Replace(housePolicy, "most: 0}]}\n  now: {judges: worktree, needs: house, limits: [{count: new, severity: note, most: 0}]}", "most: 0}]}\n  now: {judges: worktree, needs: house, limits: [{count: touched, severity: note, most: 1}]}", 1))
			s.commit("policy")
			s.write("core/tide.c", lines(4)+"deep in feet; \n")
		}, []string{"--apply", "--rule", "no-feet"}, 0, "findings that break a limit: 2 → 0", lines(4) + "deep in metres; \n"},
		{"by a linter that rewrites all of it", func(s *sandbox) {
			s.write("core/tide.c", "old feet\n"+lines(4))
			s.write(".zincdoor/policy.yaml", strings.Replace(housePolicy, "  forbid: {no-feet: {text: feet, with: metres, say: \"Metres, please.\"}}\n", "reports:\n  gauge: {run: [sh, tools/quiet.sh], as: diagnostics, fix: [sh, tools/fixes.sh]}\n", 1))
			if err := os.CopyFS(filepath.Join(s.dir, "tools"), os.DirFS("testdata/linters")); err != nil {
				t.Fatal(err)
			}
			s.commit("linter")
			s.write("core/tide.c", "old feet\n"+lines(4)+"deep in feet\n")
		}, []string{"--apply", "--run"}, 0, "fixes   1 hunk by linters", "old feet\n" + lines(4) + "deep in metres\n"},
		{"a finding that its linter fixes", func(s *sandbox) {
			s.write(".zincdoor/policy.yaml", strings.NewReplacer("  forbid: {no-feet: {text: feet, with: metres, say: \"Metres, please.\"}}\n", "reports:\n  gauge: {run: [sh, tools/shoal.sh], as: diagnostics, files: '**/*.c', fix: [sh, tools/fixes.sh]}\n", "worktree, needs: house", "worktree, needs: [house, gauge]").Replace(housePolicy))
			if err := os.CopyFS(filepath.Join(s.dir, "tools"), os.DirFS("testdata/linters")); err != nil {
				t.Fatal(err)
			}
			s.commit("linter")
			s.write("core/tide.c", lines(4)+"SHOAL, deep in feet\nSHOAL\n")
		}, []string{"--apply", "--run", "--door", "now"}, 0, "fixes   1 hunk by linters\n  fixes   1 -Wshoal on these lines\n  leaves  1 -Wshoal: no tool offers a fix\n  written 1 file; findings that break a limit: 2 → 1;", lines(4) + "SHOAL, deep in metres\nSHOAL\n"},
		{"nothing to take back", func(*sandbox) {}, []string{"--undo"}, 3, "there is nothing to take back", lines(4)},
		{"a patch", func(*sandbox) {}, []string{"--patch", "x"}, 3, "fix has no option --patch", lines(4)},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := repository(t)
			s.write(".gitignore", "*.sarif\n")
			s.write(".zincdoor/policy.yaml", housePolicy)
			s.write("core/tide.c", lines(4))
			s.commit("one")
			c.do(s)
			out, errs, code := s.run(append([]string{"fix"}, c.args...)...)
			if code != c.code || !strings.Contains(out+errs, c.says) {
				t.Errorf("exit code %d\n%s%s\nwant %d and %q", code, out, errs, c.code, c.says)
			}
			if got := s.read("core/tide.c"); c.file != "" && got != c.file {
				t.Errorf("the file is %q, want %q", got, c.file)
			}
		})
	}
}

// TestSuggestedCalls: the calls that a gate suggests, to fix and to list, are made with what it was called with.
func TestSuggestedCalls(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", "int b;  \n")
	s.commit("one")
	s.write("core/tide.c", "int b;  \nint a;  \n")
	elsewhere := t.TempDir() + "/policy of the pier.yaml"
	if err := os.WriteFile(elsewhere, []byte(housePolicy), 0o644); err != nil {
		t.Fatal(err)
	}
	out, _, code := s.run("gate", "--worktree", "--door", "now", "--policy", elsewhere, "--today", "2026-11-23")
	for _, call := range []string{"findings --worktree", "fix --broken"} {
		at := strings.Index(out, "zincdoor "+call)
		if code != 1 || at < 0 {
			t.Fatalf("no call of %s is suggested:\n%s", call, out)
		}
		line, _, _ := strings.Cut(out[at:], "\n")
		if out, errs, code := s.command("sh", "-c", program+strings.TrimPrefix(line, "zincdoor")); code != 0 || !strings.Contains(out, "blank-ends") {
			t.Errorf("%s: exit code %d\n%s%s", line, code, out, errs)
		}
	}
	if got := s.read("core/tide.c"); got != "int b;  \nint a;\n" {
		t.Errorf("fixed to %q", got)
	}
}

// TestFixingHook: a commit hook fixes by itself where its door says so, however the commit is made; the commit holds what was
// fixed, and so do the index and the work tree that it leaves. Where the commit doesn't come about, it can be taken back all the same.
func TestFixingHook(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		args []string
		add  bool
	}{
		{"what is staged", nil, true},
		{"a file alone", []string{"core/tide.c"}, false},
		{"a file alone, which is staged too", []string{"core/tide.c"}, true},
		{"a file along with what is staged", []string{"--include", "core/tide.c"}, false},
		{"all that is altered", []string{"--all"}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := repository(t)
			s.withProgram()
			s.write(".zincdoor/policy.yaml", strings.Replace(housePolicy, "judges: staged,", "judges: staged, fix: true,", 1))
			s.write("core/tide.c", lines(4))
			s.write("core/wharf.c", lines(4))
			s.commit("one")
			if out, errs, code := s.run("fit", "--hook", "commit"); code != 0 {
				t.Fatalf("exit code %d\n%s%s", code, out, errs)
			}
			s.write("core/wharf.c", lines(5))
			s.git("add", "core/wharf.c")
			commit := func(text string) (string, bool) {
				s.write("core/tide.c", lines(4)+text)
				if c.add {
					s.git("add", "core/tide.c")
				}
				return s.tryCommit(c.args...)
			}
			if seen, ok := commit("<<<<<<< deep in feet\n=======\n>>>>>>> \n"); ok {
				t.Fatalf("the commit is let through: %s", seen)
			}
			if out, errs, code := s.run("fix", "--undo"); code != 0 || s.read("core/tide.c") != lines(4)+"<<<<<<< deep in feet\n=======\n>>>>>>> \n" {
				t.Errorf("exit code %d: %s%s%s", code, out, errs, s.read("core/tide.c"))
			}
			if seen, ok := commit("deep in feet  \n"); !ok || !strings.Contains(seen, "+deep in metres") {
				t.Errorf("the commit isn't let through: %s", seen)
			}
			if got := s.git("show", "HEAD:core/tide.c"); !strings.HasSuffix(got, "deep in metres") || s.git("status", "--porcelain", "core/tide.c") != "" {
				t.Errorf("it holds %q, and is %s", got, s.git("status", "--porcelain"))
			}
		})
	}
}

// TestHouse: our own checks judge along, and are evidence where a door needs them. What was there before is not the
// change's, white space that it alters is, and a syntax that it breaks far from its lines is new.
func TestHouse(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".zincdoor/policy.yaml", strings.Replace(housePolicy, "house:\n", "house:\n  json-syntax: on\n  case-twins: on\n  broken-link: on\n  executable-bit: on\n", 1))
	s.write("core/tide.c", "old feet \n"+lines(4))
	s.write("core/depths.json", "{\n\"a\": [1,\n2,\n3]\n}\n")
	s.commit("one")
	if v := s.judge("--worktree"); v.Code != 0 || v.Evidence[0].State != "skipped" {
		t.Errorf("nothing to check: %s", v.about())
	}
	s.write("core/tide.c", "old feet \n"+strings.Replace(lines(4), "line 2;", "line 2; ", 1))
	s.write("core/depths.json", "{\n\"a\": [1,\n2,\n3]\n")
	s.write("core/Tide.c", "\n")
	s.write("run.sh", "echo\n")
	os.Chmod(filepath.Join(s.dir, "run.sh"), 0o755)
	if err := os.Symlink("gone.c", filepath.Join(s.dir, "link.c")); err != nil {
		t.Fatal(err)
	}
	want := "core/Tide.c:0 touched new\ncore/depths.json:4 file new\ncore/tide.c:0 file existing\ncore/tide.c:1 file existing\ncore/tide.c:1 file existing\ncore/tide.c:3 touched new\nlink.c:0 touched new\nrun.sh:0 touched new"
	for _, call := range [][]string{{"--worktree"}, {"--staged"}} {
		if v := s.judge(call...); v.Code != 1 || v.standings() != want {
			t.Errorf("%v: exit code %d\n%s\nwant\n%s", call, v.Code, v.standings(), want)
		}
		s.git("add", "-A")
	}
	s.write("plain.yaml", "zincdoor: 1\nhouse: {blank-ends: on}\ndoors:\n  commit: {judges: staged, limits: [{count: new, severity: note, most: 9}]}\n")
	if v := s.judge("--staged", "--policy", "plain.yaml"); v.Code != 2 || !strings.Contains(v.about(), "there is no report to judge by, e.g. --report FILE, or reports: in the policy") {
		t.Errorf("our checks alone are evidence: %s", v.about())
	}
}

// TestHostileRegions: a suggestion about bytes that no file has is left, whatever its length.
func TestHostileRegions(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", "int a;\n")
	s.commit("one")
	s.write("core/tide.c", "int a;\nint b;\n")
	for _, region := range []string{
		`"byteOffset":4,"byteLength":9223372036854775807`, `"byteOffset":9223372036854775807,"byteLength":1`, `"byteOffset":99,"byteLength":0`,
		`"charOffset":4,"charLength":9223372036854775807`, `"startLine":9223372036854775807`, `"startLine":2,"startColumn":9223372036854775807,"endColumn":2`,
	} {
		s.write(".git/r.sarif", `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge"}},"results":[{"ruleId":"deep","level":"error","message":{"text":"deep"},
"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":2}}}],
"fixes":[{"artifactChanges":[{"artifactLocation":{"uri":"core/tide.c"},"replacements":[{"deletedRegion":{`+region+`},"insertedContent":{"text":"x"}}]}]}]}]}]}`)
		out, errs, code := s.run("fix", "--report", ".git/r.sarif", "--apply")
		if code != 0 || !strings.Contains(out, "leaves") || s.read("core/tide.c") != "int a;\nint b;\n" {
			t.Errorf("%s: exit code %d\n%s%s", region, code, out, errs)
		}
	}
}

// TestRealFixIts: what compilers tell programs to fix is fixed.
func TestRealFixIts(t *testing.T) {
	t.Parallel()
	for _, compiler := range []string{"clang", "gcc"} {
		t.Run(compiler, func(t *testing.T) {
			if compiler == "clang" {
				compiler = clang(t, "-fdiagnostics-parseable-fixits")
			} else if _, err := exec.LookPath(compiler); err != nil {
				t.Skip(err)
			}
			s := repository(t)
			s.write("core/tide.c", "int f(void) { return 1; }\n")
			s.commit("one")
			s.write("core/tide.c", "int f(void) { return 1; }\nint\tg(int 潮) { return 潮 }\n")
			out, errs, _ := s.command(compiler, "-fsyntax-only", "-fdiagnostics-parseable-fixits", "core/tide.c")
			s.write(".git/fix.txt", out+errs)
			if said, errs, code := s.run("fix", "--apply", "--report", ".git/fix.txt"); code != 0 || s.read("core/tide.c") != "int f(void) { return 1; }\nint\tg(int 潮) { return 潮; }\n" {
				t.Errorf("exit code %d\n%s%s\n%s", code, said, errs, s.read("core/tide.c"))
			}
		})
	}
}
