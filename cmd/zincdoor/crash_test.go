//go:build unix

package main

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// crashes is how many times each command is killed: a few, or as many as ZINCDOOR_CRASHES says.
func crashes(t *testing.T) (n int) {
	n = 4
	if often := os.Getenv("ZINCDOOR_CRASHES"); often != "" {
		if _, err := fmt.Sscan(often, &n); err != nil {
			t.Fatal(err)
		}
	}
	return n
}

// crashPort is a repository in which each command that writes has something to do.
func crashPort(t *testing.T) *sandbox {
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write(".zincdoor/policy.yaml", housePolicy)
	for i := range 12 {
		s.write(fmt.Sprintf("core/tide%d.c", i), lines(40))
	}
	s.write(".git/hooks/pre-commit", "#!/bin/sh\necho theirs\n")
	s.commit("one")
	var r strings.Builder
	for i := range 12 {
		fmt.Fprintf(&r, "core/tide%d.c:%d:1: warning: deep %d [-Wdeep]\n", i, 3*i+1, i)
	}
	s.write("r.txt", r.String())
	return s
}

// crashing is a command that is killed, and what it needs before.
type crashing struct {
	name   string
	before [][]string
	do     func(s *sandbox)
	args   []string
}

// port is a repository in which everything is as the command needs it.
func (c crashing) port(t *testing.T) *sandbox {
	s := crashPort(t)
	if c.name == "undo" {
		c.do(s)
	}
	for _, args := range c.before {
		if out, errs, code := s.run(args...); code != 0 {
			t.Fatalf("%v: %d\n%s%s", args, code, out, errs)
		}
	}
	if c.do != nil && c.name != "undo" {
		c.do(s)
	}
	return s
}

func crashingCommands() []crashing {
	take := []string{"baseline", "take", "--report", "gnu=r.txt", "--until", "2027-03-01"}
	alter := func(s *sandbox) {
		for i := range 12 {
			s.write(fmt.Sprintf("core/tide%d.c", i), lines(40)+"deep in feet; \n")
		}
		s.git("add", "-A")
	}
	return []crashing{
		{"take", nil, nil, take},
		{"accept", [][]string{take}, func(s *sandbox) {
			s.write("core/tide3.c", lines(40)+"more;\n")
			s.write("r.txt", s.read("r.txt")+"core/tide3.c:41:1: warning: shoal [-Wshoal]\n")
		}, []string{"baseline", "accept", "--report", "gnu=r.txt", "--rule", "-Wshoal", "--yes"}},
		{"sweep", [][]string{take}, func(s *sandbox) { s.write("r.txt", strings.SplitAfterN(s.read("r.txt"), "\n", 4)[3]) }, []string{"baseline", "sweep", "--report", "gnu=r.txt"}},
		{"renew", [][]string{take}, nil, []string{"baseline", "renew", "--rule", "-Wdeep", "--until", "2027-06-01", "--reason", "waits for the gauge", "--yes"}},
		{"merge", [][]string{take}, func(s *sandbox) {
			list := s.read(".zincdoor/baseline.jsonl")
			s.write("base", list)
			s.write("theirs", list[:strings.LastIndex(strings.TrimSpace(list), "\n")+1])
		}, []string{"baseline", "merge", "base", ".zincdoor/baseline.jsonl", "theirs"}},
		{"fix", nil, alter, []string{"fix", "--staged", "--apply"}},
		{"undo", [][]string{{"fix", "--staged", "--apply"}}, alter, []string{"fix", "--undo"}},
		{"fit", nil, nil, []string{"fit", "--hook", "commit", "--report", "r.txt", "--take-baseline"}},
	}
}

// written is what commands write: the list, the policy, the code, the index, the hooks.
func (s *sandbox) written() map[string]string {
	all := map[string]string{"the index": s.git("ls-files", "--stage", "-v")}
	for _, folder := range []string{".zincdoor", "core", ".git/hooks"} {
		filepath.WalkDir(filepath.Join(s.dir, folder), func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() && !strings.HasSuffix(path, ".sample") {
				rel, _ := filepath.Rel(s.dir, path)
				all[rel] = s.read(rel)
			}
			return nil
		})
	}
	return all
}

