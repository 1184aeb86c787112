package main

import (
	"bufio"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zincdoor/internal/recordfile"
)

// station is a service beside a stand-in of a code host.
type station struct {
	*quay
	door     *served
	store    string
	settings string // a file
	sender   string // a token that may send
}

const hookSecret = "harbour"

// newStation starts a service for the repository of a code host; more settings are laid below those of the repository, and behind all.
func newStation(t *testing.T, ofRepository, behind string) *station {
	q := newQuay(t)
	s := &station{quay: q, store: filepath.Join(t.TempDir(), "records.db"), settings: filepath.Join(t.TempDir(), "service.yaml")}
	q.env = []string{"QUAY_TOKEN=" + q.tokens[keeper], "QUAY_HOOK=" + hookSecret}
	text := fmt.Sprintf(`zincdoor: service/1
address: https://records.brackwater.example
repositories:
  tideboard:
    git: %s/git/tideboard.git
    git-token-from: QUAY_TOKEN
    host: %s
    host-address: %s/slipway/1
    host-token-from: QUAY_TOKEN
    pull-ref: refs/pulls/{pull}/head
    door: merge
    hook: {secret-from: QUAY_HOOK, header: Slipway-Hmac-Sha256, pull: $.pull.number}
%s%s`, q.address, q.recipe, q.address, ofRepository, behind)
	if err := os.WriteFile(s.settings, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	s.door = &served{sandbox: q.sandbox}
	s.begin()
	s.sender = s.token("--repository", "tideboard")
	q.must("owner", "POST", "/repositories/tideboard/hooks", map[string]any{"address": s.door.address + "/api/v1/repositories/tideboard/hook", "secret": hookSecret})
	return s
}

// begin starts the service.
func (s *station) begin() {
	s.door.start("serve", "--quiet", "--store", s.store, "--settings", s.settings, "--address", "127.0.0.1:0")
}

// token makes a token.
func (s *station) token(args ...string) string {
	s.Helper()
	out, errs, code := s.run(append([]string{"serve", "token", "make", "--store", s.store}, args...)...)
	if code != 0 {
		s.Fatal(out, errs)
	}
	return strings.TrimSpace(out)
}

// branch commits lines to a new branch from main, and proposes it. It gives the head.
func (s *station) branch(name string, more ...string) string {
	s.Helper()
	s.git("switch", "-q", "-C", name, "main")
	s.write("core/slack.c", lines(20)+strings.Join(more, ""))
	head := s.commit(name)
	s.propose(name)
	return head
}

// send sends a report of what is checked out.
func (s *station) report(text string, args ...string) (out, errs string, code int) {
	s.Helper()
	s.write("build/sent.txt", text)
	s.env = append(s.env, "ZINCDOOR_SERVICE_TOKEN="+s.sender)
	return s.run(append([]string{"report", "send", "--service", s.door.address, "--repository", "tideboard", "--report", "compiler=build/sent.txt", "--patience", "5s"}, args...)...)
}

// until waits until something is so, for a minute and a half at most.
func (s *station) until(what string, is func() bool) {
	s.Helper()
	for end := time.Now().Add(90 * time.Second); ; {
		if is() {
			return
		}
		if time.Now().After(end) {
			s.Fatalf("it doesn't come: %s\n%s", what, s.door.errs.String())
		}
		time.Sleep(50 * time.Millisecond)
	}
}

const unused = "core/slack.c:21:5: warning: unused variable 'ebb' [-Wunused-variable]\n"

// TestService: from a push to comments and a status, without a step by hand.
func TestService(t *testing.T) {
	s := newStation(t, "    wait: 1m\n", "")
	head := s.branch("ebb", "int ebb;\n")
	stands := func() (is struct {
		Head, Judged, Outcome, State string
		Lacking                      []string
		Sent                         bool
	}) {
		_, _, body := s.door.get("/api/v1/repositories/tideboard/pulls/1")
		json.Unmarshal([]byte(body), &is)
		return is
	}
	s.until("the pull request is seen", func() bool { return slices.Equal(stands().Lacking, []string{"compiler"}) })
	if out, errs, code := s.report(unused); code != 0 || !strings.Contains(out, "taken compiler") {
		t.Fatal(out, errs, code)
	}
	s.until("the first verdict", func() bool { return s.statusOf(head, "zincdoor merge") == "bad" && stands().Sent })
	s.until("the comment", func() bool {
		threads, _ := s.shown()
		return len(threads) == 1 && strings.Contains(threads[0], "unused variable")
	})
	if out, _, code := s.report(unused); code != 0 || !strings.Contains(out, "known compiler") {
		t.Error("the same again:", out, code)
	}
	if _, errs, code := s.report("core/slack.c:3:5: warning: other [-Wother]\n"); code != 2 || !strings.Contains(errs, "its content is another one") {
		t.Error("other content:", errs, code)
	}
	s.sender = s.token("--repository", "tideboard", "--right", "send,replace")
	if out, errs, code := s.report(""); code != 0 || !strings.Contains(out, "replaced compiler") {
		t.Error("replaced:", out, errs, code)
	}
	s.until("the verdict by the other report", func() bool { return s.statusOf(head, "zincdoor merge") == "good" })

	// A new head makes what was known void; it is judged once its own report has come.
	s.write("core/slack.c", lines(20)+"int ebb;\nint flood;\n")
	head = s.commit("Flood")
	s.push("ida", "HEAD:refs/heads/ebb")
	s.until("the new head is seen", func() bool { is := stands(); return is.Head == head && len(is.Lacking) == 1 })
	if got := s.statusOf(head, "zincdoor merge"); got != "" {
		t.Errorf("the new head has the status %q before its report has come", got)
	}
	s.report(unused)
	s.until("the verdict on the new head", func() bool { return s.statusOf(head, "zincdoor merge") == "bad" })
	for path, words := range map[string]string{
		"/changes": "Ebb tables", "/change?repository=tideboard&pull=1": "Reports of this head", "/search?q=TABLES": "pull=1", "/work": "were done", "/repository?name=tideboard": "Open pull requests",
		"/metrics": `zincdoor_verdict_seconds_count{outcome="shut"} 2`,
	} {
		if code, _, body := s.door.get(path); code != http.StatusOK || !strings.Contains(body, words) {
			t.Errorf("%s has no %q: %d %.2000s", path, words, code, body)
		}
	}
	// The target's policy changes: what is open is judged anew, by that.
	s.git("switch", "-q", "main")
	policy := s.read(".zincdoor/policy.yaml")
	for _, c := range []struct{ most, state string }{{"5", "good"}, {"0", "bad"}} {
		s.write(".zincdoor/policy.yaml", strings.Replace(policy, "severity: warning, most: 0", "severity: warning, most: "+c.most, 1))
		s.commit("At most " + c.most)
		s.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{}})
		s.push("owner", "main")
		s.until("the verdict by the policy with at most "+c.most, func() bool { return s.statusOf(head, "zincdoor merge") == c.state })
	}
	// Closed, it is judged no more.
	s.must("ida", "PATCH", "/repositories/tideboard/pulls/1", map[string]any{"state": "closed"})
	s.until("the pull request is closed", func() bool { return stands().State == "closed" })
	s.door.end()
}

