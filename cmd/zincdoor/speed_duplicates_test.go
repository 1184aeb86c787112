package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// BenchmarkDuplicates looks for the copies of a change of 500 lines among millions: the first time, when all of the tree is read, beside
// git's reading of all files; and after that, over a gate of the same change that measures its lines alone.
func BenchmarkDuplicates(b *testing.B) {
	s := releases(b)
	s.git("checkout", "-q", "--detach", "main")
	defer s.git("checkout", "-q", "main")
	lines := strings.SplitAfter(s.read("net/http/server.go"), "\n")
	s.write("net/http/copied.go", strings.Join(lines[:500], ""))
	s.git("add", "net/http/copied.go")
	s.git("commit", "-q", "-m", "a copy")
	policy := func(limit string) string {
		file := filepath.Join(b.TempDir(), "policy.yaml")
		text := "zincdoor: 1\ndoors: {d: {judges: range, limits: [{" + limit + ", most: 5}]}}\n"
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
		return file
	}
	judge := func(limit string) call {
		return gate("--range", "HEAD~1..HEAD", "--policy", policy(limit), "--format", "json")
	}
	cache := b.TempDir()
	s.env = append(s.env, "XDG_CACHE_HOME="+cache)
	b.Run("all of the tree", func(b *testing.B) {
		first := judge("measure: duplicated-lines, of: touched")
		anew := call{here: func() error {
			if err := os.RemoveAll(filepath.Join(cache, "zincdoor")); err != nil {
				return err
			}
			s.time(b, first)
			return nil
		}}
		s.over(b, 10_000, anew, call{here: func() error { return nil }})
	})
	b.Run("a change of 500 lines", func(b *testing.B) {
		s.over(b, 300, judge("measure: duplicated-lines, of: touched"), judge("measure: lines, of: touched"))
	})
}