// unfinished lists what a run left behind that none should.
func (s *sandbox) unfinished(tmp string) (all []string) {
	for _, dir := range []string{s.dir, tmp} {
		filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			name := filepath.Base(path)
			if err == nil && (strings.HasPrefix(name, "zincdoor-") || strings.HasSuffix(name, ".lock") || name == "fixing" || strings.HasPrefix(name, ".") && strings.Trim(name[len(name)-1:], "0123456789") == "") {
				all = append(all, path)
			}
			return nil
		})
	}
	return all
}

// copyOf is a copy of a sandbox.
func copyOf(t *testing.T, s *sandbox) *sandbox {
	t.Helper()
	to := &sandbox{T: t, dir: filepath.Join(t.TempDir(), "copy"), env: s.env}
	if out, err := exec.Command("cp", "-a", s.dir, to.dir).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	to.git("update-index", "-q", "--refresh")
	return to
}

// start starts the program in a process group of its own, with a folder for temporary files.
func (s *sandbox) start(tmp string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = s.dir, append(s.environment(), "TMPDIR="+tmp)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		s.Fatal(err)
	}
	return cmd
}

// ended waits until nothing of a process group is left.
func ended(cmd *exec.Cmd) bool {
	for range 400 {
		if syscall.Kill(-cmd.Process.Pid, 0) == syscall.ESRCH {
			return true
		}
		time.Sleep(5 * time.Millisecond)
	}
	return false
}

// TestCrashes: whenever a command is killed, alone or beside another one, each file is the old or the new one, whole; the next run does
// what the killed one should have done, and nothing is left behind.
func TestCrashes(t *testing.T) {
	if raceBuild() {
		t.Skip("the program itself runs no faster or slower for it")
	}
	for _, c := range crashingCommands() {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			origin := c.port(t)
			old := origin.written()
			whole := copyOf(t, origin)
			begun := time.Now()
			if out, errs, code := whole.run(c.args...); code != 0 {
				t.Fatalf("%v: %d\n%s%s", c.args, code, out, errs)
			}
			takes := time.Since(begun)
			fresh := whole.written()
			if maps.Equal(old, fresh) {
				t.Fatal("it writes nothing")
			}
			random := rand.New(rand.NewPCG(7, uint64(len(c.name))))
			killed := 0
			for n := range crashes(t) {
				s, tmp := copyOf(t, origin), t.TempDir()
				first := s.start(tmp, c.args...)
				var second sync.WaitGroup
				if two := n%3 == 2; two {
					beside := s.start(tmp, c.args...)
					second.Go(func() { beside.Wait() })
				}
				time.Sleep(time.Duration(random.Int64N(int64(takes))))
				first.Process.Kill()
				if err := first.Wait(); err != nil {
					killed++
				}
				second.Wait()
				if !ended(first) {
					t.Errorf("what it started goes on")
				}
				for path, text := range s.written() {
					if _, known := old[path]; !known && fresh[path] == "" && strings.HasPrefix(filepath.Base(path), ".") {
						continue // unfinished, which the next run removes
					}
					if text != old[path] && text != fresh[path] && !(path == "the index") {
						t.Errorf("killed, %s is\n%s", path, text)
					}
				}
				again := c.args
				if c.name == "fit" {
					s.run(append(slices.Clone(c.args[:len(c.args)-1]), "--dry-run")...)
				}
				cmd := s.start(tmp, again...)
				err := cmd.Wait()
				if now := s.written(); !maps.Equal(now, fresh) {
					t.Errorf("the next run (%v) leaves\n%s", err, stateDifference(now, fresh))
				}
				if left := s.unfinished(tmp); len(left) > 0 {
					t.Errorf("left behind: %v", left)
				}
				if t.Failed() {
					return
				}
			}
			t.Logf("killed %d times of %d, within %v", killed, crashes(t), takes)
		})
	}
}

// stateDifference names what differs between two states.
func stateDifference(now, want map[string]string) string {
	var all strings.Builder
	for _, path := range slices.Sorted(maps.Keys(want)) {
		if now[path] != want[path] {
			fmt.Fprintf(&all, "%s:\n%s\nwant\n%s\n", path, now[path], want[path])
		}
	}
	for path := range now {
		if _, known := want[path]; !known {
			fmt.Fprintf(&all, "%s, which shouldn't be there\n", path)
		}
	}
	return all.String()
}