// TestServiceWaits: a report that doesn't come in time is missing evidence, and one of a fork serves its own pull request alone.
func TestServiceWaits(t *testing.T) {
	s := newStation(t, "    wait: 2s\n", "")
	head := s.branch("ebb", "int ebb;\n")
	s.until("the time is over", func() bool { return s.statusOf(head, "zincdoor merge") == "unknown" })
	_, summaries := s.shown()
	if len(summaries) != 1 || !strings.Contains(summaries[0], "zincdoor report send --report compiler=FILE") {
		t.Errorf("the summary doesn't say what is missing: %q", summaries)
	}
	other := s.branch("flood", "int ebb;\n")
	own := s.sender
	s.sender = s.token("--repository", "tideboard", "--pull", "2", "--for", "1h")
	if _, errs, code := s.report(""); code != 2 || !strings.Contains(errs, "for pull request 2 alone") {
		t.Error("a fork's token without its pull request:", errs, code)
	}
	if out, errs, code := s.report("", "--pull", "2", "--commit", head); code != 0 {
		t.Error(out, errs)
	}
	if out, errs, code := s.report("", "--pull", "2"); code != 0 {
		t.Error(out, errs)
	}
	s.until("the fork's pull request is judged", func() bool { return s.statusOf(other, "zincdoor merge") == "good" })
	if got := s.statusOf(head, "zincdoor merge"); got != "unknown" {
		t.Errorf("the report of a fork opened the door of another pull request: %s", got)
	}
	s.sender = own
	s.report(unused, "--pull", "1", "--commit", head)
	s.until("the late report counts", func() bool { return s.statusOf(head, "zincdoor merge") == "bad" })
	s.door.end()
	// What is to be done stands in the store: a service that is started later does it.
	last := s.branch("spring", "int spring;\n")
	s.begin()
	s.report("", "--pull", "3", "--commit", last)
	s.until("what came meanwhile is judged", func() bool { return s.statusOf(last, "zincdoor merge") == "good" })
	s.door.end()
}

