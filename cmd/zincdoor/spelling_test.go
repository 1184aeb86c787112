package main

import (
	"fmt"
	"strings"
	"testing"
)

// spelled is a repository with a branch that adds to its words.
func spelled(t *testing.T, setting string) *sandbox {
	s := repository(t)
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\npaths: {sets: {boards: boards}}\nhouse: {spelling: "+setting+"}\ndoors:\n  merge: {judges: branch, needs: house, limits: [{count: new, severity: note, most: 0}]}\n  lets: {judges: branch, needs: house, acceptances: {most: 1}, limits: [{count: new, severity: note, most: 0}]}\n  commit: {judges: staged, needs: house, limits: [{count: new, severity: note, most: 0}]}\n")
	s.write("core/tide.c", "/* The tide is recieved here. */\nint tide;\n")
	s.commit("one")
	s.git("checkout", "-q", "-b", "more")
	return s
}

// onTarget commits on the target what it is to have besides, and brings it to the branch.
func (s *sandbox) onTarget(message string, prepare func()) {
	s.Helper()
	s.git("checkout", "-q", "main")
	prepare()
	s.commit(message)
	s.git("checkout", "-q", "more")
	s.git("merge", "-q", "main")
}

// misspelt are the words that a door finds, in order.
func (s *sandbox) misspelt(args ...string) string {
	s.Helper()
	out, errs, code := s.run(append([]string{"findings", "--rule", "spelling", "--standing", "new", "--fields", "path,line,word,occurrences"}, args...)...)
	if code != 0 {
		s.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	return strings.ReplaceAll(strings.TrimSpace(strings.ReplaceAll(out, "\n", "; ")), "\t", " ")
}

// TestSpelling: misspelt words on changed lines are new findings, each once a file; words that the team has, that a dictionary of the policy
// has, or that five files use are none.
func TestSpelling(t *testing.T) {
	t.Parallel()
	const text = "/* The tide is recieved here. */\nint tide;\n/* Untill it turns, untill then. */\nint berht = 0; // wait at the jetty\n"
	for _, c := range []struct {
		name, setting string
		prepare       func(s *sandbox)
		want          string
	}{
		{"on", "on", func(s *sandbox) { s.write("core/tide.c", text) }, "core/tide.c 3 Untill 2;"},
		{"names", "{identifiers: true}", func(s *sandbox) { s.write("core/tide.c", text) }, "core/tide.c 3 Untill 2; core/tide.c 4 berht 1;"},
		{"avoided", "{instead: {jetty: pontoon}}", func(s *sandbox) { s.write("core/tide.c", text) }, "core/tide.c 3 Untill 2; core/tide.c 4 jetty 1;"},
		{"the policy", "{instead: {jetty: pontoon}, identifiers: true}", func(s *sandbox) {
			s.write(".zincdoor/policy.yaml", s.read(".zincdoor/policy.yaml")+"teams: {jetty: [docs]}\n")
		}, ""},
		{"other files", "{path: docs}", func(s *sandbox) { s.write("core/tide.c", text) }, ""},
		{"a changed line among others", "on", func(s *sandbox) {
			s.write("core/tide.c", "/* The tide is recieved here. */\nint tide;\n// Here it is recieved too.\n")
		}, "core/tide.c 3 recieved 2;"},
		{"Markdown", "on", func(s *sandbox) {
			s.write("docs/a.md", "# Teh board\n\nWe recieve `recieve`. See [untill](untill.md).\n")
		}, "docs/a.md 3 untill 1;"},
		{"a dictionary", "{dictionaries: words/quay.txt}", func(s *sandbox) {
			s.onTarget("words", func() {
				s.write("words/quay.txt", "# ours\nuntill\n")
			})
			s.write("core/tide.c", text)
		}, ""},
		{"a bent dictionary", "{dictionaries: words/quay.dic}", func(s *sandbox) {
			s.onTarget("words", func() {
				s.write("words/quay.dic", "1\nunt/A\n")
				s.write("words/quay.aff", "SFX A Y 1\nSFX A 0 ill .\n")
			})
			s.write("core/tide.c", text)
		}, ""},
		{"long lines", "on", func(s *sandbox) {
			s.write("docs/a.md", strings.Repeat("untill ", 100_000)+strings.Repeat("x", 1_000_000)+strings.Repeat("<", 200_000)+"\n")
		}, "docs/a.md 1 untill 100000;"},
		{"known", "on", func(s *sandbox) {
			s.onTarget("used", func() {
				for n := range 5 {
					s.write(fmt.Sprintf("core/x%d.c", n), "// wait untill then\n")
				}
			})
			s.write("core/tide.c", text)
		}, ""},
		{"known, but less than the right one", "on", func(s *sandbox) {
			s.onTarget("used", func() {
				for n := range 5 {
					s.write(fmt.Sprintf("core/x%d.c", n), "// wait untill then\n")
				}
				for n := range 6 {
					s.write(fmt.Sprintf("core/y%d.c", n), "// wait until then\n")
				}
			})
			s.write("core/tide.c", text)
		}, "core/tide.c 3 Untill 2;"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := spelled(t, c.setting)
			c.prepare(s)
			s.commit("more")
			if got := s.misspelt("--into", "main", "--door", "merge"); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

// TestOwnWords: the words of the target count; what a change adds to them is shown, and counts as far as the door lets a change accept
// something. A commit is judged by what it has itself.
func TestOwnWords(t *testing.T) {
	t.Parallel()
	s := spelled(t, "{own-words: {boards: boards/words.txt, core: .zincdoor/words.txt}}")
	s.write("core/tide.c", "// wait untill then\n")
	s.write("boards/b.py", "# wait untill then\n")
	if out := s.must(3, "spelling", "add", "untill"); !strings.Contains(out, "say which: --list FILE (boards/words.txt, .zincdoor/words.txt)") {
		t.Error(out)
	}
	if out := s.must(0, "spelling", "add", "--list", ".zincdoor/words.txt", "untill"); out != ".zincdoor/words.txt: untill\n" {
		t.Error(out)
	}
	s.git("add", "-A")
	if got := s.misspelt("--staged", "--door", "commit"); got != "boards/b.py 1 untill 1;" {
		t.Error(got)
	}
	s.commit("more")
	for door, want := range map[string]string{"merge": "boards/b.py 1 untill 1; core/tide.c 1 untill 1;", "lets": "boards/b.py 1 untill 1;"} {
		if got := s.misspelt("--into", "main", "--door", door); got != want {
			t.Errorf("%s: %s, want %s", door, got, want)
		}
		if out, _, _ := s.run("gate", "--into", "main", "--door", door); !strings.Contains(out, "the change adds to .zincdoor/words.txt: untill") {
			t.Errorf("%s\n%s", door, out)
		} else if held := strings.Contains(out, "held    acceptances") && strings.Contains(out, "1, at most 1"); held != (door == "lets") {
			t.Errorf("words that are added count as acceptances: %v\n%s", held, out)
		}
	}
	s.must(0, "spelling", "add", "--list", ".zincdoor/words.txt", "--inflected", "berht", "UNTILL")
	if got := s.read(".zincdoor/words.txt"); got != "berht +\nuntill\n" {
		t.Error(got)
	}
	s.commit("two words")
	if got := s.misspelt("--into", "main", "--door", "lets"); got != "boards/b.py 1 untill 1; core/tide.c 1 untill 1;" {
		t.Errorf("more words than the door allows: %s", got)
	}
	s.must(3, "spelling", "add", "two words")
	s.write(".zincdoor/words.txt", "two words\n")
	if out := s.must(3, "spelling", "add", "--list", ".zincdoor/words.txt", "ebb"); !strings.Contains(out, ".zincdoor/words.txt: line 1: one word a line") {
		t.Error(out)
	}
	s.git("checkout", "-q", ".zincdoor/words.txt")
}

// TestFixSpelling: a fix puts a word right wherever the change has it, each time in its own case; names and other lines stay.
func TestFixSpelling(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, setting, had, text, want string }{
		{"a word", "on", "", "// neccessary\n", "// necessary\n"},
		{"every line of the change", "on", "// untill noon\n", "// untill noon\n// Untill it turns, untill then.\n\n// Or untill dusk.\n", "// untill noon\n// Until it turns, until then.\n\n// Or until dusk.\n"},
		{"a name beside it", "{identifiers: true}", "", "int untill = 0; // wait untill then\n", "int untill = 0; // wait untill then\n"},
		{"avoided", "{instead: {jetty: pontoon}}", "", "// The jetty. Jetty!\n", "// The pontoon. Pontoon!\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := spelled(t, c.setting)
			s.write("core/tide.c", c.had)
			s.commit("before")
			s.write("core/tide.c", c.text)
			out := s.must(0, "fix", "--worktree", "--apply", "--door", "commit")
			if got := s.read("core/tide.c"); got != c.want {
				t.Errorf("%s\n%s", got, out)
			}
		})
	}
}
