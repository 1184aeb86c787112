//go:build unix

package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestSignals: wherever it is, the program ends soon when it is asked to, with everything it started, and leaves no temporary folder.
func TestSignals(t *testing.T) {
	long := strings.Repeat("nobody knows what this is about\n", 2_000_000)
	for _, c := range []struct {
		name   string
		signal syscall.Signal
		do     func(s *sandbox)
		args   []string
	}{
		{"a linter that hangs", syscall.SIGTERM, func(s *sandbox) {
			s.write("core/tide.c", shoal)
			s.git("add", "-A")
		}, []string{"gate", "--staged"}},
		{"a linter that hangs, on a terminal that is closed", syscall.SIGHUP, func(s *sandbox) {
			s.write("core/tide.c", shoal)
			s.git("add", "-A")
		}, []string{"gate", "--staged"}},
		{"a long report", syscall.SIGINT, func(s *sandbox) { s.write(".git/r.txt", long) }, []string{"gate", "--tree", "--report", "gnu=.git/r.txt", "--policy", ".git/plain.yaml"}},
		{"standard input that nobody writes", syscall.SIGHUP, func(*sandbox) {}, []string{"gate", "--tree", "--report", "gnu=-", "--policy", ".git/plain.yaml"}},
		{"a filter of git's that hangs", syscall.SIGTERM, func(s *sandbox) {
			s.git("config", "filter.slow.clean", "sleep 1234")
			s.write(".gitattributes", "*.slow filter=slow\n")
			s.write("core/tide.slow", "deep\n")
		}, []string{"gate", "--worktree", "--report", "gnu=.git/empty.txt", "--policy", ".git/plain.yaml"}},
		{"a lock that another holds", syscall.SIGTERM, func(s *sandbox) {
			s.write(".git/r.txt", "core/tide.c:1:1: warning: deep [-Wdeep]\n")
			lock, err := os.Open(filepath.Join(s.dir, ".zincdoor"))
			if err != nil || syscall.Flock(int(lock.Fd()), syscall.LOCK_EX) != nil {
				s.Fatal(err)
			}
			s.Cleanup(func() { lock.Close() })
		}, []string{"baseline", "take", "--report", "gnu=.git/r.txt", "--policy", ".git/plain.yaml"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if signal.Ignored(c.signal) {
				t.Skip("whoever started the tests has this signal ignored, as nohup does")
			}
			h := newPort(t, "run: [sh, tools/hang.sh], as: diagnostics")
			h.write(".git/plain.yaml", "zincdoor: 1\ndoors:\n  now: {judges: worktree, limits: [{count: new, severity: warning, most: 0}]}\n  all: {judges: tree, limits: [{count: new, severity: warning, most: 0}]}\n")
			h.write(".git/empty.txt", "")
			c.do(h.sandbox)
			tmp := t.TempDir()
			cmd := exec.Command(program, c.args...)
			cmd.Dir, cmd.Env = h.dir, append(h.environment(), "TMPDIR="+tmp)
			cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
			in, err := cmd.StdinPipe()
			if err != nil {
				t.Fatal(err)
			}
			defer in.Close()
			var said bytes.Buffer
			cmd.Stderr = &said
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Second)
			done := make(chan struct{})
			go func() {
				cmd.Wait()
				close(done)
			}()
			select {
			case <-done:
				t.Fatalf("it ended before it was told to: %s", said.String())
			default:
			}
			cmd.Process.Signal(c.signal)
			select {
			case <-done:
			case <-time.After(30 * time.Second): // two on a machine that has nothing else to do
				t.Fatal("it doesn't end")
			}
			if code := cmd.ProcessState.ExitCode(); code != 2 || !strings.Contains(said.String(), "interrupted") {
				t.Errorf("exit code %d: %s", code, said.String())
			}
			if !ended(cmd) {
				t.Error("something of it goes on")
			}
			if left, _ := os.ReadDir(tmp); len(left) > 0 {
				t.Errorf("left: %v", left)
			}
		})
	}
}

// TestPipe: a reader that goes away ends the program without a word, and without anything left.
func TestPipe(t *testing.T) {
	t.Parallel()
	s := crashPort(t)
	tmp := t.TempDir()
	cmd := exec.Command("sh", "-c", program+" findings --tree --report gnu=r.txt --format json | head -c 1")
	cmd.Dir, cmd.Env = s.dir, append(s.environment(), "TMPDIR="+tmp)
	out, err := cmd.CombinedOutput()
	if left, _ := os.ReadDir(tmp); err != nil || len(out) != 1 || len(left) > 0 {
		t.Errorf("%v: %q, left %v", err, out, left)
	}
}

