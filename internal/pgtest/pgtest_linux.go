// Package pgtest starts a PostgreSQL server for tests, in a temporary folder, reached by a socket there.
package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver pgx
)

// demanded says that there must be a PostgreSQL to test with.
const demanded = "ZINCDOOR_POSTGRES"

// Server is a PostgreSQL server. It serves all tests of a process, which stops it at its end (Stop).
type Server struct {
	dir, bin string
	as       *syscall.Credential // it refuses to be run by root
	process  *exec.Cmd
	ended    chan error // gets its end
	made     int        // databases
}

var only *Server

// Start gives the server of the tests, and starts it for the first of them. Where there is none on the machine, the test is skipped, or
// fails if ZINCDOOR_POSTGRES demands one. It is for one goroutine at a time.
func Start(t *testing.T) *Server {
	t.Helper()
	if only != nil {
		return only
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if os.Getenv(demanded) != "" {
			t.Fatal("there is no PostgreSQL server in /usr/lib/postgresql")
		}
		t.Skip("there is no PostgreSQL server in /usr/lib/postgresql")
	}
	dir, err := os.MkdirTemp("/tmp", "pg") // short: a socket's name may have 107 bytes
	if err != nil {
		t.Fatal(err)
	}
	s := &Server{dir: dir, bin: filepath.Dir(found[len(found)-1])}
	if os.Getuid() == 0 {
		nobody, err := user.Lookup("postgres")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(nobody.Uid)
		gid, _ := strconv.Atoi(nobody.Gid)
		s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(dir, uid, gid); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := s.command("initdb", "--auth=trust", "--username=door", "--encoding=UTF8", "--no-locale", "--no-sync", "-D", filepath.Join(dir, "data")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	only = s
	s.Resume(t)
	return s
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Setpgid: true, Pdeathsig: syscall.SIGQUIT}
	return cmd
}

// Resume starts the server again after Kill. Processes of the one that was killed notice that it is gone by themselves: until they
// have, a new one doesn't start.
func (s *Server) Resume(t *testing.T) {
	t.Helper()
	ended := make(chan error, 1)
	begin := func() {
		s.process = s.command("postgres", "-D", filepath.Join(s.dir, "data"), "-k", s.dir, "-c", "listen_addresses=", "-c", "max_connections=60")
		if err := s.process.Start(); err != nil {
			t.Fatal(err)
		}
		go func(process *exec.Cmd) { ended <- process.Wait() }(s.process)
	}
	begin()
	for range 1200 {
		select {
		case <-ended:
			begin()
		default:
		}
		db, _ := sql.Open("pgx", s.address("postgres"))
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		err := db.PingContext(ctx)
		cancel()
		db.Close()
		if err == nil {
			s.ended = ended
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the server doesn't answer")
}

// Kill ends the server and all its processes at once, as a loss of power does.
func (s *Server) Kill(t *testing.T) {
	t.Helper()
	if err := syscall.Kill(-s.process.Process.Pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.ended
	os.Remove(filepath.Join(s.dir, "data", "postmaster.pid"))
}

// Stop stops the server of the tests, where there is one, and removes all of it.
func Stop() {
	s := only
	if s == nil {
		return
	}
	s.process.Process.Signal(syscall.SIGQUIT)
	<-s.ended
	os.RemoveAll(s.dir)
}

func (s *Server) address(database string) string {
	return fmt.Sprintf("postgres:///%s?%s", database, url.Values{"host": {s.dir}, "user": {"door"}}.Encode())
}

// Database makes an empty database, and gives its address.
func (s *Server) Database(t *testing.T) string {
	t.Helper()
	s.made++
	name := fmt.Sprintf("test%d", s.made)
	db, err := sql.Open("pgx", s.address("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	return s.address(name)
}
