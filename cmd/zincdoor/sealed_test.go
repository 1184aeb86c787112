package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// sealing is a repository whose policy asks for seals, on a branch that changes a file, with the keys outside of it.
type sealing struct {
	*sandbox
	keys string
	base string // the tip of main
	head string
}

const sealedPolicy = `zincdoor: 1
baseline: .zincdoor/list.jsonl
seals:
  ci: ["%s", {key: "%s", until: 2026-01-01}, {key: "%s", from: 2090-01-01}, {key: "%s", path: "fares/**"}]
  operators: "%s"
reports:
  compiler: {file: build/cc.txt, as: diagnostics, clean: empty, sealed: ci}
  two: {file: [build/a.txt, build/b.txt], as: diagnostics, clean: empty, sealed: ci, optional: true}
doors:
  merge: {judges: branch, needs: compiler, limits: [{count: new, severity: warning, most: 0}]}
  both: {judges: branch, needs: [compiler, two], limits: [{count: new, severity: warning, most: 0}]}
  hints: {judges: branch, needs: compiler, mode: advise, limits: [{count: new, severity: warning, most: 0}]}
  push: {judges: push, refs: [main, release], needs: {verdict: merge, sealed: ci}, exceptions: operators, limits: [{count: new, severity: warning, most: 0}]}
`

// keyNames are the keys in the order of the policy.
var keyNames = []string{"ci", "ended", "early", "fares", "operators"}

func newSealing(t *testing.T, format ...string) *sealing {
	s := &sealing{sandbox: &sandbox{T: t, dir: t.TempDir()}, keys: t.TempDir()}
	s.git(append([]string{"init", "-q", "-b", "main"}, format...)...)
	public := map[string]any{}
	for _, name := range append(keyNames, "stranger") {
		s.must(0, "seal", "--generate-key", s.key(name))
		data, err := os.ReadFile(s.key(name) + ".pub")
		if err != nil {
			t.Fatal(err)
		}
		public[name] = strings.TrimSpace(string(data))
	}
	var inOrder []any
	for _, name := range keyNames {
		inOrder = append(inOrder, public[name])
	}
	s.write(".zincdoor/policy.yaml", fmt.Sprintf(sealedPolicy, inOrder...))
	s.write(".zincdoor/list.jsonl", `{"zincdoor":"baseline/1"}`+"\n")
	s.write(".gitignore", "build/\n*.seal\n")
	s.write("core/tide.c", lines(10))
	s.base = s.commit("one")
	s.git("branch", "release")
	s.git("switch", "-qc", "ebb")
	s.write("core/tide.c", altered)
	s.head = s.commit("ebb")
	s.write("build/cc.txt", "")
	return s
}

func (s *sealing) key(name string) string { return filepath.Join(s.keys, name) }

// sealReport seals what the compiler left, and gives the option that brings that.
func (s *sealing) sealReport(more ...string) []string {
	s.Helper()
	if !slices.Contains(more, "--key") {
		more = append(more, "--key", s.key("ci"))
	}
	s.must(0, slices.Concat([]string{"seal", "--report", "compiler=build/cc.txt", "--output", "cc.seal"}, more)...)
	return []string{"--sealed", "cc.seal"}
}

// sealVerdict has the door judge, whatever it answers, and seals its verdict into a file.
func (s *sealing) sealVerdict(more ...string) string {
	s.Helper()
	args := []string{"gate", "--write", "sealed=v.seal"}
	if !slices.Contains(more, "--into") && !slices.Contains(more, "--tree") {
		args = append(args, "--into", "main")
	}
	if !slices.Contains(more, "--key") {
		args = append(args, "--key", s.key("ci"))
	}
	if !slices.Contains(more, "--door") {
		args = append(args, "--door", "merge")
	}
	if !slices.Contains(more, "--sealed") {
		args = append(args, s.sealReport()...)
	}
	if out, errs, code := s.run(slices.Concat(args, more)...); code > 2 {
		s.Fatalf("%s%s", out, errs)
	}
	return "v.seal"
}

// pushed judges what a push of a ref would bring, as the server does.
func (s *sealing) pushed(old, new string, more ...string) verdict {
	s.Helper()
	defer func() { s.stdin = "" }()
	s.stdin = fmt.Sprintf("%s %s refs/heads/main\n", old, new)
	return s.judge(append([]string{"--push"}, more...)...)
}

