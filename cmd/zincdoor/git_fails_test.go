//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// TestGitFails: whichever of git's commands is ended by the machine while a change is judged, a door that is to be shut doesn't open.
func TestGitFails(t *testing.T) {
	t.Parallel()
	wholeRun(t)
	git, err := exec.LookPath("git")
	if err != nil {
		t.Fatal(err)
	}
	const policyText = `zincdoor: 1
reports: {compiler: {file: build/r.txt, as: diagnostics, covers: "**"}}
doors:
  commit: {judges: staged, acceptances: {most: 0}, limits: [{count: new, most: 0}]}
  merge: {judges: branch, acceptances: {most: 0}, limits: [{count: new, most: 0}]}
  push: {judges: push, acceptances: {most: 0}, limits: [{count: new, most: 0}]}
`
	for _, args := range [][]string{{"--staged"}, {"--into", "main"}, {"--push"}} {
		t.Run(args[0], func(t *testing.T) {
			t.Parallel()
			s := repository(t)
			s.write(".gitignore", "build/\n")
			s.write(".zincdoor/policy.yaml", policyText)
			s.write(".zincdoor/baseline.jsonl", `{"zincdoor":"baseline/1","covers":[{"tool":"gcc","paths":["**"]}]}`+"\n")
			s.write("core/tide.c", lines(9))
			base := s.commit("Tides")
			s.git("switch", "-q", "-c", "change")
			s.write("core/tide.c", lines(12))
			s.write("build/r.txt", warn("core/tide.c", 11))
			s.git("add", "-A")
			if _, errs, code := s.run("baseline", "accept", "--rule", "-Wunused", "--yes", "--report", "build/r.txt"); code != 0 {
				t.Fatal(errs)
			}
			s.git("add", "-A")
			if args[0] != "--staged" {
				s.commit("More tides")
			}
			if args[0] == "--push" {
				s.stdin = fmt.Sprintf("refs/heads/change %s refs/heads/main %s\n", s.git("rev-parse", "HEAD"), base)
				there := filepath.Join(t.TempDir(), "there.git")
				s.git("clone", "-q", "--bare", "--single-branch", "--branch", "main", s.dir, there)
				s.git("remote", "add", "origin", there)
			}
			bin, calls := t.TempDir(), t.TempDir()
			wrapper := fmt.Sprintf("#!/bin/sh\nn=1\nuntil mkdir \"$CALLS/$n\" 2>/dev/null; do n=$((n+1)); done\n[ \"$n\" != \"$FAILS\" ] || kill -KILL $$\nexec %s \"$@\"\n", git)
			if err := os.WriteFile(filepath.Join(bin, "git"), []byte(wrapper), 0o755); err != nil {
				t.Fatal(err)
			}
			for fails := 0; ; fails++ {
				own := filepath.Join(calls, fmt.Sprint(fails))
				if err := os.Mkdir(own, 0o755); err != nil {
					t.Fatal(err)
				}
				s.env = []string{"PATH=" + bin + ":" + os.Getenv("PATH"), "CALLS=" + own, fmt.Sprint("FAILS=", fails)}
				out, errs, code := s.run(append([]string{"gate"}, args...)...)
				made, err := os.ReadDir(own)
				if err != nil {
					t.Fatal(err)
				}
				switch {
				case fails == 0 && code != 1:
					t.Fatalf("code %d where nothing fails\n%s%s", code, out, errs)
				case code != 1 && code != 2 && code != 3:
					t.Errorf("code %d where call %d of git fails\n%s%s", code, fails, out, errs)
				}
				if fails > len(made) {
					if fails < 5 {
						t.Errorf("git was called %d times", len(made))
					}
					return
				}
			}
		})
	}
}
