package main

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"zincdoor/internal/pgtest"
	"zincdoor/internal/service/client"
)

// fleet is several instances of a service over one database, beside a code host with many repositories.
type fleet struct {
	*quay
	database  string
	settings  string
	addresses []string // of the instances
	mutex     sync.Mutex
	running   []*exec.Cmd
	peak      atomic.Int64 // the most memory that an instance took, in kB
}

// proposal is a pull request of the load, and what is right for it.
type proposal struct {
	repository, pull, head string
	bad                    bool
	sent                   time.Time // when the report of its last head was taken
}

// start starts an instance.
func (f *fleet) start(n int) {
	cmd := exec.Command(program, "serve", "--quiet", "--settings", f.settings, "--address", f.addresses[n], "--mirrors", filepath.Join(f.data, fmt.Sprint("mirrors", n)))
	cmd.Env = append(f.environment(), "ZINCDOOR_HISTORY="+f.database)
	log, err := os.OpenFile(filepath.Join(f.data, fmt.Sprintf("instance%d.log", n)), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		f.Error(err)
		return
	}
	defer log.Close()
	cmd.Stderr = log
	out, err := cmd.StdoutPipe()
	if err != nil {
		f.Error(err)
		return
	}
	if err := cmd.Start(); err != nil {
		f.Error(err)
		return
	}
	bufio.NewReader(out).ReadString('\n')
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.running[n] = cmd
}

var peakLine = regexp.MustCompile(`VmHWM:\s+(\d+)`)

// kill ends an instance at once, wherever it is.
func (f *fleet) kill(n int) {
	f.mutex.Lock()
	cmd := f.running[n]
	f.mutex.Unlock()
	if cmd == nil {
		return
	}
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
	if m := peakLine.FindSubmatch(status); m != nil {
		kb, _ := strconv.ParseInt(string(m[1]), 10, 64)
		for was := f.peak.Load(); kb > was && !f.peak.CompareAndSwap(was, kb); was = f.peak.Load() {
		}
	}
	cmd.Process.Signal(syscall.SIGKILL)
	cmd.Wait()
}

// TestServiceLoad: two instances over one PostgreSQL judge many changes while one of them is killed again and again. At the end every
// change has exactly one verdict on its last head, the right one, and the code host has it. ZINCDOOR_LOAD=200x50 says how many
// repositories, and how many changes in each; ZINCDOOR_LOAD_KILL how often one is killed.
func TestServiceLoad(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a while")
	}
	repositories, changes, every := 20, 10, 8*time.Second
	if size := os.Getenv("ZINCDOOR_LOAD"); size != "" {
		if _, err := fmt.Sscanf(size, "%dx%d", &repositories, &changes); err != nil {
			t.Fatal(err)
		}
		every = 20 * time.Second
		if asked, err := time.ParseDuration(os.Getenv("ZINCDOOR_LOAD_KILL")); err == nil {
			every = asked
		}
	}
	server := pgtest.Start(t)
	f := &fleet{quay: newQuay(t), database: server.Database(t), running: make([]*exec.Cmd, 2)}
	for range f.running {
		f.addresses = append(f.addresses, freeAddress(t))
	}
	all := f.furnishFleet(repositories, changes)
	for n := range f.running {
		f.start(n)
		t.Cleanup(func() { f.kill(n) })
	}
	f.env = append(f.env, "ZINCDOOR_HISTORY="+f.database)
	token, errs, code := f.run("serve", "token", "make", "--all")
	if code != 0 {
		t.Fatal(token, errs)
	}
	began := time.Now()
	stop := make(chan struct{})
	var killing sync.WaitGroup
	killed := 0
	killing.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(every):
			}
			killed++
			f.kill(n % 2)
			f.start(n % 2)
		}
	})
	f.sendAll(all, strings.TrimSpace(token))
	f.awaitAll(all, began, stop, &killing)
	f.checkAll(all)
	took := time.Since(began)
	var waits []time.Duration
	for _, p := range all {
		waits = append(waits, f.setAt(p).Sub(p.sent))
	}
	slices.Sort(waits)
	for n := range f.running {
		f.kill(n)
	}
	t.Logf("%d changes in %s, %.0f a minute; an instance was killed %d times; from the report to the status: median %s, 95 of 100 within %s, longest %s; at most %d MB each",
		len(all), took.Round(time.Second), float64(len(all))/took.Minutes(), killed, waits[len(waits)/2].Round(time.Millisecond), waits[len(waits)*95/100].Round(time.Millisecond), waits[len(waits)-1].Round(time.Millisecond), f.peak.Load()/1024)
}