// TestServiceSealed: where the policy asks for seals, a report counts with its envelope alone, which serves in the place of a token.
func TestServiceSealed(t *testing.T) {
	s := newStation(t, "    wait: 2s\n", "")
	keys := t.TempDir()
	key := func(name string) string {
		s.sandbox.must(0, "seal", "--generate-key", filepath.Join(keys, name))
		public, err := os.ReadFile(filepath.Join(keys, name+".pub"))
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(public))
	}
	key("stranger")
	s.git("switch", "-q", "-C", "seals", "main")
	s.write(".zincdoor/policy.yaml", strings.Replace(s.read(".zincdoor/policy.yaml"), "clean: empty}}", "clean: empty, sealed: ci}}\nseals: {ci: "+key("ci")+"}", 1))
	head := s.commit("Reports are sealed")
	s.propose("seals")
	s.report("")
	s.until("the policy's own change", func() bool { return s.statusOf(head, "zincdoor merge") == "good" })
	s.quay.must("ida", "POST", "/repositories/tideboard/pulls/1/merge", map[string]any{"head": head})
	s.git("fetch", "-q", s.address+"/git/tideboard.git", "+main:refs/heads/landed")
	s.git("switch", "-q", "-C", "main", "landed")
	head = s.branch("ebb", "int ebb;\n")
	s.report("")
	s.until("the report without a seal", func() bool { return s.statusOf(head, "zincdoor merge") == "unknown" })
	seal := func(by, report string) string {
		file := filepath.Join(keys, by+".seal")
		s.write("build/sent.txt", report)
		s.sandbox.must(0, "seal", "--report", "compiler=build/sent.txt", "--key", filepath.Join(keys, by), "--output", file)
		return file
	}
	send := func(want int, args ...string) string {
		t.Helper()
		s.env = []string{"ZINCDOOR_SERVICE_TOKEN="}
		out, errs, code := s.run(append([]string{"report", "send", "--service", s.door.address, "--repository", "tideboard", "--patience", "5s"}, args...)...)
		if code != want {
			t.Errorf("%v: exit code %d, want %d: %s%s", args, code, want, out, errs)
		}
		return out + errs
	}
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"a stranger's":     {[]string{"--sealed", seal("stranger", "")}, "isn't sealed by a key of ci"},
		"another commit's": {[]string{"--sealed", seal("ci", ""), "--commit", "main"}, "and not of the one that is named"},
	} {
		if said := send(2, c.args...); !strings.Contains(said, c.want) {
			t.Errorf("%s: %s", name, said)
		}
	}
	envelope := seal("ci", "")
	s.write("build/sent.txt", unused)
	if said := send(2, "--sealed", envelope, "--report", "compiler=build/sent.txt"); !strings.Contains(said, "isn't one that the envelope seals") {
		t.Error("an edited report:", said)
	}
	s.until("the envelope counts", func() bool { return s.statusOf(head, "zincdoor merge") == "good" })
	other := s.branch("flood", "int flood;\n")
	send(0, "--sealed", seal("ci", unused), "--report", "compiler=build/sent.txt")
	s.until("what is sealed is judged", func() bool { return s.statusOf(other, "zincdoor merge") == "bad" })
	s.door.end()
}