// TestHardships: on a full disk, in folders that can't be written, and without a folder for temporary files, nothing is lost, and the
// error says what it is about.
func TestHardships(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("a small file system is mounted as on Linux")
	}
	for _, c := range crashingCommands() {
		t.Run("full disk, "+c.name, func(t *testing.T) {
			s := c.port(t)
			small := t.TempDir()
			if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", small).CombinedOutput(); err != nil {
				t.Skipf("nothing can be mounted: %s", out)
			}
			t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
			full := &sandbox{T: t, dir: filepath.Join(small, "port"), env: s.env}
			if out, err := exec.Command("cp", "-a", s.dir, full.dir).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			full.git("update-index", "-q", "--refresh")
			fill(t, filepath.Join(small, "rest"))
			before := full.written()
			out, errs, code := full.run(c.args...)
			if code == 0 || !strings.Contains(out+errs, "no space left") && !strings.Contains(out+errs, "No space left") {
				t.Errorf("exit code %d\n%s%s", code, out, errs)
			}
			if now := full.written(); stateDifference(now, before) != "" {
				t.Errorf("it leaves\n%s", stateDifference(now, before))
			}
			os.Remove(filepath.Join(small, "rest"))
			if out, errs, code := full.run(c.args...); code != 0 {
				t.Errorf("with room again: exit code %d\n%s%s", code, out, errs)
			}
		})
		t.Run("read-only folders, "+c.name, func(t *testing.T) {
			s := c.port(t)
			as := unprivileged(t, s)
			before := s.written()
			readOnly := exec.Command("chmod", "-R", "a-w", s.dir)
			if out, err := readOnly.CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			t.Cleanup(func() { exec.Command("chmod", "-R", "u+w", s.dir).Run() })
			out, errs, code := as(c.args...)
			if code != 2 || !strings.Contains(strings.ToLower(out+errs), "permission denied") {
				t.Errorf("exit code %d\n%s%s", code, out, errs)
			}
			if now := s.written(); stateDifference(now, before) != "" {
				t.Errorf("it leaves\n%s", stateDifference(now, before))
			}
		})
	}
	t.Run("no temporary folder", func(t *testing.T) {
		s := crashPort(t)
		s.env = append(s.env, "TMPDIR="+filepath.Join(s.dir, "gone"))
		s.write("core/new.c", lines(3))
		out, errs, code := s.run("gate", "--worktree", "--report", "gnu=r.txt")
		if code != 2 || !strings.Contains(out+errs, "no temporary folder can be made (TMPDIR names where)") {
			t.Errorf("exit code %d\n%s%s", code, out, errs)
		}
	})
}

// fill writes a file until there is no room left.
func fill(t *testing.T, name string) {
	file, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for size := 64 << 10; size > 0; {
		if _, err := file.Write(make([]byte, size)); err != nil {
			size /= 2
		}
	}
}

// unprivileged gives the program to a user who isn't root, whose the sandbox then is.
func unprivileged(t *testing.T, s *sandbox) func(args ...string) (out, errs string, code int) {
	if os.Geteuid() != 0 {
		return s.run
	}
	const nobody = 65534
	for dir := s.dir; dir != "/"; dir = filepath.Dir(dir) { // the test's own folders let nobody in
		if info, err := os.Stat(dir); err == nil && info.Mode()&0o005 != 0o005 {
			os.Chmod(dir, info.Mode()|0o005)
		}
	}
	if out, err := exec.Command("chown", "-R", fmt.Sprint(nobody), s.dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	os.Chmod(filepath.Dir(program), 0o755)
	tmp := t.TempDir()
	os.Chmod(tmp, 0o777)
	for dir := filepath.Dir(tmp); dir != "/" && strings.HasPrefix(dir, os.TempDir()+"/"); dir = filepath.Dir(dir) {
		os.Chmod(dir, 0o755)
	}
	s.env = append(s.env, "GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*")
	return func(args ...string) (out, errs string, code int) {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = s.dir, append(s.environment(), "TMPDIR="+tmp, "HOME="+tmp)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		var stdout, stderr bytes.Buffer
		cmd.Stdout, cmd.Stderr = &stdout, &stderr
		if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
			t.Fatal(err)
		}
		return stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()
	}
}
