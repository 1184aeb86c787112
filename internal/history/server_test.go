package history

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
)

// demanded says that there must be a PostgreSQL to test with.
const demanded = "ZINCDOOR_POSTGRES"

// server is a PostgreSQL server in a folder of its own, reached by a socket there. It serves all tests of the package.
type server struct {
	dir, bin string
	as       *syscall.Credential // it refuses to be run by root
	process  *exec.Cmd
	made     int // databases
}

var servers []*server

// startServer gives the server of the tests, and starts it for the first of them.
func startServer(t *testing.T) *server {
	t.Helper()
	if len(servers) > 0 {
		return servers[0]
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
	s := &server{dir: dir, bin: filepath.Dir(found[len(found)-1])}
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
	servers = append(servers, s)
	s.start(t)
	return s
}

func (s *server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Setpgid: true, Pdeathsig: syscall.SIGQUIT}
	return cmd
}

func (s *server) start(t *testing.T) {
	t.Helper()
	s.process = s.command("postgres", "-D", filepath.Join(s.dir, "data"), "-k", s.dir, "-c", "listen_addresses=", "-c", "max_connections=60")
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	for range 400 {
		db, _ := sql.Open("pgx", s.address("postgres"))
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		err := db.PingContext(ctx)
		cancel()
		db.Close()
		if err == nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the server doesn't answer")
}

// kill ends the server and all its processes at once, as a loss of power does.
func (s *server) kill(t *testing.T) {
	t.Helper()
	if err := syscall.Kill(-s.process.Process.Pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	s.process.Wait()
	os.Remove(filepath.Join(s.dir, "data", "postmaster.pid"))
}

func (s *server) stop() {
	s.process.Process.Signal(syscall.SIGQUIT)
	s.process.Wait()
	os.RemoveAll(s.dir)
}

func (s *server) address(database string) string {
	return fmt.Sprintf("postgres:///%s?%s", database, url.Values{"host": {s.dir}, "user": {"door"}}.Encode())
}

// database makes an empty database.
func (s *server) database(t *testing.T) string {
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