// TestServiceRefuses: requests that must not be done.
func TestServiceRefuses(t *testing.T) {
	wholeRun(t)
	s := newStation(t, "", "reading: token\n")
	head := s.git("rev-parse", "HEAD")
	reader, revoked := s.token("--repository", "tideboard", "--right", "read"), s.token("--repository", "tideboard")
	if out, errs, code := s.run("serve", "token", "revoke", "--store", s.store, revoked); code != 0 {
		t.Fatal(out, errs)
	}
	others := s.token("--repository", "quay")
	digest := func(text string) string {
		sum := sha256.Sum256([]byte(text))
		return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	}
	bomb := string(recordfile.Compress(make([]byte, 600<<20)))
	const place = "/api/v1/repositories/tideboard/evidence/"
	for name, c := range map[string]struct {
		token, path, digest, coding, body string
		code                              int
	}{
		"no token":                   {"", place + head + "/compiler", digest("x"), "", "x", 401},
		"no token of ours":           {"5d01c2a7.AAAA", place + head + "/compiler", digest("x"), "", "x", 401},
		"revoked":                    {revoked, place + head + "/compiler", digest("x"), "", "x", 401},
		"another repository's":       {others, place + head + "/compiler", digest("x"), "", "x", 403},
		"for reading alone":          {reader, place + head + "/compiler", digest("x"), "", "x", 403},
		"a repository not served":    {others, "/api/v1/repositories/quay/evidence/" + head + "/compiler", digest("x"), "", "x", 404},
		"part of a commit's name":    {s.sender, place + head[:12] + "/compiler", digest("x"), "", "x", 400},
		"a ref":                      {s.sender, place + "refs%2Fheads%2Fmain/compiler", digest("x"), "", "x", 400},
		"traversal":                  {s.sender, place + head + "/..%2F..%2Fetc", digest("x"), "", "x", 400},
		"an option":                  {s.sender, place + head + "/--upload-pack=x", digest("x"), "", "x", 400},
		"no digest":                  {s.sender, place + head + "/compiler", "", "", "x", 400},
		"a wrong digest":             {s.sender, place + head + "/compiler", digest("y"), "", "x", 400},
		"cut off":                    {s.sender, place + head + "/compiler", digest("\x28\xb5\x2f\xfd\x04"), "zstd", "\x28\xb5\x2f\xfd\x04", 400},
		"no gzip":                    {s.sender, place + head + "/compiler", digest("plain"), "gzip", "plain", 400},
		"a coding nobody asked for":  {s.sender, place + head + "/compiler", digest("x"), "br", "x", 415},
		"a pull request's number":    {s.sender, place + head + "/compiler?pull=../1", digest("x"), "", "x", 400},
		"a small thing that unpacks": {s.sender, place + head + "/compiler", digest(bomb), "zstd", bomb, 413},
		"too long an address":        {s.sender, place + head + "/" + strings.Repeat("x", 5000), digest("x"), "", "x", 414},
	} {
		r, err := http.NewRequest(http.MethodPut, s.door.address+c.path, strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		for field, value := range map[string]string{"Authorization": "Bearer " + c.token, "Content-Digest": c.digest, "Content-Encoding": c.coding} {
			if value != "" && value != "Bearer " {
				r.Header.Set(field, value)
			}
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != c.code {
			t.Errorf("%s: %d %s", name, answer.StatusCode, text)
		}
	}
	call := func(body, secret string) int {
		mac := hmac.New(sha256.New, []byte(secret))
		mac.Write([]byte(body))
		r, _ := http.NewRequest(http.MethodPost, s.door.address+"/api/v1/repositories/tideboard/hook", strings.NewReader(body))
		r.Header.Set("Slipway-Hmac-Sha256", hex.EncodeToString(mac.Sum(nil)))
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	for name, c := range map[string]struct {
		body, secret string
		code         int
	}{
		"another secret": {`{"pull": {"number": 1}}`, "quayside", 403}, "no secret": {`{}`, "", 403}, "huge": {strings.Repeat(" ", 2<<20), hookSecret, 413}, "signed": {`{"pull": {"number": 7}}`, hookSecret, 202},
	} {
		if code := call(c.body, c.secret); code != c.code {
			t.Errorf("a call with %s: %d", name, code)
		}
	}
	if code := call(`{"pull": {"number": 7}}`, hookSecret); code != http.StatusAlreadyReported {
		t.Errorf("the same call again: %d", code)
	}
	s.refusesReaders(reader)
	s.refusesSlow(head)
	s.door.end()
	for _, secret := range []string{s.sender, reader, s.tokens[keeper], hookSecret} {
		_, hidden, _ := strings.Cut(secret, ".")
		for _, text := range []string{secret, hidden} {
			if text != "" && strings.Contains(s.door.errs.String(), text) {
				t.Errorf("a secret is in the log: %s", text)
			}
		}
	}
	if !strings.Contains(s.door.errs.String(), `"msg":"audit","what":"refused"`) {
		t.Errorf("refusals aren't in the audit: %s", s.door.errs.String())
	}
}

// refusesReaders: pages take a token, a session is begun with one, and a token for one repository shows no other.
func (s *station) refusesReaders(reader string) {
	t := s.T
	ask := func(path string, how func(*http.Request)) (int, http.Header, string) {
		r, _ := http.NewRequest(http.MethodGet, s.door.address+path, nil)
		how(r)
		answer, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, answer.Header, string(text)
	}
	for _, path := range []string{"/", "/repository?name=tideboard", "/changes", "/search?q=a", "/feed.atom", "/metrics", "/trend.svg?name=tideboard&by=rule", "/api/v1/repositories/tideboard/pulls/1", "/acceptances", "/work"} {
		if code, _, _ := ask(path, func(*http.Request) {}); code != http.StatusUnauthorized {
			t.Errorf("%s without a token: %d", path, code)
		}
		if code, _, _ := ask(path, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.sender) }); code != http.StatusUnauthorized {
			t.Errorf("%s with a token for sending: %d", path, code)
		}
	}
	if code, h, _ := ask("/", func(r *http.Request) { r.Header.Set("Accept", "text/html") }); code != http.StatusSeeOther || h.Get("Location") != "/sign-in" {
		t.Errorf("a browser without a session: %d %v", code, h)
	}
	for path, code := range map[string]int{"/": 200, "/acceptances?name=quay": 404, "/feed.atom?repository=quay": 404, "/metrics": 403, "/work": 403, "/feed.atom": 200} {
		if got, _, body := ask(path, func(r *http.Request) { r.SetBasicAuth("whoever", reader) }); got != code {
			t.Errorf("%s by a reader of tideboard: %d, not %d\n%.300s", path, got, code, body)
		}
	}
	noted := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := noted.PostForm(s.door.address+"/sign-in", url.Values{"token": {reader}})
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	cookies := answer.Cookies()
	if answer.StatusCode != http.StatusSeeOther || len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("signing in: %d %v", answer.StatusCode, cookies)
	}
	with := func(r *http.Request) { r.AddCookie(cookies[0]) }
	if code, _, body := ask("/", with); code != http.StatusOK || !strings.Contains(body, "sign out") {
		t.Errorf("with a session: %d", code)
	}
	r, _ := http.NewRequest(http.MethodPost, s.door.address+"/sign-out", nil)
	with(r)
	if answer, err := noted.Do(r); err != nil || answer.StatusCode != http.StatusSeeOther {
		t.Errorf("signing out: %v %v", answer, err)
	}
	if code, _, _ := ask("/", with); code != http.StatusUnauthorized {
		t.Errorf("with a session that was ended: %d", code)
	}
	if answer, err := noted.PostForm(s.door.address+"/sign-in", url.Values{"token": {s.sender}}); err != nil || answer.StatusCode != http.StatusForbidden {
		t.Errorf("signing in with a token for sending: %v %v", answer, err)
	}
}