// freeAddress is an address at which nothing listens.
func freeAddress(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	return listener.Addr().String()
}

// furnishFleet makes the repositories, with a branch for each change, and the settings.
func (f *fleet) furnishFleet(repositories, changes int) (all []*proposal) {
	f.Helper()
	var heads []string
	for i := range changes {
		f.git("switch", "-q", "-C", fmt.Sprintf("change-%d", i), "main")
		f.write(fmt.Sprintf("core/gauge%d.c", i), lines(20)+fmt.Sprintf("int gauge_%d;\n", i))
		heads = append(heads, f.commit(fmt.Sprint("Gauge ", i)))
		if i%5 == 0 { // its head moves once
			f.write(fmt.Sprintf("core/gauge%d.c", i), lines(20)+fmt.Sprintf("int gauge_%d;\nint more_%d;\n", i, i))
			heads[i] = f.commit(fmt.Sprint("More of gauge ", i))
		}
	}
	f.env = []string{"QUAY_TOKEN=" + f.tokens[keeper], "QUAY_HOOK=" + hookSecret}
	text := "zincdoor: service/1\nrepositories:\n"
	for n := range repositories {
		name := fmt.Sprintf("quay-%03d", n)
		f.must("owner", "POST", "/repositories", map[string]any{"name": name})
		f.must("owner", "POST", "/repositories/"+name+"/hooks", map[string]any{"address": "http://" + f.addresses[n%2] + "/api/v1/repositories/" + name + "/hook", "secret": hookSecret, "events": []string{"pull.opened", "pull.updated"}})
		text += fmt.Sprintf("  %s: {git: \"%s/git/%s.git\", git-token-from: QUAY_TOKEN, host: %s, host-address: \"%s/slipway/1\", host-token-from: QUAY_TOKEN, door: merge, wait: 1h, look: 1h, hook: {secret-from: QUAY_HOOK, header: Slipway-Hmac-Sha256, pull: $.pull.number}}\n", name, f.address, name, f.recipe, f.address)
		for i, head := range heads {
			all = append(all, &proposal{repository: name, pull: fmt.Sprint(i + 1), head: head, bad: (n+i)%3 == 0})
		}
	}
	f.settings = filepath.Join(f.data, "service.yaml")
	if err := os.WriteFile(f.settings, []byte(text), 0o644); err != nil {
		f.Fatal(err)
	}
	return all
}

// sendAll has people push and propose, and CI send reports: of heads that move of both.
func (f *fleet) sendAll(all []*proposal, token string) {
	f.Helper()
	of := map[string][]*proposal{}
	var names []string
	for _, p := range all {
		if of[p.repository] == nil {
			names = append(names, p.repository)
		}
		of[p.repository] = append(of[p.repository], p)
	}
	const clean = ""
	work := make(chan string)
	var people sync.WaitGroup
	for range 4 {
		people.Go(func() {
			for name := range work {
				f.pushTo(name, "main")
				var refs []string
				for i := range of[name] {
					from := fmt.Sprintf("change-%d", i)
					if i%5 == 0 {
						from += "~1"
					}
					refs = append(refs, from+":refs/heads/"+fmt.Sprintf("change-%d", i))
				}
				f.pushTo(name, refs...)
				for i, p := range of[name] {
					f.must("owner", "POST", "/repositories/"+name+"/pulls", map[string]any{"title": "Gauge", "source": fmt.Sprintf("change-%d", i)})
					if i%5 == 0 {
						f.report(p, f.git("rev-parse", fmt.Sprintf("change-%d~1", i)), token, clean)
					}
				}
				refs = nil
				for i := 0; i < len(of[name]); i += 5 {
					refs = append(refs, fmt.Sprintf("change-%d", i))
				}
				f.pushTo(name, refs...)
				for i, p := range of[name] {
					text := clean
					if p.bad {
						text = fmt.Sprintf("core/gauge%d.c:21:5: warning: unused variable [-Wunused]\n", i)
					}
					f.report(p, p.head, token, text)
				}
			}
		})
	}
	for _, name := range names {
		work <- name
	}
	close(work)
	people.Wait()
}