// forge seals what the program wouldn't: a statement as it was read from a file, altered.
func (s *sealing) forge(file, key string, alter func(*seal.Statement)) string {
	s.Helper()
	envelope, err := seal.Read([]byte(s.read(file)))
	if err != nil {
		s.Fatal(err)
	}
	data, err := os.ReadFile(s.key(key))
	if err != nil {
		s.Fatal(err)
	}
	secret, err := seal.ParsePrivate(data, nil)
	if err != nil {
		s.Fatal(err)
	}
	statement := envelope.Statement
	alter(&statement)
	sealed, err := seal.Seal(statement, secret)
	if err != nil {
		s.Fatal(err)
	}
	s.write("forged.seal", string(sealed))
	return "forged.seal"
}

// TestSealed follows the honest ways: reports from one machine to another, the verdict as a file and as a ref, the exception.
func TestSealed(t *testing.T) {
	t.Parallel()
	for name, format := range map[string][]string{"SHA-1": nil, "SHA-256": {"--object-format=sha256"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newSealing(t, format...)
			file := s.sealVerdict()
			if v := s.pushed(s.base, s.head, "--sealed", file); v.Outcome != "open" {
				t.Errorf("the honest verdict doesn't open the door:\n%s", v.about())
			}
			if out := s.must(0, "verify", file, "--door", "merge"); !strings.Contains(out, "PASSED") || !strings.Contains(out, "holds for") {
				t.Errorf("it isn't verified:\n%s", out)
			}
			for _, sealed := range []string{file, "cc.seal"} {
				s.validate(t, "verified", s.must(0, "verify", sealed, "--format", "json"))
			}
			if out := s.must(0, "verify", "cc.seal", "--report", "compiler=build/cc.txt", "--format", "json"); !strings.Contains(out, `"holds":true`) {
				t.Errorf("the report isn't verified:\n%s", out)
			}
			s.must(0, "seal", "--as-ref", file)
			if v := s.pushed(s.base, s.head); v.Outcome != "open" {
				t.Errorf("the verdict in a ref doesn't open the door:\n%s", v.about())
			}
		})
	}
	t.Run("over a bare server", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		bare := &sandbox{T: t, dir: filepath.Join(t.TempDir(), "server.git")}
		s.git("push", "-q", s.initBare(bare), "main")
		bare.hook("pre-receive", "#!/bin/sh\nexec %s gate --push --hook\n")
		if seen, ok := s.push(bare.dir, "ebb:main"); ok || !strings.Contains(seen, "no sealed verdict is of the judged tree") {
			t.Errorf("it is let in without a seal:\n%s", seen)
		}
		ref := strings.Fields(s.must(0, "seal", "--as-ref", s.sealVerdict()))[0]
		if seen, ok := s.push(bare.dir, "ebb:main", target.SealedRefs+"*"); !ok {
			t.Errorf("the sealed verdict doesn't let it in:\n%s", seen)
		}
		for name, args := range map[string][]string{
			"overwritten":      {bare.dir, "+" + s.blob(s.read("cc.seal")) + ":" + ref},
			"deleted":          {bare.dir, ":" + ref},
			"of a commit":      {bare.dir, "HEAD:" + target.SealedRefs + "a/b"},
			"no envelope":      {bare.dir, s.blob("boards") + ":" + target.SealedRefs + "a/b"},
			"another's place":  {bare.dir, s.blob(s.read("cc.seal")) + ":" + target.SealedRefs + "a/b"},
			"a large envelope": {bare.dir, s.blob(s.read("cc.seal")+strings.Repeat(" ", seal.MostBytes)) + ":" + target.SealedRefs + "a/b"},
		} {
			if seen, ok := s.push(args...); ok {
				t.Errorf("%s: it is let in:\n%s", name, seen)
			}
		}
		s.write("core/tide.c", altered+altered)
		s.commit("the gauge is down")
		s.must(0, "seal", "--exception", "push", "--reason", "the gauge is down", "--by", "Ida", "--until", "2090-01-01", "--key", s.key("operators"), "--as-ref")
		if seen, ok := s.push(bare.dir, "ebb:main", target.SealedRefs+"*"); !ok || !strings.Contains(seen, "by an exception of Ida; else unjudged") {
			t.Errorf("the exception doesn't let it in:\n%s", seen)
		}
	})
	t.Run("in a note of git's", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		s.git("notes", "--ref=seals", "add", "-F", s.sealVerdict(), s.head)
		s.git("clone", "-q", "--no-local", ".", filepath.Join(s.keys, "elsewhere"))
		other := &sealing{sandbox: &sandbox{T: t, dir: filepath.Join(s.keys, "elsewhere")}, base: s.base, head: s.head}
		other.git("fetch", "-q", "origin", "refs/notes/seals:refs/notes/seals")
		other.write("note.seal", other.git("notes", "--ref=seals", "show", s.head)+"\n")
		if v := other.pushed(s.base, s.head, "--sealed", "note.seal"); v.Outcome != "open" {
			t.Errorf("the verdict in a note doesn't open the door:\n%s", v.about())
		}
	})
	t.Run("a linter that the door starts", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		s.git("switch", "-q", "main")
		s.write(".zincdoor/policy.yaml", strings.Replace(s.read(".zincdoor/policy.yaml"), "compiler: {file: build/cc.txt, as: diagnostics, clean: empty,", "compiler: {run: ['true'], as: diagnostics,", 1))
		s.commit("started")
		s.git("switch", "-q", "-C", "flood")
		s.write("core/tide.c", altered)
		s.commit("flood")
		for key, want := range map[string]string{"": "give the key to what starts the linter", "stranger": "the key of this call is none of theirs", "ended": "which ended on", "ci": ""} {
			args := []string{"--into", "main", "--door", "merge", "--run"}
			if key != "" {
				args = append(args, "--key", s.key(key))
			}
			if v := s.judge(args...); (v.Outcome == "open") != (want == "") || !strings.Contains(v.about(), want) {
				t.Errorf("with the key %q: %s", key, v.about())
			}
		}
	})
	t.Run("a work tree that changes while it is judged", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		write := fmt.Sprintf("echo 'int more;' >> '%s'", filepath.Join(s.dir, "core/tide.c"))
		policy := strings.Replace(s.read(".zincdoor/policy.yaml"), "compiler: {file: build/cc.txt, as: diagnostics, clean: empty,", fmt.Sprintf("compiler: {run: [sh, -c, %q], as: diagnostics,", write), 1)
		s.write(".zincdoor/policy.yaml", policy)
		s.commit("a linter that writes")
		s.write("core/tide.c", altered+altered)
		out := s.must(2, "gate", "--worktree", "--door", "merge", "--run", "--key", s.key("ci"), "--write", "sealed=v.seal")
		if _, err := os.Stat(filepath.Join(s.dir, "v.seal")); err == nil || !strings.Contains(out, "files changed while they were judged") {
			t.Errorf("what wasn't judged is sealed:\n%s", out)
		}
	})
	t.Run("who only looks isn't asked for seals", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		s.write("build/cc.txt", warn("core/tide.c", 5))
		if out := s.must(0, "findings", "--into", "main", "--door", "merge"); !strings.Contains(out, "core/tide.c:5") {
			t.Errorf("findings of an unsealed report aren't shown:\n%s", out)
		}
	})
	t.Run("of the index and the work tree", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		s.write("core/tide.c", altered+altered)
		s.write("core/ebb.c", lines(3))
		if out := s.must(2, "seal", "--report", "compiler=build/cc.txt", "--key", s.key("ci")); !strings.Contains(out, "tracked files differ") {
			t.Errorf("it seals what isn't the commit's:\n%s", out)
		}
		s.write("build/cc.txt", "") // which the compiler writes once more
		whole := s.sealReport("--worktree")
		if v := s.judge(append(whole, "--worktree", "--door", "merge")...); v.Outcome != "open" {
			t.Errorf("of the work tree: %s", v.about())
		}
		if v := s.judge(append(whole, "--into", "main", "--door", "merge")...); v.Outcome != "unjudged" || !strings.Contains(v.about(), "(no commit here has it)") {
			t.Errorf("of another tree: %s", v.about())
		}
		s.git("add", "core/tide.c")
		s.write("build/cc.txt", "")
		os.Remove(filepath.Join(s.dir, "core/ebb.c"))
		if v := s.judge(append(s.sealReport("--staged"), "--staged", "--door", "merge")...); v.Outcome != "open" {
			t.Errorf("of the index: %s", v.about())
		}
		s.commit("both")
		if v := s.judge("--into", "main", "--door", "merge", "--sealed", "cc.seal"); v.Outcome != "open" {
			t.Errorf("of the commit that was made of the index: %s", v.about())
		}
	})
	t.Run("an encrypted key", func(t *testing.T) {
		t.Parallel()
		s := newSealing(t)
		s.env = []string{"ZINCDOOR_KEY_PASSPHRASE=slack water"}
		s.must(0, "seal", "--generate-key", s.key("locked"))
		s.must(0, "seal", "--report", "compiler=build/cc.txt", "--key", s.key("locked"), "--output", "cc.seal")
		s.env = []string{"ZINCDOOR_KEY_PASSPHRASE=high water"}
		if out := s.must(2, "seal", "--report", "compiler=build/cc.txt", "--key", s.key("locked")); !strings.Contains(out, "the passphrase is wrong") {
			t.Error(out)
		}
		if out := s.must(2, "seal", "--generate-key", s.key("locked")); !strings.Contains(out, "file exists") {
			t.Errorf("a key is overwritten:\n%s", out)
		}
	})
}