// refusesSlow: a report whose sender ends before its end isn't taken.
func (s *station) refusesSlow(head string) {
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.door.address, "http://"))
	if err != nil {
		s.Fatal(err)
	}
	fmt.Fprintf(conn, "PUT /api/v1/repositories/tideboard/evidence/%s/compiler HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Digest: sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:\r\nContent-Length: 100\r\n\r\nhalf of it", head, s.sender)
	conn.(*net.TCPConn).CloseWrite()
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil || answer.StatusCode != http.StatusBadRequest {
		s.Errorf("a report that was cut off: %v %v", answer, err)
	}
	conn.Close()
}

// postbox takes mail as a server does, without a word of its own.
type postbox struct {
	address string
	mutex   sync.Mutex
	letters []string
}

func newPostbox(t *testing.T) *postbox {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	b := &postbox{address: listener.Addr().String()}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go b.talk(conn)
		}
	}()
	return b
}

func (b *postbox) talk(conn net.Conn) {
	defer conn.Close()
	fmt.Fprint(conn, "220 mail.brackwater.example\r\n")
	in := bufio.NewReader(conn)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch word, _, _ := strings.Cut(strings.TrimSpace(line), " "); strings.ToUpper(word) {
		case "DATA":
			fmt.Fprint(conn, "354 go on\r\n")
			var letter strings.Builder
			for line, err = in.ReadString('\n'); err == nil && line != ".\r\n"; line, err = in.ReadString('\n') {
				letter.WriteString(line)
			}
			b.mutex.Lock()
			b.letters = append(b.letters, letter.String())
			b.mutex.Unlock()
			fmt.Fprint(conn, "250 taken\r\n")
		case "QUIT":
			fmt.Fprint(conn, "221 bye\r\n")
			return
		default:
			fmt.Fprint(conn, "250 fine\r\n")
		}
	}
}