func (f *fleet) pushTo(name string, refs ...string) {
	cmd := exec.Command("git", append([]string{"-C", f.dir, "push", "-q", f.address + "/git/" + name + ".git"}, refs...)...)
	cmd.Env = append(f.environment(), "GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer "+f.tokens["owner"])
	if out, err := cmd.CombinedOutput(); err != nil {
		f.Errorf("git push %v: %v\n%s", refs, err, out)
	}
}

// report sends a report to whichever instance answers.
func (f *fleet) report(p *proposal, head, token, text string) {
	for try := 0; ; try++ {
		c, err := client.New(client.Service{Address: "http://" + f.addresses[try%2], Token: token, Patience: 2 * time.Second})
		if err == nil {
			_, err = c.Send(context.Background(), client.Report{Repository: p.repository, Commit: head, Name: "compiler", Pull: p.pull, Content: []byte(text)})
		}
		if err == nil {
			p.sent = time.Now()
			return
		}
		if try == 20 {
			f.Errorf("%s %s: %v", p.repository, p.pull, err)
			return
		}
	}
}

// awaitAll waits until the code host has a status for each last head.
func (f *fleet) awaitAll(all []*proposal, began time.Time, stop chan struct{}, killing *sync.WaitGroup) {
	f.Helper()
	left := slices.Clone(all)
	for quiet := time.Now(); len(left) > 0; {
		before := len(left)
		left = slices.DeleteFunc(left, func(p *proposal) bool { return f.statusIn(p) != "" })
		if len(left) < before {
			quiet = time.Now()
		} else if time.Since(quiet) > 2*time.Minute {
			f.Errorf("%d of %d have no status after %s, for example %+v", len(left), len(all), time.Since(began), *left[0])
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	close(stop)
	killing.Wait()
}

func (f *fleet) status(p *proposal) (state string, set time.Time) {
	code, answer := f.call("owner", "GET", "/repositories/"+p.repository+"/commits/"+p.head+"/statuses", nil)
	if code != http.StatusOK {
		return "", set
	}
	for _, item := range answer["items"].([]any) {
		is := item.(map[string]any)
		if is["name"] == "zincdoor merge" {
			set, _ = time.Parse(time.RFC3339Nano, is["set"].(string))
			return is["state"].(string), set
		}
	}
	return "", set
}

func (f *fleet) statusIn(p *proposal) string { state, _ := f.status(p); return state }

func (f *fleet) setAt(p *proposal) time.Time { _, set := f.status(p); return set }

// checkAll: one verdict on each last head, and the right one.
func (f *fleet) checkAll(all []*proposal) {
	f.Helper()
	db, err := sql.Open("pgx", f.database)
	if err != nil {
		f.Fatal(err)
	}
	defer db.Close()
	for _, p := range all {
		want, state := "open", "good"
		if p.bad {
			want, state = "shut", "bad"
		}
		var n int
		var outcome string
		err := db.QueryRow("SELECT COUNT(*), COALESCE(MIN(outcome), '') FROM record WHERE repository = $1 AND head = $2 AND door = 'merge'", p.repository, p.head).Scan(&n, &outcome)
		if got := f.statusIn(p); err != nil || n != 1 || outcome != want || got != state {
			f.Errorf("%s, pull request %s: %d verdicts, %s (%s at the code host), not %s: %v\n%s", p.repository, p.pull, n, outcome, got, want, err, f.about(db, p))
		}
	}
	var dead int
	if err := db.QueryRow("SELECT COUNT(*) FROM river_job WHERE state = 'discarded'").Scan(&dead); err != nil || dead > 0 {
		f.Errorf("%d jobs were given up: %v", dead, err)
	}
}

// about is what is known of a change that came out wrong: its verdicts, and what the instances said of it.
func (f *fleet) about(db *sql.DB, p *proposal) string {
	var all strings.Builder
	rows, err := db.Query("SELECT id FROM record WHERE repository = $1 AND head = $2", p.repository, p.head)
	if err != nil {
		return err.Error()
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		rows.Scan(&id)
		out, errs, _ := f.run("history", "show", id, "--repository", p.repository, "--plain")
		all.WriteString(out + errs)
	}
	for n := range f.running {
		log, _ := os.ReadFile(filepath.Join(f.data, fmt.Sprintf("instance%d.log", n)))
		for line := range strings.Lines(string(log)) {
			if strings.Contains(line, `"job"`) && strings.Contains(line, p.repository) {
				all.WriteString(line)
			}
		}
	}
	return all.String()
}
