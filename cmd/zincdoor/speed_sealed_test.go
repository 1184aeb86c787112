package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const (
	pushedCommits = 1000
	sealedGoal    = 200 // milliseconds
)

// BenchmarkSealedPush has a server's door believe a sealed verdict on a push of a thousand commits, each in a file of its own.
func BenchmarkSealedPush(b *testing.B) {
	s := kept(b, "sealed-push", func(s *sandbox) {
		keys := filepath.Join(s.dir, ".git")
		s.run("seal", "--generate-key", filepath.Join(keys, "ci"))
		public, err := os.ReadFile(filepath.Join(keys, "ci.pub"))
		if err != nil {
			b.Fatal(err)
		}
		s.write(".zincdoor/policy.yaml", fmt.Sprintf(`zincdoor: 1
seals: {ci: "%s"}
reports: {compiler: {file: .git/cc.txt, as: diagnostics, clean: empty}}
doors:
  merge: {judges: branch, needs: compiler, limits: [{count: new, severity: warning, most: 0}]}
  push: {judges: push, refs: [main], needs: {verdict: merge, sealed: ci}, limits: [{count: new, severity: warning, most: 0}]}
`, strings.TrimSpace(string(public))))
		for n := range 2 * pushedCommits {
			s.write(fmt.Sprintf("core/quay%d/tide%d.c", n/100, n), lines(50))
		}
		s.commit("one")
		s.git("switch", "-qc", "ebb")
		for n := range pushedCommits {
			name := fmt.Sprintf("core/quay%d/tide%d.c", n/100, n)
			s.write(name, altered)
			s.git("commit", "-q", "-m", "ebb", "--", name)
		}
		s.write(".git/cc.txt", "")
		s.run("gate", "--into", "main", "--door", "merge", "--report", "compiler=.git/cc.txt", "--key", filepath.Join(keys, "ci"), "--write", "sealed=.git/v.seal")
		s.run("seal", "--as-ref", ".git/v.seal")
	})
	ours := gate("--push", "--format", "json")
	ours.stdin = []byte(s.git("rev-parse", "main") + " " + s.git("rev-parse", "ebb") + " refs/heads/main\n")
	s.stdin = string(ours.stdin)
	if out, _, code := s.run(append([]string{"gate"}, ours.args[1:]...)...); code != 0 || !strings.Contains(out, `"sealed":"ci"`) {
		b.Fatalf("the door isn't open by the seal: exit code %d\n%s", code, out)
	}
	s.over(b, sealedGoal, ours, git("rev-parse", "HEAD"))
}