func (b *postbox) all() []string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return slices.Clone(b.letters)
}

// TestServiceTells: when a guarded branch's door changes, a limit comes near, or an acceptance is about to expire, those are told who are
// named for it, by a signed call, by mail and in the feed; and the same once.
func TestServiceTells(t *testing.T) {
	wholeRun(t)
	var mutex sync.Mutex
	var calls []string
	fails := 1
	ears := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mutex.Lock()
		defer mutex.Unlock()
		input := strings.TrimPrefix(r.Header.Get("Signature-Input"), "news=")
		mac := hmac.New(sha256.New, []byte(hookSecret))
		fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": http://%s%s\n\"content-digest\": %s\n\"zincdoor-news\": %s\n\"@signature-params\": %s", r.Host, r.URL.Path, r.Header.Get("Content-Digest"), r.Header.Get("Zincdoor-News"), input)
		sum := sha256.Sum256(body)
		if r.Header.Get("Signature") != "news=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":" || r.Header.Get("Content-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" {
			t.Errorf("a call that isn't signed as it should be: %v", r.Header)
		}
		if testing.Verbose() {
			t.Log(string(body))
		}
		if fails--; fails >= 0 {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		calls = append(calls, string(body))
	}))
	defer ears.Close()
	box := newPostbox(t)
	s := newStation(t, "    look: 1s\n", fmt.Sprintf(`notify:
  - {webhook: "%s/news", secret-from: QUAY_HOOK}
  - {mail: desk@brackwater.example, about: acceptance, team: tides}
mail: {server: "%s", from: door@brackwater.example}
`, ears.URL, box.address))
	soon := time.Now().UTC().AddDate(0, 0, 3).Format(time.DateOnly)
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
reports: {compiler: {file: build/r.txt, as: diagnostics, tool: gcc, clean: empty}}
teams: {tides: {path: ["core/**"]}}
doors:
  merge: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}
  main: {judges: push, limits: [{count: all, severity: warning, most: 5}]}