func (s *sealing) initBare(bare *sandbox) string {
	s.git("init", "-q", "--bare", "-b", "main", bare.dir)
	return bare.dir
}

// blob stores a content and gives its name.
func (s *sealing) blob(text string) string {
	s.write("blob.seal", text)
	return s.git("hash-object", "-w", "blob.seal")
}

// TestCheats: each way to get round a seal is refused, for its own reason.
func TestCheats(t *testing.T) {
	t.Parallel()
	wholeRun(t)
	past := time.Now().AddDate(0, 0, -3).UTC().Format(time.DateOnly)
	reports := func(s *sealing, more ...string) verdict {
		return s.judge(append([]string{"--into", "main", "--door", "merge"}, more...)...)
	}
	for name, c := range map[string]struct {
		cheat func(s *sealing) verdict
		want  string
	}{
		"a report without a seal": {func(s *sealing) verdict { return reports(s) }, "it isn't sealed; seal it where it is made"},
		"a report sealed by a stranger": {func(s *sealing) verdict {
			return reports(s, s.sealReport("--key", s.key("stranger"))...)
		}, "isn't sealed by a key of ci"},
		"a report sealed by another's key": {func(s *sealing) verdict {
			return reports(s, s.sealReport("--key", s.key("operators"))...)
		}, "isn't sealed by a key of ci"},
		"a key that has ended": {func(s *sealing) verdict {
			return reports(s, s.sealReport("--key", s.key("ended"))...)
		}, "which ended on 2026-01-01"},
		"a key that doesn't count yet": {func(s *sealing) verdict {
			return reports(s, s.sealReport("--key", s.key("early"))...)
		}, "which counts from 2090-01-01"},
		"a key for other files": {func(s *sealing) verdict {
			return reports(s, s.sealReport("--key", s.key("fares"))...)
		}, "a key that speaks for fares/** alone, and the change touches core/tide.c"},
		"a report of an earlier commit": {func(s *sealing) verdict {
			seals := s.sealReport("--commit", "main")
			return reports(s, seals...)
		}, "is sealed for another tree"},
		"an edited report": {func(s *sealing) verdict {
			s.write("build/cc.txt", warn("core/tide.c", 5))
			seals := s.sealReport()
			s.write("build/cc.txt", "")
			return reports(s, seals...)
		}, "isn't the one that was sealed"},
		"another tool's report": {func(s *sealing) verdict {
			s.must(0, "seal", "--report", "vet=build/cc.txt", "--key", s.key("ci"), "--output", "vet.seal")
			return reports(s, "--sealed", "vet.seal")
		}, "has no report compiler"},
		"a run that failed": {func(s *sealing) verdict { return reports(s, s.sealReport("--exit-code", "137")...) }, "failed with exit code 137"},
		"one of two files left out": {func(s *sealing) verdict {
			s.write("build/a.txt", "")
			s.write("build/b.txt", warn("core/tide.c", 5))
			s.must(0, "seal", "--report", "compiler=build/cc.txt", "--report", "two=build/a.txt", "--report", "two=build/b.txt", "--key", s.key("ci"), "--output", "all.seal")
			return s.judge("--into", "main", "--door", "both", "--sealed", "all.seal", "--report", "two=build/a.txt")
		}, "the report two isn't the one that was sealed"},
		"a report sealed at a time to come": {func(s *sealing) verdict {
			s.sealReport()
			return reports(s, "--sealed", s.forge("cc.seal", "ci", func(st *seal.Statement) { st.Reports.Time = time.Now().AddDate(0, 0, 1) }))
		}, "was sealed at a time to come"},
		"a report of the state before, unsealed": {func(s *sealing) verdict {
			s.write("build/cc.txt", warn("core/tide.c", 5))
			seals := s.sealReport()
			s.write("build/base.txt", warn("core/tide.c", 5))
			return reports(s, append(seals, "--base-report", "diagnostics=build/base.txt")...)
		}, "one of the state before the change must be too"},
		"a report of the state before, sealed for this one": {func(s *sealing) verdict {
			s.write("build/cc.txt", warn("core/tide.c", 5))
			return reports(s, append(s.sealReport(), "--base-report", "compiler=build/cc.txt")...)
		}, "is sealed for another tree"},
		"a verdict in the place of a report": {func(s *sealing) verdict { return reports(s, "--sealed", s.sealVerdict()) }, "it isn't sealed; seal it"},

		"a push without a verdict": {func(s *sealing) verdict { return s.pushed(s.base, s.head) }, "no sealed verdict is of the judged tree"},
		"a report in the place of a verdict": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, s.sealReport()...)
		}, "no sealed verdict is of the judged tree"},
		"a verdict sealed by a stranger": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--key", s.key("stranger")))
		}, "isn't sealed by a key of ci"},
		"a verdict sealed by an operator": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--key", s.key("operators")))
		}, "isn't sealed by a key of ci"},
		"a verdict by a key for other files": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--key", s.key("fares")))
		}, "speaks for fares/** alone"},
		"a verdict of another commit": {func(s *sealing) verdict {
			file := s.sealVerdict()
			s.write("core/tide.c", altered+"// more\n")
			return s.pushed(s.base, s.commit("more"), "--sealed", file)
		}, "is sealed for another tree"},
		"judged against one's own branch": {func(s *sealing) verdict {
			s.git("branch", "own", "HEAD")
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--into", "own"))
		}, "was judged for refs/heads/own, and this goes to refs/heads/main"},
		"judged for another guarded ref": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--into", "release"))
		}, "was judged for refs/heads/release, and this goes to refs/heads/main"},
		"judged by its commit's name": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--into", s.base))
		}, "was judged for no ref"},
		"judged as a whole tree": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--tree", s.head))
		}, "was judged for no ref"},
		"judged against an older tip": {func(s *sealing) verdict {
			file := s.sealVerdict()
			s.git("switch", "-q", "main")
			tip := s.commit("main goes on")
			return s.pushed(tip, s.head, "--sealed", file)
		}, "bring the change up to date with it"},
		"another door's verdict": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--door", "hints"))
		}, "is a verdict of the door hints, and the one of merge is needed"},
		"a shut door's verdict": {func(s *sealing) verdict {
			s.write("build/cc.txt", warn("core/tide.c", 5))
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict())
		}, "says that the door merge was shut"},
		"an unjudged door's verdict": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--sealed", s.sealReport("--key", s.key("stranger"))[1]))
		}, "says that the door merge was unjudged"},
		"an advising door's verdict": {func(s *sealing) verdict {
			file := s.sealVerdict()
			return s.pushed(s.base, s.head, "--sealed", s.forge(file, "ci", func(st *seal.Statement) { st.Verdict.Passed, st.Verdict.Mode = false, "advise" }))
		}, "only advises, so it proves nothing"},
		"judged by a policy of one's own": {func(s *sealing) verdict {
			s.write("build/own.yaml", strings.Replace(s.read(".zincdoor/policy.yaml"), "most: 0", "most: 9", 1))
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--policy", "build/own.yaml"))
		}, "was judged by another policy"},
		"judged by an older list": {func(s *sealing) verdict {
			s.write("build/list.jsonl", s.read(".zincdoor/list.jsonl")+" \n")
			return s.pushed(s.base, s.head, "--sealed", s.sealVerdict("--baseline", "build/list.jsonl"))
		}, "was judged by another baseline"},
		"a verdict that rests on what ended": {func(s *sealing) verdict {
			file := s.sealVerdict()
			return s.pushed(s.base, s.head, "--sealed", s.forge(file, "ci", func(st *seal.Statement) { st.Verdict.Until = past }))
		}, "holds until " + past},
		"a verdict of tomorrow": {func(s *sealing) verdict {
			file := s.sealVerdict()
			return s.pushed(s.base, s.head, "--sealed", s.forge(file, "ci", func(st *seal.Statement) { st.Verdict.Day = "2090-01-01" }))
		}, "was sealed at a time to come"},
		"a verdict under another's name": {func(s *sealing) verdict {
			file := s.sealVerdict("--key", s.key("stranger"))
			text := s.read(file)
			s.write("named.seal", strings.Replace(text, s.fingerprint("stranger"), s.fingerprint("ci"), 1))
			return s.pushed(s.base, s.head, "--sealed", "named.seal")
		}, "isn't sealed by a key of ci"},

		"an exception for another door": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.except("merge", "2090-01-01", "operators"))
		}, "is an exception for the door merge, and this is push"},
		"an exception that ended": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.except("push", past, "operators"))
		}, "ended on " + past},
		"an exception of the build's key": {func(s *sealing) verdict {
			return s.pushed(s.base, s.head, "--sealed", s.except("push", "2090-01-01", "ci"))
		}, "isn't sealed by a key of operators"},
		"an exception by a key for other files": {func(s *sealing) verdict {
			s.git("switch", "-q", "main")
			s.write(".zincdoor/policy.yaml", strings.Replace(s.read(".zincdoor/policy.yaml"), "exceptions: operators", "exceptions: ci", 1))
			tip := s.commit("exceptions of ci")
			s.git("switch", "-q", "-C", "flood")
			s.write("core/tide.c", altered)
			flood := s.commit("flood")
			file := s.except("push", "2090-01-01", "fares")
			if out := s.must(0, "verify", file); !strings.Contains(out, "speaks for fares/** alone") {
				s.Errorf("verify doesn't say what the key speaks for:\n%s", out)
			}
			s.validate(s.T, "verified", s.must(0, "verify", file, "--format", "json"))
			if out := s.must(1, "verify", file, "--into", "main"); !strings.Contains(out, "the change touches core/tide.c") {
				s.Errorf("verify doesn't compare what the change touches:\n%s", out)
			}
			return s.pushed(tip, flood, "--sealed", file)
		}, "a key that speaks for fares/** alone"},
		"an exception for another tree": {func(s *sealing) verdict {
			file := s.except("push", "2090-01-01", "operators")
			s.write("core/tide.c", altered+altered)
			return s.pushed(s.base, s.commit("more"), "--sealed", file)
		}, "is sealed for another tree"},
		"an exception at a door that takes none": {func(s *sealing) verdict {
			return reports(s, "--sealed", s.except("merge", "2090-01-01", "operators"))
		}, "it isn't sealed; seal it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newSealing(t)
			v := c.cheat(s)
			if v.Outcome == "open" {
				t.Fatalf("a wrong open:\n%s", v.about())
			}
			if !strings.Contains(v.about(), c.want) {
				t.Errorf("it should say %q:\n%s", c.want, v.about())
			}
		})
	}
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"sealed for another day":  {[]string{"gate", "--into", "main", "--door", "merge", "--today", "2025-01-01", "--key", "KEY", "--write", "sealed=v.seal"}, "leave out --today"},
		"sealed without a key":    {[]string{"gate", "--into", "main", "--door", "merge", "--format", "sealed"}, "needs the key that seals"},
		"no envelope":             {[]string{"gate", "--into", "main", "--door", "merge", "--sealed", "core/tide.c"}, "isn't a DSSE envelope"},
		"a missing envelope":      {[]string{"gate", "--into", "main", "--door", "merge", "--sealed", "none.seal"}, "there is no such file"},
		"an exception, no reason": {[]string{"seal", "--exception", "push", "--until", "2090-01-01", "--key", "KEY"}, "needs a reason"},
		"an exception, no end":    {[]string{"seal", "--exception", "push", "--reason", "fog", "--key", "KEY"}, "needs its last day"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newSealing(t)
			args := slices.Clone(c.args)
			if at := slices.Index(args, "KEY"); at >= 0 {
				args[at] = s.key("ci")
			}
			if out := s.must(3, args...); !strings.Contains(out, c.want) {
				t.Errorf("it should say %q:\n%s", c.want, out)
			}
		})
	}
}

func (s *sealing) except(door, until, key string) string {
	s.Helper()
	s.must(0, "seal", "--exception", door, "--reason", "fog", "--by", "Ida", "--until", until, "--key", s.key(key), "--output", "e.seal")
	return "e.seal"
}

// fingerprint is what a key is called in an envelope.
func (s *sealing) fingerprint(name string) string {
	data, err := os.ReadFile(s.key(name) + ".pub")
	if err != nil {
		s.Fatal(err)
	}
	key, err := seal.ParsePublic(string(data))
	if err != nil {
		s.Fatal(err)
	}
	return key.ID
}