`)
	s.write(".zincdoor/baseline.jsonl", `{"zincdoor":"baseline/1"}
{"path":"core/slack.c","tool":"gcc","rule":"-Wold","message":"old","severity":"warning","why":"debt","on":"2026-10-01","until":"`+soon+`"}
`)
	s.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{}})
	s.commit("A door for main")
	s.push("owner", "HEAD:refs/heads/main")
	judged := func(n int, text string) {
		t.Helper()
		head := s.commit(fmt.Sprint("state ", n))
		cmd := fmt.Sprintf("state %d", n)
		s.push("owner", "HEAD:refs/heads/main")
		if out, errs, code := s.report(text, "--commit", head); code != 0 {
			t.Fatal(cmd, out, errs)
		}
		s.until(cmd+" is judged", func() bool {
			_, _, body := s.door.get("/records?name=tideboard")
			return strings.Contains(body, head[:8])
		})
	}
	warnings := func(n int) (text string) {
		for i := range n {
			text += fmt.Sprintf("core/slack.c:%d:1: warning: unused %d [-Wunused]\n", i+1, i+1)
		}
		return text
	}
	told := func(about, title string) func() bool {
		return func() bool {
			mutex.Lock()
			defer mutex.Unlock()
			return slices.ContainsFunc(calls, func(c string) bool { return strings.Contains(c, `"about":"`+about+`"`) && strings.Contains(c, title) })
		}
	}
	judged(1, warnings(1))
	judged(2, warnings(4))
	s.until("the limit comes near", told("limit", "door main of main comes near"))
	judged(3, warnings(6))
	s.until("the door is shut", told("door", "door main of main is shut, which was open"))
	judged(4, "")
	s.until("the door is open again", told("door", "door main of main is open, which was shut"))
	s.door.end() // an acceptance is looked at when a service begins
	s.begin()
	s.until("the mail", func() bool { return len(box.all()) == 1 })
	if letter := box.all()[0]; !strings.Contains(letter, "To: desk@brackwater.example") || !strings.Contains(letter, "expires after "+soon) || !strings.Contains(letter, "core/slack.c -Wold: old") {
		t.Errorf("the mail: %s", letter)
	}
	s.until("the acceptance by a call", told("acceptance", "expires after "+soon))
	_, _, feed := s.door.get("/feed.atom?repository=tideboard&team=tides")
	for _, words := range []string{"<title>Zinc Door: tideboard: tides</title>", "is shut, which was open", "comes near", "expires after " + soon} {
		if !strings.Contains(feed, words) {
			t.Errorf("the feed has no %q: %s", words, feed)
		}
	}
	if n := strings.Count(feed, "<entry>"); n != 4 {
		t.Errorf("%d entries in the feed: %s", n, feed)
	}
	_, _, page := s.door.get("/")
	if !strings.Contains(page, "What expires soon") || !strings.Contains(page, soon) {
		t.Errorf("what expires soon isn't on the first page: %s", page)
	}
	if _, _, body := s.door.get("/acceptances?name=tideboard"); !regexp.MustCompile(`-Wold</code>.*tides.*<strong>` + soon).MatchString(strings.ReplaceAll(body, "\n", " ")) {
		t.Errorf("the page of accepted findings: %s", body)
	}
	s.door.end()
	mutex.Lock()
	defer mutex.Unlock()
	ids := map[string]bool{}
	for _, c := range calls {
		var is struct{ ID string }
		json.Unmarshal([]byte(c), &is)
		if ids[is.ID] || is.ID == "" {
			t.Errorf("told twice, or without an id: %s", c)
		}
		ids[is.ID] = true
	}
}

// TestServiceStaysHome: whatever a repository's policy names, the service calls no address and reads no file that its settings don't name.
func TestServiceStaysHome(t *testing.T) {
	wholeRun(t)
	mutex, n := sync.Mutex{}, 0
	trap := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		n++
	}))
	defer trap.Close()
	s := newStation(t, "    wait: 1s\n", "")
	s.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{}})
	elsewhere := t.TempDir()
	if out, errs, code := s.command("git", "init", "-q", "--bare", elsewhere); code != 0 {
		t.Fatal(out, errs)
	}
	for i, names := range []string{
		`{git: "` + trap.URL + `/standards.git", at: v1, path: door.yaml}`,
		`{git: "` + elsewhere + `", at: "` + strings.Repeat("a", 40) + `", path: door.yaml}`,
		`{path: /etc/hostname, digest: "sha256:` + strings.Repeat("a", 64) + `"}`,
	} {
		s.git("switch", "-q", "main")
		s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: ["+names+`]
hosts: {quay: {address: "`+trap.URL+`", acts: {read-pull: {call: GET /x, fields: {head: $.head}}, set-status: {call: POST /x, body: {text: "{token}"}}}}}
reports: {compiler: {run: [touch, /tmp/zincdoor-was-here], as: diagnostics, tool: gcc, clean: empty}}
doors:
  merge: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}
`)
		s.commit("A policy that reaches out")
		s.push("owner", "HEAD:refs/heads/main")
		head := s.branch(fmt.Sprint("out-", i), "int ebb;\n")
		s.report("", "--commit", head)
		s.until("it can't be judged", func() bool { return s.statusOf(head, "zincdoor merge") == "unknown" })
		_, _, page := s.door.get("/records?name=tideboard")
		record := regexp.MustCompile(`/record\?id=[0-9a-f]{16}`).FindString(page)
		if _, _, body := s.door.get(record); !strings.Contains(body, "the service reads no policies from there") && !strings.Contains(body, "nothing outside of repositories is read here") {
			t.Errorf("%s: the verdict doesn't say why: %.3000s", names, body)
		}
	}
	s.door.end()
	if mutex.Lock(); n > 0 {
		t.Errorf("%d calls to where nothing may be called", n)
	}
	if _, err := os.Stat("/tmp/zincdoor-was-here"); err == nil {
		t.Error("a linter was started")
	}
}
